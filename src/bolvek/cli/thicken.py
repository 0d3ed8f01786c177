"""`bolvek thicken`."""

import dataclasses
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from bolvek.cli.base.options import Asked, models_argument, options, output_option, printer_option, writing_options
from bolvek.cli.base.types import LENGTH, PLACE, Parsed
from bolvek.errors import UsageError
from bolvek.units import parse_length

if TYPE_CHECKING:
    from bolvek.cli.base.run import Outcome, Steps
    from bolvek.formats import Model


def _plane(text: str) -> tuple[str, float]:
    """Axis and place, from "z=-4mm"."""
    axis, _, place = text.partition("=")
    if axis not in ("x", "y", "z") or not place:
        raise UsageError(f"a plane is an axis and a place, as in z=-4mm; found '{text}'")
    return axis, parse_length(place)


@click.command("thicken")
@options(
    models_argument,
    output_option,
    click.option("--by", "thickness", type=LENGTH, help="Thickness of a skin."),
    click.option(
        "--side", default="in", show_default=True, metavar="in|out|both", help="Behind its faces, before, or half each."
    ),
    click.option("--along", type=PLACE, help="One direction for the whole thickness, as for a relief."),
    click.option("--foot", type=Parsed("z=PLACE", _plane), help="Draw the rim of a relief down to a plane; close it."),
    click.option(
        "--beneath",
        default="solid",
        show_default=True,
        metavar="solid|hollow",
        help="Between the relief and its foot; hollow leaves a wall of --by.",
    ),
    click.option("--trim", is_flag=True, help="Take off the rim what folds, crosses or hangs by a corner."),
    click.option("--at-least", type=LENGTH, help="Make thin walls of a closed model as thick, and only those."),
    click.option("--blend", type=LENGTH, help="How far --at-least reaches into the rest; without it twice the wall."),
    printer_option,
    writing_options,
)
def command(
    models: tuple[Path, ...],
    output: Path | None,
    thickness: float | None,
    side: str,
    along: tuple[float, float, float] | None,
    foot: tuple[str, float] | None,
    beneath: str,
    trim: bool,
    at_least: float | None,
    blend: float | None,
    printer: str | None,
    **shared: Any,
) -> None:
    """Make a solid of an open skin: its faces stay as they are, the other side keeps the thickness off them.

    Where the skin turns in on itself, a body made from the distance fills what the offset cannot reach; the thickness
    is measured on the result and told. With --at-least, thin walls of closed models grow.

    \b
    Examples:
      bolvek thicken maple_leaf.stl --by 1.2mm --trim
      bolvek thicken cloud_tile.ply --foot z=-4mm --trim -o tile.stl
      bolvek thicken gourd.stl --at-least 1mm --side out
    """
    from bolvek.cli.base.run import Run, remade, run
    from bolvek.operations.thicken import thicken
    from bolvek.profiles import limits
    from bolvek.report.pictures.results import thicken_result
    from bolvek.report.words.thicken import thicken_findings, thicken_rows, thicken_text, thicken_verdict
    from bolvek.settings.repairs import ThickenSettings

    _, least_wall = limits(printer)
    settings = ThickenSettings(
        by_mm=thickness,
        side=side,
        along=along,
        foot=foot,
        beneath=beneath,
        trim=trim,
        at_least_mm=at_least,
        blend_mm=blend,
        least_mm=least_wall,
    )

    def work(model: "Model", step: "Steps") -> "Outcome":
        mesh, record = step("thicken", lambda: thicken(model.mesh, settings))
        verdict = thicken_verdict(record)
        done = remade(model, mesh, {"thicken": record}, thicken_text(record), verdict)
        rows = [*thicken_rows(record), ("verdict", verdict, "bold green" if verdict == "done" else "bold yellow")]
        return dataclasses.replace(
            done,
            rows=rows,
            ok=verdict == "done",
            findings=thicken_findings(record),
            picture=lambda: thicken_result(model.path, mesh, record),
        )

    how = Run(
        verb="thicken",
        settings={"": settings},
        work=work,
        writes="made",
        texts={"thicken": lambda done: thicken_text(done[1])},
    )
    run(how, models, Asked(**shared), output)
