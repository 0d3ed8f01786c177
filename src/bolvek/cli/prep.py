"""`bolvek prep`."""

import dataclasses
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from bolvek.cli.base.bind import bound, given, taken
from bolvek.cli.base.directions import as_printed, turned_to_best
from bolvek.cli.base.options import (
    Asked,
    details_option,
    json_option,
    options,
    output_option,
    page_option,
    picture_option,
    place_options,
    printer_option,
    replace_option,
    scaling_of,
    several_models,
    to_solid_options,
    unit_option,
)
from bolvek.cli.base.shown import adds
from bolvek.cli.base.supported import support_settings
from bolvek.cli.base.targets import is_folder
from bolvek.cli.base.types import PATH
from bolvek.errors import UsageError
from bolvek.settings.measures import RankSettings
from bolvek.settings.parts import PoseSettings, ScaleSettings
from bolvek.settings.repairs import MendSettings, SolidSettings
from bolvek.settings.shape import HollowSettings, PlaceSettings, PlugSettings, PrepSettings
from bolvek.settings.supports import SupportSettings

if TYPE_CHECKING:
    from bolvek.cli.base.outcome import Outcome, Steps
    from bolvek.formats import Model


@click.command("prep")
@options(
    several_models,
    output_option,
    bound("--height", ScaleSettings, "height_mm", help="Scale to this height (z)."),
    bound("--longest", ScaleSettings, "longest_mm", help="Scale to this longest side."),
    bound("--by", ScaleSettings, "by", type=float, metavar="FACTOR", help="Scale by a factor."),
    click.option("--mend", "mends", is_flag=True, help="Mend the model first, as 'bolvek mend' does."),
    click.option("--to-solid", is_flag=True, help="Make a solid first, as 'bolvek solid' does."),
    to_solid_options,
    bound("--wall", HollowSettings, "wall_mm", default=2.0),
    bound("--grid", HollowSettings, "grid_mm"),
    bound("--drains", PlaceSettings, "count", default=None, none="as many as it takes, found by flooding"),
    bound("--diameter", PlaceSettings, "diameter_mm"),
    click.option("--plugs", type=PATH, metavar="FOLDER", help="Write a plug for every hole, numbered alike."),
    bound("--drain-up", PlaceSettings, "up"),
    place_options,
    bound("--room", HollowSettings, "room_mm", none="as wide as the wall, or the least drain where that is more"),
    bound("--keep-pockets", HollowSettings, "keep_pockets"),
    bound("--least-volume", HollowSettings, "least_mm3", none="3% of its part, and 0.3 cm3 at least"),
    bound("--strict", PrepSettings, "strict"),
    click.option(
        "--best",
        type=click.IntRange(1),
        metavar="RANK",
        help="Turn it first: the RANK-th best build direction becomes up; --height is that of the turned model.",
    ),
    click.option(
        "--supports",
        "supported",
        is_flag=True,
        help="Hold it with supports, as 'bolvek supports' does; a 3MF gets them as a part.",
    ),
    bound("--inside", SupportSettings, "inside"),
    printer_option,
    details_option,
    json_option,
    picture_option,
    page_option,
    unit_option,
    replace_option,
)
def command(
    models: tuple[Path, ...],
    output: Path | None,
    mends: bool,
    to_solid: bool,
    plan: bool,
    changes: Path | None,
    plugs: Path | None,
    printer: str | None,
    best: int | None,
    supported: bool,
    **values: Any,
) -> None:
    """The whole way for each model: check, scale, hollow, drain, prove, write; turned first and supported if asked.

    \b
    Examples:
      bolvek prep carp.stl --height 90mm --wall 2mm -o out/carp.stl
      bolvek prep carp.stl scan.stl --mend --wall 1.5mm -o out/
      bolvek prep cloud_tile.ply --to-solid --skin 1.2mm --longest 80mm
      bolvek prep carp.stl --by 1.5 --wall 1.8mm --json carp.json --picture carp.png
      bolvek prep carp.stl --height 90mm --best 1 --supports --printer small-resin -o carp.3mf
    """
    from bolvek.cli.base.outcome import Run
    from bolvek.cli.base.run import run
    from bolvek.formats.folder import check_folder
    from bolvek.report.words.prep import STEPS

    holding = support_settings(values, printer)
    if holding.inside and not supported:
        raise UsageError("--inside goes with --supports")
    if supported and plan:
        raise UsageError("--plan makes nothing to support; leave out --supports")
    settings, solid = _settings(values, printer, mends=mends, to_solid=to_solid)
    directions, compare = as_printed(printer), RankSettings(count=100, best=max(best or 1, 5))
    asked = Asked(**values)
    solid.check()  # a value that makes no sense is refused with or without --to-solid
    if plugs is not None:
        check_folder(plugs, replace=asked.replace)
        if len(models) > 1:
            raise UsageError("--plugs is for one model; name one")
    if not to_solid and (plan or changes is not None or solid.taken_as is not None):
        raise UsageError("--plan, --changes and --as go with --to-solid")
    if plan and (output is not None or changes is not None or plugs is not None):
        raise UsageError("--plan writes nothing; leave out -o, --changes and --plugs")

    def work(model: "Model", step: "Steps") -> "Outcome":
        sections: dict[str, Any] = {}
        if best is not None:
            posing = PoseSettings(drop=True)
            mesh, sections["pose"] = turned_to_best(model.mesh, best, directions, compare, posing, step)
            model = dataclasses.replace(model, mesh=mesh)
        if plan:
            return _planned(model, settings, step)
        done = _prepared(model, settings, step, plugs, changes, asked)
        done = dataclasses.replace(done, sections={**sections, **done.sections})
        return _held(done, holding, step, asked) if supported else done

    how = Run(
        verb="prep",
        settings={"": settings},
        work=work,
        writes=None if plan else "proven",
        suffix=".3mf" if supported and (output is None or is_folder(output)) else None,
        alone={"--changes": changes},
        texts=STEPS,
        kernels=(
            *(("faults", "mend", "places", "fuse") if mends or to_solid else ("fuse",) if plugs else ()),
            *(("held", "supports") if supported else ()),
            *(("overhangs",) if best is not None else ()),
        ),
    )
    run(how, models, asked, output)


