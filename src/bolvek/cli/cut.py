"""`bolvek cut`."""

import dataclasses
import re
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from bolvek.cli.base.options import Asked, models_argument, options, output_option, writing_options
from bolvek.cli.base.types import LENGTH, Parsed
from bolvek.errors import UsageError
from bolvek.units import as_triple, parse_length, parse_point

if TYPE_CHECKING:
    from bolvek.cli.base.run import Outcome, Steps
    from bolvek.formats import Model
    from bolvek.operations.pieces import CutSettings, CutUp, Plane

_STANDING_OUT = 0.05, 2.0, 6.0
"""Pegs that size themselves are this share of the room's least side long where pieces have to fit, between these."""


def parse_level(text: str) -> "Plane":
    """A plane square to an axis, as in "z=40mm"."""
    from bolvek.operations.pieces import Plane

    match = re.match(r"^\s*([xyz])\s*=\s*(.+)$", text)
    if not match:
        raise UsageError(f"'{text}' is not a level: write an axis and a length, as in z=40mm")
    axis, at = "xyz".index(match.group(1)), parse_length(match.group(2))
    point, normal = [0.0, 0.0, 0.0], [0.0, 0.0, 0.0]
    point[axis], normal[axis] = at, 1.0
    return Plane(point_mm=as_triple(point), normal=as_triple(normal), name=f"{match.group(1)}={at:g} mm")


def parse_plane(text: str) -> "Plane":
    """A point and a direction, as in "0,0,40:0,1,1"."""
    from bolvek.operations.pieces import Plane

    place, colon, direction = text.partition(":")
    if not colon:
        raise UsageError(f"'{text}' is not a plane: write a point and a direction, as in 0,0,40:0,0,1")
    point, normal = parse_point(place), parse_point(direction)
    length = sum(x * x for x in normal) ** 0.5
    if not 0 < length < float("inf"):
        raise UsageError(f"'{text}' is not a plane: 0,0,0 is no direction")
    unit = normal[0] / length, normal[1] / length, normal[2] / length
    return Plane(point_mm=point, normal=unit, name=text.strip())


@click.command("cut")
@options(
    models_argument,
    click.option("--at", "levels", type=Parsed("AXIS=LENGTH", parse_level), multiple=True, help="As in z=40mm."),
    click.option(
        "--plane",
        "planes",
        type=Parsed("X,Y,Z:DX,DY,DZ", parse_plane),
        multiple=True,
        help="Through a point, square to a direction; repeat for more.",
    ),
    click.option("--to-fit", metavar="PRINTER", help="Find the fewest planes that make every piece fit it."),
    click.option("--margin", type=LENGTH, default="2mm", show_default=True, help="Room to leave with --to-fit."),
    click.option("--plan", is_flag=True, help="Say what would be cut; write no piece."),
    click.option("--pegs", type=int, metavar="N", help="Pegs and sockets at each place where pieces meet."),
    click.option("--peg-diameter", type=LENGTH, help="Without it the widest that fit."),
    click.option("--peg-length", type=LENGTH, help="Without it a quarter longer than wide."),
    click.option("--flat-side", is_flag=True, help="Pegs with a flat side: they go in one way only."),
    click.option("--loose", is_flag=True, help="Sockets on both sides, pegs in a file of their own."),
    click.option("--lip", is_flag=True, help="A lip that follows the rim of a hollow piece inside."),
    click.option("--lip-height", type=LENGTH, default="3mm", show_default=True, help="How far it stands up."),
    click.option("--lip-thickness", type=LENGTH, default="1.2mm", show_default=True, help="How thick it is."),
    click.option("--clearance", type=LENGTH, default="0.15mm", show_default=True, help="Of pegs and lips, all around."),
    click.option("--wall", type=LENGTH, default="0.8mm", show_default=True, help="Material left around sockets."),
    click.option("--lay-flat", is_flag=True, help="Lay each piece on its largest cut that nothing stands out of."),
    output_option,
    writing_options,
)
def command(
    models: tuple[Path, ...],
    levels: tuple["Plane", ...],
    planes: tuple["Plane", ...],
    to_fit: str | None,
    margin: float,
    plan: bool,
    pegs: int | None,
    peg_diameter: float | None,
    peg_length: float | None,
    flat_side: bool,
    loose: bool,
    lip: bool,
    lip_height: float,
    lip_thickness: float,
    clearance: float,
    wall: float,
    lay_flat: bool,
    output: Path | None,
    **shared: Any,
) -> None:
    """Cut models by planes into closed pieces that go together again, or so that they fit a printer.

    Pieces are named after the model: carp.1of3.stl is the lowest. Planes are endless: each cuts all of the model.

    \b
    Examples:
      bolvek cut post.stl --to-fit small-resin --plan
      bolvek cut post.stl --to-fit small-resin --pegs 2 --lay-flat --picture post.png
      bolvek cut carp.hollow.stl --at z=45mm --lip
    """
    from bolvek.cli.base.run import Run, run
    from bolvek.operations.pieces import CutSettings, room_within
    from bolvek.profiles import load_profiles
    from bolvek.settings.parts import LipSettings, PegSettings

    asked = Asked(**shared)
    room = room_within(load_profiles().printer(to_fit).build_mm, margin) if to_fit is not None else None
    if room is not None and (levels or planes):
        raise UsageError("--to-fit finds the planes itself: leave out --at and --plane, or leave out --to-fit")
    if room is None and not (levels or planes):
        raise UsageError("name a plane with --at or --plane, or a printer with --to-fit")
    if pegs is None and (loose or flat_side or peg_diameter is not None or peg_length is not None):
        raise UsageError("pegs are cut with --pegs N: say how many")
    if pegs is not None and lip:
        raise UsageError("give either --pegs or --lip")
    if room is not None and peg_length is None:
        share, least, most = _STANDING_OUT
        peg_length = min(max(share * min(room), least), most)
    settings = CutSettings(
        planes=(*levels, *planes),
        pegs=None
        if pegs is None
        else PegSettings(
            count=pegs,
            diameter_mm=peg_diameter,
            length_mm=peg_length,
            clearance_mm=clearance,
            wall_mm=wall,
            flat=flat_side,
            loose=loose,
        ),
        lip=LipSettings(height_mm=lip_height, thick_mm=lip_thickness, clearance_mm=clearance, wall_mm=wall)
        if lip
        else None,
        lay_flat=lay_flat,
        room_mm=room,
    )

    def work(model: "Model", step: "Steps") -> "Outcome":
        return _cut(model, step, settings, plan, output, asked)

    run(Run(verb="cut", settings={"": settings}, work=work, kernels=("hollow", "rooms") if lip else ()), models, asked)


