"""`bolvek pose`."""

from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from bolvek.cli.base.bind import bound, given, taken
from bolvek.cli.base.directions import direction_options, settings_for, turned_to_best, weights_for
from bolvek.cli.base.options import Asked, options, output_option, printer_option, several_models, writing_options
from bolvek.cli.base.types import PLACE, TILT
from bolvek.errors import UsageError
from bolvek.settings.measures import RankSettings
from bolvek.settings.parts import PoseSettings

if TYPE_CHECKING:
    from bolvek.cli.base.outcome import Outcome, Steps
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
    several_models,
    output_option,
    bound("--mirror", PoseSettings, "mirror"),
    bound("--lay", PoseSettings, "lay", type=PLACE),
    bound("--lay-largest", PoseSettings, "lay_largest"),
    bound("--up", PoseSettings, "up"),
    click.option(
        "--best",
        type=click.IntRange(1),
        metavar="RANK",
        help="The RANK-th best build direction becomes up; see overhangs.",
    ),
    printer_option,
    direction_options,
    bound("--compare-up", RankSettings, "count", default=None, none="100, with --best"),
    bound("--turn", PoseSettings, "turns", type=str, metavar="AXIS:DEGREES", several=True),
    bound("--tilt", PoseSettings, "tilt", type=TILT),
    bound("--centre", PoseSettings, "centre"),
    bound("--drop", PoseSettings, "drop"),
    writing_options,
)
def command(
    models: tuple[Path, ...],
    output: Path | None,
    best: int | None,
    printer: str | None,
    weigh: tuple[str, ...],
    **values: Any,
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
    from bolvek.cli.base.outcome import Run, remade
    from bolvek.cli.base.run import run
    from bolvek.operations.pose import pose
    from bolvek.report.words.pose import pose_text

    turns, drop = given(PoseSettings, "turns", values), given(PoseSettings, "drop", values)
    settings = taken(PoseSettings, values, turns=tuple(_turn(t) for t in turns), drop=drop or best is not None)
    if best is not None and (settings.up is not None or settings.lay is not None or settings.lay_largest):
        raise UsageError("--best chooses what is up; it goes with none of --up, --lay, --lay-largest")
    count, show = (given(RankSettings, name, values) for name in ("count", "show"))
    judged = [
        name for name in ("angle_deg", "layer_mm", "habit", "bridge_most_mm") if values[f"OverhangSettings__{name}"]
    ]
    if best is None and (judged or weigh or show or count is not None):
        options = "--angle, --layer, --habit, --bridge-most, --compare-up, --weigh and --show"
        raise UsageError(f"{options} go with --best RANK")
    directions = settings_for(values, printer)
    directions.check()
    weights = weights_for(weigh, directions.habit, show=show is not None)
    compare = RankSettings(count=100 if count is None else count, weights=weights, best=max(best or 1, 5), show=show)
    compare.check()

    def work(model: "Model", step: "Steps") -> "Outcome":
        if best is not None:
            mesh, record = turned_to_best(model.mesh, best, directions, compare, settings, step)
        else:
            mesh, record = step("pose", lambda: pose(model.mesh, settings))
        return remade(model, mesh, {"pose": record}, pose_text(record), "written")

    needed = ("shells", "faults", "overhangs") if best is not None else ("places",) if settings.lay is not None else ()
    how = Run(
        verb="pose",
        settings={"": settings},
        work=work,
        writes="moved",
        texts={"pose": lambda done: pose_text(done[1])},
        kernels=needed,
    )
    run(how, models, Asked(**values), output)
