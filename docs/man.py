"""Manual pages from the commands themselves: `python docs/man.py FOLDER` writes bolvek.1 and one for each verb."""

import importlib
import re
import sys
from pathlib import Path

import click

from bolvek import __version__
from bolvek.cli.main import cli
from bolvek.cli.verbs import VERBS


def pages() -> dict[str, str]:
    """The page of the program and of each verb, by file name."""
    found = {"bolvek.1": _page("bolvek", "a triangle model, taken to a print that is proven fit", cli, cli.help or "")}
    rows = "".join(f".TP\n.B {name}\n{_plain(verb.text)}\n" for name, verb in VERBS.items())
    more = ", ".join(f"\\fBbolvek\\-{name}\\fR(1)" for name in VERBS)
    found["bolvek.1"] += f".SH VERBS\n{rows}.SH SEE ALSO\n{more}\n"
    for name, verb in VERBS.items():
        command = importlib.import_module(f"bolvek.cli.{name}").command
        page = _page(f"bolvek-{name}", verb.text, command, command.help or "")
        found[f"bolvek-{name}.1"] = page + ".SH SEE ALSO\n\\fBbolvek\\fR(1)\n"
    return found


def _page(name: str, text: str, command: click.Command, help_text: str) -> str:
    context = click.Context(command, info_name=name.replace("-", " "))
    usage = " ".join(command.collect_usage_pieces(context))
    out = [f'.TH "{name.upper()}" "1" "" "bolvek {__version__}" ""\n.SH NAME\n{_plain(name)} \\- {_plain(text)}\n']
    out.append(f".SH SYNOPSIS\n.B {_plain(name.replace('-', ' '))}\n{_plain(usage)}\n.SH DESCRIPTION\n")
    for part in help_text.split("\n\n"):
        as_it_stands = part.strip().startswith("\b")
        body = "\n".join(_plain(line.strip()) for line in part.replace("\b", "").strip().splitlines())
        out.append(f".PP\n.nf\n{body}\n.fi\n" if as_it_stands else f".PP\n{body}\n")
    options = [p.get_help_record(context) for p in command.params if isinstance(p, click.Option)]
    if options:
        out.append(".SH OPTIONS\n")
        out += [f".TP\n.B {_plain(names)}\n{_plain(does)}\n" for names, does in filter(None, options)]
    return "".join(out)


def _plain(text: str) -> str:
    """Text that no macro takes for its own."""
    return re.sub(r"^(?=[.'])", r"\\&", text.replace("\\", r"\e").replace("-", r"\-"), flags=re.MULTILINE)


if __name__ == "__main__":
    folder = Path(sys.argv[1])
    folder.mkdir(parents=True, exist_ok=True)
    for file, page in pages().items():
        (folder / file).write_text(page)
