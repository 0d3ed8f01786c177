"""`bolvek hollow`."""

from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from bolvek.cli.base.bind import bound, taken
from bolvek.cli.base.options import Asked, options, output_option, several_models, writing_options
from bolvek.settings.shape import HollowSettings

if TYPE_CHECKING:
    from bolvek.cli.base.outcome import Outcome, Steps
    from bolvek.formats import Model


@click.command("hollow")
@options(
    several_models,
    output_option,
    bound("--wall", HollowSettings, "wall_mm", default=2.0),
    bound("--grid", HollowSettings, "grid_mm"),
    bound("--room", HollowSettings, "room_mm"),
    bound("--no-slim", HollowSettings, "slim", off=True),
    bound("--keep-pockets", HollowSettings, "keep_pockets"),
    bound("--least-volume", HollowSettings, "least_mm3"),
    writing_options,
)
def command(models: tuple[Path, ...], output: Path | None, **values: Any) -> None:
    """Hollow closed, sound models. Their outer triangles stay as they are.

    The cavity is closed: cut holes with 'bolvek drain', or use 'bolvek prep' for both.

    \b
    Examples:
      bolvek hollow carp.stl --wall 2mm -o hollow.stl
      bolvek hollow carp.stl lid.stl --wall 0.08in --grid 0.4mm -o out/
    """
    from bolvek.cli.base.outcome import Run, remade
    from bolvek.cli.base.run import run
    from bolvek.operations.hollow import hollow
    from bolvek.report.words.hollow import hollow_text

    settings = taken(HollowSettings, values)

    def work(model: "Model", step: "Steps") -> "Outcome":
        mesh, record = step("hollow", lambda: hollow(model.mesh, settings))
        return remade(model, mesh, {"hollow": record}, hollow_text(record), "done")

    texts = {"hollow": lambda done: hollow_text(done[1])}
    run(
        Run(verb="hollow", settings={"": settings}, work=work, writes="made", texts=texts),
        models,
        Asked(**values),
        output,
    )
