"""The survey drawn: two views with faces in trouble coloured and numbered, a zoom on the smallest, a list."""

import numpy as np

from bolvek.analyses.survey.record import Marks, Survey
from bolvek.mesh import Mesh
from bolvek.report.classes import CLASSES, class_of
from bolvek.report.pictures import palette
from bolvek.report.pictures.callouts import best_views, choose_spots
from bolvek.report.pictures.numbered import SIDE, VIEW, numbered_view, spot_list, zoom
from bolvek.report.pictures.plain import legend_row
from bolvek.report.pictures.sheet import HEIGHT, WIDTH, Caption, Sheet


def survey_picture(mesh: Mesh, survey: Survey, marks: Marks, caption: Caption) -> bytes:
    """PNG of a survey: what is wrong, where, and the smallest place from near."""
    sheet = Sheet.new(caption)
    spots, total = choose_spots(mesh, survey, marks)
    paint = np.tile(np.array(palette.PLAIN), (len(mesh.faces), 1))
    for code in sorted(marks.faces, key=lambda c: class_of(c).layer):
        if class_of(code).layer:
            paint[marks.faces[code]] = palette.linear(class_of(code).colour)
    for k, view in enumerate(best_views(spots)):
        numbered_view(sheet, 8 + k * (VIEW + 6), mesh, view, paint, spots)
    if spots:
        zoom(sheet, mesh, paint, spots[-1])  # the smallest: nobody sees it in the views
        spot_list(sheet, spots, total)
    else:
        sheet.text(WIDTH - SIDE + 10, 0.80 * HEIGHT, "nothing to point at", 11, palette.QUIET, style="italic")
    legend_row(sheet, 44, 12, _legend(marks), size=9)
    return sheet.png()


def _legend(marks: Marks) -> list[tuple[str, str]]:
    """What is in the picture, with its colour."""
    items = {}
    for code in (c for c in CLASSES if c in marks.faces):
        count = "" if code == "open_edges" else f" ({len(marks.faces[code]):,} faces)"
        items[class_of(code).name] = class_of(code).name + count, class_of(code).colour
    return list(items.values())
