"""Text for people: stdout, or stderr when the record goes to stdout."""

import sys
import threading
import time
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import TYPE_CHECKING

import click

if TYPE_CHECKING:
    from rich.console import Console

    from bolvek.cli.base.progress import Progress, Saying
    from bolvek.report.record import Record


TELL_EVERY_S, SHOW_EVERY_S = 10.0, 1.0
"""So often a long step says that it is still at work: a line, or the clock on a terminal."""


class Talk:
    """What a run says, and where."""

    def __init__(self, json_target: Path | None) -> None:
        self.json_target = json_target
        self._to_stderr = json_target is not None and str(json_target) == "-"
        self._doing: list[threading.Event] = []
        self._said_at = time.perf_counter()

    @property
    def console(self) -> "Console":
        """A Rich console on the right stream; NO_COLOR respected."""
        from rich.console import Console

        stream = sys.stderr if self._to_stderr else sys.stdout
        return Console(file=stream, highlight=False, soft_wrap=True, markup=False)

    def busy(self, name: str) -> None:
        """What is being done right now: on stderr, on a terminal only, wiped by the next line."""
        if sys.stderr.isatty():
            click.echo(f"\r{name} ...\x1b[K\r", err=True, nl=False)

    @contextmanager
    def during(self, what: "str | Progress | Saying", every_s: float | None = None) -> Iterator[None]:
        """Say on stderr what is being done, or how far a job is: on a terminal with a clock, wiped by the next line;
        else a plain line when nothing was said for so long. Of steps within steps the innermost is told."""
        every = TELL_EVERY_S if every_s is None else every_s
        terminal, done, begin = sys.stderr.isatty(), threading.Event(), time.perf_counter()
        if isinstance(what, str):
            self.busy(what)

        def tell() -> None:
            while not done.wait(min(SHOW_EVERY_S, every)):
                if self._doing[-1:] != [done]:
                    continue
                if not terminal and time.perf_counter() - self._said_at < 0.9 * every:
                    continue
                if isinstance(what, str):
                    text = [f"{what} ... {time.perf_counter() - begin:.0f} s"]
                else:
                    text = what.lines() if terminal else [what.line()]
                if terminal:
                    up = f"\x1b[{len(text) - 1}A" if len(text) > 1 else ""
                    click.echo("\r" + "\x1b[K\n".join(text) + f"\x1b[J{up}\r", err=True, nl=False)
                else:
                    click.echo(f"bolvek: {text[0]}", err=True)
                    self._said_at = time.perf_counter()

        self._said_at = begin
        self._doing.append(done)
        teller = threading.Thread(target=tell, daemon=True)
        teller.start()
        try:
            yield
        finally:
            done.set()
            self._doing.remove(done)
            teller.join()

    def step(self, name: str, text: str, seconds: float) -> None:
        """One step with its seconds."""
        self._print((f"{name:<8}", "bold cyan"), (f"{seconds:6.2f} s  ", "dim"), (text, ""))

    def row(self, name: str, text: str, style: str = "", mark: str = "") -> None:
        """One row of a report; style is that of its text, mark the colour of its name."""
        self._print((f"{name:<15} ", f"bold {mark}".strip()), (text, style))

    def tell(self, *cells: tuple[str, str]) -> None:
        """A line that another process has made, cell by cell."""
        self._print(*cells)

    def _print(self, *cells: tuple[str, str]) -> None:
        """One line; on a terminal the last cell is wrapped in its own column."""
        if sys.stderr.isatty():
            click.echo("\r\x1b[J", err=True, nl=False)
        self._said_at = time.perf_counter()
        stream = sys.stderr if self._to_stderr else sys.stdout
        if not stream.isatty():  # plain text needs no Rich, which takes a while to import
            click.echo("".join(text for text, _ in cells), file=stream)
            return
        from rich.table import Table
        from rich.text import Text

        line = Table.grid()
        for text, _ in cells[:-1]:
            line.add_column(width=len(text), no_wrap=True)
        line.add_column()
        line.add_row(*(Text(text, style) for text, style in cells))
        self.console.print(line)

    def write_record(self, record: "Record", *, replace: bool = False) -> None:
        """Write the JSON record where it was asked for."""
        from bolvek.formats.safe import write_bytes
        from bolvek.report.record import record_json

        text = record_json(record)
        if self._to_stderr:
            sys.stdout.write(text)
        elif self.json_target is not None:
            write_bytes(self.json_target, text.encode(), replace=replace)
