"""Overhangs drawn: what overhangs, bridges and begins in the air in colour, numbered; and directions side by side."""

import numpy as np

from bolvek.analyses.held import HeldRecord
from bolvek.analyses.overhangs import OverhangRecord
from bolvek.analyses.overhangs.directions import SHEET_BEST, Comparison, Direction
from bolvek.arrays import Floats, Ints8
from bolvek.mesh import Mesh
from bolvek.report.classes import class_of
from bolvek.report.pictures import palette
from bolvek.report.pictures.callouts import MOST, Callout, nearest_surface
from bolvek.report.pictures.numbered import SIDE, VIEW, numbered_view, spot_list
from bolvek.report.pictures.plain import legend_row
from bolvek.report.pictures.raster import render
from bolvek.report.pictures.sheet import HEIGHT, WIDTH, Caption, Sheet
from bolvek.report.pictures.view import View
from bolvek.units import area_text, length_text

BED, TIP = "#009e73", "#1a1a1a"
LEGEND = (
    ("overhang", class_of("cantilever").colour),
    ("bridge", class_of("bridge").colour),
    ("begins in the air", class_of("free").colour),
    ("on the bed", BED),
)


def face_paint(kind: Ints8) -> Floats:
    """Colours (F, 3) of what each face is, as `find_overhangs` tells."""
    colours = [palette.PLAIN, palette.linear(BED)]
    colours += [palette.linear(class_of(c).colour) for c in ("cantilever", "bridge", "free")]
    return np.array(colours)[kind]


def overhangs_picture(
    mesh: Mesh, record: OverhangRecord, kind: Ints8, caption: Caption, held: HeldRecord | None = None
) -> bytes:
    """PNG of the overhangs of a model, which stands in the picture as it is built, and of tips that would hold it."""
    turn = _upright(np.array(record.up))
    standing = mesh.moved(mesh.vertices @ turn.T)
    paint = face_paint(kind)
    sheet = Sheet.new(caption)
    tips = [] if held is None else held.tips
    shown = _with_tips(standing, np.array([t.where_mm for t in tips]).reshape(-1, 3) @ turn.T)
    paint = np.concatenate([paint, np.tile(palette.linear(TIP), (len(shown.faces) - len(paint), 1))])
    spots = [_spot(standing, turn, k, *place) for k, place in enumerate(_places(record)[:MOST], 1)]
    for k, view in enumerate((View.three_quarter(-62.0, -24.0), View.three_quarter(118.0, -24.0))):
        numbered_view(sheet, 8 + k * (VIEW + 6), shown, view, paint, spots)
    _figures(sheet, record, held)
    if spots:
        spot_list(sheet, spots, len(record.zones) + record.islands)
    legend_row(sheet, 330, 14, LEGEND if held is None else (*LEGEND, ("tip", TIP)))
    return sheet.png()


def _with_tips(mesh: Mesh, places: Floats) -> Mesh:
    """A model with a small peak, point upward, beneath each place (N, 3)."""
    size = 0.012 * float(mesh.size.max())
    corner = np.array([[0, 0, 0], [-0.6, -0.6, -2], [0.6, -0.6, -2], [0.6, 0.6, -2], [-0.6, 0.6, -2]]) * size
    faces = np.array([[0, 1, 2], [0, 2, 3], [0, 3, 4], [0, 4, 1], [1, 4, 3], [1, 3, 2]])
    return mesh.joined(*(Mesh(corner + place, faces) for place in places)) if len(places) else mesh


def directions_picture(mesh: Mesh, comparison: Comparison, kinds: list[Ints8], caption: Caption) -> bytes:
    """PNG of the best directions side by side, the present one last; kinds: what each face is in each of them."""
    sheet = Sheet.new(caption)
    shown = [*comparison.best[:SHEET_BEST], comparison.now]
    columns, width, height = 3, 400, 290
    for k, (direction, kind) in enumerate(zip(shown, kinds, strict=True)):
        turn = _upright(np.array(direction.up))
        standing = mesh.moved(mesh.vertices @ turn.T)
        image = render(standing, View.three_quarter(-62.0, -14.0), width - 20, height - 40, paint=face_paint(kind))
        row, column = divmod(k, columns)
        left, bottom = 24 + column * (width + 14), HEIGHT - 90 - (row + 1) * (height + 44) + 40
        sheet.image(image, left, bottom)
        name = "now" if k == len(shown) - 1 else f"{k + 1}"
        sheet.text(left, bottom - 8, name, 12, style="bold", up="top")
        sheet.text(left + 50, bottom - 6, direction_figures(direction), 8.8, up="top")
    legend_row(sheet, 330, 14, LEGEND)
    return sheet.png()


