"""Pictures as figures: shaded views with a scale bar and sizes, composed in Matplotlib."""

import io
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np

from bolvek.analyses.cavities import Cavities, find_cavities
from bolvek.arrays import Bools
from bolvek.mesh import Mesh
from bolvek.report.pictures import palette
from bolvek.report.pictures.raster import Image, Paint, render
from bolvek.report.pictures.view import CutPlane, View, cut_through
from bolvek.units import size_text

if TYPE_CHECKING:
    from matplotlib.axes import Axes
    from matplotlib.figure import Figure

WIDTH, HEIGHT = 1280, 800
_DPI = 100
_TOP, _BOTTOM = 84, 58


@dataclass(frozen=True)
class Caption:
    """Words of a picture: title, a line below it, and optionally a verdict with its colour."""

    title: str
    line: str
    verdict: str = ""
    fit: bool = True


Mark = tuple[str, tuple[float, float, float]]
"""A few words and the place they point at."""


def picture(
    mesh: Mesh,
    caption: Caption,
    *,
    cut_open: bool = False,
    cavities: Cavities | None = None,
    marks: Sequence[Mark] = (),
    wet: Paint | None = None,
) -> bytes:
    """PNG of the mesh: one view from front right, and with cut_open a second one cut upright.

    The cut goes through the drains where there are any; the cavities are found when not given. marks: further places
    to point at; wet: colours of the cut view where liquid stays.
    """
    figure = new_figure(caption)
    if not cut_open:
        add_panel(figure, (0.0, 1.0), mesh, View.three_quarter(), "")
        return png_bytes(figure)
    if cavities is None and mesh.topology.sound:
        cavities = find_cavities(mesh)
    openings = list(cavities.openings) if cavities else []
    inner = cavities.inside if cavities else None
    cut = cut_through(mesh.bounds, [o.where_mm for o in openings])
    add_panel(figure, (0.0, 0.5), mesh, View.three_quarter(), "outside", inner=inner)
    # what was taken away with the half in front is not there to point at
    there = [float(cut.value(np.array(o.where_mm))) <= 0.5 * o.width_mm for o in openings]
    told = [(f"opening {n + 1}", o.where_mm) for n, o in enumerate(openings) if there[n]] + list(marks)
    if wet is None:
        add_panel(figure, (0.5, 1.0), mesh, cut.view(), "cut open", cut=cut, inner=inner, marks=told)
    else:
        add_panel(figure, (0.5, 1.0), mesh, cut.view(), "cut open", cut=cut, paint=wet, marks=told)
    return png_bytes(figure)


def new_figure(caption: Caption) -> "Figure":
    """An empty figure with title, facts and verdict."""
    from matplotlib.figure import Figure

    figure = Figure(figsize=(WIDTH / _DPI, HEIGHT / _DPI), dpi=_DPI, facecolor=palette.PAPER)
    figure.text(0.025, 0.965, caption.title, size=17, weight="bold", color=palette.INK, va="top")
    figure.text(0.025, 0.918, caption.line, size=10.5, color=palette.QUIET, va="top")
    if caption.verdict:
        figure.text(
            0.975,
            0.965,
            caption.verdict,
            size=13,
            weight="bold",
            ha="right",
            va="top",
            color=palette.FIT if caption.fit else palette.UNFIT,
        )
    return figure


def add_panel(
    figure: "Figure",
    span: tuple[float, float],
    mesh: Mesh,
    view: View,
    name: str,
    *,
    cut: CutPlane | None = None,
    inner: Bools | None = None,
    paint: Paint | None = None,
    marks: Sequence[Mark] = (),
) -> None:
    """A view that fills the figure from left to right as far as span says; places are pointed at where it is cut."""
    left, right = span
    width = int((right - left) * WIDTH) - 24
    height = HEIGHT - _TOP - _BOTTOM
    image = render(mesh, view, width, height, cut=cut, inner=inner, paint=paint)
    axes = figure.add_axes((left + 12 / WIDTH, _BOTTOM / HEIGHT, width / WIDTH, height / HEIGHT))
    axes.imshow(np.dstack([image.rgb, image.alpha]), extent=(0, width, 0, height), interpolation="nearest")
    axes.set_axis_off()
    if name:
        axes.text(6, height - 4, name, size=11, color=palette.INK, va="top", style="italic")
    add_scale_bar(axes, image, width)
    if cut is not None:
        _point_at(axes, image, view, marks)
        _legend(axes, width, wet=paint is not None)
    axes.set(xlim=(0, width), ylim=(0, height))  # what stands below the image takes nothing of it


def add_scale_bar(axes: "Axes", image: Image, width: int) -> None:
    """A bar of round length below an image that fills its axes."""
    target = 0.22 * width * image.mm_per_pixel
    step = 10 ** np.floor(np.log10(target))
    length = float(max(m * step for m in (1, 2, 5) if m * step <= target))
    pixels = length / image.mm_per_pixel
    axes.plot([8, 8 + pixels], [-14, -14], color=palette.INK, lw=2.5, clip_on=False, solid_capstyle="butt")
    axes.text(14 + pixels, -14, f"{length:g} mm", size=10, color=palette.INK, va="center", clip_on=False)


def _legend(axes: "Axes", width: int, *, wet: bool) -> None:
    items = [("outside", palette.OUTSIDE), ("inside", palette.INSIDE), ("material cut through", palette.CUT)]
    if wet:
        items.append(("liquid stays", palette.WET))
    # four stand below the scale bar, three beside it
    x, y = width - 330.0 - (115.0 if wet else 0.0), -36 if wet else -14
    for text, colour in items:
        shown = tuple(float(c) ** (1 / 1.6) for c in colour)
        axes.plot([x], [y], "s", color=shown, ms=9, clip_on=False)
        axes.text(x + 10, y, text, size=9.5, color=palette.INK, va="center", clip_on=False)
        x += 22 + 6.6 * len(text) + 14


def _point_at(axes: "Axes", image: Image, view: View, marks: Sequence[Mark]) -> None:
    for text, place in marks:
        right, up, _ = view.project(np.array([place]))[0]
        x = (right - image.origin[0]) / image.mm_per_pixel
        y = (up - image.origin[1]) / image.mm_per_pixel
        away = 1 if x < image.alpha.shape[1] / 2 else -1
        axes.annotate(
            text,
            (x, y),
            xytext=(x - 70 * away, y + (26 if y < image.alpha.shape[0] / 2 else -26)),
            size=9.5,
            color=palette.INK,
            ha="center",
            va="center",
            arrowprops={"arrowstyle": "-|>", "color": palette.INK, "lw": 1.0, "shrinkB": 2},
            bbox={"boxstyle": "round,pad=0.25", "fc": palette.PAPER, "ec": palette.QUIET, "lw": 0.6},
            annotation_clip=False,
        )


def png_bytes(figure: "Figure") -> bytes:
    """The figure as PNG; the same figure gives the same bytes."""
    from matplotlib.backends.backend_agg import FigureCanvasAgg

    buffer = io.BytesIO()
    FigureCanvasAgg(figure).print_figure(
        buffer, format="png", facecolor=figure.get_facecolor(), metadata={"Software": None}
    )
    return buffer.getvalue()


def model_caption(name: Path, mesh: Mesh, *, verdict: str = "", fit: bool = True, **more: Any) -> Caption:
    """Title and figures of a model; `more` are further facts for the line."""
    facts = [size_text(mesh.size), f"{len(mesh.faces):,} triangles", *(str(v) for v in more.values())]
    return Caption(name.name, "   |   ".join(facts), verdict, fit)
