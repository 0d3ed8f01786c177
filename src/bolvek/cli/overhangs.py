"""`bolvek overhangs`."""

from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from bolvek.cli.base.directions import direction_options, settings_for, weights_for
from bolvek.cli.base.options import Asked, models_argument, options, printer_option, reading_options, scaled_options
from bolvek.cli.base.types import LENGTH, PICTURE, PLACE
from bolvek.errors import UsageError

if TYPE_CHECKING:
    from bolvek.cli.base.run import Outcome, Steps
    from bolvek.formats import Model


@click.command("overhangs")
@options(
    models_argument,
    direction_options,
    printer_option,
    click.option("--up", type=PLACE, default="0,0,1", show_default=True, help="Build direction."),
    click.option("--spacing", type=LENGTH, help="Distance between places that measure the support."),
    click.option("--compare-up", type=int, metavar="N", help="Also rank N directions, and the sides it can stand on."),
    click.option("--best", type=int, default=5, show_default=True, metavar="K", help="How many directions to tell."),
    click.option("--sheet", type=PICTURE, metavar="FILE.png", help="Draw the best directions side by side."),
    scaled_options,
    reading_options,
)
def command(
    models: tuple[Path, ...],
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
    height: float | None,
    longest: float | None,
    by: float | None,
    **shared: Any,
) -> None:
    """What hangs over: zones, bridges, islands, supports, how it stands; and the best way up.

    \b
    Examples:
      bolvek overhangs shade.stl --angle 45 --picture overhangs.png
      bolvek overhangs carp.stl --printer small-resin --compare-up 200 --sheet ways.png
    """
    from bolvek.analyses.overhangs import find_overhangs
    from bolvek.analyses.overhangs.directions import compare_directions, faces_in_directions
    from bolvek.cli.base.options import scaling_of
    from bolvek.cli.base.run import Run, run
    from bolvek.cli.base.scaled import measured, scaled_model
    from bolvek.settings.measures import RankSettings

    settings = settings_for(
        printer, angle=angle, up=up, layer=layer, habit=habit, bridge_most=bridge_most, spacing=spacing
    )
    settings.check()
    weights = weights_for(weigh, settings.habit, show=show is not None)
    compare = None
    if compare_up is not None:
        compare = RankSettings(count=compare_up, weights=weights, best=best, show=show)
    elif weigh or sheet or show:
        raise UsageError("--weigh, --show and --sheet go with --compare-up N")
    scaling, asked = scaling_of(height, longest, by), Asked(**shared)

    def work(model: "Model", step: "Steps") -> "Outcome":
        from bolvek.report.words.overhangs import direction_rows, overhang_line, overhang_rows

        model, scaled = scaled_model(model, scaling)
        mesh = model.mesh
        record, kind = step("overhangs", lambda: find_overhangs(mesh, settings))
        rows = overhang_rows(record, most=asked.most)
        sections: dict[str, Any] = {"overhangs": record}
        if compare is not None:
            compared = step("directions", lambda: compare_directions(mesh, settings, compare))
            sections["directions"] = compared
            rows += direction_rows(compared)
            if sheet is not None:
                from bolvek.formats.safe import write_bytes
                from bolvek.report.pictures.overhangs import directions_picture
                from bolvek.report.pictures.plain import model_caption

                caption = model_caption(model.path, mesh, tried=f"{compared.tried} directions compared")
                kinds = step("sheet", lambda: faces_in_directions(mesh, settings, compared))
                write_bytes(sheet, directions_picture(mesh, compared, kinds, caption), replace=asked.replace)
                rows.append(("sheet", str(sheet)))

        def draw() -> bytes:
            from bolvek.report.pictures.overhangs import overhangs_picture
            from bolvek.report.pictures.plain import model_caption

            caption = model_caption(model.path, mesh, verdict=record.verdict, fit=record.ok)
            return overhangs_picture(mesh, record, kind, caption)

        outputs = [] if sheet is None else [sheet]
        return measured(model, scaled, record, sections, rows, overhang_line(record), draw, outputs)

    asks: dict[str, Any] = {"": settings} | ({"compare": compare} if compare is not None else {})
    how = Run(
        verb="overhangs",
        model_only=True,
        settings=asks,
        work=work,
        alone={"--sheet": sheet},
        kernels=() if sheet is None else ("picture",),
    )
    run(how, models, asked)