def direction_figures(d: Direction) -> str:
    """The numbers of a direction on two lines."""
    up = ", ".join(f"{x:.3f}" for x in d.up)
    return (
        f"up {up}; score {d.score:.2f}\n{d.overhang_mm2 / 100:.2f} cm2 over, {d.islands} islands, "
        f"{d.support_volume_mm3 / 1000:.1f} cm3 support, {d.height_mm:.1f} mm"
    )


def _upright(up: Floats) -> Floats:
    """A turn (3, 3) that takes `up` to z."""
    from bolvek.operations.pose import turn_onto

    return turn_onto(up, np.array([0.0, 0.0, 1.0]))


def _places(r: OverhangRecord) -> list[tuple[str, str, Floats, float]]:
    """Code, words, place and extent by what they cost: islands well above the bed, zones by their support, then what
    is gone within two layers of the bed."""
    near_bed = 2 * r.layer_mm
    islands = [
        ("island", f"island, {length_text(i.height_mm)} above the bed", np.array(i.where_mm), 0.0, i.height_mm)
        for i in sorted(r.island_list, key=lambda i: -i.height_mm)
    ]
    names = {"bridge": "bridge", "cantilever": "overhang", "free": "bottom of an island"}
    floor = min((float(np.dot(z.lowest_mm, r.up)) for z in r.zones), default=0.0)
    zones = []
    for z in sorted(r.zones, key=lambda z: (-z.support_mm3, -z.area_mm2)):
        if z.kind != "free":
            words = f"{names[z.kind]}, {area_text(z.area_mm2)}"
            if z.kind == "bridge":
                words += f", spans {length_text(z.span_mm or 0.0)}"
            elif z.reach_mm is not None:
                words += f", reaches {length_text(z.reach_mm)}"
            up = float(np.dot(z.lowest_mm, r.up)) - floor
            zones.append((z.kind, words, np.array(z.centre_mm), max(z.size_mm), up + 0.5 * max(z.size_mm)))
    # no more than half of the numbers for islands while there are zones
    high = [i for i in islands if i[4] > near_bed]
    big = [z for z in zones if z[4] > near_bed]
    first = max(MOST // 2, MOST - len(big))
    rest = [*high[first:], *[i for i in islands if i[4] <= near_bed], *[z for z in zones if z[4] <= near_bed]]
    return [place[:4] for place in (*high[:first], *big, *rest)]


def _spot(mesh: Mesh, turn: Floats, number: int, code: str, text: str, where: Floats, extent: float) -> Callout:
    at = turn @ where
    anchor, normal = nearest_surface(mesh, at)
    return Callout(number, code, text, where, extent, anchor, normal)


def _figures(sheet: Sheet, r: OverhangRecord, held: HeldRecord | None) -> None:
    """The main numbers at the top of the right column."""
    rows = [
        ("overhang", f"{r.area_mm2 / 100:.2f} cm2, {100 * r.share:.1f}% of the surface"),
        ("islands", f"{r.islands}"),
        ("bridges", f"{r.bridges}, {r.bridge_area_mm2 / 100:.2f} cm2"),
        ("support", f"{r.support_volume_mm3 / 1000:.2f} cm3 on {r.support_footprint_mm2 / 100:.2f} cm2"),
        ("bed contact", f"{r.bed_contact_mm2 / 100:.2f} cm2"),
        ("height", f"{r.height_mm:.2f} mm, {r.layers:,} layers"),
    ]
    if held is not None:
        rows[-1] = ("tips", "none needed" if held.held else f"{len(held.tips):,}, hold {area_text(held.area_mm2)}")
    for k, (name, text) in enumerate(rows):
        y = HEIGHT - 110 - 26 * k
        sheet.text(WIDTH - SIDE + 10, y, name, 10.5, palette.QUIET)
        sheet.text(WIDTH - SIDE + 110, y, text, 10.5)
