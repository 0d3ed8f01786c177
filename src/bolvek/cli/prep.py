"""`bolvek prep`."""

from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from bolvek.cli.base.options import (
    Asked,
    details_option,
    json_option,
    models_argument,
    options,
    output_option,
    picture_option,
    place_options,
    printer_option,
    replace_option,
    to_solid_options,
    unit_option,
)
from bolvek.cli.base.types import LENGTH, PATH, PLACE
from bolvek.errors import UsageError

if TYPE_CHECKING:
    from bolvek.cli.base.run import Outcome, Steps
    from bolvek.formats import Model


@click.command("prep")
@options(
    models_argument,
    output_option,
    click.option("--height", type=LENGTH, help="Scale to this height (z)."),
    click.option("--longest", type=LENGTH, help="Scale to this longest side."),
    click.option("--by", type=float, metavar="FACTOR", help="Scale by a factor."),
    click.option("--mend", "mends", is_flag=True, help="Mend the model first, as 'bolvek mend' does."),
    click.option("--to-solid", is_flag=True, help="Make a solid first, as 'bolvek solid' does."),
    to_solid_options,
    click.option("--wall", type=LENGTH, default="2mm", show_default=True, help="Wall to leave."),
    click.option(
        "--grid",
        type=LENGTH,
        help="Lattice cell of the cavity; without it 0.25 to 0.45 of the wall, or finer on small models.",
    ),
    click.option(
        "--drains",
        type=int,
        help="Holes a cavity: lowest point, vent, next lowest ...; without it as many as it takes, found by flooding.",
    ),
    click.option("--diameter", type=LENGTH, default="3.5mm", show_default=True, help="Diameter of the holes."),
    click.option("--plugs", type=PATH, metavar="FOLDER", help="Write a plug for every hole, numbered alike."),
    click.option("--up", type=PLACE, default="0,0,1", show_default=True, help="Direction held up while it drains."),
    place_options,
    click.option(
        "--room",
        type=LENGTH,
        help="Least width of the cavity; without it as wide as the wall, or the least drain where that is more.",
    ),
    click.option("--keep-pockets", is_flag=True, help="Hollow small pockets too instead of leaving them solid."),
    click.option("--strict", is_flag=True, help="What the model's own skin falls short in is a fault, not a note."),
    printer_option,
    details_option,
    json_option,
    picture_option,
    unit_option,
    replace_option,
)
def command(
    models: tuple[Path, ...],
    output: Path | None,
    height: float | None,
    longest: float | None,
    by: float | None,
    mends: bool,
    to_solid: bool,
    plan: bool,
    changes: Path | None,
    skin: float,
    taken_as: str | None,
    wall: float,
    grid: float | None,
    drains: int | None,
    diameter: float,
    plugs: Path | None,
    up: tuple[float, float, float],
    show: tuple[float, float, float] | None,
    keep_off: tuple[Any, ...],
    only_within: tuple[Any, ...],
    room: float | None,
    keep_pockets: bool,
    strict: bool,
    printer: str | None,
    **shared: Any,
) -> None:
    """The whole way for each model: check, scale, hollow, drain, prove, write.

    \b
    Examples:
      bolvek prep carp.stl --height 90mm --wall 2mm -o out/carp.stl
      bolvek prep carp.stl scan.stl --mend --wall 1.5mm -o out/
      bolvek prep cloud_tile.ply --to-solid --skin 1.2mm --longest 80mm
      bolvek prep carp.stl --by 1.5 --wall 1.8mm --json carp.json --picture carp.png
    """
    from bolvek.cli.base.changes import draw_changes
    from bolvek.cli.base.run import Outcome, Run, run
    from bolvek.cli.base.scaled import finding_rows
    from bolvek.formats.folder import check_folder
    from bolvek.jobs.plugs import write_plugs
    from bolvek.jobs.prep import prep, prep_plan, prep_start
    from bolvek.profiles import limits
    from bolvek.report.pictures.results import proof_result
    from bolvek.report.words.drain import plug_rows
    from bolvek.report.words.prep import STEPS
    from bolvek.report.words.proof import proof_line, proof_text, proof_verdict
    from bolvek.report.words.solid import plan_rows
    from bolvek.settings.parts import ScaleSettings
    from bolvek.settings.repairs import MendSettings, SolidSettings
    from bolvek.settings.shape import HollowSettings, PlaceSettings, PlugSettings, PrepSettings
    from bolvek.units import length_text

    asked, scaling = Asked(**shared), None
    if (height, longest, by) != (None, None, None):
        scaling = ScaleSettings(by=by, height_mm=height, longest_mm=longest)
    least_drain, least_wall = limits(printer)
    settings = PrepSettings(
        hollow=HollowSettings(wall_mm=wall, grid_mm=grid, keep_pockets=keep_pockets, room_mm=room),
        drains=PlaceSettings(
            count=2 if drains is None else drains,
            diameter_mm=diameter,
            up=up,
            show=show,
            keep_off=keep_off,
            only_within=only_within,
        ),
        auto=drains is None,
        scale=scaling,
        mend=MendSettings() if mends else None,
        solid=SolidSettings(skin_mm=skin, least_mm=least_wall, taken_as=taken_as) if to_solid else None,
        least_drain_mm=least_drain,
        least_wall_mm=least_wall,
        strict=strict,
    )

    if plugs is not None:
        check_folder(plugs, replace=asked.replace)
        if len(models) > 1:
            raise UsageError("--plugs is for one model; name one")
    if not to_solid and (plan or changes is not None or taken_as is not None):
        raise UsageError("--plan, --changes and --as go with --to-solid")
    if plan and (output is not None or changes is not None or plugs is not None):
        raise UsageError("--plan writes nothing; leave out -o, --changes and --plugs")
    kernels = ("faults", "mend", "places", "fuse") if mends or to_solid else ("fuse",) if plugs else ()

    def tell_plan(model: "Model", step: "Steps") -> "Outcome":
        told = prep_plan(model, settings, step)
        line = f"{told.way}: {told.why}"
        return Outcome(model=model, sections={"plan": told}, line=line, verdict="done", rows=plan_rows(told))

    def work(model: "Model", step: "Steps") -> "Outcome":
        result = prep(model, settings, step)
        proof = result.proof
        rows = []
        if diameter < least_drain:
            text = f"holes of {length_text(diameter)} lower the least drain, {length_text(least_drain)}, to that"
            rows.append(("note", text, "yellow"))
        rows += [(name, text, "") for name, text in proof_text(proof)] + finding_rows(proof.findings)
        good = "fit to print: proven on the file written" + ("" if result.hollow else "; solid, no cavity")
        said = good if proof.ok else proof_verdict(proof)
        rows.append(("verdict", said, "bold green" if proof.ok else "bold red"))
        records: dict[str, Any] = {
            "scale": result.scale,
            "mend": result.mend,
            "solid": result.solid,
            "hollow": result.hollow,
            "drain": result.drain,
            "proof": proof,
        }
        outputs = []
        if plugs is not None:
            holes = [(p.drain, p.bore) for p in result.placed]
            name = model.path.stem
            made = step("plugs", lambda: write_plugs(name, result.whole, holes, plugs, PlugSettings(), asked.replace))
            records["plugs"] = made
            rows[:0] = [(*row, "") for row in plug_rows(made)]
            outputs += [plugs / p.file for p in made if p.file]
        if changes is not None and result.solid is not None and result.solid.changes is not None:
            before = prep_start(model, settings)
            verdict = f"sound, {result.solid.way}"
            draw_changes(model.path, before, result.whole, verdict, changes, replace=asked.replace)
            rows.insert(0, ("changes", str(changes), ""))
            outputs.append(changes)
        return Outcome(
            model=result.model,
            outputs=outputs,
            sections={name: record for name, record in records.items() if record is not None},
            line=proof_line(proof),
            verdict=proof.verdict,
            ok=proof.ok,
            rows=rows,
            findings=proof.findings,
            picture=lambda: proof_result(model.path, result.model.mesh, proof, result.rooms),
        )

    how = Run(
        verb="prep",
        settings={"": settings},
        work=tell_plan if plan else work,
        writes=None if plan else "proven",
        alone={"--changes": changes},
        texts=STEPS,
        kernels=kernels,
    )
    run(how, models, asked, output)
