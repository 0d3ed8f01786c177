"""`bolvek demo`."""

from pathlib import Path

import click

from bolvek.cli.base.options import replace_option
from bolvek.cli.base.types import PATH


@click.command("demo")
@click.argument("folder", type=PATH, metavar="OUT/")
@click.option(
    "--jobs",
    type=click.IntRange(1),
    metavar="N",
    help="Work on so many chapters at once. [default: 2, or 1 on a single core]",
)
@replace_option
def command(folder: Path, jobs: int | None, replace: bool) -> None:
    """Write the lantern workshop's models into a folder and run the whole example there.

    \b
    Examples:
      bolvek demo out/
      bolvek demo out/ --replace
    """
    import sys

    from bolvek.cli.base.console import Talk
    from bolvek.cli.base.progress import Saying
    from bolvek.errors import EXIT_FINDINGS, EXIT_SOUND, EXIT_STOPPED

    talk = Talk(None)
    talk.row("demo", f"the lantern workshop, into {folder}: models, records, pictures, pages")
    sys.stdout.flush()
    from bolvek.demo.story import run_demo, ways_on
    from bolvek.spatial.parallel import thread_count

    count = jobs if jobs is not None else min(2, thread_count())
    try:
        busy = Saying("at work")
        with talk.during(busy, every_s=5.0):
            fit = run_demo(folder, talk.step, busy, jobs=count, replace=replace)
    except KeyboardInterrupt:
        click.echo(f"bolvek: stopped; the files written so far are in {folder}", err=True)
        sys.exit(EXIT_STOPPED)
    for name, text in ways_on(folder):
        talk.row(name, text)
    sys.exit(EXIT_SOUND if fit else EXIT_FINDINGS)
