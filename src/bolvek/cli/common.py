"""What verbs share: option types, the console, where output goes, how a run ends."""

import sys
from collections.abc import Callable, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any, TypeVar

import click

from bolvek.errors import EXIT_FINDINGS, EXIT_SOUND, FileError, UsageError
from bolvek.units import MILLIMETRES, parse_length, parse_point, parse_volume

if TYPE_CHECKING:
    from rich.console import Console

    from bolvek.report.record import Record

F = TypeVar("F", bound=Callable[..., Any])


class Length(click.ParamType):  # type: ignore[type-arg, unused-ignore]
    """A length with a unit, as millimetres."""

    name = "LENGTH"

    def convert(self, value: Any, param: click.Parameter | None, ctx: click.Context | None) -> float:
        if isinstance(value, float):
            return value
        try:
            return parse_length(str(value))
        except UsageError as error:
            self.fail(str(error), param, ctx)


class Place(click.ParamType):  # type: ignore[type-arg, unused-ignore]
    """Three lengths with commas, as millimetres."""

    name = "X,Y,Z"

    def convert(
        self, value: Any, param: click.Parameter | None, ctx: click.Context | None
    ) -> tuple[float, float, float]:
        if isinstance(value, tuple):
            return value
        try:
            return parse_point(str(value))
        except UsageError as error:
            self.fail(str(error), param, ctx)


class Volume(click.ParamType):  # type: ignore[type-arg, unused-ignore]
    """A volume with a unit, as cubic millimetres."""

    name = "VOLUME"

    def convert(self, value: Any, param: click.Parameter | None, ctx: click.Context | None) -> float:
        if isinstance(value, float):
            return value
        try:
            return parse_volume(str(value))
        except UsageError as error:
            self.fail(str(error), param, ctx)


LENGTH = Length()
VOLUME = Volume()
PLACE = Place()
PATH = click.Path(path_type=Path)

model_argument = click.argument("model", type=PATH, metavar="MODEL")
models_argument = click.argument("models", type=PATH, metavar="MODEL...", nargs=-1, required=True)
material_option = click.option(
    "--material", default="standard-resin", show_default=True, help="What to weigh it in; 'bolvek profiles' lists them."
)
printer_option = click.option(
    "--printer", metavar="NAME", help="Take limits from a printer; 'bolvek profiles' lists them."
)
output_option = click.option(
    "-o", "--output", type=PATH, help="File to write; without it beside MODEL, named after the verb."
)
replace_option = click.option("--replace", is_flag=True, help="Write over an existing output.")
unit_option = click.option(
    "--unit",
    type=click.Choice(list(MILLIMETRES)),
    help="Unit of the numbers in MODEL; without it as the file states, else mm.",
)
json_option = click.option("--json", "json_target", type=PATH, metavar="FILE|-", help="Write the record; - is stdout.")
picture_option = click.option("--picture", "picture_target", type=PATH, metavar="FILE.png", help="Draw the result.")


def options(*decorators: Callable[[F], F]) -> Callable[[F], F]:
    """Several options as one decorator, listed in the order given."""

    def apply(function: F) -> F:
        for decorator in reversed(decorators):
            function = decorator(function)
        return function

    return apply


ascii_option = click.option("--ascii", "ascii_stl", is_flag=True, help="Write an STL as text.")
shared_options = options(json_option, picture_option, unit_option, ascii_option, replace_option)


