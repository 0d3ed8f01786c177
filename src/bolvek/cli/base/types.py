"""Types of options: lengths, places and volumes with their units."""

import os
from collections.abc import Callable
from pathlib import Path
from typing import Any

import click

from bolvek.errors import UsageError
from bolvek.units import parse_length, parse_point, parse_volume


class Parsed(click.ParamType):  # type: ignore[type-arg, unused-ignore]
    """What a parser makes of the text; its UsageError is the message."""

    def __init__(self, name: str, parse: Callable[[str], Any]) -> None:
        self.name, self.parse = name, parse

    def convert(self, value: Any, param: click.Parameter | None, ctx: click.Context | None) -> Any:
        """The value, parsed unless it is already."""
        if not isinstance(value, str):
            return value
        try:
            return self.parse(value)
        except UsageError as error:
            self.fail(str(error), param, ctx)


LENGTH = Parsed("LENGTH", parse_length)
"""A length with a unit, as millimetres."""
PLACE = Parsed("X,Y,Z", parse_point)
"""Three lengths with commas, as millimetres."""
VOLUME = Parsed("VOLUME", parse_volume)
"""A volume with a unit, as cubic millimetres."""


def parse_ball(text: str) -> tuple[tuple[float, float, float], float]:
    """A point and a radius, as in "10,0,5:8mm"."""
    place, colon, radius = text.partition(":")
    if not colon:
        raise UsageError(f"'{text}' is not a ball: write a point and a radius, as in 10,0,5:8mm")
    return parse_point(place), parse_length(radius)


def parse_tilt(text: str) -> tuple[float, float]:
    """Degrees, and the direction to lean to, from "30" or "30,90"."""
    try:
        numbers = [float(w) for w in text.split(",")]
    except ValueError:
        numbers = []
    if len(numbers) not in (1, 2):
        raise UsageError(f"a tilt is DEGREES or DEGREES,TOWARDS; found '{text}'")
    return numbers[0], numbers[1] if len(numbers) == 2 else 0.0


TILT = Parsed("DEG[,TOWARDS]", parse_tilt)
"""A lean by degrees, and the direction of it counted from +x."""
BALL = Parsed("X,Y,Z:R", parse_ball)
"""A point and a radius, as millimetres."""
PATH = click.Path(path_type=Path)


class SuffixPath(click.Path):
    """A file whose suffix is known: what is written as it, in the plural, and the suffixes that it may have."""

    def __init__(self, what: str, *suffixes: str) -> None:
        super().__init__(path_type=Path)
        self.what, self.suffixes = what, suffixes

    def convert(self, value: Any, param: click.Parameter | None, ctx: click.Context | None) -> Any:
        """The path."""
        found = Path(os.fsdecode(super().convert(value, param, ctx)))
        if found.suffix.lower() not in self.suffixes:
            self.fail(f"{found}: {self.what} are written as {' or '.join(self.suffixes)}", param, ctx)
        return found


class FolderPath(type(Path())):  # type: ignore[misc]
    """A path that was written with a slash at its end: a folder, whatever its name."""


class OutputPath(click.Path):
    """A file or a folder to write to."""

    def convert(self, value: Any, param: click.Parameter | None, ctx: click.Context | None) -> Any:
        """The path, a `FolderPath` where a slash ends it."""
        text = os.fsdecode(super().convert(value, param, ctx))
        return FolderPath(text) if text.endswith(("/", os.sep)) else Path(text)


OUTPUT = OutputPath()
"""Where models go."""
PICTURE = SuffixPath("pictures", ".png")
"""Where a picture goes."""
PAGE = SuffixPath("pages", ".html")
"""Where a page goes."""
TABLE = SuffixPath("tables", ".csv", ".jsonl", ".md")
"""Where a table goes."""
SHEET = SuffixPath("job sheets", ".toml")
"""Where a job sheet goes."""
