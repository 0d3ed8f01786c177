"""`bolvek solid`."""

import dataclasses
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from bolvek.cli.base.options import (
    Asked,
    models_argument,
    options,
    output_option,
    printer_option,
    to_solid_options,
    writing_options,
)
from bolvek.errors import UsageError

if TYPE_CHECKING:
    from bolvek.cli.base.run import Outcome, Steps
    from bolvek.formats import Model


@click.command("solid")
@options(
    models_argument,
    output_option,
    to_solid_options,
    printer_option,
    click.option("--triangles", type=click.IntRange(4), help="Slim what comes out to at most so many triangles."),
    click.option("--megabytes", type=float, help="Slim what comes out to this size as a binary STL."),
    writing_options,
)
def command(
    models: tuple[Path, ...],
    output: Path | None,
    plan: bool,
    changes: Path | None,
    skin: float,
    taken_as: str | None,
    printer: str,
    triangles: int | None,
    megabytes: float | None,
    **shared: Any,
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
    """
    from bolvek.analyses.soundness import pass_gate
    from bolvek.cli.base.changes import draw_changes
    from bolvek.cli.base.run import Outcome, Run, remade, run
    from bolvek.cli.base.scaled import finding_rows
    from bolvek.operations.slim import SlimSettings
    from bolvek.operations.solid import SolidSettings, make_solid, plan_solid
    from bolvek.profiles import limits
    from bolvek.report.words.solid import SOLID_STEPS, plan_rows, solid_verdict

    asked = Asked(**shared)
    slimming = None
    if triangles is not None or megabytes is not None:
        slimming = SlimSettings(triangles=triangles, megabytes=megabytes)
    settings = SolidSettings(skin_mm=skin, least_mm=limits(printer)[1], taken_as=taken_as, slim=slimming)
    if plan and (output is not None or changes is not None):
        raise UsageError("--plan writes nothing; leave out -o and --changes")

    def tell_plan(model: "Model", step: "Steps") -> "Outcome":
        told = plan_solid(model.mesh.as_stored(), step, settings)[1]
        line = f"{told.way}: {told.why}"
        return Outcome(model=model, sections={"plan": told}, line=line, verdict="done", rows=plan_rows(told))

    def work(model: "Model", step: "Steps") -> "Outcome":
        before = model.mesh.as_stored()
        mesh, record = make_solid(before, settings, step)
        step("solid", lambda: record)
        mesh = mesh.as_stored()
        step("check", lambda: pass_gate(mesh, "solid"))
        ok = not any(f.severity == "fault" for f in record.findings)
        rows = [*finding_rows(record.findings), ("verdict", solid_verdict(record), "bold green" if ok else "bold red")]
        outputs = []
        if changes is not None and record.changes is not None:
            draw_changes(model.path, before, mesh, f"sound, {record.way}", changes, replace=asked.replace)
            rows.insert(0, ("changes", str(changes), ""))
            outputs.append(changes)
        kept = model.parts if record.way == "as it is" and slimming is None else None
        done = remade(dataclasses.replace(model, parts=kept), mesh, {"solid": record}, solid_verdict(record), "solid")
        return dataclasses.replace(
            done,
            verdict="solid" if ok else "not as the file",
            ok=ok,
            rows=rows,
            findings=record.findings,
            outputs=outputs,
        )

    how = Run(
        verb="solid",
        settings={"": settings},
        work=tell_plan if plan else work,
        writes=None if plan else "proven",
        alone={"--changes": changes},
        texts=SOLID_STEPS,
        kernels=("slim",) if slimming else (),
        keeps_names=True,
    )
    run(how, models, asked, output)
