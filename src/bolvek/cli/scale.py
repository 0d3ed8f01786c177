"""`bolvek scale`."""

from pathlib import Path
from typing import Any

import click

from bolvek.cli.common import LENGTH, VOLUME, models_argument, options, output_option, shared_options
from bolvek.errors import UsageError


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
    shared_options,
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
    from bolvek.cli.operate import operate
    from bolvek.operations.scale import ScaleSettings, scale_together
    from bolvek.profiles import load_profiles
    from bolvek.report.words import scale_text

    if by is not None and percent is not None:
        raise UsageError("give --by or --percent, not both")
    factors = _factors(by, "--by") if by is not None else None
    if percent is not None:
        factors = _factors(percent, "--percent", 0.01)
    room = load_profiles().printer(fit).build_mm if fit is not None else None
    aims = (factors, height, longest, width, depth, volume, room)
    if shared["unit"] is not None and all(aim is None for aim in aims):
        aims = (1.0, *aims[1:])
    operate(
        "scale",
        models,
        output,
        ScaleSettings(*aims, margin),
        scale_together,
        scale_text,
        keep_parts=True,
        moves_only=True,
        **shared,
    )
