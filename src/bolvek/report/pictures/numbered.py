"""Pictures with numbered places: a view with labels at its sides, a place from near, the list of them."""

import numpy as np
from numpy.typing import ArrayLike

from bolvek.arrays import Floats
from bolvek.mesh import Mesh
from bolvek.mesh.topology import CROWDED, OPEN
from bolvek.report.classes import class_of
from bolvek.report.pictures import palette
from bolvek.report.pictures.callouts import Callout, spaced
from bolvek.report.pictures.plain import add_scale_bar
from bolvek.report.pictures.raster import Image, Paint, render
from bolvek.report.pictures.sheet import DOTTED, HEIGHT, WIDTH, Sheet, shortened
from bolvek.report.pictures.view import View
from bolvek.units import point_text

_TOP, _BOTTOM = 84, 46
VIEW, SIDE = 440, 376  # pixels wide: a view, the column on the right
_MARGIN = 34  # of a view, for its labels


def _edges(mesh: Mesh, kind: int) -> Floats:
    """Ends (E, 2, 3) of the open or crowded half-edges."""
    ends = mesh.edge_ends(np.flatnonzero(mesh.topology.opposite == kind))
    return mesh.vertices[np.stack(ends, axis=1)]


def _draw_edges(panel: Sheet, image: Image, view: View, mesh: Mesh, slack_mm: float, width: float) -> None:
    for kind, code in ((OPEN, "open_edges"), (CROWDED, "nonmanifold_edges")):
        ends = _edges(mesh, kind)
        if not len(ends):
            continue
        flat = view.project(ends.reshape(-1, 3)).reshape(-1, 2, 3)
        seen = image.sees(flat.mean(axis=1), slack_mm)
        panel.lines(list(image.place(flat[seen].reshape(-1, 3)).reshape(-1, 2, 2)), class_of(code).colour, width)


def numbered_view(sheet: Sheet, left: int, mesh: Mesh, view: View, paint: Paint, spots: list[Callout]) -> None:
    """A view with open and crowded edges drawn and the spots numbered at its sides."""
    width, height = VIEW - 2 * _MARGIN, HEIGHT - _TOP - _BOTTOM
    image = render(mesh, view, width, height, paint=paint)
    panel = sheet.image(image, left + _MARGIN, _BOTTOM)
    slack = 0.006 * float(mesh.size.max())
    _draw_edges(panel, image, view, mesh, slack, 1.3)
    add_scale_bar(panel, image)
    if not spots:
        return
    flat = view.project(np.array([s.anchor for s in spots]))
    at = image.place(flat)
    seen = image.sees(flat, slack) | image.sees(flat + np.array([0, 0, slack]), slack)
    ends = np.empty((len(spots), 2))
    for side in (0, 1):
        chosen = [k for k in range(len(spots)) if (at[k, 0] >= width / 2) == bool(side)]
        heights = spaced([float(at[k, 1]) for k in chosen], 12, height - 12, 24)
        ends[chosen, 0], ends[chosen, 1] = width + 18 if side else -18, heights
    for k in range(len(spots)):
        panel.lines([[at[k], ends[k]]], palette.INK, 0.8, None if seen[k] else DOTTED)
        panel.disc(at[k], 7, None, palette.INK, 1.1)
    for k, spot in enumerate(spots):
        _number(panel, ends[k], spot.number, class_of(spot.code).colour, bool(seen[k]))


def _number(panel: Sheet, place: ArrayLike, number: int, colour: str, filled: bool) -> None:
    panel.disc(place, 17, colour if filled else palette.PAPER, colour, 1.8)
    light = filled and sum(int(colour[k : k + 2], 16) for k in (1, 3, 5)) < 400
    x, y = np.asarray(place, float)
    panel.text(
        float(x), float(y) - 4.5, str(number), 9.5, "white" if light else palette.INK, style="bold", across="middle"
    )


def zoom(sheet: Sheet, mesh: Mesh, paint: Paint, spot: Callout) -> None:
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
    panel = sheet.image(image, WIDTH - SIDE + 4, HEIGHT - _TOP - height)
    # edges of the whole model, not those where the piece was cut out
    inside = np.zeros(len(mesh.faces), bool)
    inside[near] = True
    opposite = mesh.topology.opposite.reshape(-1, 3)
    for kind, code in ((OPEN, "open_edges"), (CROWDED, "nonmanifold_edges")):
        face, k = np.nonzero((opposite == kind) & inside[:, None])
        ends = mesh.vertices[np.stack([mesh.faces[face, k], mesh.faces[face, (k + 1) % 3]], axis=1)]
        flat = image.place(view.project(ends.reshape(-1, 3))).reshape(-1, 2, 2)
        panel.lines(_within(flat, width, height), class_of(code).colour, 2.2)
    panel.lines([[(0, 0), (width, 0), (width, height), (0, height), (0, 0)]], palette.QUIET, 0.8)
    add_scale_bar(panel, image)
    panel.text(4, height + 8, shortened(f"{spot.number} from near: {spot.text}", 10.5, width), 10.5)


def _within(lines: Floats, width: float, height: float) -> list[Floats]:
    """What of straight lines (N, 2, 2) lies within a rectangle (Liang and Barsky 1984)."""
    start, way = lines[:, 0], lines[:, 1] - lines[:, 0]
    low, high = np.zeros(len(lines)), np.ones(len(lines))
    for k, most in ((0, width), (1, height)):
        with np.errstate(divide="ignore", invalid="ignore"):
            ends = np.sort(np.stack([-start[:, k] / way[:, k], (most - start[:, k]) / way[:, k]]), axis=0)
        still = way[:, k] == 0
        ends[0, still], ends[1, still] = 0.0, 1.0
        ends[1, still & ((start[:, k] < 0) | (start[:, k] > most))] = -1.0
        low, high = np.maximum(low, ends[0]), np.minimum(high, ends[1])
    kept = np.flatnonzero(low < high)
    return [start[k] + np.outer([low[k], high[k]], way[k]) for k in kept]


_ROWS = 12


def spot_list(sheet: Sheet, spots: list[Callout], total: int) -> None:
    """Numbers, words and places in the column on the right, as many as there are rows for."""
    part = sheet.at(WIDTH - SIDE, _BOTTOM)
    for k, spot in enumerate(spots[:_ROWS]):
        y = 352 - 28 * k
        _number(part, (16, y), spot.number, class_of(spot.code).colour, True)
        part.text(34, y + 1, shortened(spot.text, 9.5, SIDE - 40), 9.5, up="bottom")
        part.text(34, y - 1, point_text(spot.where), 8.5, palette.QUIET, up="top")
    part.text(34, -10, "dotted: behind the surface in this view", 9, palette.QUIET)
    if total > len(spots):
        part.text(34, 6, f"{len(spots)} of {total:,} places, the largest of each kind", 9, palette.QUIET)
