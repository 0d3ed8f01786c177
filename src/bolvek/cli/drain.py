"""`bolvek drain`."""

from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from bolvek.cli.base.options import Asked, models_argument, options, output_option, writing_options
from bolvek.cli.base.types import LENGTH, PLACE

if TYPE_CHECKING:
    from bolvek.cli.base.run import Outcome, Steps
    from bolvek.formats import Model


@click.command("drain")
@options(
    models_argument,
    output_option,
    click.option(
        "--at",
        "places",
        type=PLACE,
        multiple=True,
        required=True,
        help="On or near the outside; repeat for more holes.",
    ),
    click.option(
        "--diameter",
        "diameters",
        type=LENGTH,
        multiple=True,
        help="3.5mm without it; once for all holes, or once a hole.",
    ),
    click.option(
        "--depth", "depths", type=LENGTH, multiple=True, help="Length of a blind hole; without it through the wall."
    ),
    click.option(
        "--toward", "towards", type=PLACE, multiple=True, help="Point to aim at; without it square into the surface."
    ),
    click.option("--sides", type=int, default=32, show_default=True, help="Sides of each hole."),
    writing_options,
)
def command(
    models: tuple[Path, ...],
    output: Path | None,
    places: tuple[tuple[float, float, float], ...],
    diameters: tuple[float, ...],
    depths: tuple[float, ...],
    towards: tuple[tuple[float, float, float], ...],
    sides: int,
    **shared: Any,
) -> None:
    """Cut holes into sound models, all of them or none.

    Options that may be repeated belong to the holes in order; given once, they count for all.

    \b
    Examples:
      bolvek drain hollow.stl --at 0,-4,1 --diameter 3.5mm -o drained.stl
      bolvek drain hollow.stl --at 0,-4,1 --at 2,9,62 --toward 0,0,30 --sides 48
    """
    from bolvek.cli.base.run import Run, remade, run
    from bolvek.errors import UsageError
    from bolvek.operations.drain import Drain, DrainSettings, drain
    from bolvek.report.words.drain import drain_text

    def each(name: str, values: tuple[Any, ...], otherwise: Any) -> list[Any]:
        if len(values) not in (0, 1, len(places)):
            raise UsageError(f"{name} was given {len(values)} times for {len(places)} holes: once, or once a hole")
        return list(values) if len(values) == len(places) else [values[0] if values else otherwise] * len(places)

    holes = zip(
        places,
        each("--diameter", diameters, 3.5),
        each("--toward", towards, None),
        each("--depth", depths, None),
        strict=True,
    )
    settings = DrainSettings(drains=tuple(Drain(*hole) for hole in holes), sides=sides)

    def work(model: "Model", step: "Steps") -> "Outcome":
        mesh, record = step("drain", lambda: drain(model.mesh, settings))
        return remade(model, mesh, {"drain": record}, drain_text(record), "done")

    texts = {"drain": lambda done: drain_text(done[1])}
    run(
        Run(verb="drain", settings={"": settings}, work=work, writes="made", texts=texts),
        models,
        Asked(**shared),
        output,
    )
