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
    from bolvek.cli.base.run import Outcome, Steps
    from bolvek.formats import Model
    from bolvek.jobs.sheet import Sheet


@click.command("run")
@options(
    click.argument("sheet", type=PATH, metavar="SHEET.toml"),
    click.option("--plan", is_flag=True, help="Only tell what would be done with each model; write nothing."),
    click.option("--only", metavar="NAME", multiple=True, help="Only models of this name; repeat for more."),
    click.option("--steps", metavar="A-B", help="Only these steps, counted from 1, as in 1-3 or 2."),
    click.option("--again", is_flag=True, help="Do anew what is up to date."),
    click.option("--jobs", type=click.IntRange(1), default=1, metavar="N", help="Work on so many models at once."),
    details_option,
    replace_option,
)
def command(
    sheet: Path, plan: bool, only: tuple[str, ...], steps: str | None, again: bool, jobs: int, **values: Any
) -> None:
    """A whole job from one sheet: every model through the same steps, handed on in memory, each output proven.

    What is there and unchanged is kept: stopped at any time, the job goes on where it was.

    \b
    Examples:
      bolvek run week.toml --plan
      bolvek run week.toml --jobs 4
    """
    from bolvek.cli.base.job import Job, step_verbs
    from bolvek.cli.base.run import Run, run
    from bolvek.cli.base.workers import PART
    from bolvek.jobs.sheet import read_sheet

    read = read_sheet(sheet, step_verbs())
    if steps is not None:
        read = dataclasses.replace(read, steps=_chosen(read, steps))
    files = read.files()
    if only:
        files = [file for file in files if file.name in only or file.stem in only]
        if not files:
            raise UsageError(f"{sheet} has no model named {' or '.join(only)}")
    job = Job(read, files)
    job.check()
    if plan:
        job.tell_plan()
        return
    todo, changed, worst = files, 0, 0
    if not PART:  # what the process that called a worker has chosen stays
        todo, changed, worst = job.sorted_out(again=again, replace=bool(values["replace"]))
    if not todo:
        sys.exit(EXIT_FILE if changed else worst)

    def work(model: "Model", step: "Steps") -> "Outcome":
        return job.work(model, step)

    targets = {name: read.at(value) for name, value in (("table", read.table), ("record", read.record)) if value}
    asked = Asked(
        **{**values, "replace": True},
        jobs=jobs,
        unit=read.unit,
        table_target=targets.get("table"),
        json_target=targets.get("record"),
        page_target=read.at(read.page) if read.page else None,
    )
    how = Run(
        verb="run",
        settings={},
        work=work,
        writes="proven",
        after=job.note,
        among=files,
        keeps_names=True,
        kernels=job.kernels,
    )
    try:
        run(how, todo, asked, job.output)
    except SystemExit as done:
        sys.exit(max(int(done.code or 0), worst, EXIT_FILE if changed else 0))


def _chosen(sheet: "Sheet", text: str) -> tuple[Any, ...]:
    first, _, last = text.partition("-")
    try:
        begin, end = int(first), int(last or first)
    except ValueError:
        begin = end = 0
    if not 1 <= begin <= end <= len(sheet.steps):
        raise UsageError(f"--steps takes numbers from 1 to {len(sheet.steps)}, as in 2 or 1-2; found '{text}'")
    return sheet.steps[begin - 1 : end]
