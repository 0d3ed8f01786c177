"""Wall thickness drawn: measured at every pixel, coloured around the minimum, thin zones numbered, a histogram."""

from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import NDArray

from bolvek.analyses.thickness import WallRecord, WallZone, wall_at
from bolvek.arrays import Floats
from bolvek.mesh import Mesh
from bolvek.report.pictures import palette
from bolvek.report.pictures.callouts import MOST, Callout, best_views, nearest_surface
from bolvek.report.pictures.numbered import SIDE, VIEW, numbered_view, spot_list
from bolvek.report.pictures.plain import HEIGHT, WIDTH, Caption, new_figure, png_bytes
from bolvek.settings.measures import WallSettings
from bolvek.units import area_text, length_text

if TYPE_CHECKING:
    from matplotlib.figure import Figure


_KINDS = {"breakthrough": "broken through", "hole": "as good as gone", "thin": "thin", "gap": "narrow gap"}


def walls_picture(mesh: Mesh, record: WallRecord, settings: WallSettings, caption: Caption) -> bytes:
    """PNG of the walls of a model."""
    figure = new_figure(caption)

    def paint(face: NDArray[np.integer], points: Floats) -> Floats:
        return palette.wall_colours(wall_at(mesh, points, face, settings) / settings.min_mm)

    zones = [*record.zones, *record.gap_zones]
    spots = [_spot(mesh, k, zone) for k, zone in enumerate(zones[:MOST], 1)]
    for k, view in enumerate(best_views(spots)):
        numbered_view(figure, 8 + k * (VIEW + 6), mesh, view, paint, spots)
    _histogram(figure, record)
    if spots:
        spot_list(figure, spots, record.zone_count + len(record.gap_zones))
    else:
        figure.text((WIDTH - SIDE + 10) / WIDTH, 0.52, "no thin spot", size=11, color=palette.QUIET, style="italic")
    _scale(figure, settings.min_mm)
    return png_bytes(figure)


def _spot(mesh: Mesh, number: int, zone: WallZone) -> Callout:
    where = np.array(zone.where_mm)
    anchor, normal = nearest_surface(mesh, where)
    text = f"{_KINDS[zone.kind]}, {length_text(zone.min_mm)}, {area_text(zone.area_mm2)}"
    code = "gap" if zone.kind == "gap" else "wall"
    return Callout(number, code, text, where, max(zone.size_mm), anchor, normal)


def _histogram(figure: "Figure", record: WallRecord) -> None:
    """Share of the surface by wall, in the colours of the views."""
    edges, share = np.array(record.histogram_edges_mm), 100 * np.array(record.histogram_share)
    axes = figure.add_axes(((WIDTH - SIDE + 44) / WIDTH, 516 / HEIGHT, (SIDE - 70) / WIDTH, 180 / HEIGHT))
    axes.patch.set_alpha(0)
    if len(share):
        middle = 0.5 * (edges[1:] + edges[:-1])
        colours = palette.shown(palette.wall_colours(middle / record.min_mm))
        axes.bar(middle, share, width=np.diff(edges), color=colours, edgecolor=palette.PAPER, linewidth=0.5)
        axes.axvline(record.min_mm, color=palette.INK, lw=1.0, ls="--")
        axes.text(
            record.min_mm, 1.02, f"minimum {record.min_mm:g} mm", size=9, color=palette.INK,
            ha="center", va="bottom", transform=axes.get_xaxis_transform(),
        )  # fmt: skip
        axes.set_xlim(0, max(edges[-1], 1.15 * record.min_mm))
    axes.set_xlabel("wall, mm (the last bar holds all above)", size=9, color=palette.QUIET)
    axes.set_ylabel("% of the surface", size=9, color=palette.QUIET)
    axes.tick_params(labelsize=8.5, colors=palette.QUIET)
    for name, spine in axes.spines.items():
        spine.set_visible(name in ("left", "bottom"))
        spine.set_color(palette.QUIET)


def _scale(figure: "Figure", min_mm: float) -> None:
    """The colours with their millimetres, below the views."""
    axes = figure.add_axes((190 / WIDTH, 14 / HEIGHT, 270 / WIDTH, 11 / HEIGHT))
    strip = palette.shown(palette.wall_colours(np.linspace(0, 4, 270)))
    axes.imshow(strip[None], extent=(0, 4, 0, 1), aspect="auto")
    axes.set_xticks([0, 1, 2, 3, 4], [f"{k * min_mm:.3g}" for k in range(4)] + [f"{4 * min_mm:.3g}+ mm"])
    axes.set_yticks([])
    axes.xaxis.tick_top()
    axes.tick_params(labelsize=8.5, colors=palette.INK, length=2, pad=1)
    for spine in axes.spines.values():
        spine.set_visible(False)
    figure.text(660 / WIDTH, 19 / HEIGHT, "grey: no wall there", size=9, color=palette.QUIET, va="center", ha="left")
