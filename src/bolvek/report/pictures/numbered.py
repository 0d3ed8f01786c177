"""Pictures with numbered places: a view with labels at its sides, a place from near, the list of them."""

from typing import TYPE_CHECKING

import numpy as np

from bolvek.arrays import Floats
from bolvek.mesh import Mesh
from bolvek.mesh.topology import CROWDED, OPEN
from bolvek.report.classes import class_of
from bolvek.report.pictures import palette
from bolvek.report.pictures.callouts import Callout, spaced
from bolvek.report.pictures.plain import HEIGHT, WIDTH, add_scale_bar
from bolvek.report.pictures.raster import Image, Paint, render
from bolvek.report.pictures.view import View
from bolvek.units import point_text

if TYPE_CHECKING:
    from matplotlib.axes import Axes
    from matplotlib.figure import Figure


_TOP, _BOTTOM = 84, 46
VIEW, SIDE = 440, 376  # pixels wide: a view, the column on the right
_MARGIN = 34  # of a view, for its labels


def _edges(mesh: Mesh, kind: int) -> Floats:
    """Ends (E, 2, 3) of the open or crowded half-edges."""
    ends = mesh.edge_ends(np.flatnonzero(mesh.topology.opposite == kind))
    return mesh.vertices[np.stack(ends, axis=1)]


def add_image(figure: "Figure", image: Image, left: float, bottom: float) -> "Axes":
    """An image with its lower left corner at pixels (left, bottom); its axes count pixels."""
    height, width = image.alpha.shape
    axes = figure.add_axes((left / WIDTH, bottom / HEIGHT, width / WIDTH, height / HEIGHT))
    axes.imshow(np.dstack([image.rgb, image.alpha]), extent=(0, width, 0, height), interpolation="nearest")
    axes.set_xlim(0, width)
    axes.set_ylim(0, height)
    axes.set_axis_off()
    return axes


def _draw_edges(axes: "Axes", image: Image, view: View, mesh: Mesh, slack_mm: float, width: float) -> None:
    from matplotlib.collections import LineCollection

    for kind, code in ((OPEN, "open_edges"), (CROWDED, "nonmanifold_edges")):
        ends = _edges(mesh, kind)
        if not len(ends):
            continue
        flat = view.project(ends.reshape(-1, 3)).reshape(-1, 2, 3)
        seen = image.sees(flat.mean(axis=1), slack_mm)
        lines = image.place(flat[seen].reshape(-1, 3)).reshape(-1, 2, 2)
        axes.add_collection(LineCollection(list(lines), colors=class_of(code).colour, linewidths=width, zorder=3))


def numbered_view(figure: "Figure", left: int, mesh: Mesh, view: View, paint: Paint, spots: list[Callout]) -> None:
    """A view with open and crowded edges drawn and the spots numbered at its sides."""
    width, height = VIEW - 2 * _MARGIN, HEIGHT - _TOP - _BOTTOM
    image = render(mesh, view, width, height, paint=paint)
    axes = add_image(figure, image, left + _MARGIN, _BOTTOM)
    slack = 0.006 * float(mesh.size.max())
    _draw_edges(axes, image, view, mesh, slack, 1.3)
    add_scale_bar(axes, image, width)
    if not spots:
        return
    flat = view.project(np.array([s.anchor for s in spots]))
    at = image.place(flat)
    seen = image.sees(flat, slack) | image.sees(flat + np.array([0, 0, slack]), slack)
    for side in (0, 1):
        chosen = [k for k in range(len(spots)) if (at[k, 0] >= width / 2) == bool(side)]
        heights = spaced([float(at[k, 1]) for k in chosen], 12, height - 12, 24)
        for k, y in zip(chosen, heights, strict=True):
            x = width + 18 if side else -18
            colour = class_of(spots[k].code).colour
            axes.plot(
                [at[k, 0], x],
                [at[k, 1], y],
                "-" if seen[k] else ":",
                color=palette.INK,
                lw=0.8,
                clip_on=False,
                zorder=4,
            )
            axes.plot(*at[k], "o", ms=7, mfc="none", mec=palette.INK, mew=1.1, clip_on=False, zorder=5)
            _number(axes, x, y, spots[k].number, colour, seen[k])


