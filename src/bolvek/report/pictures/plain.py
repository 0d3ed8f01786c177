"""Shaded views of a model with a scale bar, legend and sizes on a sheet."""

from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np

from bolvek.arrays import Bools
from bolvek.mesh import Mesh
from bolvek.report.pictures import palette
from bolvek.report.pictures.raster import Image, Paint, render
from bolvek.report.pictures.sheet import HEIGHT, WIDTH, Caption, Sheet, words_wide
from bolvek.report.pictures.view import CutPlane, View, cut_through
from bolvek.units import size_text

if TYPE_CHECKING:
    from bolvek.analyses.cavities import Cavities
    from bolvek.analyses.finding import Told

_TOP, _BOTTOM = 84, 58

Mark = tuple[str, tuple[float, float, float]]
"""A few words and the place they point at."""


def picture(
    mesh: Mesh,
    caption: Caption,
    *,
    cut_open: bool = False,
    cavities: "Cavities | None" = None,
    marks: Sequence[Mark] = (),
    wet: Paint | None = None,
    outside: Sequence[Mark] = (),
) -> bytes:
    """PNG of the mesh: one view from front right, and with cut_open a second one cut upright.

    The cut goes through the drains where there are any; the cavities are found when not given. marks: further places
    to point at within; outside: from outside; wet: colours of the cut view where liquid stays.
    """
    sheet = Sheet.new(caption)
    if not cut_open:
        add_panel(sheet, (0.0, 1.0), mesh, View.three_quarter(), "", marks=outside)
        return sheet.png()
    if cavities is None and mesh.topology.sound:
        from bolvek.analyses.cavities import find_cavities

        cavities = find_cavities(mesh)
    openings = list(cavities.openings) if cavities else []
    inner = cavities.inside if cavities else None
    cut = cut_through(mesh.bounds, [o.where_mm for o in openings])
    add_panel(sheet, (0.0, 0.5), mesh, View.three_quarter(), "outside", inner=inner, marks=outside)
    # what was taken away with the half in front is not there to point at
    there = [float(cut.value(np.array(o.where_mm))) <= 0.5 * o.width_mm for o in openings]
    told = [(f"opening {n + 1}", o.where_mm) for n, o in enumerate(openings) if there[n]] + list(marks)
    if wet is None:
        add_panel(sheet, (0.5, 1.0), mesh, cut.view(), "cut open", cut=cut, inner=inner, marks=told)
    else:
        add_panel(sheet, (0.5, 1.0), mesh, cut.view(), "cut open", cut=cut, paint=wet, marks=told)
    return sheet.png()


def add_panel(
    sheet: Sheet,
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
    """A view that fills the sheet from left to right as far as span says; marks: places to point at."""
    left, right = span
    width = int((right - left) * WIDTH) - 24
    height = HEIGHT - _TOP - _BOTTOM
    image = render(mesh, view, width, height, cut=cut, inner=inner, paint=paint)
    panel = sheet.image(image, left * WIDTH + 12, _BOTTOM)
    if name:
        panel.text(6, height - 4, name, 11, style="italic", up="top")
    add_scale_bar(panel, image)
    _point_at(panel, image, view, marks)
    if cut is not None:
        _legend(panel, width, wet=paint is not None)


def add_scale_bar(panel: Sheet, image: Image) -> None:
    """A bar of round length below an image that fills its panel."""
    target = 0.22 * image.alpha.shape[1] * image.mm_per_pixel
    step = 10 ** np.floor(np.log10(target))
    length = float(max(m * step for m in (1, 2, 5) if m * step <= target))
    pixels = length / image.mm_per_pixel
    panel.lines([[(8, -14), (8 + pixels, -14)]], palette.INK, 2.5)
    panel.text(14 + pixels, -14, f"{length:g} mm", 10, up="middle")


def legend_row(sheet: Sheet, x: float, y: float, items: Sequence[tuple[str, str]], *, size: float = 9.5) -> float:
    """Squares of colour (hex) with words behind them, in a row; where the next would begin."""
    for words, colour in items:
        sheet.square(x, y, size, colour)
        sheet.text(x + size + 2, y, words, size, up="middle")
        x += size + 2 + words_wide(words, size) + 24
    return x


def _legend(panel: Sheet, width: int, *, wet: bool) -> None:
    items = [("outside", palette.OUTSIDE), ("inside", palette.INSIDE), ("material cut through", palette.CUT)]
    if wet:
        items.append(("liquid stays", palette.WET))
    # four stand below the scale bar, three beside it
    x, y = width - 330.0 - (115.0 if wet else 0.0), -36 if wet else -14
    legend_row(panel, x, y, [(words, palette.hex_of(colour)) for words, colour in items])


def _point_at(panel: Sheet, image: Image, view: View, marks: Sequence[Mark]) -> None:
    for words, place in marks:
        x, y = (float(v) for v in image.place(view.project(np.array([place])))[0])
        away = 1 if x < image.alpha.shape[1] / 2 else -1
        label = x - 70 * away, y + (26 if y < image.alpha.shape[0] / 2 else -26)
        half = 0.5 * words_wide(words, 9.5) + 8
        label = min(max(label[0], half), image.alpha.shape[1] - half), label[1]
        panel.arrow(label, (x, y))
        panel.boxed(*label, words, 9.5)


def model_caption(name: Path, mesh: Mesh, told: "Told | None" = None, **more: Any) -> Caption:
    """Title, figures and verdict of a model; `more` are further facts for the line."""
    facts = [size_text(mesh.size), f"{len(mesh.faces):,} triangles", *(str(v) for v in more.values())]
    verdict = (told.verdict, told.ok) if told is not None else ()
    return Caption(name.name, "   |   ".join(facts), *verdict)
