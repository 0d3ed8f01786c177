"""`bolvek overhangs`."""

import dataclasses
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from bolvek.cli.base.bind import bound, given, taken
from bolvek.cli.base.directions import direction_options, settings_for, weights_for
from bolvek.cli.base.options import Asked, options, printer_option, reading_options, scaled_options, several_models
from bolvek.cli.base.shown import adds
from bolvek.cli.base.supported import support_settings
from bolvek.cli.base.types import PICTURE
from bolvek.errors import UsageError
from bolvek.settings.measures import OverhangSettings, RankSettings
from bolvek.settings.supports import HeldSettings

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
    click.option(
        "--tips",
        is_flag=True,
        help="Find what nothing holds while it is built, and the fewest support tips that would hold it.",
    ),
    bound("--reach", HeldSettings, "reach_mm", default=None, none="1mm"),
    bound("--carry", HeldSettings, "carry_mm", default=None, none="2mm"),
    bound("--compare-up", RankSettings, "count", default=None, none="none are ranked"),
    bound("--tell", RankSettings, "best"),
    click.option("--sheet", type=PICTURE, metavar="FILE.png", help="Draw the best directions side by side."),
    scaled_options,
    reading_options,
)
def command(
    models: tuple[Path, ...],
    printer: str | None,
    weigh: tuple[str, ...],
    sheet: Path | None,
    tips: bool,
    **values: Any,
) -> None:
    """What hangs over: zones, bridges, islands, supports, how it stands; and the best way up.

    \b
    Examples:
      bolvek overhangs shade.stl --angle 45 --picture overhangs.png
      bolvek overhangs carp.stl --printer small-resin --tips --picture tips.png
      bolvek overhangs carp.stl --printer small-resin --compare-up 200 --sheet ways.png
    """
    from bolvek.analyses.held import find_held
    from bolvek.analyses.overhangs import find_overhangs, judged_by_hold
    from bolvek.analyses.overhangs.directions import (
        compare_directions,
        faces_in_directions,
        with_supports_needed,
    )
    from bolvek.cli.base.options import scaling_of
    from bolvek.cli.base.outcome import Run
    from bolvek.cli.base.run import run
    from bolvek.cli.base.scaled import measured, scaled_model

    settings = settings_for(values, printer)
    settings.check()
    holding, bodies = _holding(settings, values, tips=tips), support_settings({}, printer)
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
        held = None
        if holding is not None:
            held = step("tips", lambda: find_held(mesh, holding))
            record = judged_by_hold(record, held)
        rows = overhang_rows(record, held, most=asked.most)
        sections: dict[str, Any] = {"overhangs": record} | ({} if held is None else {"held": held})
        if count is not None:
            compared = step("directions", lambda: compare_directions(mesh, settings, compare))
            if holding is not None:
                sizes = bodies.tip_mm, bodies.column_mm
                compared = step("supports", lambda: with_supports_needed(mesh, compared, holding, *sizes))
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
            return overhangs_picture(mesh, record, kind, caption, held)

        outputs = [] if sheet is None else [sheet]
        done = measured(model, scaled, record, sections, rows, overhang_line(record), draw, outputs)
        return dataclasses.replace(done, scene=adds("overhangs", record, kind))

    asks: dict[str, Any] = {"": settings} | ({"compare": compare} if count is not None else {})
    asks |= {} if holding is None else {"held": holding}
    how = Run(
        verb="overhangs",
        model_only=True,
        settings=asks,
        work=work,
        alone={"--sheet": sheet},
        kernels=(*(() if sheet is None else ("picture",)), *(("held",) if tips else ())),
    )
    run(how, models, asked)


def _holding(settings: OverhangSettings, values: dict[str, Any], *, tips: bool) -> HeldSettings | None:
    """What is asked about what holds, taken out of `values`; None where it is not asked."""
    asked = {name: given(HeldSettings, name, values) for name in ("reach_mm", "carry_mm")}
    asked = {name: value for name, value in asked.items() if value is not None}
    if not tips:
        if asked:
            raise UsageError("--reach and --carry go with --tips")
        return None
    held = HeldSettings(
        angle_deg=settings.angle_deg,
        layer_mm=settings.layer_mm,
        up=settings.up,
        bridge_most_mm=settings.bridge_most_mm if settings.habit == "stands" else 0.0,
        **asked,
    )
    held.check()
    return held


def _write_sheet(sheet: Path, model: "Model", compared: "Comparison", kinds: "list[Ints8]", asked: Asked) -> None:
    """Draw the best directions side by side."""
    from bolvek.formats.safe import write_bytes
    from bolvek.report.pictures.overhangs import directions_picture
    from bolvek.report.pictures.plain import model_caption

    caption = model_caption(model.path, model.mesh, tried=f"{compared.tried} directions compared")
    write_bytes(sheet, directions_picture(model.mesh, compared, kinds, caption), replace=asked.replace)
