"""`bolvek run`."""

import dataclasses
import sys
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from bolvek.cli.base.options import Asked, details_option, options, replace_option
from bolvek.cli.base.types import PATH
from bolvek.errors import EXIT_FILE, UsageError

if TYPE_CHECKING:
    from bolvek.jobs.sheet import Sheet


@click.command("run")
@options(
    click.argument("sheet", type=PATH, metavar="SHEET.toml"),
    click.option("--plan", is_flag=True, help="Only tell what would be done with each model; write nothing."),
    click.option("--only", metavar="NAME", multiple=True, help="Only models of this name; repeat for more."),
    click.option("--steps", metavar="A-B", help="Only these steps, counted from 1, as in 1-3 or 2."),
    click.option("--again", is_flag=True, help="Do anew what is up to date."),
    click.option("--jobs", type=click.IntRange(1), default=1, metavar="N", help="Work on so many models at once."),
    click.option(
        "--on", metavar="ADDRESS", help="Work on a farm: tcp://HOST:PORT of its scheduler, or tls://HOST:PORT."
    ),
    click.option("--send", is_flag=True, help="With --on: send the models, even where its machines see the files."),
    details_option,
    replace_option,
)
def command(
    sheet: Path,
    plan: bool,
    only: tuple[str, ...],
    steps: str | None,
    again: bool,
    jobs: int,
    on: str | None,
    send: bool,
    **values: Any,
) -> None:
    """A whole job from one sheet: every model through the same steps, handed on in memory, each output proven.

    What is there and unchanged is kept: stopped at any time, the job goes on where it was.

    \b
    Examples:
      bolvek run week.toml --plan
      bolvek run week.toml --jobs 4
      bolvek run week.toml --on tcp://workshop:8786
    """
    from bolvek.cli.base.job import Job, step_verbs
    from bolvek.cli.base.parcel import Bench, Parcel, work_on
    from bolvek.cli.base.run import run
    from bolvek.cli.base.workers import Task, file_size
    from bolvek.jobs.sheet import read_sheet

    if on is not None and jobs > 1:
        raise UsageError("--jobs is for this machine, --on for a farm: give one of them")
    if send and on is None:
        raise UsageError("--send goes with --on")
    read = read_sheet(sheet, step_verbs())
    if steps is not None:
        read = dataclasses.replace(read, steps=_chosen(read, steps))
    files = read.files()
    chosen = [file for file in files if file.name in only or file.stem in only] if only else files
    if not chosen:
        raise UsageError(f"{sheet} has no model named {' or '.join(only)}")
    if plan:
        job = Job(read, chosen)
        job.check()
        job.tell_plan(details=bool(values["details"]))
        return
    job = Job(read, files)
    job.check()
    targets = {name: read.at(value) for name, value in (("table", read.table), ("record", read.record)) if value}
    found = job.sorted_out(chosen, again=again, replace=bool(values["replace"]))
    worst = EXIT_FILE if found.changed else 0
    if not found.todo and all(target.exists() for target in targets.values()):
        sys.exit(max([worst, *(found.kept[file].exit_code for file in chosen if file in found.kept)]))
    asked = Asked(
        **{**values, "replace": True},
        jobs=jobs,
        unit=read.unit,
        ascii_stl=read.ascii,
        table_target=targets.get("table"),
        json_target=targets.get("record"),
        page_target=read.at(read.page) if read.page else None,
    )
    arguments = tuple(click.get_current_context().find_root().obj or ())

    def parcel(file: Path, target: Path, several: bool) -> Parcel:
        return Parcel(sheet=read.of(file), file=file, target=target, asked=asked, arguments=arguments, several=several)

    def task(file: Path, target: Path, several: bool) -> Task:
        return Task(work_on, (parcel(file, target, several),), job.needed_mb(file), file_size(file))

    engine = None
    if on is not None:
        from bolvek.cli.base.farm import Farmed

        engine = Farmed(on, job, send=send)
    bench = Bench(job)
    how = job.as_run(
        store=bench,
        announce=bench.announce,
        kept=found.known() if targets else found.kept,
        among=files,
        task=task,
        engine=engine,
    )
    try:
        run(how, found.todo, asked, job.output)
    except SystemExit as done:
        sys.exit(max(int(done.code or 0), worst))


def _chosen(sheet: "Sheet", text: str) -> tuple[Any, ...]:
    first, _, last = text.partition("-")
    try:
        begin, end = int(first), int(last or first)
    except ValueError:
        begin = end = 0
    if not 1 <= begin <= end <= len(sheet.steps):
        raise UsageError(f"--steps takes numbers from 1 to {len(sheet.steps)}, as in 2 or 1-2; found '{text}'")
    return sheet.steps[begin - 1 : end]
