"""`bolvek overhangs`."""

from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from bolvek.cli.building import direction_options, settings_for, weights_for
from bolvek.cli.common import LENGTH, PATH, PLACE, model_argument, options, printer_option
from bolvek.cli.measure import Answer, measure_options
from bolvek.errors import UsageError

if TYPE_CHECKING:
    from bolvek.mesh import Mesh


@click.command("overhangs")
@options(
    model_argument,
    direction_options,
    printer_option,
    click.option("--up", type=PLACE, default="0,0,1", show_default=True, help="Build direction."),
    click.option("--spacing", type=LENGTH, help="Distance between places that measure the support."),
    click.option("--compare-up", type=int, metavar="N", help="Also rank N directions, and the sides it can stand on."),
    click.option("--best", type=int, default=5, show_default=True, metavar="K", help="How many directions to tell."),
    click.option("--sheet", type=PATH, metavar="FILE.png", help="Draw the best directions side by side."),
    measure_options,
)
def command(
    model: Path,
    angle: float | None,
    printer: str | None,
    up: tuple[float, float, float],
    layer: float | None,
    habit: str | None,
    spacing: float | None,
    bridge_most: float | None,
    compare_up: int | None,
    weigh: tuple[str, ...],
    show: tuple[float, float, float] | None,
    best: int,
    sheet: Path | None,
    **shared: Any,
) -> None:
    """What hangs over: zones, bridges, islands, supports, how it stands; and the best way up.

    \b
    Examples:
      bolvek overhangs shade.stl --angle 45 --picture overhangs.png
      bolvek overhangs carp.stl --printer small-resin --compare-up 200 --sheet ways.png
    """
    from bolvek.analyses.overhangs import find_overhangs
    from bolvek.analyses.overhangs.directions import CompareSettings, compare_directions
    from bolvek.cli.common import check_targets
    from bolvek.cli.measure import run_measure

    settings = settings_for(
        printer, angle=angle, up=up, layer=layer, habit=habit, bridge_most=bridge_most, spacing=spacing
    )
    settings.check()
    weights = weights_for(weigh, settings.habit, show=show is not None)
    compare = CompareSettings(compare_up, weights, best, show) if compare_up is not None else None
    if compare is not None:
        compare.check()
    elif weigh or sheet or show:
        raise UsageError("--weigh, --show and --sheet go with --compare-up N")
    check_targets(model, [sheet, shared["picture_target"], shared["json_target"]], replace=shared["replace"])

    def work(mesh: "Mesh", details: bool) -> Answer:
        from bolvek.report.measure_words import MOST_LISTED, direction_rows, overhang_rows

        record, kind = find_overhangs(mesh, settings)
        rows = overhang_rows(record, most=1_000_000 if details else MOST_LISTED)
        sections: dict[str, Any] = {"overhangs": record}
        if compare is not None:
            compared = compare_directions(mesh, settings, compare)
            sections["directions"] = compared
            rows += direction_rows(compared)
            if sheet is not None:
                from bolvek.formats.safe import write_bytes
                from bolvek.report.overhangs_picture import directions_picture
                from bolvek.report.picture import model_caption

                caption = model_caption(model, mesh, tried=f"{compared.tried} directions compared")
                write_bytes(sheet, directions_picture(mesh, compared, settings, caption), replace=shared["replace"])
                rows.append(("sheet", str(sheet)))

        def draw(caption: Any) -> bytes:
            from bolvek.report.overhangs_picture import overhangs_picture

            return overhangs_picture(mesh, record, kind, caption)

        good = record.ok
        return Answer(sections, rows, record.findings, record.verdict, good, draw)

    run_measure("overhangs", model, {"": settings, "compare": compare}, work, **shared)
