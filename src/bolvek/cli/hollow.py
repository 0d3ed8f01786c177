"""`bolvek hollow`."""

from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from bolvek.cli.base.options import Asked, models_argument, options, output_option, writing_options
from bolvek.cli.base.types import LENGTH

if TYPE_CHECKING:
    from bolvek.cli.base.run import Outcome, Steps
    from bolvek.formats import Model


@click.command("hollow")
@options(
    models_argument,
    output_option,
    click.option("--wall", type=LENGTH, default="2mm", show_default=True, help="Wall to leave."),
    click.option(
        "--grid",
        type=LENGTH,
        help="Lattice cell of the cavity; without it 0.25 to 0.45 of the wall, or finer on small models.",
    ),
    click.option(
        "--room", type=LENGTH, help="Least width of the cavity; as wide as the wall without it, 0 takes what there is."
    ),
    click.option("--no-slim", is_flag=True, help="Keep all triangles of the inner shell."),
    click.option("--keep-pockets", is_flag=True, help="Hollow small pockets too instead of leaving them solid."),
    writing_options,
)
def command(
    models: tuple[Path, ...],
    output: Path | None,
    wall: float,
    grid: float | None,
    room: float | None,
    no_slim: bool,
    keep_pockets: bool,
    **shared: Any,
) -> None:
    """Hollow closed, sound models. Their outer triangles stay as they are.

    The cavity is closed: cut holes with 'bolvek drain', or use 'bolvek prep' for both.

    \b
    Examples:
      bolvek hollow carp.stl --wall 2mm -o hollow.stl
      bolvek hollow carp.stl lid.stl --wall 0.08in --grid 0.4mm -o out/
    """
    from bolvek.cli.base.run import Run, remade, run
    from bolvek.operations.hollow import hollow
    from bolvek.report.words.hollow import hollow_text
    from bolvek.settings.shape import HollowSettings

    settings = HollowSettings(wall_mm=wall, grid_mm=grid, slim=not no_slim, keep_pockets=keep_pockets, room_mm=room)

    def work(model: "Model", step: "Steps") -> "Outcome":
        mesh, record = step("hollow", lambda: hollow(model.mesh, settings))
        return remade(model, mesh, {"hollow": record}, hollow_text(record), "done")

    texts = {"hollow": lambda done: hollow_text(done[1])}
    run(
        Run(verb="hollow", settings={"": settings}, work=work, writes="made", texts=texts),
        models,
        Asked(**shared),
        output,
    )
