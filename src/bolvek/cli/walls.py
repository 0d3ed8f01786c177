"""`bolvek walls`."""

from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from bolvek.cli.common import LENGTH, PATH, model_argument, options, printer_option
from bolvek.cli.measure import Answer, measure_options
from bolvek.errors import UsageError

if TYPE_CHECKING:
    from bolvek.mesh import Mesh


@click.command("walls")
@options(
    model_argument,
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
    measure_options,
)
def command(
    model: Path,
    least: float | None,
    printer: str | None,
    gap: float | None,
    hole: float,
    least_zone: float | None,
    rays_only: bool,
    spacing: float | None,
    values: Path | None,
    **shared: Any,
) -> None:
    """How thick is the wall, everywhere: rays and inscribed balls, thin spots as zones, the size at which it prints.

    \b
    Examples:
      bolvek walls gourd.stl --min 1.2mm --picture walls.png
      bolvek walls lid.stl --printer small-resin --height 40mm --gap 0.3mm
    """
    from bolvek.analyses.thickness import WallSettings, measure_walls
    from bolvek.cli.common import check_targets
    from bolvek.cli.measure import run_measure
    from bolvek.profiles import load_profiles

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
    settings.check()
    check_targets(model, [values], replace=shared["replace"])

    def work(mesh: "Mesh", details: bool) -> Answer:
        from bolvek.report.measure_words import MOST_LISTED, wall_rows

        record, found = measure_walls(mesh, settings)
        rows = wall_rows(record, most=1_000_000 if details else MOST_LISTED)
        if values is not None:
            from bolvek.formats.safe import write_bytes
            from bolvek.report.outputs import face_table

            write_bytes(values, face_table(mesh, {"wall_mm": found.face_mm}), replace=shared["replace"])
            rows.append(("values", str(values)))

        def draw(caption: Any) -> bytes:
            from bolvek.report.walls_picture import walls_picture

            return walls_picture(mesh, record, settings, caption)

        good = record.ok
        return Answer({"walls": record}, rows, record.findings, record.verdict, good, draw)

    run_measure("walls", model, {"": settings}, work, **shared)
