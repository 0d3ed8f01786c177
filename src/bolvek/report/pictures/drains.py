"""Drains drawn: what stays before and after, on the model cut open through its holes; numbers of holes side by side."""

from collections.abc import Callable, Sequence

import numpy as np
from numpy.typing import NDArray

from bolvek.analyses.cavities import find_cavities
from bolvek.analyses.columns import Still, let_stand, make_columns, pixel_for
from bolvek.analyses.columns.still import ends_of
from bolvek.arrays import Bools, Floats
from bolvek.mesh import Mesh
from bolvek.operations.drain import AutoRecord, DrainRecord
from bolvek.report.pictures import palette
from bolvek.report.pictures.compare import add_try
from bolvek.report.pictures.plain import Mark, add_panel
from bolvek.report.pictures.raster import render
from bolvek.report.pictures.sheet import HEIGHT, WIDTH, Caption, Sheet
from bolvek.report.pictures.view import cut_through
from bolvek.units import Triple, count_text, volume_text

_PIXELS = 250_000
_OFF = 0.8
"""Pixels off the surface where it is asked whether liquid is there."""


def wet_paint(mesh: Mesh, up: Triple, inside: Bools | None) -> Callable[[NDArray[np.integer], Floats], Floats]:
    """Colours of the surface: wet where liquid stays with a direction up, else inside (F,) or outside."""
    still = let_stand(make_columns(mesh, up, pixel_for(mesh, up, _PIXELS)))

    def paint(face: NDArray[np.integer], points: Floats) -> Floats:
        colour = np.tile(np.array(palette.OUTSIDE), (len(points), 1))
        if inside is not None:
            colour[inside[face]] = palette.INSIDE
        colour[_is_wet(still, points, mesh.normals_of(face))] = palette.WET
        return colour

    return paint


def _is_wet(still: Still, points: Floats, normals: Floats) -> Bools:
    """Whether just off places (Q, 3) of the surface there is liquid that stays."""
    wet = np.zeros(len(points), bool)
    bottom, top = ends_of(still, np.arange(len(still.floor)))
    for off in (0.3, _OFF, 1.6):
        at = points + off * still.columns.pixel_mm * normals
        node = still.node_at(at)
        here = np.maximum(node, 0)
        height = at @ still.columns.frame[2]
        held = (still.held_mm[here] > 0) & (bottom[here] <= height) & (height <= top[here])
        wet |= (node >= 0) & held
    return wet


def hole_marks(record: DrainRecord) -> list[Mark]:
    """The holes by their numbers."""
    return [(f"hole {k}", h.at_mm) for k, h in enumerate(record.holes, 1)]


def drains_picture(
    before: Mesh,
    after: Mesh,
    record: DrainRecord,
    inside: Bools | None,
    caption: Caption,
    necks: Sequence[Mark] = (),
) -> bytes:
    """PNG: the model cut open through its holes, what stays before they are cut and after.

    inside (F,): faces of the model before that look into a room; necks: places to point at in it.
    """
    auto = record.auto
    up = (0.0, 0.0, 1.0) if auto is None else auto.up
    sheet = Sheet.new(caption)
    cut = cut_through(after.bounds, [h.at_mm for h in record.holes])
    paint = wet_paint(before, up, inside)
    add_panel(sheet, (0.0, 0.5), before, cut.view(), "before", cut=cut, paint=paint, marks=necks)
    paint = wet_paint(after, up, inside_of(after))
    add_panel(sheet, (0.5, 1.0), after, cut.view(), "with its holes", cut=cut, paint=paint, marks=hole_marks(record))
    return sheet.png()


def inside_of(mesh: Mesh) -> Bools:
    """Faces (F,) that look into a room."""
    return find_cavities(mesh).inside


def drains_sheet(name: str, tries: Sequence[tuple[str, Mesh, DrainRecord]]) -> bytes:
    """PNG: the model with different numbers of holes side by side, cut open, with what stays."""
    sheet = Sheet.new(Caption(name, "numbers of holes a cavity, found by flooding"))
    count = len(tries)
    width, height = WIDTH // count - 16, HEIGHT - 84 - 190
    most = max(tries, key=lambda t: len(t[2].holes))
    cut = cut_through(most[1].bounds, [h.at_mm for h in most[2].holes])
    for k, (title, mesh, record) in enumerate(tries):
        auto = record.auto
        assert auto is not None
        paint = wet_paint(mesh, auto.up, inside_of(mesh))
        image = render(mesh, cut.view(), width, height, cut=cut, paint=paint)
        add_try(sheet, image, k * (WIDTH // count) + 8, title, _lines(record, auto))
    return sheet.png()


def _lines(record: DrainRecord, auto: AutoRecord) -> list[str]:
    return [
        count_text(len(record.holes), "hole"),
        f"{volume_text(auto.stays_mm3)} of {volume_text(sum(r.held_mm3 for r in auto.rooms))} stay",
        f"{volume_text(sum(r.air_mm3 for r in auto.rooms))} of air when it is immersed",
        "drains" if all(r.drains for r in auto.rooms) else "more stays than may",
    ]
