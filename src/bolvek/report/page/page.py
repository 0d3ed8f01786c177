"""The page as HTML: words and stills laid out by a template, styles and scripts of our own allowed by their hash."""

import base64
import hashlib
import json
import os
import time
from collections.abc import Sequence
from functools import cache
from importlib import resources
from typing import Any

from jinja2 import Environment, StrictUndefined
from markupsafe import Markup

from bolvek import __version__
from bolvek.report.page.entry import Entry
from bolvek.report.pictures import palette

SCRIPTS = (
    "unpack.js",
    "camera.js",
    "colours.js",
    "shaders.js",
    "scene.js",
    "measure.js",
    "places.js",
    "panels.js",
    "viewer.js",
    "index.js",
)
"""In the order in which they need each other; the page carries them as one."""


def page_bytes(
    entries: Sequence[Entry], failed: Sequence[tuple[str, str]] = (), *, verb: str, links: Sequence[str] = ()
) -> bytes:
    """One page with every model; of several, an index comes first. failed: files that nothing could be made of; links:
    an index alone, its rows leading to these pages."""
    script, style = _script(), _read("page.css")
    about = [
        {"id": f"model-{k}", "verdict": e.verdict, "ok": e.ok, "name": e.name, **e.scene}
        for k, e in enumerate(entries, 1)
    ]
    html = _template().render(
        entries=entries,
        failed=failed,
        links=links,
        verb=verb,
        version=__version__,
        date=_date(),
        style=Markup(style),
        script=Markup(script),
        policy=_policy(script, style),
        data=Markup(_json({"models": [] if links else about, "look": _look()})),
    )
    return html.encode()


def _policy(script: str, style: str) -> str:
    """Only our own script and style, and pictures that the page carries."""
    hashes = [base64.b64encode(hashlib.sha256(text.encode()).digest()).decode() for text in (script, style)]
    return (
        f"default-src 'none'; script-src 'sha256-{hashes[0]}'; style-src 'sha256-{hashes[1]}'; img-src data:; "
        "base-uri 'none'; form-action 'none'"
    )


def _json(value: Any) -> str:
    """JSON that can stand in a script element: nothing in it ends the element or begins a comment."""
    text = json.dumps(value, allow_nan=False, ensure_ascii=False, separators=(",", ":"))
    return text.replace("<", "\\u003c").replace(">", "\\u003e").replace("&", "\\u0026")


def _look() -> dict[str, Any]:
    """The colours of pictures, for the view."""

    def light(colour: tuple[float, float, float]) -> list[float]:
        return [round(float(c) ** (1 / 1.6), 4) for c in colour]

    steps, colours = palette.wall_steps()
    return {
        "outside": light(palette.OUTSIDE),
        "inside": light(palette.INSIDE),
        "plain": light(palette.PLAIN),
        "cut": light(palette.CUT),
        "cutDark": light(palette.CUT_DARK),
        "wet": light(palette.WET),
        "steps": list(steps),
        "colours": list(colours),
    }


def _date() -> str:
    """Today, or the day that SOURCE_DATE_EPOCH names, for pages that are to come out the same."""
    return time.strftime("%Y-%m-%d", time.gmtime(int(os.environ.get("SOURCE_DATE_EPOCH") or time.time())))


@cache
def _read(name: str) -> str:
    return (resources.files("bolvek.report.page") / "web" / name).read_text(encoding="utf-8")


@cache
def _script() -> str:
    return '"use strict";\n' + "\n".join(_read(name) for name in SCRIPTS)


@cache
def _template() -> Any:
    environment = Environment(autoescape=True, undefined=StrictUndefined, trim_blocks=True, lstrip_blocks=True)
    return environment.from_string(_read("page.html"))
