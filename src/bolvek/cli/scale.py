"""`bolvek scale`."""

import dataclasses
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from bolvek.cli.base.bind import bound, given, taken
from bolvek.cli.base.options import Asked, options, output_option, several_models, writing_options
from bolvek.errors import UsageError
from bolvek.settings.parts import ScaleSettings

if TYPE_CHECKING:
    from bolvek.cli.base.outcome import Outcome, Steps
    from bolvek.formats import Model


def _factors(text: str, name: str, share: float = 1.0) -> float | tuple[float, float, float]:
    """One number, or three with commas, times a share."""
    try:
        numbers = [float(word.strip().removesuffix("%")) * share for word in text.split(",")]
    except ValueError:
        numbers = []
    if len(numbers) == 1:
        return numbers[0]
    if len(numbers) == 3:
        return numbers[0], numbers[1], numbers[2]
    raise UsageError(f"{name} takes one number, or three with commas for x, y and z; found '{text}'")


@click.command("scale")
@options(
    several_models,
    output_option,
    bound("--by", ScaleSettings, "by", type=str, metavar="FACTOR|X,Y,Z"),
    click.option("--percent", metavar="P|X,Y,Z", help="By percent; 101.5,101.5,100.8 makes up for shrinkage."),
    bound("--height", ScaleSettings, "height_mm"),
    bound("--width", ScaleSettings, "width_mm"),
    bound("--depth", ScaleSettings, "depth_mm"),
    bound("--longest", ScaleSettings, "longest_mm"),
    bound("--volume", ScaleSettings, "volume_mm3"),
    bound("--fit", ScaleSettings, "fit_mm", type=str, metavar="PRINTER"),
    bound("--margin", ScaleSettings, "margin_mm", default=2.0),
    writing_options,
)
def command(models: tuple[Path, ...], output: Path | None, percent: str | None, **values: Any) -> None:
    """Make models larger or smaller, about the origin.

    Several models are scaled by one factor, found for all of them together, so that they still fit each
    other. --unit alone reads the numbers in that unit and writes millimetres.

    \b
    Examples:
      bolvek scale carp.stl --height 90mm -o carp90.stl
      bolvek scale lid.stl body.stl hook.stl --unit in --fit small-resin -o sized/
      bolvek scale carp.stl --percent 101.5,101.5,100.8
    """
    from bolvek.cli.base.outcome import Run, remade
    from bolvek.cli.base.run import run
    from bolvek.operations.scale import find_factors, scale_by
    from bolvek.profiles import load_profiles
    from bolvek.report.words.scale import scale_text

    by, fit = given(ScaleSettings, "by", values), given(ScaleSettings, "fit_mm", values)
    if by is not None and percent is not None:
        raise UsageError("give --by or --percent, not both")
    factors = _factors(by, "--by") if by is not None else None
    if percent is not None:
        factors = _factors(percent, "--percent", 0.01)
    room = load_profiles().printer(fit).build_mm if fit is not None else None
    settings = taken(ScaleSettings, values, by=factors, fit_mm=room)
    asked = Asked(**values)
    if asked.unit is not None and settings == ScaleSettings(margin_mm=settings.margin_mm):
        settings = dataclasses.replace(settings, by=1.0)
    volume = settings.volume_mm3

    def work(model: "Model", step: "Steps", found: Any = None) -> "Outcome":
        factors = found or find_factors([model.mesh], settings)
        mesh, record = step("scale", lambda: scale_by(model.mesh, factors, volumes=volume is not None))
        return remade(model, mesh, {"scale": record}, scale_text(record), "written")

    how = Run(
        verb="scale",
        settings={"": settings},
        work=work,
        writes="moved",
        texts={"scale": lambda done: scale_text(done[1])},
        kernels=("shells", "faults") if volume is not None else (),
        # a factor that is given does not depend on the other models
        as_set=None if settings.by is not None else lambda meshes: find_factors(meshes, settings),
    )
    run(how, models, asked, output)
