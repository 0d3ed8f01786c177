"""`bolvek demo`."""

from pathlib import Path

import click

from bolvek.cli.base.options import replace_option
from bolvek.cli.base.types import PATH


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
    import sys

    from bolvek.cli.base.console import Talk
    from bolvek.cli.base.kernels import prepare_kernels
    from bolvek.demo.story import run_demo
    from bolvek.errors import EXIT_FINDINGS, EXIT_SOUND

    talk = Talk(None)
    prepare_kernels("demo", [])
    sys.exit(EXIT_SOUND if run_demo(folder, talk.step, talk.busy, replace=replace) else EXIT_FINDINGS)
