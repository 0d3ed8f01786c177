"""`bolvek overhangs`."""

import dataclasses
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from bolvek.cli.base.bind import bound, given, taken
from bolvek.cli.base.directions import direction_options, settings_for, weights_for
from bolvek.cli.base.options import Asked, options, printer_option, reading_options, scaled_options, several_models
from bolvek.cli.base.shown import adds
from bolvek.cli.base.types import PICTURE
from bolvek.errors import UsageError
from bolvek.settings.measures import OverhangSettings, RankSettings

if TYPE_CHECKING:
    from bolvek.analyses.overhangs.directions import Comparison
    from bolvek.arrays import Ints8
    from bolvek.cli.base.outcome import Outcome, Steps
    from bolvek.formats import Model


@click.command("overhangs")
@options(
    several_models,
    direction_options,
    printer_option,
    bound("--up", OverhangSettings, "up"),
    bound("--spacing", OverhangSettings, "spacing_mm"),
    bound("--compare-up", RankSettings, "count", default=None, none="none are ranked"),
    bound("--tell", RankSettings, "best"),
    click.option("--sheet", type=PICTURE, metavar="FILE.png", help="Draw the best directions side by side."),
    scaled_options,
    reading_options,
)
def command(
    models: tuple[Path, ...], printer: str | None, weigh: tuple[str, ...], sheet: Path | None, **values: Any
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
    from bolvek.cli.base.outcome import Run
    from bolvek.cli.base.run import run
    from bolvek.cli.base.scaled import measured, scaled_model

    settings = settings_for(values, printer)
    settings.check()
    count, show = (given(RankSettings, name, values) for name in ("count", "show"))
    weights = weights_for(weigh, settings.habit, show=show is not None)
    compare = taken(RankSettings, values, weights=weights, show=show, **({} if count is None else {"count": count}))
    if count is None and (weigh or sheet or show):
        raise UsageError("--weigh, --show and --sheet go with --compare-up N")
    scaling, asked = scaling_of(values), Asked(**values)

    def work(model: "Model", step: "Steps") -> "Outcome":
        from bolvek.report.words.overhangs import direction_rows, overhang_line, overhang_rows

        model, scaled = scaled_model(model, scaling)
        mesh = model.mesh
        record, kind = step("overhangs", lambda: find_overhangs(mesh, settings))
        rows = overhang_rows(record, most=asked.most)
        sections: dict[str, Any] = {"overhangs": record}
        if count is not None:
            compared = step("directions", lambda: compare_directions(mesh, settings, compare))
            sections["directions"] = compared
            rows += direction_rows(compared)
            if sheet is not None:
                kinds = step("sheet", lambda: faces_in_directions(mesh, settings, compared))
                _write_sheet(sheet, model, compared, kinds, asked)
                rows.append(("sheet", str(sheet)))

        def draw() -> bytes:
            from bolvek.report.pictures.overhangs import overhangs_picture
            from bolvek.report.pictures.plain import model_caption

            caption = model_caption(model.path, mesh, record)
            return overhangs_picture(mesh, record, kind, caption)

        outputs = [] if sheet is None else [sheet]
        done = measured(model, scaled, record, sections, rows, overhang_line(record), draw, outputs)
        return dataclasses.replace(done, scene=adds("overhangs", record, kind))

    asks: dict[str, Any] = {"": settings} | ({"compare": compare} if count is not None else {})
    how = Run(
        verb="overhangs",
        model_only=True,
        settings=asks,
        work=work,
        alone={"--sheet": sheet},
        kernels=() if sheet is None else ("picture",),
    )
    run(how, models, asked)


def _write_sheet(sheet: Path, model: "Model", compared: "Comparison", kinds: "list[Ints8]", asked: Asked) -> None:
    """Draw the best directions side by side."""
    from bolvek.formats.safe import write_bytes
    from bolvek.report.pictures.overhangs import directions_picture
    from bolvek.report.pictures.plain import model_caption

    caption = model_caption(model.path, model.mesh, tried=f"{compared.tried} directions compared")
    write_bytes(sheet, directions_picture(model.mesh, compared, kinds, caption), replace=asked.replace)
