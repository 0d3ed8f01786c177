"""`bolvek solid`."""

import dataclasses
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from bolvek.cli.base.bind import bound, taken
from bolvek.cli.base.options import (
    Asked,
    options,
    output_option,
    printer_option,
    several_models,
    to_solid_options,
    writing_options,
)
from bolvek.cli.base.types import PICTURE
from bolvek.errors import UsageError
from bolvek.settings.repairs import SlimSettings, SolidSettings

if TYPE_CHECKING:
    from bolvek.cli.base.outcome import Outcome, Steps
    from bolvek.formats import Model


@click.command("solid")
@options(
    several_models,
    output_option,
    to_solid_options,
    printer_option,
    bound("--triangles", SlimSettings, "triangles", help="Slim what comes out to at most so many triangles."),
    bound("--megabytes", SlimSettings, "megabytes", help="Slim what comes out to this size as a binary STL."),
    click.option("--try", "both", is_flag=True, help="Make it both ways, --as solid and --as skin; write no model."),
    click.option("--sheet", type=PICTURE, metavar="FILE.png", help="Draw what --try made side by side."),
    writing_options,
)
def command(
    models: tuple[Path, ...],
    output: Path | None,
    plan: bool,
    changes: Path | None,
    printer: str | None,
    both: bool,
    sheet: Path | None,
    **values: Any,
) -> None:
    """The shortest way from any file to one sound solid, and nothing more.

    What is sound stays as it is; else it is mended, which keeps the faces; then skins get a thickness and parts become
    one body; where that does not do it is recast. The result is held against the file: what is missing, gone, hollow
    or filled is told, and ends with exit code 1.

    \b
    Examples:
      bolvek solid dragon_bracket.obj -o bracket.stl
      bolvek solid scans/ --megabytes 5 -o for_the_client/
      bolvek solid finial.stl --plan
      bolvek solid cloud_tile.ply --try --sheet both.png
    """
    from bolvek.cli.base.changes import plan_outcome
    from bolvek.cli.base.outcome import Run
    from bolvek.cli.base.run import run
    from bolvek.operations.solid import plan_solid
    from bolvek.profiles import limits
    from bolvek.report.words.solid import SOLID_STEPS

    slimming = taken(SlimSettings, values)
    slim = None if slimming == SlimSettings() else slimming
    settings = taken(SolidSettings, values, least_mm=limits(printer)[1], slim=slim)
    asked = Asked(**values)
    if plan and (output is not None or changes is not None):
        raise UsageError("--plan writes nothing; leave out -o and --changes")
    if both and (plan or settings.taken_as is not None or output is not None or changes is not None):
        raise UsageError("--try makes it both ways and writes no model; leave out --plan, --as, -o and --changes")
    if sheet is not None and not both:
        raise UsageError("--sheet goes with --try")

    def work(model: "Model", step: "Steps") -> "Outcome":
        if plan:
            return plan_outcome(model, plan_solid(model.mesh.as_stored(), settings, step)[1])
        if both:
            return _both_ways(model, settings, sheet, step, asked)
        return _made_solid(model, settings, changes, step, asked)

    how = Run(
        verb="solid",
        settings={"": settings},
        work=work,
        writes=None if plan or both else "proven",
        alone={"--changes": changes, "--sheet": sheet},
        texts=SOLID_STEPS,
        kernels=("slim",) if slim else (),
        keeps_names=True,
    )
    run(how, models, asked, output)


def _made_solid(
    model: "Model", settings: SolidSettings, changes: Path | None, step: "Steps", asked: Asked
) -> "Outcome":
    """The model as one sound solid, held against the file, with a picture of what changed where asked for."""
    from bolvek.analyses.soundness import pass_gate
    from bolvek.cli.base.changes import draw_changes
    from bolvek.cli.base.outcome import remade
    from bolvek.cli.base.scaled import finding_rows
    from bolvek.operations.solid import make_solid
    from bolvek.report.words.files import size_rows
    from bolvek.report.words.solid import solid_verdict

    before = model.mesh.as_stored()
    mesh, record = make_solid(before, settings, step)
    step("solid", lambda: record)
    mesh = mesh.as_stored()
    step("check", lambda: pass_gate(mesh, "solid"))
    rows = [
        *size_rows(before.size, mesh.size),
        *finding_rows(record.findings),
        ("verdict", solid_verdict(record), "bold green" if record.ok else "bold red"),
    ]
    outputs = []
    if changes is not None and record.changes is not None:
        draw_changes(model.path, before, mesh, record, changes, replace=asked.replace)
        rows.insert(0, ("changes", str(changes), ""))
        outputs.append(changes)
    kept = model.parts if record.way == "as it is" and settings.slim is None else None
    done = remade(dataclasses.replace(model, parts=kept), mesh, {"solid": record}, solid_verdict(record), record)
    return dataclasses.replace(
        done,
        rows=rows,
        outputs=outputs,
    )


def _both_ways(model: "Model", settings: "SolidSettings", sheet: Path | None, step: "Steps", asked: Asked) -> "Outcome":
    """Open ends taken for missing lids, and for rims of skins: what comes out, side by side, for whoever knows."""
    from bolvek.analyses.deviation import compare
    from bolvek.cli.base.changes import draw_tries
    from bolvek.cli.base.outcome import Outcome
    from bolvek.operations.solid import make_solid
    from bolvek.report.words.solid import solid_verdict
    from bolvek.units import count_text, volume_text

    before = model.mesh.as_stored()
    rows: list[tuple[str, str, str]] = []
    records, shown = [], []
    for taken_as in ("solid", "skin"):
        name, chosen = f"--as {taken_as}", dataclasses.replace(settings, taken_as=taken_as)
        mesh, record = step(name, lambda chosen=chosen: make_solid(before, chosen, step))  # type: ignore[misc]
        told = f"{record.way}, {volume_text(mesh.volume)}, {count_text(len(mesh.faces), 'triangle')}"
        rows.append((name, f"{told}; {solid_verdict(record)}", ""))
        records.append(record)
        shown.append((name, mesh, compare(before, mesh)[1], [told, *solid_verdict(record).split(": ")]))
    same = shown[0][1].as_stored().volume == shown[1][1].as_stored().volume
    text = "both come to the same" if same else "the file does not tell which was meant: choose with --as"
    rows.append(("suggestion", text, "bold"))
    more, outputs = draw_tries(sheet, f"{model.path.name}: ways to a solid", shown, replace=asked.replace)
    return Outcome(
        model=model,
        sections={"tries": records},
        line=f"2 ways tried; {text}",
        verdict="done",
        rows=[*rows, *more],
        outputs=outputs,
    )
