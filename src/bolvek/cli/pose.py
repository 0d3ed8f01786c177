"""`bolvek pose`."""

import dataclasses
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from bolvek.cli.base.directions import direction_options, settings_for, weights_for
from bolvek.cli.base.options import Asked, models_argument, options, output_option, printer_option, writing_options
from bolvek.cli.base.types import PLACE, TILT
from bolvek.errors import UsageError

if TYPE_CHECKING:
    from bolvek.cli.base.run import Outcome, Steps
    from bolvek.formats import Model

_AXES = {"x": (1.0, 0.0, 0.0), "y": (0.0, 1.0, 0.0), "z": (0.0, 0.0, 1.0)}


def _turn(text: str) -> tuple[tuple[float, float, float], float]:
    """An axis and degrees from "z:90" or "1,0,1:45"."""
    axis, _, angle = text.rpartition(":")
    try:
        numbers = _AXES.get(axis.strip().lower()) or tuple(float(w) for w in axis.split(","))
        degrees = float(angle)
    except ValueError:
        numbers, degrees = (), 0.0
    if len(numbers) != 3:
        raise UsageError(f"--turn takes AXIS:DEGREES, as in z:90 or 1,0,1:45; found '{text}'")
    return (numbers[0], numbers[1], numbers[2]), degrees


@click.command("pose")
@options(
    models_argument,
    output_option,
    click.option("--mirror", type=click.Choice(["x", "y", "z"]), help="Mirror along this axis, through the origin."),
    click.option("--lay", type=PLACE, help="Lay the face nearest to this point on the bed."),
    click.option("--lay-largest", is_flag=True, help="Lay it on the largest flat side it can stand on."),
    click.option("--up", type=PLACE, help="This direction of the model becomes up."),
    click.option(
        "--best",
        type=click.IntRange(1),
        metavar="RANK",
        help="The RANK-th best build direction becomes up; see overhangs.",
    ),
    printer_option,
    direction_options,
    click.option("--compare-up", type=int, metavar="N", help="Of N directions and the sides it can stand on (100)."),
    click.option(
        "--turn", "turns", multiple=True, metavar="AXIS:DEGREES", help="Turn about x, y, z or a vector; repeat."
    ),
    click.option("--tilt", type=TILT, help="Lean by degrees, towards a direction counted from +x."),
    click.option("--centre", is_flag=True, help="Middle of the box to x = y = 0."),
    click.option("--drop", is_flag=True, help="Lowest point to z = 0."),
    writing_options,
)
def command(
    models: tuple[Path, ...],
    output: Path | None,
    mirror: str | None,
    lay: tuple[float, float, float] | None,
    lay_largest: bool,
    up: tuple[float, float, float] | None,
    best: int | None,
    printer: str | None,
    angle: float | None,
    layer: float | None,
    habit: str | None,
    bridge_most: float | None,
    compare_up: int | None,
    weigh: tuple[str, ...],
    show: tuple[float, float, float] | None,
    turns: tuple[str, ...],
    tilt: tuple[float, float] | None,
    centre: bool,
    drop: bool,
    **shared: Any,
) -> None:
    """Turn, tilt, lay on a face, mirror, centre and drop models.

    Whatever the order of the options, it is mirrored, laid, turned (in the order given), tilted, centred
    and dropped. Quarter turns and mirrors are exact.

    \b
    Examples:
      bolvek pose carp.stl --turn x:90 --turn z:45 --drop
      bolvek pose bracket.stl --lay-largest --centre -o flat.stl
      bolvek pose carp.stl --tilt 30,90 --drop
      bolvek pose shade.stl --best 1 --printer filament-bed
    """
    from bolvek.analyses.overhangs.directions import compare_directions
    from bolvek.cli.base.run import Run, remade, run
    from bolvek.operations.pose import pose
    from bolvek.report.words.pose import pose_text
    from bolvek.settings.measures import RankSettings
    from bolvek.settings.parts import PoseSettings

    if best is not None and (up is not None or lay is not None or lay_largest):
        raise UsageError("--best chooses what is up; it goes with none of --up, --lay, --lay-largest")
    directions = settings_for(printer, angle=angle, layer=layer, habit=habit, bridge_most=bridge_most)
    directions.check()
    weights = weights_for(weigh, directions.habit, show=show is not None)
    compare = RankSettings(
        count=100 if compare_up is None else compare_up, weights=weights, best=max(best or 1, 5), show=show
    )
    compare.check()
    for name, value in (("--angle", angle), ("--layer", layer), ("--habit", habit), ("--bridge-most", bridge_most)):
        if value is not None and best is None:
            raise UsageError(f"{name} goes with --best RANK")
    if best is None and (weigh or show or compare_up is not None):
        raise UsageError("--compare-up, --weigh and --show go with --best RANK")
    settings = PoseSettings(
        mirror=mirror,
        lay=lay,
        lay_largest=lay_largest,
        up=up,
        turns=tuple(_turn(t) for t in turns),
        tilt=tilt,
        centre=centre,
        drop=drop or best is not None,
    )

    def work(model: "Model", step: "Steps") -> "Outcome":
        chosen = settings
        if best is not None:
            compared = step("directions", lambda: compare_directions(model.mesh, directions, compare))
            chosen = dataclasses.replace(settings, up=compared.best[min(best, len(compared.best)) - 1].up)
        mesh, record = step("pose", lambda: pose(model.mesh, chosen))
        return remade(model, mesh, {"pose": record}, pose_text(record), "written")

    texts = {"pose": lambda done: pose_text(done[1])}
    how = Run(
        verb="pose",
        settings={"": settings},
        work=work,
        writes="moved",
        texts=texts,
        kernels=("shells", "overhangs") if best is not None else ("places",) if lay is not None else (),
    )
    run(how, models, Asked(**shared), output)
