"""`bolvek scale`."""

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


@click.command("scale")
@options(
    model_argument,
    output_option,
    click.option("--height", type=LENGTH, help="To this height (z)."),
    click.option("--longest", type=LENGTH, help="To this longest side."),
    click.option("--by", type=float, metavar="FACTOR", help="By a factor."),
    shared_options,
)
def command(
    model: Path,
    output: Path | None,
    height: float | None,
    longest: float | None,
    by: float | None,
    **shared: Any,
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
        **shared,
    )