def _number(axes: "Axes", x: float, y: float, number: int, colour: str, filled: bool) -> None:
    fill = colour if filled else palette.PAPER
    axes.plot(x, y, "o", ms=17, mfc=fill, mec=colour, mew=1.8, clip_on=False, zorder=6)
    light = filled and sum(int(colour[k : k + 2], 16) for k in (1, 3, 5)) < 400
    ink = "white" if light else palette.INK
    axes.text(x, y, str(number), size=9.5, weight="bold", color=ink, ha="center", va="center_baseline", zorder=7)


def zoom(figure: "Figure", mesh: Mesh, paint: Paint, spot: Callout) -> None:
    """The place from near, seen square on, with only what lies around it."""
    width, height = SIDE - 16, 230
    reach = max(3.2 * spot.extent_mm, 5e-4 * float(mesh.size.max()))
    near = mesh.tree.faces_in_box(spot.where - 0.7 * reach, spot.where + 0.7 * reach)
    local = mesh.picked(near)
    view = View.from_eye(spot.normal)
    image = render(
        local,
        view,
        width,
        height,
        paint=(lambda f, p: paint(near[f], p)) if callable(paint) else paint[near],
        window=(spot.where, reach),
    )
    left, bottom = WIDTH - SIDE + 4, HEIGHT - _TOP - height
    axes = add_image(figure, image, left, bottom)
    # edges of the whole model, not those where the piece was cut out
    inside = np.zeros(len(mesh.faces), bool)
    inside[near] = True
    opposite = mesh.topology.opposite.reshape(-1, 3)
    for kind, code in ((OPEN, "open_edges"), (CROWDED, "nonmanifold_edges")):
        face, k = np.nonzero((opposite == kind) & inside[:, None])
        for f, e in zip(face.tolist(), k.tolist(), strict=True):
            ends = mesh.vertices[[mesh.faces[f, e], mesh.faces[f, (e + 1) % 3]]]
            axes.plot(*image.place(view.project(ends)).T, color=class_of(code).colour, lw=2.2, zorder=3)
    for s in ("top", "bottom", "left", "right"):
        axes.spines[s].set_color(palette.QUIET)
    axes.set_axis_on()
    axes.set_xticks([])
    axes.set_yticks([])
    axes.patch.set_alpha(0)
    add_scale_bar(axes, image, width)
    title = f"{spot.number} from near: {spot.text}"
    axes.text(4, height + 8, _short(title, 44), size=10.5, color=palette.INK, clip_on=False)


def _short(text: str, most: int) -> str:
    """The text, cut where it would run out of the frame."""
    return text if len(text) <= most else text[: most - 3].rstrip(" ,") + "..."


_ROWS = 12


def spot_list(figure: "Figure", spots: list[Callout], total: int) -> None:
    """Numbers, words and places in the column on the right, as many as there are rows for."""
    axes = figure.add_axes(((WIDTH - SIDE) / WIDTH, _BOTTOM / HEIGHT, SIDE / WIDTH, 380 / HEIGHT))
    axes.set_xlim(0, SIDE)
    axes.set_ylim(0, 380)
    axes.set_axis_off()
    for k, spot in enumerate(spots[:_ROWS]):
        y = 352 - 28 * k
        _number(axes, 16, y, spot.number, class_of(spot.code).colour, True)
        axes.text(
            34,
            y + 1,
            _short(spot.text, 52),
            size=9.5,
            color=palette.INK,
            va="bottom",
        )
        axes.text(34, y - 1, point_text(spot.where), size=8.5, color=palette.QUIET, va="top")
    axes.text(34, -10, "dotted: behind the surface in this view", size=9, color=palette.QUIET)
    if total > len(spots):
        axes.text(34, 6, f"{len(spots)} of {total:,} places, the largest of each kind", size=9, color=palette.QUIET)
