"""`bolvek thicken`."""

import dataclasses
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from bolvek.cli.base.bind import bound, taken
from bolvek.cli.base.options import Asked, options, output_option, printer_option, several_models, writing_options
from bolvek.cli.base.types import Parsed
from bolvek.errors import UsageError
from bolvek.settings.repairs import ThickenSettings
from bolvek.units import parse_length

if TYPE_CHECKING:
    from bolvek.cli.base.outcome import Outcome, Steps
    from bolvek.formats import Model


def _plane(text: str) -> tuple[str, float]:
    """Axis and place, from "z=-4mm"."""
    axis, _, place = text.partition("=")
    if axis not in ("x", "y", "z") or not place:
        raise UsageError(f"a plane is an axis and a place, as in z=-4mm; found '{text}'")
    return axis, parse_length(place)


@click.command("thicken")
@options(
    several_models,
    output_option,
    bound("--thick", ThickenSettings, "by_mm"),
    bound("--side", ThickenSettings, "side"),
    bound("--along", ThickenSettings, "along"),
    bound("--foot", ThickenSettings, "foot", type=Parsed("z=PLACE", _plane)),
    bound("--beneath", ThickenSettings, "beneath"),
    bound("--trim", ThickenSettings, "trim"),
    bound("--least-wall", ThickenSettings, "at_least_mm"),
    bound("--blend", ThickenSettings, "blend_mm"),
    printer_option,
    writing_options,
)
def command(models: tuple[Path, ...], output: Path | None, printer: str | None, **values: Any) -> None:
    """Make a solid of an open skin: its faces stay as they are, the other side keeps the thickness off them.

    Where the skin turns in on itself, a body made from the distance fills what the offset cannot reach; the thickness
    is measured on the result and told. With --least-wall, thin walls of closed models grow.

    \b
    Examples:
      bolvek thicken maple_leaf.stl --thick 1.2mm --trim
      bolvek thicken cloud_tile.ply --foot z=-4mm --trim -o tile.stl
      bolvek thicken gourd.stl --least-wall 1mm --side out
    """
    from bolvek.cli.base.outcome import Run, remade
    from bolvek.cli.base.run import run
    from bolvek.cli.base.scaled import finding_rows
    from bolvek.operations.thicken import thicken
    from bolvek.profiles import limits
    from bolvek.report.pictures.results import thicken_result
    from bolvek.report.words.files import size_rows
    from bolvek.report.words.thicken import thicken_rows, thicken_text

    _, least_wall = limits(printer)
    settings = taken(ThickenSettings, values, least_mm=least_wall)

    def work(model: "Model", step: "Steps") -> "Outcome":
        mesh, record = step("thicken", lambda: thicken(model.mesh, settings))
        done = remade(model, mesh, {"thicken": record}, thicken_text(record), record)
        rows = [("verdict", record.verdict, "bold green" if record.ok else "bold red")]
        rows += [*size_rows(model.mesh.size, mesh.size), *finding_rows(record.findings), *thicken_rows(record)]
        return dataclasses.replace(
            done,
            rows=rows,
            picture=lambda: thicken_result(model.path, mesh, record),
        )

    how = Run(
        verb="thicken",
        settings={"": settings},
        work=work,
        writes="made",
        texts={"thicken": lambda done: thicken_text(done[1])},
    )
    run(how, models, Asked(**values), output)
