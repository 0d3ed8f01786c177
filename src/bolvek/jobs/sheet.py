"""Job sheets: models, steps by verb with that verb's options, and where everything goes; data, not a language.

A sheet is TOML. Steps hold options under the names of the command line, dashes as underscores. What is wrong is told
with the sheet, the line and the key.
"""

import difflib
import re
import tomllib
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import Any

from bolvek.analyses.soundness import find_defects
from bolvek.errors import FileError
from bolvek.formats.kinds import FORMATS
from bolvek.jobs.files import expand
from bolvek.mesh import Mesh

VERSION = 1
Options = dict[str, Any]

WHEN: dict[str, Callable[[Mesh], bool]] = {
    "sound": lambda mesh: not find_defects(mesh),
    "not_sound": lambda mesh: bool(find_defects(mesh)),
    "open": lambda mesh: mesh.topology.open_edges > 0,
    "hollow": lambda mesh: mesh.topology.sound and bool((mesh.shell_volumes < 0).any()),
    "several_shells": lambda mesh: mesh.topology.shells > 1,
}
"""When a step may be asked for, by what the model is before it."""

_KEYS = ("bolvek", "models", "output", "table", "record", "page", "unit", "ascii", "step", "model")


@dataclass(frozen=True)
class SheetStep:
    """One step: the verb, its options, when it is taken ("": always), and the line it begins on."""

    verb: str
    options: Options
    when: str = ""
    line: int = 0


@dataclass(frozen=True, kw_only=True)
class Sheet:
    """What a sheet says; paths are as they are written, relative to its folder. exceptions: by the name of a model,
    then by verb."""

    path: Path
    models: tuple[str, ...]
    steps: tuple[SheetStep, ...]
    output: str
    table: str | None = None
    record: str | None = None
    page: str | None = None
    unit: str | None = None
    ascii: bool = False
    exceptions: dict[str, dict[str, Options]] = field(default_factory=dict)

    def at(self, name: str) -> Path:
        """A path of the sheet."""
        return self.path.parent / name

    def files(self) -> list[Path]:
        """The models: files, folders, globs, sorted within each. Raises FileError where one names nothing."""
        found: list[Path] = []
        for name in self.models:
            if any(c in name for c in "*?["):
                some = sorted(p for p in self.path.parent.glob(name) if p.suffix.lower() in FORMATS and p.is_file())
                if not some:
                    raise FileError(f"{self.path}, models: '{name}' names no model")
                found += some
            else:
                found.append(self.at(name))
        return expand(found)

    def asked(self, file: Path) -> list[SheetStep]:
        """The steps of one model, with what the sheet says of it alone."""
        own = self.exceptions.get(file.name, {}) | self.exceptions.get(file.stem, {})
        return [
            SheetStep(s.verb, s.options | own.get(s.verb, {}), s.when, s.line) if s.verb in own else s
            for s in self.steps
        ]

    def of(self, file: Path) -> "Sheet":
        """The sheet of one model, without the others."""
        own = {name: own for name, own in self.exceptions.items() if name in (file.name, file.stem)}
        return replace(self, models=(str(file),), exceptions=own)


def read_sheet(path: Path, verbs: Sequence[str]) -> Sheet:
    """A sheet of these verbs. Raises FileError: what is wrong, on which line, and what would be right."""
    try:
        text = path.read_text(encoding="utf-8")
        tree = tomllib.loads(text)
    except OSError as error:
        raise FileError(f"{path} cannot be read: {error.strerror or error}") from None
    except (UnicodeDecodeError, tomllib.TOMLDecodeError) as error:
        raise FileError(f"{path} is no job sheet: {error}") from None
    lines = text.splitlines()

    def wrong(key: str, what: str, begin: int = 0) -> FileError:
        return FileError(f"{path}, line {_line(lines, key, begin)}: {what}")

    def near(word: str, known: Sequence[str]) -> str:
        close = difflib.get_close_matches(word, known, 1)
        return f"; did you mean '{close[0]}'?" if close else f"; it takes {', '.join(known)}"

    for key in tree:
        if key not in _KEYS:
            raise wrong(key, f"'{key}' is nothing that a sheet says{near(key, _KEYS)}")
    if tree.get("bolvek") != VERSION:
        raise wrong("bolvek", f"a job sheet begins with 'bolvek = {VERSION}'")
    models = tree.get("models")
    models = [models] if isinstance(models, str) else models
    if not isinstance(models, list) or not models or not all(isinstance(m, str) for m in models):
        raise wrong("models", "'models' names files, folders or patterns, as in models = [\"in/*.stl\"]")
    for key in ("output", "table", "record", "page", "unit"):
        if not isinstance(tree.get(key, ""), str):
            raise wrong(key, f"'{key}' is a text")
    if not isinstance(tree.get("ascii", False), bool):
        raise wrong("ascii", "'ascii' is true or false")
    asked = tree.get("step", [])
    if not isinstance(asked, list) or not asked:
        raise wrong("step", "a sheet has steps: [[step]] with a verb")
    begins = [k for k, line in enumerate(lines) if re.match(r"\s*\[\[\s*step\s*\]\]", line)]
    steps = []
    for number, one in enumerate(asked):
        begin = begins[number] if number < len(begins) else 0
        options = dict(one)
        verb, when = options.pop("verb", None), options.pop("when", "")
        if verb not in verbs:
            raise wrong("verb", f"step {number + 1} needs a verb{near(str(verb or ''), verbs)}", begin)
        if when and when not in WHEN:
            raise wrong("when", f"'{when}' is no condition{near(str(when), tuple(WHEN))}", begin)
        steps.append(SheetStep(verb, options, when, begin + 1))
    exceptions = tree.get("model", {})
    taken = {s.verb for s in steps}
    for name, own in exceptions.items():
        for verb in own:
            if verb not in taken:
                raise wrong(
                    f"model.{name}.{verb}", f"'{verb}' of the model {name} is no step{near(verb, sorted(taken))}"
                )
    return Sheet(
        path=path,
        models=tuple(models),
        steps=tuple(steps),
        output=tree.get("output", "out/"),
        table=tree.get("table"),
        record=tree.get("record"),
        page=tree.get("page"),
        unit=tree.get("unit"),
        ascii=tree.get("ascii", False),
        exceptions=exceptions,
    )


def _line(lines: list[str], key: str, begin: int) -> int:
    """The number of the line that a key stands on, from a line on; 1 where it stands nowhere."""
    for k in range(begin, len(lines)):
        if re.match(rf"\s*\[*\s*{re.escape(key)}\b", lines[k].replace('"', "")):
            return k + 1
    return begin + 1


def sheet_text(
    models: Sequence[str], verb: str, options: Options, output: str | None, **more: str | bool | None
) -> str:
    """The sheet of one step."""
    lines = [f"bolvek = {VERSION}", f"models = [{', '.join(map(_toml, models))}]"]
    lines += [f"{name} = {_toml(value)}" for name, value in {"output": output, **more}.items() if value]
    lines += ["", "[[step]]", f"verb = {_toml(verb)}", *(f"{name} = {_toml(value)}" for name, value in options.items())]
    return "\n".join(lines) + "\n"


def _toml(value: Any) -> str:
    if isinstance(value, bool):
        return "true" if value else "false"
    if isinstance(value, list):
        return f"[{', '.join(map(_toml, value))}]"
    if isinstance(value, int | float):
        return str(value)
    escaped = "".join(f"\\u{ord(c):04x}" if ord(c) < 32 or c in '"\\' else c for c in str(value))
    return f'"{escaped}"'
