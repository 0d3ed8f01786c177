"""`bolvek scale`."""

from pathlib import Path

import click

from bolvek.cli.common import (
    LENGTH,
    json_option,
    model_argument,
    options,
    output_option,
    picture_option,
    replace_option,
    unit_option,
)


@click.command("scale")
@options(
    model_argument,
    output_option,
    click.option("--height", type=LENGTH, help="To this height (z)."),
    click.option("--longest", type=LENGTH, help="To this longest side."),
    click.option("--by", type=float, metavar="FACTOR", help="By a factor."),
    json_option,
    picture_option,
    unit_option,
    replace_option,
)
def command(
    model: Path,
    output: Path | None,
    height: float | None,
    longest: float | None,
    by: float | None,
    json_target: Path | None,
    picture_target: Path | None,
    unit: str,
    replace: bool,
) -> None:
    """Make a model larger or smaller: by a factor, to a height, or to a longest side.

    \b
    Examples:
      bolvek scale carp.stl --height 90mm -o carp90.stl
      bolvek scale carp.stl --by 1.5
    """
    from bolvek.cli.operate import operate
    from bolvek.operations.scale import ScaleSettings, scale
    from bolvek.report.words import scale_text

    operate(
        "scale",
        model,
        output,
        ScaleSettings(by, height, longest),
        scale,
        scale_text,
        json_target=json_target,
        picture_target=picture_target,
        unit=unit,
        replace=replace,
    )
