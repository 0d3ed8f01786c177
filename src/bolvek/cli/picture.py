"""`bolvek picture`."""

from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from bolvek.cli.base.options import Asked, options, output_option, replace_option, several_models, unit_option

if TYPE_CHECKING:
    from bolvek.cli.base.outcome import Outcome, Steps
    from bolvek.formats import Model


@click.command("picture")
@options(
    several_models,
    output_option,
    click.option("--cut-open", is_flag=True, help="Add a view cut upright, through the drains if any."),
    unit_option,
    replace_option,
)
def command(models: tuple[Path, ...], output: Path | None, cut_open: bool, **values: Any) -> None:
    """Draw models as PNG: shaded, with a scale bar and their size, on request cut open.

    \b
    Examples:
      bolvek picture carp.stl -o carp.png
      bolvek picture out/ --cut-open -o pictures/
    """
    from bolvek.cli.base.outcome import Outcome, Run
    from bolvek.cli.base.run import run
    from bolvek.cli.base.targets import is_folder
    from bolvek.errors import FileError
    from bolvek.report.pictures.plain import model_caption, picture
    from bolvek.report.words.files import model_text

    if output is not None and not is_folder(output) and output.suffix.lower() != ".png":
        raise FileError(f"{output}: pictures are written as .png; '{output.suffix}' is not one of them")

    def work(model: "Model", step: "Steps") -> "Outcome":
        caption = model_caption(model.path, model.mesh)
        return Outcome(
            model=model,
            sections={},
            line=model_text(model),
            verdict="done",
            picture=lambda: picture(model.mesh, caption, cut_open=cut_open),
        )

    run(Run(verb="picture", settings={}, work=work, suffix=".png"), models, Asked(**values), output)
