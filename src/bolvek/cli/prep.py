"""`bolvek prep`."""

from pathlib import Path

import click

from bolvek.cli.common import (
    LENGTH,
    PLACE,
    check_targets,
    finish,
    json_option,
    model_argument,
    options,
    output_beside,
    output_option,
    picture_option,
    printer_option,
    replace_option,
    unit_option,
)


@click.command("prep")
@options(
    model_argument,
    output_option,
    click.option("--height", type=LENGTH, help="Scale to this height (z)."),
    click.option("--longest", type=LENGTH, help="Scale to this longest side."),
    click.option("--by", type=float, metavar="FACTOR", help="Scale by a factor."),
    click.option("--wall", type=LENGTH, default="2mm", show_default=True, help="Wall to leave."),
    click.option(
        "--grid",
        type=LENGTH,
        help="Lattice cell of the cavity; without it a quarter of the wall, or finer on small models.",
    ),
    click.option(
        "--drains", type=int, default=2, show_default=True, help="Holes a cavity: lowest point, vent, next lowest ..."
    ),
    click.option("--diameter", type=LENGTH, default="3.5mm", show_default=True, help="Diameter of the holes."),
    click.option("--up", type=PLACE, default="0,0,1", show_default=True, help="Build direction."),
    click.option(
        "--room",
        type=LENGTH,
        help="Least width of the cavity; without it as wide as the wall, or the least drain where that is more.",
    ),
    click.option("--keep-pockets", is_flag=True, help="Hollow small pockets too instead of leaving them solid."),
    printer_option,
    json_option,
    picture_option,
    unit_option,
    replace_option,
)
def command(
    model: Path,
    output: Path | None,
    height: float | None,
    longest: float | None,
    by: float | None,
    wall: float,
    grid: float | None,
    drains: int,
    diameter: float,
    up: tuple[float, float, float],
    room: float | None,
    keep_pockets: bool,
    printer: str | None,
    json_target: Path | None,
    picture_target: Path | None,
    unit: str | None,
    replace: bool,
) -> None:
    """The whole way for one model: check, scale, hollow, drain, prove, write.

    \b
    Examples:
      bolvek prep carp.stl --height 90mm --wall 2mm --drains 2 -o out/carp.stl
      bolvek prep carp.stl --by 1.5 --wall 1.8mm --json carp.json --picture carp.png
    """
    from bolvek.cli.common import Talk
    from bolvek.formats.safe import check_suffix
    from bolvek.jobs.prep import PrepSettings, prep
    from bolvek.operations.drain import PlaceSettings
    from bolvek.operations.hollow import HollowSettings
    from bolvek.operations.scale import ScaleSettings
    from bolvek.profiles import limits
    from bolvek.units import length_text

    scaling = None
    if (height, longest, by) != (None, None, None):
        scaling = ScaleSettings(by, height, longest)
    least_drain, least_wall = limits(printer)
    settings = PrepSettings(
        hollow=HollowSettings(wall, grid, keep_pockets=keep_pockets, room_mm=room),
        drains=PlaceSettings(drains, diameter, up),
        scale=scaling,
        unit=unit,
        replace=replace,
        least_drain_mm=least_drain,
        least_wall_mm=least_wall,
    )
    settings.check()
    target = output_beside(model, output, "prep")
    check_suffix(target)
    check_targets(model, [target, json_target, picture_target], replace=replace)
    talk = Talk(json_target)
    if diameter < least_drain:
        text = f"holes of {length_text(diameter)} lower the least drain, {length_text(least_drain)}, to that"
        talk.row("note", text, "yellow")
    result = prep(model, target, settings, talk.step, talk.busy)

    from bolvek.report.outputs import write_picture
    from bolvek.report.record import Record, model_section, settings_dict
    from bolvek.report.words import proof_text, proof_verdict

    if picture_target is not None:
        write_picture(picture_target, target, result.after, result.proof, result.rooms, replace=replace)
    for name, text in proof_text(result.proof):
        talk.row(name, text)
    fit = result.proof.ok
    good = "fit to print: proven on the file written" + ("" if result.hollow else "; solid, no cavity")
    talk.verdict(fit, result.proof.findings, good, proof_verdict(result.proof))
    talk.write_record(
        Record(
            verb="prep",
            settings=settings_dict(settings),
            models=[
                model_section(
                    result.model,
                    result.after,
                    scale=result.scale,
                    hollow=result.hollow,
                    drain=result.drain,
                    proof=result.proof,
                )
            ],
            findings=list(result.proof.findings),
            outputs=[str(p) for p in (target, picture_target) if p],
            verdict=result.proof.verdict,
            ok=fit,
            seconds=result.seconds,
        ),
        replace=replace,
    )
    finish(fit)