def _settings(
    values: dict[str, Any], printer: str | None, *, mends: bool, to_solid: bool
) -> tuple[PrepSettings, SolidSettings]:
    """What is asked for, and how a solid would be made, asked for or not."""
    from bolvek.profiles import limits

    least_drain, least_wall = limits(printer)
    count = given(PlaceSettings, "count", values)
    solid = taken(SolidSettings, values, least_mm=least_wall)
    settings = taken(
        PrepSettings,
        values,
        hollow=taken(HollowSettings, values),
        drains=taken(PlaceSettings, values, **({} if count is None else {"count": count})),
        auto=count is None,
        scale=scaling_of(values),
        mend=MendSettings() if mends else None,
        solid=solid if to_solid else None,
        least_drain_mm=least_drain,
        least_wall_mm=least_wall,
    )
    return settings, solid


def _held(done: "Outcome", holding: SupportSettings, step: "Steps", asked: Asked) -> "Outcome":
    """What was prepared, with supports; the verdict is the proof's where they hold it."""
    from bolvek.cli.base.scaled import finding_rows
    from bolvek.operations.supports import find_supports
    from bolvek.report.pictures.supports import supports_result
    from bolvek.report.words.supports import supports_rows, supports_text

    mesh = done.model.mesh
    made, record = step("supports", lambda: find_supports(mesh, holding))
    verdict = record.verdict if done.ok and not record.ok else done.verdict
    rows = [
        ("verdict", verdict, "bold red") if row[0] == "verdict" and verdict != done.verdict else row
        for row in done.rows
    ]
    rows += [("supports", supports_text(record), "bold green" if record.ok else "bold red")]
    rows += finding_rows(record.findings) + [(*row, "") for row in supports_rows(record, most=asked.most)]
    before = done.scene
    return dataclasses.replace(
        done,
        sections={**done.sections, "supports": record},
        line=f"{done.line}; {supports_text(record)}",
        findings=(*done.findings, *record.findings),
        verdict=verdict,
        ok=done.ok and record.ok,
        rows=rows,
        picture=lambda: supports_result(done.model.path, mesh, made, record),
        scene=lambda scene: adds("supports", made, record)(scene if before is None else before(scene)),
        supports=made,
    )


def _planned(model: "Model", settings: PrepSettings, step: "Steps") -> "Outcome":
    from bolvek.cli.base.changes import plan_outcome
    from bolvek.jobs.prep import prep_plan

    return plan_outcome(model, prep_plan(model, settings, step))


def _prepared(
    model: "Model", settings: PrepSettings, step: "Steps", plugs: Path | None, changes: Path | None, asked: Asked
) -> "Outcome":
    """The model prepared, with plugs for its holes and a picture of what making a solid changed where asked for."""
    from bolvek.cli.base.changes import draw_changes
    from bolvek.cli.base.outcome import Outcome, owned
    from bolvek.cli.base.scaled import finding_rows
    from bolvek.jobs.plugs import write_plugs
    from bolvek.jobs.prep import prep, prep_start
    from bolvek.report.pictures.results import proof_result
    from bolvek.report.words.drain import plug_rows
    from bolvek.report.words.files import size_rows
    from bolvek.report.words.prep import prep_line, prep_verdict
    from bolvek.report.words.proof import proof_text
    from bolvek.units import length_text, size_text

    result = prep(model, settings, step)
    proof, diameter = result.proof, settings.drains.diameter_mm
    rows: list[tuple[str, str, str]] = []
    outputs: list[Path] = []
    sections: dict[str, Any] = {
        name: getattr(result, name) for name in ("scale", "mend", "solid", "hollow", "drain", "proof")
    }
    if changes is not None and result.solid is not None and result.solid.changes is not None:
        draw_changes(
            model.path,
            prep_start(model, settings, result.scale),
            result.whole,
            result.solid,
            changes,
            replace=asked.replace,
        )
        rows.append(("changes", str(changes), ""))
        outputs.append(changes)
    if plugs is not None:
        holes = [(p.drain, p.bore) for p in result.placed]
        name = model.path.stem
        made = step("plugs", lambda: write_plugs(name, result.whole, holes, plugs, PlugSettings(), asked.replace))
        sections["plugs"] = made
        rows += [(*row, "") for row in plug_rows(made)]
        outputs += [plugs / p.file for p in made if p.file]
    if diameter < settings.least_drain_mm:
        text = (
            f"holes of {length_text(diameter)} lower the least drain, {length_text(settings.least_drain_mm)}, to that"
        )
        rows.append(("note", text, "yellow"))
    written = result.model.mesh.size
    rows += size_rows(result.size_asked_mm, written) or [("size", f"{size_text(written)} as written", "")]
    rows += [(name, text, "") for name, text in proof_text(proof)] + finding_rows(proof.findings)
    rows.append(("verdict", prep_verdict(proof, result.hollow is not None), "bold green" if proof.ok else "bold red"))
    return Outcome(
        model=result.model,
        outputs=outputs,
        sections={name: record for name, record in sections.items() if record is not None},
        line=prep_line(proof, result.hollow is not None),
        **owned(proof),
        rows=rows,
        picture=lambda: proof_result(model.path, result.model.mesh, proof, result.rooms),
        scene=adds("rooms", proof, result.rooms),
    )
