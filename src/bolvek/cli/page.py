"""`bolvek page`."""

import dataclasses
import webbrowser
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from bolvek.cli.base.bind import bound, given
from bolvek.cli.base.options import (
    Asked,
    details_option,
    json_option,
    options,
    output_option,
    printer_option,
    replace_option,
    several_models,
    unit_option,
)
from bolvek.cli.base.shown import adds
from bolvek.cli.base.targets import is_folder
from bolvek.errors import FileError, UsageError
from bolvek.settings.measures import LookSettings

if TYPE_CHECKING:
    from bolvek.cli.base.outcome import Outcome, Row, Steps
    from bolvek.formats import Model
    from bolvek.jobs.look import Look


@click.command("page")
@options(
    several_models,
    output_option,
    bound("--least-wall", LookSettings, "least_wall_mm", default=None, none="the printer's, else 1mm"),
    bound("--layer", LookSettings, "layer_mm", default=None, none="the printer's, else 0.05mm"),
    printer_option,
    click.option("--open", "opens", is_flag=True, help="Open it in the browser."),
    details_option,
    json_option,
    unit_option,
    replace_option,
)
def command(models: tuple[Path, ...], output: Path | None, printer: str | None, opens: bool, **asked_for: Any) -> None:
    """A page of models to turn, cut open and measure in a browser: survey, walls, overhangs, layers, proof.

    One HTML file that opens from the disk without a network; of several models one page with an index, or a folder
    with a page each.

    \b
    Examples:
      bolvek page carp.stl --open
      bolvek page out/ -o pages/
    """
    from bolvek.cli.base.outcome import Run
    from bolvek.cli.base.run import run
    from bolvek.jobs.files import expand
    from bolvek.profiles import load_profiles

    least, layer = (given(LookSettings, name, asked_for) for name in ("least_wall_mm", "layer_mm"))
    if least is not None and printer is not None:
        raise UsageError("give --least-wall or --printer, not both")
    known = load_profiles().printer(printer) if printer is not None else None
    if known is not None:
        least, layer = known.min_wall_mm, layer if layer is not None else known.layer_mm
    settings = LookSettings(**{k: v for k, v in (("least_wall_mm", least), ("layer_mm", layer)) if v is not None})
    files = expand(models)
    if output is None and len(files) > 1:
        raise UsageError(f"{len(files)} models: name the page, or a folder/ for a page each, with -o")
    target = output if output is not None else files[0].with_name(f"{files[0].stem}.page.html")
    if not is_folder(target) and target.suffix.lower() != ".html":
        raise FileError(f"{target}: pages are written as .html")

    def work(model: "Model", step: "Steps") -> "Outcome":
        return _looked_at(model, settings, step, Asked(**asked_for))

    def leave(code: int) -> None:
        if opens and code in (0, 1):
            webbrowser.open((target / "index.html" if is_folder(target) else target).resolve().as_uri())

    asked = dataclasses.replace(Asked(**asked_for), page_target=target)
    try:
        run(Run(verb="page", settings={"": settings}, work=work, model_only=True), models, asked)
    except SystemExit as done:
        leave(int(done.code or 0))
        raise


def _looked_at(model: "Model", settings: LookSettings, step: "Steps", asked: Asked) -> "Outcome":
    """All that a preparer asks first, in one outcome."""
    from bolvek.cli.base.outcome import Outcome, owned
    from bolvek.jobs.look import look
    from bolvek.report.words.survey import survey_line

    found = look(model, settings, step)
    return Outcome(
        model=model,
        sections=found.sections,
        line=survey_line(model, found.survey, found.judgement),
        **owned(found),
        rows=_rows(model, found, asked.most),
        remedies=found.judgement.remedies,
        scene=adds(
            "looked",
            found.survey,
            found.marks,
            (found.walls, found.wall_mm),
            (found.overhangs, found.kind),
            found.layers,
            (found.proof, found.rooms),
        ),
    )


def _rows(model: "Model", found: "Look", most: int) -> "list[Row]":
    """The verdict, what the survey tells, then measure by measure."""
    from bolvek.cli.base.scaled import finding_rows
    from bolvek.profiles import load_profiles
    from bolvek.report.words.layers import layer_line, layer_rows
    from bolvek.report.words.overhangs import overhang_line, overhang_rows
    from bolvek.report.words.proof import proof_line, proof_text
    from bolvek.report.words.survey import survey_rows
    from bolvek.report.words.walls import wall_line, wall_rows

    profiles = load_profiles()
    printers = list(profiles.printers.values())
    surveyed = survey_rows(model, found.survey, found.judgement, profiles.material_for(None, None), printers, most=most)
    rows = [("verdict", found.verdict, "bold green" if found.ok else "bold red")]
    rows += [("surface", *surveyed[0][1:]), *surveyed[1:]]
    told: list[tuple[str, str, list[tuple[str, str]]]] = []
    if found.walls is not None:
        told.append(("walls", wall_line(found.walls), wall_rows(found.walls, most=most)))
    if found.overhangs is not None:
        told.append(("overhangs", overhang_line(found.overhangs), overhang_rows(found.overhangs, most=most)))
    if found.layers is not None:
        told.append(("layers", layer_line(found.layers), layer_rows(found.layers, [], most=most)))
    if found.proof is not None:
        told.append(("proof", proof_line(found.proof), proof_text(found.proof)))
    for name, line, more in told:
        rows += [(name, line, "bold"), *((*row, "") for row in more)]
        rows += finding_rows(getattr(found, name).findings)
    rows += [(name, f"not measured: {why}", "yellow") for name, why in found.unmeasured.items()]
    return rows
