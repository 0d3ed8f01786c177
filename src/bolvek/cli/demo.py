"""`bolvek demo`."""

from pathlib import Path

import click

from bolvek.cli.common import PATH, replace_option


@click.command("demo")
@click.argument("folder", type=PATH, metavar="OUT/")
@replace_option
def command(folder: Path, replace: bool) -> None:
    """Write the lantern workshop's models into a folder and run the whole example there.

    \b
    Examples:
      bolvek demo out/
      bolvek demo out/ --replace
    """
    from bolvek.cli.common import Talk, finish
    from bolvek.demo.story import run_demo

    talk = Talk(None)
    finish(run_demo(folder, talk.step, talk.busy, replace=replace))
