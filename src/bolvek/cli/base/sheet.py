"""A command line kept as a job sheet."""

import os
from collections.abc import Sequence
from pathlib import Path
from typing import Any

import click

from bolvek.cli.base.job import OF_A_RUN, WHAT_A_SHEET_WRITES, key, of_a_step, step_verbs
from bolvek.cli.base.options import Asked
from bolvek.cli.base.targets import is_folder
from bolvek.errors import UsageError
from bolvek.formats.safe import write_bytes
from bolvek.jobs.sheet import sheet_text

_TARGETS = {"output", "json_target", "page_target", "table_target", "sheet_target"}
"""Files that a sheet names itself."""


def write_sheet(target: Path, verb: str, models: Sequence[Path], output: Path | None, asked: Asked) -> None:
    """Write the sheet that does what this command line asks for. Raises UsageError for a verb that is no step."""
    if verb not in step_verbs():
        raise UsageError(f"'{verb}' cannot be a step of a job sheet; these can: {', '.join(step_verbs())}")
    base = target.absolute().parent

    def beside(path: Path | None) -> str | None:
        return None if path is None else Path(os.path.relpath(path.absolute(), base)).as_posix()

    goes = beside(output) if output is not None else "out"
    folder = output is None or is_folder(output)
    text = sheet_text(
        [str(beside(model)) for model in models],
        verb,
        _given(),
        f"{goes}/" if folder else goes,
        table=beside(asked.table_target),
        record=beside(asked.json_target),
        page=beside(asked.page_target),
        unit=asked.unit,
        ascii=asked.ascii_stl,
    )
    write_bytes(target, text.encode(), replace=asked.replace)
    click.echo(f"{target}: 'bolvek run {target}' does the same")


def _given() -> dict[str, Any]:
    """The options that were given, as they were written."""
    context = click.get_current_context()
    arguments = list(context.find_root().obj or ())[1:]
    raw, _, _ = context.command.make_parser(context).parse_args(arguments)
    found: dict[str, Any] = {}
    for option in context.command.params:
        if not isinstance(option, click.Option) or option.name not in raw:
            continue
        if option.name in _TARGETS or key(option) in OF_A_RUN:
            continue
        if not of_a_step(option):
            raise UsageError(f"{option.opts[-1]} names a file of its own; {WHAT_A_SHEET_WRITES}")
        value = raw[option.name]
        found[key(option)] = True if option.is_flag else value
    return found
