"""`bolvek scale`."""

from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from bolvek.cli.base.options import Asked, models_argument, options, output_option, writing_options
from bolvek.cli.base.types import LENGTH, VOLUME
from bolvek.errors import UsageError

if TYPE_CHECKING:
    from bolvek.cli.base.run import Outcome, Steps
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
    models_argument,
    output_option,
    click.option("--by", metavar="FACTOR|X,Y,Z", help="By a factor, or one an axis."),
    click.option("--percent", metavar="P|X,Y,Z", help="By percent; 101.5,101.5,100.8 makes up for shrinkage."),
    click.option("--height", type=LENGTH, help="To this height (z)."),
    click.option("--width", type=LENGTH, help="To this width (x)."),
    click.option("--depth", type=LENGTH, help="To this depth (y)."),
    click.option("--longest", type=LENGTH, help="To this longest side."),
    click.option("--volume", type=VOLUME, help="To this volume: 20cm3, 1500mm3."),
    click.option(
        "--fit", metavar="PRINTER", help="As large as the printer's build space holds; see 'bolvek profiles'."
    ),
    click.option("--margin", type=LENGTH, default="2mm", show_default=True, help="Room to leave with --fit."),
    writing_options,
)
def command(
    models: tuple[Path, ...],
    output: Path | None,
    by: str | None,
    percent: str | None,
    height: float | None,
    width: float | None,
    depth: float | None,
    longest: float | None,
    volume: float | None,
    fit: str | None,
    margin: float,
    **shared: Any,
) -> None:
    """Make models larger or smaller, about the origin.

    Several models are scaled by one factor, found for all of them together, so that they still fit each
    other. --unit alone reads the numbers in that unit and writes millimetres.

    \b
    Examples:
      bolvek scale carp.stl --height 90mm -o carp90.stl
      bolvek scale lid.stl body.stl hook.stl --unit in --fit small-resin -o sized/
      bolvek scale carp.stl --percent 101.5,101.5,100.8
    """
    from bolvek.cli.base.run import Run, remade, run
    from bolvek.operations.scale import find_factors, scale_by
    from bolvek.profiles import load_profiles
    from bolvek.report.words.scale import scale_text
    from bolvek.settings.parts import ScaleSettings

    if by is not None and percent is not None:
        raise UsageError("give --by or --percent, not both")
    factors = _factors(by, "--by") if by is not None else None
    if percent is not None:
        factors = _factors(percent, "--percent", 0.01)
    room = load_profiles().printer(fit).build_mm if fit is not None else None
    if shared["unit"] is not None and (factors, height, longest, width, depth, volume, room) == (None,) * 7:
        factors = 1.0
    settings = ScaleSettings(
        by=factors,
        height_mm=height,
        longest_mm=longest,
        width_mm=width,
        depth_mm=depth,
        volume_mm3=volume,
        fit_mm=room,
        margin_mm=margin,
    )

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
        as_set=None if factors is not None else lambda meshes: find_factors(meshes, settings),
    )
    run(how, models, Asked(**shared), output)
