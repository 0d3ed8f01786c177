"""`bolvek proof`."""

import time
from pathlib import Path

import click

from bolvek.cli.common import (
    LENGTH,
    check_targets,
    finish,
    json_option,
    model_argument,
    options,
    picture_option,
    replace_option,
    unit_option,
)


@click.command("proof")
@options(
    model_argument,
    click.option("--wall", type=LENGTH, help="Wall that must be there; without it the wall is measured, not judged."),
    click.option("--ball", type=LENGTH, help="Diameter that tells a room from a groove; wider than any drain."),
    json_option,
    picture_option,
    unit_option,
    replace_option,
)
def command(
    model: Path,
    wall: float | None,
    ball: float | None,
    json_target: Path | None,
    picture_target: Path | None,
    unit: str | None,
    replace: bool,
) -> None:
    """Prove a model fit to print, whatever made it, or say what is not and where.

    Checks: closed, manifold, oriented, no face without area, no self-intersection, each in float64 and
    as an STL file holds it; every cavity opens to the outside; the wall is as thick as asked.

    \b
    Examples:
      bolvek proof out/carp.stl --wall 2mm
      bolvek proof hollow.stl --json - --picture proof.png
    """
    from bolvek.analyses.proof import ProofSettings, prove
    from bolvek.cli.common import Talk
    from bolvek.formats import read_model
    from bolvek.report.outputs import write_picture
    from bolvek.report.record import Record, model_section, settings_dict
    from bolvek.report.words import model_text, proof_text

    settings = ProofSettings(wall, ball)
    settings.check()
    check_targets(model, [json_target, picture_target], replace=replace)
    talk = Talk(json_target)
    talk.busy("read")
    begin = time.perf_counter()
    read = read_model(model, unit=unit)
    middle = time.perf_counter()
    talk.step("read", model_text(read), middle - begin)
    talk.busy("proof")
    proof = prove(read.mesh, settings)
    seconds = {"read": middle - begin, "proof": time.perf_counter() - middle}
    for name, text in proof_text(proof):
        talk.row(name, text)
    fit = proof.verdict == "fit"
    talk.verdict(fit, proof.findings, "fit to print", "unfit, see above")
    if picture_target is not None:
        write_picture(picture_target, model, read.mesh, proof, replace=replace)
    talk.write_record(
        Record(
            verb="proof",
            settings=settings_dict(settings),
            models=[model_section(read, read.mesh, proof=proof)],
            findings=list(proof.findings),
            outputs=[str(picture_target)] if picture_target else [],
            verdict=proof.verdict,
            seconds=seconds,
        ),
        replace=replace,
    )
    finish(fit)
