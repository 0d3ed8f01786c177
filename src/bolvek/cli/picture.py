"""`bolvek picture`."""

from pathlib import Path

import click

from bolvek.cli.common import (
    check_targets,
    model_argument,
    options,
    output_beside,
    output_option,
    replace_option,
    unit_option,
)


@click.command("picture")
@options(
    model_argument,
    output_option,
    click.option("--cut-open", is_flag=True, help="Add a view cut upright, through the drains if any."),
    unit_option,
    replace_option,
)
def command(model: Path, output: Path | None, cut_open: bool, unit: str | None, replace: bool) -> None:
    """Draw a model as a PNG: shaded, with a scale bar and its size, on request cut open.

    \b
    Examples:
      bolvek picture carp.stl -o carp.png
      bolvek picture out/carp.stl --cut-open -o inside.png
    """
    from bolvek.cli.common import Talk
    from bolvek.errors import UsageError
    from bolvek.formats import read_model
    from bolvek.formats.safe import write_bytes
    from bolvek.report.picture import model_caption, picture

    target = output_beside(model, output, "picture", ".png")
    if target.suffix.lower() != ".png":
        raise UsageError(f"{target}: pictures are written as .png")
    check_targets(model, [target], replace=replace)
    talk = Talk(None)
    read = read_model(model, unit=unit)
    data = picture(read.mesh, model_caption(model, read.mesh), cut_open=cut_open)
    write_bytes(target, data, replace=replace)
    talk.row("picture", str(target))
