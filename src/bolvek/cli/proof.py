"""`bolvek proof`."""

import time
from pathlib import Path

import click

from bolvek.cli.common import (
    LENGTH,
    PATH,
    VOLUME,
    check_targets,
    finish,
    json_option,
    model_argument,
    options,
    picture_option,
    printer_option,
    replace_option,
    unit_option,
)


@click.command("proof")
@options(
    model_argument,
    click.option("--wall", type=LENGTH, help="Wall that must be there; without it the wall is measured, not judged."),
    click.option(
        "--least-drain",
        type=LENGTH,
        help="Clearance every way out must have; without it the printer's, else 1.5mm.",
    ),
    click.option("--allow-closed", type=VOLUME, default="0", help="Closed voids up to this volume are wanted so."),
    click.option("--before", type=PATH, metavar="ORIGINAL", help="Tell what it had from what was made of it."),
    click.option("--ball", type=LENGTH, help="Diameter that tells a room from a groove; wider than any drain."),
    printer_option,
    json_option,
    picture_option,
    unit_option,
    replace_option,
)
def command(
    model: Path,
    wall: float | None,
    least_drain: float | None,
    allow_closed: float,
    before: Path | None,
    ball: float | None,
    printer: str | None,
    json_target: Path | None,
    picture_target: Path | None,
    unit: str | None,
    replace: bool,
) -> None:
    """Prove a model fit to print, whatever made it, or say what is not and where.

    Clause by clause: sound (closed, manifold, oriented, no self-intersection) in float64 and as an STL file
    holds it; material counted once; no closed void; every way out wide enough; the wall as thick as asked.
    "Fit" needs all of them; without --wall the verdict says that the wall was not judged.

    \b
    Examples:
      bolvek proof out/carp.stl --wall 2mm
      bolvek proof hollow.stl --before carp.stl --printer small-resin --picture proof.png
    """
    from bolvek.analyses.proof import ProofSettings, examine, origin_from
    from bolvek.cli.common import Talk
    from bolvek.formats import read_model
    from bolvek.profiles import limits
    from bolvek.report.outputs import write_picture
    from bolvek.report.record import Record, model_section, settings_dict
    from bolvek.report.words import model_text, proof_text, proof_verdict

    least_of_printer, wall_of_printer = limits(printer)
    settings = ProofSettings(
        wall_mm=wall,
        least_drain_mm=least_drain or least_of_printer,
        allow_closed_mm3=allow_closed,
        ball_mm=ball,
        least_wall_mm=wall_of_printer if before else None,
    )
    settings.check()
    check_targets([model, before] if before else model, [json_target, picture_target], replace=replace)
    talk = Talk(json_target)
    talk.busy("read")
    begin = time.perf_counter()
    read = read_model(model, unit=unit)
    middle = time.perf_counter()
    talk.step("read", model_text(read), middle - begin)
    talk.busy("proof")
    origin = origin_from(read.mesh, read_model(before, unit=unit).mesh) if before else None
    proof, rooms = examine(read.mesh, settings, origin)
    seconds = {"read": middle - begin, "proof": time.perf_counter() - middle}
    for name, text in proof_text(proof):
        talk.row(name, text)
    talk.verdict(proof.ok, proof.findings, proof_verdict(proof), proof_verdict(proof))
    if picture_target is not None:
        write_picture(picture_target, model, read.mesh, proof, rooms, replace=replace)
    talk.write_record(
        Record(
            verb="proof",
            settings=settings_dict(settings),
            models=[model_section(read, read.mesh, proof=proof)],
            findings=list(proof.findings),
            outputs=[str(picture_target)] if picture_target else [],
            verdict=proof.verdict,
            ok=proof.ok,
            seconds=seconds,
        ),
        replace=replace,
    )
    finish(proof.ok)
