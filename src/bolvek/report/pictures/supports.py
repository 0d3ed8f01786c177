"""Supports drawn: the model pale with its supports in colour, and from beneath without them where tips leave scars."""

from pathlib import Path

import numpy as np

from bolvek.arrays import Floats
from bolvek.mesh import Mesh
from bolvek.operations.supports import SupportsRecord
from bolvek.report.pictures import palette
from bolvek.report.pictures.plain import add_scale_bar, legend_row, model_caption
from bolvek.report.pictures.raster import render
from bolvek.report.pictures.sheet import HEIGHT, Sheet
from bolvek.report.pictures.view import View
from bolvek.units import area_text, length_text, volume_text

SUPPORT, SCAR, LACKING = "#0072b2", "#d55e00", "#b3261e"
_WIDE, _HIGH, _BOTTOM, _RIGHT = 500, 640, 70, 1040
_BALL = 0.008  # of the longest side: a scar is drawn no smaller


def supports_result(path: Path, mesh: Mesh, supports: Mesh | None, record: SupportsRecord) -> bytes:
    """PNG of a model with its supports."""
    sheet = Sheet.new(model_caption(path, mesh, record))
    size = max(_BALL * float(mesh.size.max()), 0.5 * record.tip_mm)
    scars = _balls(np.array([t.where_mm for t in record.tips]).reshape(-1, 3), size)
    lacking = _balls(np.array([u.place.where_mm for u in record.unheld]).reshape(-1, 3), 1.8 * size)
    shown = ((mesh, palette.PLAIN), (lacking, palette.linear(LACKING)))
    views = (
        ("with its supports", View.three_quarter(), ((supports, palette.linear(SUPPORT)), *shown)),
        (f"from beneath: {_end(record)}s", View.three_quarter(-62.0, -38.0), ((scars, palette.linear(SCAR)), *shown)),
    )
    for k, (name, view, bodies) in enumerate(views):
        there = [(body, colour) for body, colour in bodies if body is not None]
        whole = there[0][0].joined(*(body for body, _ in there[1:]))
        paint = np.concatenate([np.tile(colour, (len(body.faces), 1)) for body, colour in there])
        image = render(whole, view, _WIDE, _HIGH, paint=paint)
        panel = sheet.image(image, 16 + k * (_WIDE + 8), _BOTTOM)
        panel.text(6, _HIGH - 4, name, 11, style="italic", up="top")
        add_scale_bar(panel, image)
    _figures(sheet, record)
    legend = [("support", SUPPORT), (_end(record), SCAR), *([("not held", LACKING)] if record.unheld else [])]
    legend_row(sheet, 420, 14, legend)
    return sheet.png()


def _end(record: SupportsRecord) -> str:
    """What a support ends in."""
    return "pad" if record.gap_mm else "scar"


def _balls(places: Floats, radius: float) -> Mesh | None:
    """A small eight-sided body around each place (N, 3)."""
    if not len(places):
        return None
    corner = radius * np.array([[1, 0, 0], [-1, 0, 0], [0, 1, 0], [0, -1, 0], [0, 0, 1], [0, 0, -1]], np.float64)
    faces = np.array([[0, 2, 4], [2, 1, 4], [1, 3, 4], [3, 0, 4], [2, 0, 5], [1, 2, 5], [3, 1, 5], [0, 3, 5]], np.int64)
    points = (places[:, None] + corner).reshape(-1, 3)
    return Mesh(points, (faces + 6 * np.arange(len(places))[:, None, None]).reshape(-1, 3))


def _figures(sheet: Sheet, r: SupportsRecord) -> None:
    """The main numbers at the right."""
    rows = [
        ("to hold", f"{r.bare:,}, {area_text(r.bare_mm2)}"),
        ("tips", f"{len(r.tips):,}"),
        ("trunks", f"{r.trunks:,}"),
        ("on the model", f"{r.on_model:,}"),
        ("material", volume_text(r.volume_mm3)),
        ("scars", area_text(r.scars_mm2) if r.scars_mm2 else "none"),
        ("longest", length_text(r.longest_mm)),
        ("not held", f"{len(r.unheld):,}"),
    ]
    for k, (name, text) in enumerate(rows):
        y = HEIGHT - 110 - 26 * k
        sheet.text(_RIGHT, y, name, 10.5, palette.QUIET)
        sheet.text(_RIGHT + 118, y, text, 10.5)
