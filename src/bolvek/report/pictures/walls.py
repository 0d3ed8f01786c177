"""Wall thickness drawn: as it was measured, coloured around the minimum, thin zones numbered, a histogram."""

import numpy as np
from numpy.typing import NDArray

from bolvek.analyses.thickness import WallField, WallRecord, WallZone, carried
from bolvek.arrays import Floats
from bolvek.mesh import Mesh
from bolvek.report.pictures import palette
from bolvek.report.pictures.callouts import MOST, Callout, best_views, nearest_surface
from bolvek.report.pictures.numbered import SIDE, VIEW, numbered_view, spot_list
from bolvek.report.pictures.plot import Plot
from bolvek.report.pictures.sheet import DASHED, HEIGHT, WIDTH, Caption, Sheet, words_wide
from bolvek.units import area_text, length_text

_KINDS = {"breakthrough": "broken through", "hole": "as good as gone", "thin": "thin", "gap": "narrow gap"}


def walls_picture(mesh: Mesh, record: WallRecord, field: WallField, caption: Caption) -> bytes:
    """PNG of the walls of a model."""
    sheet = Sheet.new(caption)

    bare = np.bincount(field.samples.face, minlength=len(mesh.faces)) == 0  # copies of faces are measured once

    def paint(face: NDArray[np.integer], points: Floats) -> Floats:
        wall = carried(mesh, field.samples, field.wall, points, face)
        return palette.wall_colours(np.where(bare[face], field.face_mm[face], wall) / record.min_mm)

    zones = [*record.zones, *record.gap_zones]
    spots = [_spot(mesh, k, zone) for k, zone in enumerate(zones[:MOST], 1)]
    for k, view in enumerate(best_views(spots)):
        numbered_view(sheet, 8 + k * (VIEW + 6), mesh, view, paint, spots)
    _histogram(sheet, record)
    if spots:
        spot_list(sheet, spots, record.zone_count + len(record.gap_zones))
    else:
        sheet.text(WIDTH - SIDE + 10, 0.52 * HEIGHT, "no thin spot", 11, palette.QUIET, style="italic")
    _scale(sheet, record.min_mm)
    return sheet.png()


def _spot(mesh: Mesh, number: int, zone: WallZone) -> Callout:
    where = np.array(zone.where_mm)
    anchor, normal = nearest_surface(mesh, where)
    text = f"{_KINDS[zone.kind]}, {length_text(zone.min_mm)}, {area_text(zone.area_mm2)}"
    code = "gap" if zone.kind == "gap" else "wall"
    return Callout(number, code, text, where, max(zone.size_mm), anchor, normal)


def _histogram(sheet: Sheet, record: WallRecord) -> None:
    """Share of the surface by wall, in the colours of the views."""
    edges, share = np.array(record.histogram_edges_mm), 100 * np.array(record.histogram_share)
    part = sheet.at(WIDTH - SIDE + 44, 516)
    if not len(share):
        return
    right = max(float(edges[-1]), 1.15 * record.min_mm)
    plot = Plot(part, SIDE - 70, 170, (0.0, right), (0.0, 1.05 * max(float(share.max()), 1e-9)))
    middle = 0.5 * (edges[1:] + edges[:-1])
    colours = [palette.hex_of(c) for c in palette.wall_colours(middle / record.min_mm)]
    plot.bars(edges, share, colours)
    plot.upright(record.min_mm, palette.INK, 1.0, DASHED)
    plot.frame("wall, mm (the last bar holds all above)", "% of the surface", size=8.5)
    at = float(plot.place((record.min_mm, 0.0))[0])
    words, size = f"minimum {record.min_mm:g} mm", 9
    # beside the name of the side at the left
    at = min(max(at, 100 + 0.5 * words_wide(words, size)), plot.width - 0.5 * words_wide(words, size))
    part.text(at, plot.height + 8, words, size, across="middle")


def _scale(sheet: Sheet, min_mm: float) -> None:
    """The colours with their millimetres, below the views."""
    part, wide = sheet.at(190, 14), 270
    part.pixels(palette.shown(palette.wall_colours(np.linspace(0, 4, wide)))[None], 0, 0, wide, 11)
    for k in range(5):
        words = f"{k * min_mm:.3g}" + ("+ mm" if k == 4 else "")
        part.lines([[(k * wide / 4, 11), (k * wide / 4, 14)]], palette.INK, 0.8)
        part.text(k * wide / 4, 16, words, 8.5, across="middle", up="bottom")
    sheet.text(660, 19, "grey: no wall there", 9, palette.QUIET, up="middle")
