"""The survey drawn: two views with faces in trouble coloured and numbered, a zoom on the smallest, a list."""

from typing import TYPE_CHECKING

import numpy as np

from bolvek.analyses.survey.record import Marks, Survey
from bolvek.mesh import Mesh
from bolvek.report.classes import CLASSES, class_of
from bolvek.report.pictures import palette
from bolvek.report.pictures.callouts import best_views, choose_spots
from bolvek.report.pictures.numbered import SIDE, VIEW, numbered_view, spot_list, zoom
from bolvek.report.pictures.plain import HEIGHT, WIDTH, Caption, new_figure, png_bytes

if TYPE_CHECKING:
    from matplotlib.figure import Figure


def survey_picture(mesh: Mesh, survey: Survey, marks: Marks, caption: Caption) -> bytes:
    """PNG of a survey: what is wrong, where, and the smallest place from near."""
    figure = new_figure(caption)
    spots, total = choose_spots(mesh, survey, marks)
    paint = np.tile(np.array(palette.PLAIN), (len(mesh.faces), 1))
    for code in sorted(marks.faces, key=lambda c: class_of(c).layer):
        if class_of(code).layer:
            paint[marks.faces[code]] = palette.linear(class_of(code).colour)
    for k, view in enumerate(best_views(spots)):
        numbered_view(figure, 8 + k * (VIEW + 6), mesh, view, paint, spots)
    if spots:
        zoom(figure, mesh, paint, spots[-1])  # the smallest: nobody sees it in the views
        spot_list(figure, spots, total)
    else:
        x = (WIDTH - SIDE + 10) / WIDTH
        figure.text(x, 0.80, "nothing to point at", size=11, color=palette.QUIET, style="italic")
    _legend(figure, marks)
    return png_bytes(figure)


def _legend(figure: "Figure", marks: Marks) -> None:
    axes = figure.add_axes((0.0, 0.0, 1.0, 22 / HEIGHT))
    axes.set_xlim(0, WIDTH)
    axes.set_ylim(0, 22)
    axes.set_axis_off()
    x = 44.0
    for code in (c for c in CLASSES if c in marks.faces):
        text = (
            f"{class_of(code).name} ({len(marks.faces[code]):,} faces)" if code != "open_edges" else class_of(code).name
        )
        axes.plot([x], [12], "s", color=class_of(code).colour, ms=9, clip_on=False)
        axes.text(x + 10, 12, text, size=9, color=palette.INK, va="center")
        x += 34 + 7.0 * len(text)
