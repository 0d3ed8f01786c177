"""`bolvek walls`."""

from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from bolvek.cli.base.options import Asked, models_argument, options, printer_option, reading_options, scaled_options
from bolvek.cli.base.types import LENGTH, PATH
from bolvek.errors import UsageError

if TYPE_CHECKING:
    from bolvek.cli.base.run import Outcome, Steps
    from bolvek.formats import Model


@click.command("walls")
@options(
    models_argument,
    click.option("--min", "least", type=LENGTH, help="Thinnest wall that prints; without it a printer's, else 1 mm."),
    printer_option,
    click.option("--gap", type=LENGTH, help="Also find gaps across air narrower than this."),
    click.option("--hole", type=LENGTH, default="0.1mm", show_default=True, help="Thinner walls print as holes."),
    click.option(
        "--least-zone",
        type=float,
        help="Smaller thin places are counted, not judged (a disc half a minimum wide).",
        metavar="MM2",
    ),
    click.option("--rays-only", is_flag=True, help="Rays alone, no inscribed balls: quicker."),
    click.option("--spacing", type=LENGTH, help="Distance between places measured; without it half the minimum."),
    click.option("--values", type=PATH, metavar="FILE.csv", help="Write the thinnest wall of every face."),
    scaled_options,
    reading_options,
)
def command(
    models: tuple[Path, ...],
    least: float | None,
    printer: str | None,
    gap: float | None,
    hole: float,
    least_zone: float | None,
    rays_only: bool,
    spacing: float | None,
    values: Path | None,
    height: float | None,
    longest: float | None,
    by: float | None,
    **shared: Any,
) -> None:
    """How thick is the wall, everywhere: rays and inscribed balls, thin spots as zones, the size at which it prints.

    \b
    Examples:
      bolvek walls gourd.stl --min 1.2mm --picture walls.png
      bolvek walls lid.stl --printer small-resin --height 40mm --gap 0.3mm
    """
    from bolvek.analyses.thickness import measure_walls
    from bolvek.cli.base.options import scaling_of
    from bolvek.cli.base.run import Run, run
    from bolvek.cli.base.scaled import measured, scaled_model
    from bolvek.profiles import load_profiles
    from bolvek.settings.measures import WallSettings

    if least is not None and printer is not None:
        raise UsageError("give --min or --printer, not both")
    if printer is not None:
        least = load_profiles().printer(printer).min_wall_mm
    settings = WallSettings(
        min_mm=1.0 if least is None else least,
        gap_mm=gap,
        hole_mm=hole,
        ball=not rays_only,
        spacing_mm=spacing,
        least_zone_mm2=least_zone,
    )
    scaling, asked = scaling_of(height, longest, by), Asked(**shared)

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

            caption = model_caption(model.path, model.mesh, verdict=record.verdict, fit=record.ok)
            return walls_picture(model.mesh, record, settings, caption)

        outputs = [] if values is None else [values]
        return measured(model, scaled, record, {"walls": record}, rows, wall_line(record), draw, outputs)

    run(
        Run(verb="walls", settings={"": settings}, work=work, alone={"--values": values}, model_only=True),
        models,
        asked,
    )
