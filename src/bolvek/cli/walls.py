"""`bolvek walls`."""

import dataclasses
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from bolvek.cli.base.bind import bound, given, taken
from bolvek.cli.base.options import Asked, options, printer_option, reading_options, scaled_options, several_models
from bolvek.cli.base.shown import adds
from bolvek.cli.base.types import PATH
from bolvek.errors import UsageError
from bolvek.settings.measures import WallSettings

if TYPE_CHECKING:
    from bolvek.cli.base.outcome import Outcome, Steps
    from bolvek.formats import Model


@click.command("walls")
@options(
    several_models,
    bound("--least-wall", WallSettings, "min_mm", default=None, none="the printer's, else 1mm"),
    printer_option,
    bound("--gap", WallSettings, "gap_mm"),
    bound("--hole", WallSettings, "hole_mm"),
    bound("--least-zone", WallSettings, "least_zone_mm2"),
    bound("--rays-only", WallSettings, "ball", off=True),
    bound("--spacing", WallSettings, "spacing_mm"),
    click.option("--values", type=PATH, metavar="FILE.csv", help="Write the thinnest wall of every face."),
    scaled_options,
    reading_options,
)
def command(
    models: tuple[Path, ...],
    printer: str | None,
    values: Path | None,
    **asked_for: Any,
) -> None:
    """How thick is the wall, everywhere: rays and inscribed balls, thin spots as zones, the size at which it prints.

    \b
    Examples:
      bolvek walls gourd.stl --least-wall 1.2mm --picture walls.png
      bolvek walls lid.stl --printer small-resin --height 40mm --gap 0.3mm
    """
    from bolvek.analyses.thickness import measure_walls
    from bolvek.cli.base.options import scaling_of
    from bolvek.cli.base.outcome import Run
    from bolvek.cli.base.run import run
    from bolvek.cli.base.scaled import measured, scaled_model
    from bolvek.profiles import load_profiles

    least = given(WallSettings, "min_mm", asked_for)
    if least is not None and printer is not None:
        raise UsageError("give --least-wall or --printer, not both")
    if least is None:
        least = load_profiles().printer(printer).min_wall_mm if printer is not None else 1.0
    settings = taken(WallSettings, asked_for, min_mm=least)
    scaling, asked = scaling_of(asked_for), Asked(**asked_for)

    def work(model: "Model", step: "Steps") -> "Outcome":
        from bolvek.report.words.walls import wall_line, wall_rows

        model, scaled = scaled_model(model, scaling)
        record, found = step("walls", lambda: measure_walls(model.mesh, settings))
        rows = wall_rows(record, most=asked.most)
        if values is not None:
            from bolvek.formats.safe import write_bytes
            from bolvek.report.tables import face_table

            write_bytes(values, face_table(model.mesh, {"wall_mm": found.face_mm}), replace=asked.replace)
            rows.append(("values", str(values)))

        def draw() -> bytes:
            from bolvek.report.pictures.plain import model_caption
            from bolvek.report.pictures.walls import walls_picture

            caption = model_caption(model.path, model.mesh, record)
            return walls_picture(model.mesh, record, found, caption)

        outputs = [] if values is None else [values]
        done = measured(model, scaled, record, {"walls": record}, rows, wall_line(record), draw, outputs)
        return dataclasses.replace(done, scene=adds("walls", record, found.face_mm))

    run(
        Run(verb="walls", settings={"": settings}, work=work, alone={"--values": values}, model_only=True),
        models,
        asked,
    )