class Talk:
    """Text for people: stdout, or stderr when the record goes to stdout."""

    def __init__(self, json_target: Path | None) -> None:
        self.json_target = json_target
        self._to_stderr = json_target is not None and str(json_target) == "-"
        prepare_kernels()

    @property
    def console(self) -> "Console":
        """A Rich console on the right stream; plain where it is no terminal, NO_COLOR respected."""
        from rich.console import Console

        stream = sys.stderr if self._to_stderr else sys.stdout
        width = None if stream.isatty() else 10_000
        return Console(file=stream, highlight=False, soft_wrap=True, width=width, markup=False)

    def busy(self, name: str) -> None:
        """What is being done right now: on stderr, on a terminal only, wiped by the next line."""
        if sys.stderr.isatty():
            click.echo(f"\r{name} ...\x1b[K\r", err=True, nl=False)

    def step(self, name: str, text: str, seconds: float) -> None:
        """One step with its seconds."""
        self._print((f"{name:<8}", "bold cyan"), (f"{seconds:6.2f} s  ", "dim"), (text, ""))

    def row(self, name: str, text: str, style: str = "") -> None:
        """One row of a report."""
        self._print((f"{name:<16}", "bold"), (text, style))

    def _wipe(self) -> None:
        if sys.stderr.isatty():
            click.echo("\r\x1b[K", err=True, nl=False)

    def _print(self, *cells: tuple[str, str]) -> None:
        """One line; on a terminal the last cell is wrapped in its own column."""
        from rich.table import Table
        from rich.text import Text

        self._wipe()
        console = self.console
        if not console.is_terminal:
            console.print(Text.assemble(*cells))
            return
        line = Table.grid()
        for text, _ in cells[:-1]:
            line.add_column(width=len(text), no_wrap=True)
        line.add_column()
        line.add_row(*(Text(text, style) for text, style in cells))
        console.print(line)

    def verdict(self, fit: bool, findings: tuple[Any, ...], good: str, bad: str) -> None:
        """Findings, faults first, then the verdict."""
        for finding in sorted(findings, key=lambda f: f.severity != "fault"):
            self.row(finding.severity, finding.text, "red" if finding.severity == "fault" else "yellow")
        self.row("verdict", good if fit else bad, "bold green" if fit else "bold red")

    def write_record(self, record: "Record", *, replace: bool = False) -> None:
        """Write the JSON record where it was asked for."""
        if self.json_target is None:
            return
        from bolvek.formats.safe import write_bytes
        from bolvek.report.record import record_json

        text = record_json(record)
        if self._to_stderr:
            sys.stdout.write(text)
        else:
            write_bytes(self.json_target, text.encode(), replace=replace)


def prepare_kernels() -> None:
    """Compile what is not compiled yet, once, and say so."""
    _skip_blas()
    from bolvek.kernels.warm import all_modules, missing, warm_up

    if missing(all_modules()):
        click.echo("bolvek: preparing kernels, once on this machine (about a minute) ...", err=True)
        warm_up(all_modules())


def _skip_blas() -> None:
    """Keep Numba from importing scipy.linalg at the first call of a kernel (a quarter of a second).

    It does so to find a BLAS for matrix products inside kernels; there are none in ours.
    """
    if "numba.np.arraymath" in sys.modules or "scipy.linalg" in sys.modules:
        return
    sys.modules["scipy.linalg"] = None  # type: ignore[assignment]
    try:
        import numba.np.arraymath  # noqa: F401
    finally:
        del sys.modules["scipy.linalg"]


def output_beside(model: Path, output: Path | None, verb: str, suffix: str | None = None) -> Path:
    """The file to write: as given, in the folder given, or beside the model with the verb in its name.

    Without a suffix it is the model's own where that can be written, else .stl.
    """
    from bolvek.formats.registry import SUFFIXES

    if suffix is None:
        suffix = model.suffix if model.suffix.lower() in SUFFIXES else ".stl"
    name = f"{model.stem}.{verb}{suffix}"
    if output is None:
        return model.with_name(name)
    return output / name if is_folder(output) else output


def is_folder(output: Path) -> bool:
    """Whether an output names a folder: one that is there, or a name without a suffix."""
    return output.is_dir() or (not output.suffix and not output.exists())


def check_targets(models: Path | Sequence[Path], targets: list[Path | None], *, replace: bool) -> None:
    """Refuse targets that may not be written before the work begins, and two that are the same."""
    from bolvek.formats.safe import check_target

    files = [t for t in targets if t is not None and str(t) != "-"]
    for k, target in enumerate(files):
        check_target(target, [models] if isinstance(models, Path) else models, replace=replace)
        if target.resolve() in [f.resolve() for f in files[:k]]:
            raise FileError(f"{target} was named for two outputs")


def finish(fit: bool) -> None:
    """End the run with the exit code of its verdict."""
    sys.exit(EXIT_SOUND if fit else EXIT_FINDINGS)
