"""`bolvek plinth`."""

import dataclasses
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from bolvek.cli.base.bind import bound, taken
from bolvek.cli.base.options import Asked, options, output_option, several_models, writing_options
from bolvek.cli.base.types import TILT
from bolvek.settings.parts import PlinthSettings, PoseSettings

if TYPE_CHECKING:
    from bolvek.cli.base.outcome import Outcome, Steps
    from bolvek.formats import Model


@click.command("plinth")
@options(
    several_models,
    bound("--shape", PlinthSettings, "shape"),
    bound("--tall", PlinthSettings, "height_mm"),
    bound("--around", PlinthSettings, "margin_mm"),
    bound("--sink", PlinthSettings, "sink_mm"),
    bound("--chamfer", PlinthSettings, "chamfer_mm"),
    click.option("--tilt", type=TILT, help="Lean the model first."),
    output_option,
    writing_options,
)
def command(models: tuple[Path, ...], output: Path | None, tilt: tuple[float, float] | None, **values: Any) -> None:
    """Put a base under a bust or a scan and fuse them; what the base does not reach stays bit for bit.

    The model stays where it is, the plinth goes below it. Falls short (exit code 1) where it would fall over.

    \b
    Examples:
      bolvek plinth carp.stl --shape round --tall 5mm
      bolvek plinth bust.stl --sink 2mm --around 3mm --picture bust.png
    """
    from bolvek.cli.base.outcome import Run, remade
    from bolvek.cli.base.run import run
    from bolvek.cli.base.scaled import finding_rows
    from bolvek.operations.plinth import add_plinth
    from bolvek.operations.pose import pose
    from bolvek.report.words.plinth import plinth_rows, plinth_text

    settings = taken(PlinthSettings, values)
    asked = Asked(**values)
    tilted = PoseSettings(tilt=tilt) if tilt is not None else None

    def work(model: "Model", step: "Steps") -> "Outcome":
        sections: dict[str, Any] = {}
        mesh = model.mesh
        if tilted is not None:
            mesh, sections["pose"] = step("tilt", lambda: pose(mesh, tilted))
            mesh = mesh.as_stored()
        made, sections["plinth"] = step("plinth", lambda: add_plinth(mesh, settings))
        record = sections["plinth"]
        done = remade(model, made, sections, plinth_text(record), record)
        rows = [(*row, "") for row in plinth_rows(record)] + finding_rows(record.findings)
        return dataclasses.replace(done, rows=rows)

    how = Run(
        verb="plinth",
        settings={"": settings, **({"pose": tilted} if tilted is not None else {})},
        work=work,
        writes="made",
        texts={"plinth": lambda done: plinth_text(done[1])},
    )
    run(how, models, asked, output)
