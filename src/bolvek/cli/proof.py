"""`bolvek proof`."""

import dataclasses
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from bolvek.cli.base.bind import bound, given, taken
from bolvek.cli.base.options import Asked, options, printer_option, reading_options, several_models
from bolvek.cli.base.shown import adds
from bolvek.cli.base.supported import support_settings
from bolvek.cli.base.types import PATH
from bolvek.settings.measures import ProofSettings

if TYPE_CHECKING:
    from bolvek.cli.base.outcome import Outcome, Steps
    from bolvek.formats import Model


@click.command("proof")
@options(
    several_models,
    bound("--wall", ProofSettings, "wall_mm"),
    bound("--least-wall", ProofSettings, "least_wall_mm"),
    bound("--least-drain", ProofSettings, "least_drain_mm", default=None, none="the printer's, else 1.5mm"),
    bound("--allow-closed", ProofSettings, "allow_closed_mm3"),
    click.option("--before", type=PATH, metavar="ORIGINAL", help="Tell what it had from what was made of it."),
    bound("--drain-up", ProofSettings, "drain_poses", several=True),
    bound("--ball", ProofSettings, "ball_mm"),
    printer_option,
    reading_options,
)
def command(models: tuple[Path, ...], before: Path | None, printer: str | None, **values: Any) -> None:
    """Prove models fit to print, whatever made them, or say what is not and where.

    Clause by clause: sound (closed, manifold, oriented, no self-intersection) in float64 and as an STL file
    holds it; material counted once; no closed void; every way out wide enough; no liquid left over a residue; the
    wall as thick as asked on faces that bound rooms and on parts without a room, and all other material (fins,
    ears, struts) as thick as --least-wall; with --before, what the original had is a note. Where the file has supports
    of its model, every layer of both is read again: all of it holds by the printer's rules, or it is told.
    "Fit" needs all of them; without --wall the verdict says that the wall was not judged.

    \b
    Examples:
      bolvek proof out/carp.stl --wall 2mm
      bolvek proof hollow.stl --before carp.stl --printer small-resin --picture proof.png
    """
    from bolvek.analyses.finding import Finding, all_right
    from bolvek.analyses.held import proof_findings, prove_supports
    from bolvek.analyses.proof import examine, origin_from
    from bolvek.cli.base.outcome import Outcome, Run, owned
    from bolvek.cli.base.run import run
    from bolvek.cli.base.scaled import finding_rows
    from bolvek.errors import WorkError
    from bolvek.formats import read_model
    from bolvek.operations.fuse.contact import touching_as_one
    from bolvek.profiles import limits
    from bolvek.report.pictures.results import proof_result
    from bolvek.report.words.files import model_text
    from bolvek.report.words.proof import proof_line, proof_text, proof_verdict
    from bolvek.report.words.supports import proof_rows

    names = ("wall_mm", "least_drain_mm", "least_wall_mm")
    wall, least_drain, least_wall = (given(ProofSettings, name, values) for name in names)
    printers = limits(printer)
    settings = taken(
        ProofSettings,
        values,
        wall_mm=wall,
        least_drain_mm=printers[0] if least_drain is None else least_drain,
        # alone it is meant for all material
        least_wall_mm=printers[1] if least_wall is None and wall is not None else least_wall,
        features_told=before is not None,
    )
    holding = support_settings({}, printer)
    asked = Asked(**values)

    def work(model: "Model", step: "Steps") -> "Outcome":
        mesh, origin, parts = model.mesh, None, model.parts
        notes: tuple[Finding, ...] = ()
        if parts is not None and (one := step("contact", lambda: touching_as_one(mesh, parts.part))) is not None:
            text = "named parts of the file touch each other: they print as one body, and are proven as one"
            mesh, notes = one, (Finding("contact", "note", len(parts.names), text),)
        if before is not None:
            original = step("original", lambda: read_model(before, unit=asked.unit))
            origin = origin_from(mesh, original.mesh)
        proof, rooms = step("proof", lambda: examine(mesh, settings, origin))
        sections: dict[str, Any] = {}
        supported: list[tuple[str, str, str]] = []
        if model.support is not None:
            supports = model.support
            try:
                held = step("supports", lambda: prove_supports(model.mesh, supports, holding))
            except WorkError as error:
                notes = (*notes, Finding("supports_unjudged", "fault", 1, f"supports of the file: {error}"))
            else:
                notes = (*notes, *proof_findings(held, unheld=True))
                sections["supported"] = held
                supported = [(*row, "") for row in proof_rows(held)]
        proof = dataclasses.replace(proof, findings=(*proof.findings, *notes))
        if not all_right(proof.findings):
            proof = dataclasses.replace(proof, verdict="unfit", ok=False)
        rows = [(name, text, "") for name, text in proof_text(proof)] + supported + finding_rows(proof.findings)
        rows.append(("verdict", proof_verdict(proof), "bold green" if proof.ok else "bold red"))
        return Outcome(
            model=model,
            sections={"proof": proof, **sections},
            line=proof_line(proof),
            **owned(proof),
            rows=rows,
            picture=lambda: proof_result(model.path, mesh, proof, rooms),
            scene=adds("rooms", proof, rooms),
        )

    how = Run(
        verb="proof",
        model_only=True,
        settings={"": settings},
        work=work,
        inputs={"--before": before},
        texts={"read": model_text},
    )
    run(how, models, asked)
