"""`bolvek hollow`."""

from pathlib import Path
from typing import Any

import click

from bolvek.cli.common import (
    LENGTH,
    model_argument,
    options,
    output_option,
    shared_options,
)


@click.command("hollow")
@options(
    model_argument,
    output_option,
    click.option("--wall", type=LENGTH, default="2mm", show_default=True, help="Wall to leave."),
    click.option(
        "--grid",
        type=LENGTH,
        help="Lattice cell of the cavity; without it a quarter of the wall, or finer on small models.",
    ),
    click.option(
        "--room", type=LENGTH, help="Least width of the cavity; as wide as the wall without it, 0 takes what there is."
    ),
    click.option("--no-slim", is_flag=True, help="Keep all triangles of the inner shell."),
    click.option("--keep-pockets", is_flag=True, help="Hollow small pockets too instead of leaving them solid."),
    shared_options,
)
def command(
    model: Path,
    output: Path | None,
    wall: float,
    grid: float | None,
    room: float | None,
    no_slim: bool,
    keep_pockets: bool,
    **shared: Any,
) -> None:
    """Hollow a closed, sound model. Its outer triangles stay as they are.

    The cavity is closed: cut holes with 'bolvek drain', or use 'bolvek prep' for both.

    \b
    Examples:
      bolvek hollow carp.stl --wall 2mm -o hollow.stl
      bolvek hollow carp.stl --wall 0.08in --grid 0.4mm
    """
    from bolvek.cli.operate import one_by_one, operate
    from bolvek.operations.hollow import HollowSettings, hollow
    from bolvek.report.words import hollow_text

    operate(
        "hollow",
        [model],
        output,
        HollowSettings(wall, grid, not no_slim, keep_pockets, room),
        one_by_one(hollow),
        hollow_text,
        **shared,
    )
