"""`bolvek carve`."""

from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from bolvek.cli.base.options import Asked, models_argument, options, output_option, writing_options
from bolvek.cli.base.types import PATH

if TYPE_CHECKING:
    from bolvek.cli.base.outcome import Outcome, Steps
    from bolvek.formats import Model


@click.command("carve")
@options(
    models_argument,
    output_option,
    click.option("--with", "tools", type=PATH, multiple=True, required=True, help="Taken out; repeat for more."),
    click.option("--recast", "again", is_flag=True, help="Make parts anew that are open or cross themselves."),
    writing_options,
)
def command(models: tuple[Path, ...], output: Path | None, tools: tuple[Path, ...], again: bool, **shared: Any) -> None:
    """Take tools out of models: what the tools fill is gone, untouched faces stay bit for bit.

    A tool that lies flush with a face goes through it.

    \b
    Examples:
      bolvek carve lid.stl --with text.stl -o lid_named.stl
      bolvek carve base.stl --with slot.stl --with hole.stl
    """
    from bolvek.cli.base.outcome import Run
    from bolvek.cli.base.run import run
    from bolvek.cli.fuse import fused_outcome
    from bolvek.formats import read_model
    from bolvek.operations.fuse import carve, gather, gather_all
    from bolvek.report.words.fuse import fuse_text
    from bolvek.settings.parts import FuseSettings
    from bolvek.settings.repairs import RecastSettings

    asked, anew = Asked(**shared), RecastSettings() if again else None
    settings = FuseSettings()

    def work(model: "Model", step: "Steps") -> "Outcome":
        read = [step("read tools", partial(read_model, path, unit=asked.unit)).mesh for path in tools]
        tool = gather_all(read, [str(path) for path in tools], again=anew)
        made, record = step("carve", lambda: carve(gather(model.mesh, again=anew), tool, settings))
        return fused_outcome(model, made, record, "carve", asked)

    how = Run(
        verb="carve",
        settings={"": settings},
        work=work,
        writes="made",
        inputs={f"--with {k}": path for k, path in enumerate(tools, 1)} if len(models) == 1 else {},
        texts={"carve": lambda done: fuse_text(done[1])},
        kernels=("walls", "hollow", "rooms", "places") if again else (),
    )
    run(how, models, asked, output)
