"""Tables made from the code (`make docs`): docs/options.md, and the lists of verdicts and codes in docs/formats.md.

`python docs/make.py [FOLDER]` writes both files into a folder, docs/ without one.
"""

import importlib
import sys
from pathlib import Path

from bolvek.analyses.finding import CODES, VERDICTS
from bolvek.cli.verbs import VERBS

HEAD = """# Options

Every option of every verb, made from the settings themselves with `make docs`. What each does in full
stands in [commands.md](commands.md); `bolvek VERB -h` shows the same.
"""
SHARED = ("--details", "--json", "--picture", "--unit", "--ascii", "--replace", "--output", "--help")


def table() -> str:
    """The page."""
    parts = [HEAD, "\n## Options that most verbs have\n\n| option | what it does |\n|---|---|\n"]
    parts += sorted({row for verb in VERBS for name, row in _rows(verb) if name in SHARED})
    for verb in VERBS:
        own = [row for name, row in _rows(verb) if name not in SHARED]
        if own:
            parts.append(f"\n## `{verb}`\n\n| option | what it does |\n|---|---|\n{''.join(own)}")
    return "".join(parts)


def _rows(verb: str) -> list[tuple[str, str]]:
    """The long name of each option of a verb, and its row."""
    found = []
    for param in importlib.import_module(f"bolvek.cli.{verb}").command.params:
        text = getattr(param, "help", None)
        if text is None:
            continue
        names = ", ".join(f"`{name}`" for name in param.opts)
        kind = "" if param.is_flag else f" `{param.make_metavar(_CONTEXT)}`"
        default = f" [default: {param.default}]" if param.show_default and param.default is not None else ""
        cell = f"{names}{kind} | {text}{default}".replace("|", "\\|").replace(" \\| ", " | ", 1)
        found.append((param.opts[-1], f"| {cell} |\n"))
    return found


class _NoContext:
    """What a metavar asks of a context."""

    token_normalize_func = None


_CONTEXT = _NoContext()


def lists() -> str:
    """Every verdict, and every code of a finding."""
    rows = ["| verdict | `ok` | when |", "|---|---|---|"]
    rows += [f"| {word} | {'yes' if ok else 'no'} | {text} |" for word, (ok, text) in VERDICTS.items()]
    rows += ["", "| code | severity | what |", "|---|---|---|"]
    rows += [f"| `{code}` | {' or '.join(kinds)} | {text} |" for code, (kinds, text) in CODES.items()]
    return "\n".join(rows)


def with_lists(page: str) -> str:
    """A page with the lists between its two marks."""
    before, rest = page.split(BEGIN)
    return f"{before}{BEGIN}\n\n{lists()}\n\n{END}{rest.split(END)[1]}"


BEGIN, END = "<!-- made with `make docs` -->", "<!-- end of what is made -->"

if __name__ == "__main__":
    home = Path(__file__).parent
    folder = Path(sys.argv[1]) if len(sys.argv) > 1 else home
    (folder / "options.md").write_text(table())
    (folder / "formats.md").write_text(with_lists((home / "formats.md").read_text()))