def _cut(
    model: "Model", step: "Steps", settings: "CutSettings", plan: bool, output: Path | None, asked: Asked
) -> "Outcome":
    from bolvek.cli.base.run import Outcome
    from bolvek.cli.base.scaled import finding_rows
    from bolvek.operations.pieces import cut, named, plan_fit
    from bolvek.report.words.cut import cut_rows, cut_text, plan_rows, plan_text

    rows: list[tuple[str, str, str]] = []
    sections: dict[str, Any] = {}
    if settings.room_mm is not None:
        room = settings.room_mm
        out = settings.pegs.length_mm or 0.0 if settings.pegs is not None and not settings.pegs.loose else 0.0
        out = settings.lip.height_mm if settings.lip is not None else out
        found = step("plan", lambda: plan_fit(model.mesh, room, fittings_mm=out))
        sections["fit_plan"] = found
        rows += [("plan", plan_text(found), "bold"), *((*row, "") for row in plan_rows(found))]
        if not found.planes:
            return Outcome(model=model, sections=sections, line=plan_text(found), verdict="done", rows=rows)
        settings = dataclasses.replace(settings, planes=found.planes)
    made, record = step("cut", lambda: cut(model.mesh, settings))
    outputs: list[Path] = []
    if not plan:
        outputs = step("write", lambda: _written(model, made, output, asked))
        names = [str(path) for path in outputs]
        record = named(record, names[: len(made.lying)], names[-1] if made.pegs is not None else "")
    verdict = ("planned" if plan else "done") if record.ok else "does not fit"
    rows += [("verdict", verdict, "bold green" if record.ok else "bold red")] if not record.ok else []
    rows += [("plan" if plan else "cut", cut_text(record), "")]
    rows += [(*row, "") for row in cut_rows(record, most=asked.most)] + finding_rows(record.findings)

    def draw() -> bytes:
        from bolvek.report.pictures.pieces import pieces_picture
        from bolvek.report.pictures.plain import model_caption

        facts = {"pieces": f"{len(record.pieces)} pieces"}
        if record.pegs:
            facts["pegs"] = f"{len(record.pegs)} pegs"
        caption = model_caption(model.path, model.mesh, fit=record.ok, **facts)
        return pieces_picture(made.pieces, settings.planes, caption)

    return Outcome(
        model=model,
        sections={**sections, "cut": record},
        line=cut_text(record),
        verdict=verdict,
        ok=record.ok,
        rows=rows,
        findings=record.findings,
        picture=draw,
        outputs=outputs,
    )


def _written(model: "Model", made: "CutUp", output: Path | None, asked: Asked) -> list[Path]:
    """The files of all pieces, and last that of loose pegs."""
    from bolvek.analyses.soundness import pass_gate
    from bolvek.cli.base.several import write_several

    count = len(made.lying)
    files = [(f"{k}of{count}", mesh) for k, mesh in enumerate(made.lying, 1)]
    if made.pegs is not None:
        files.append(("pegs", made.pegs))
    for _, mesh in files:
        pass_gate(mesh, "cut")
    return write_several(model.path, files, output, "cut", asked)
