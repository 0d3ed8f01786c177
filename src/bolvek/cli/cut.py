"""`bolvek cut`."""

import dataclasses
import re
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from bolvek.cli.base.bind import bound, given, taken
from bolvek.cli.base.options import Asked, options, output_option, several_models, writing_options
from bolvek.cli.base.shown import adds
from bolvek.cli.base.types import Parsed
from bolvek.errors import UsageError
from bolvek.settings.parts import LipSettings, PegSettings, ScaleSettings
from bolvek.units import as_triple, parse_length, parse_point

if TYPE_CHECKING:
    from bolvek.cli.base.outcome import Outcome, Steps
    from bolvek.formats import Model
    from bolvek.operations.cut import CutSettings, CutUp, Plane

_STANDING_OUT = 0.05, 2.0, 6.0
"""Pegs that size themselves are this share of the room's least side long where pieces have to fit, between these."""


def parse_plane(text: str) -> "Plane":
    """An axis and a place on it, as in "z=40mm", or a point and a direction, as in "0,0,40:0,1,1"."""
    from bolvek.operations.cut import Plane

    level = re.match(r"^\s*([xyz])\s*=\s*(.+)$", text)
    if level:
        axis, at = "xyz".index(level.group(1)), parse_length(level.group(2))
        point, normal = [0.0, 0.0, 0.0], [0.0, 0.0, 0.0]
        point[axis], normal[axis] = at, 1.0
        return Plane(point_mm=as_triple(point), normal=as_triple(normal), name=f"{level.group(1)}={at:g} mm")
    place, colon, direction = text.partition(":")
    if not colon:
        raise UsageError(f"'{text}' is not a plane: write z=40mm, or a point and a direction, as in 0,0,40:0,0,1")
    place_mm, way = parse_point(place), parse_point(direction)
    length = sum(x * x for x in way) ** 0.5
    if not 0 < length < float("inf"):
        raise UsageError(f"'{text}' is not a plane: 0,0,0 is no direction")
    unit = way[0] / length, way[1] / length, way[2] / length
    return Plane(point_mm=place_mm, normal=unit, name=text.strip())


@click.command("cut")
@options(
    several_models,
    click.option(
        "--plane",
        "planes",
        type=Parsed("PLANE", parse_plane),
        metavar="z=LENGTH|X,Y,Z:DX,DY,DZ",
        multiple=True,
        help="Square to an axis at a height, or through a point square to a direction; repeat for more.",
    ),
    click.option("--fit", metavar="PRINTER", help="Find the fewest planes that make every piece fit it."),
    bound("--margin", ScaleSettings, "margin_mm", default=2.0),
    click.option("--plan", is_flag=True, help="Say what would be cut; write no piece."),
    bound("--pegs", PegSettings, "count", default=None, none="no pegs"),
    bound("--peg-diameter", PegSettings, "diameter_mm"),
    bound("--peg-length", PegSettings, "length_mm"),
    bound("--flat-side", PegSettings, "flat"),
    bound("--loose", PegSettings, "loose"),
    click.option("--lip", is_flag=True, help="A lip that follows the rim of a hollow piece inside."),
    bound("--lip-height", LipSettings, "height_mm"),
    bound("--lip-thickness", LipSettings, "thick_mm"),
    bound("--clearance", PegSettings, "clearance_mm"),
    bound("--least-wall", PegSettings, "wall_mm"),
    click.option("--lay-flat", is_flag=True, help="Lay each piece on its largest cut that nothing stands out of."),
    output_option,
    writing_options,
)
def command(
    models: tuple[Path, ...],
    planes: tuple["Plane", ...],
    fit: str | None,
    plan: bool,
    lip: bool,
    lay_flat: bool,
    output: Path | None,
    **values: Any,
) -> None:
    """Cut models by planes into closed pieces that go together again, or so that they fit a printer.

    Pieces are named after the model: carp.1of3.stl is the lowest. Planes are endless: each cuts all of the model.

    \b
    Examples:
      bolvek cut post.stl --fit small-resin --plan
      bolvek cut post.stl --fit small-resin --pegs 2 --lay-flat --picture post.png
      bolvek cut carp.hollow.stl --plane z=45mm --lip
    """
    from bolvek.cli.base.outcome import Run
    from bolvek.cli.base.run import run
    from bolvek.operations.cut import CutSettings, room_within
    from bolvek.profiles import load_profiles

    margin = given(ScaleSettings, "margin_mm", values)
    ScaleSettings(by=1.0, margin_mm=margin).check()
    room = room_within(load_profiles().printer(fit).build_mm, margin) if fit is not None else None
    if room is not None and planes:
        raise UsageError("--fit finds the planes itself: leave out --plane, or leave out --fit")
    if room is None and not planes:
        raise UsageError("name a plane with --plane, or a printer with --fit")
    count = given(PegSettings, "count", values)
    pegs = taken(PegSettings, values, **({} if count is None else {"count": count}))
    lips = taken(LipSettings, values, clearance_mm=pegs.clearance_mm, wall_mm=pegs.wall_mm)
    asked = Asked(**values)
    if count is None and (pegs.loose or pegs.flat or pegs.diameter_mm is not None or pegs.length_mm is not None):
        raise UsageError("pegs are cut with --pegs N: say how many")
    if count is not None and lip:
        raise UsageError("give either --pegs or --lip")
    if room is not None and pegs.length_mm is None:
        share, least, most = _STANDING_OUT
        pegs = dataclasses.replace(pegs, length_mm=min(max(share * min(room), least), most))
    settings = CutSettings(
        planes=planes,
        pegs=None if count is None else pegs,
        lip=lips if lip else None,
        lay_flat=lay_flat,
        room_mm=room,
    )

    def work(model: "Model", step: "Steps") -> "Outcome":
        return _cut(model, step, settings, plan, output, asked)

    run(Run(verb="cut", settings={"": settings}, work=work, kernels=("hollow", "rooms") if lip else ()), models, asked)


def _cut(
    model: "Model", step: "Steps", settings: "CutSettings", plan: bool, output: Path | None, asked: Asked
) -> "Outcome":
    from bolvek.cli.base.outcome import Outcome
    from bolvek.cli.base.scaled import finding_rows
    from bolvek.operations.cut import cut, named, plan_fit
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
        record = named(record, settings, names[: len(made.lying)], names[-1] if made.pegs is not None else "")
    verdict = "planned" if plan and record.ok else record.verdict
    rows += [("verdict", verdict, "bold green" if record.ok else "bold red")] if not record.ok else []
    rows += [("plan" if plan else "cut", cut_text(record), "")]
    rows += [(*row, "") for row in cut_rows(record, most=asked.most)] + finding_rows(record.findings)

    def draw() -> bytes:
        from bolvek.report.pictures.pieces import pieces_picture
        from bolvek.report.pictures.plain import model_caption

        facts = {"pieces": f"{len(record.pieces)} pieces"}
        if record.pegs:
            facts["pegs"] = f"{len(record.pegs)} pegs"
        caption = model_caption(model.path, model.mesh, record, **facts)
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
        scene=adds("pieces", made.pieces),
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
