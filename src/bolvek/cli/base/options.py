"""Options that verbs share, and what was asked with them."""

from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path
from typing import Any, TypeVar

import click

from bolvek.cli.base.bind import bound, given
from bolvek.cli.base.types import BALL, OUTPUT, PAGE, PATH, PICTURE, SHEET, TABLE
from bolvek.settings.parts import ScaleSettings
from bolvek.settings.repairs import SolidSettings
from bolvek.settings.shape import PlaceSettings
from bolvek.units import MILLIMETRES

F = TypeVar("F", bound=Callable[..., Any])


@dataclass(frozen=True, kw_only=True)
class Asked:
    """The shared options of a run."""

    json_target: Path | None = None
    picture_target: Path | None = None
    page_target: Path | None = None
    table_target: Path | None = None
    sheet_target: Path | None = None
    jobs: int = 1
    unit: str | None = None
    replace: bool = False
    ascii_stl: bool = False
    details: bool = False

    @property
    def most(self) -> int:
        """How many entries of a list are told."""
        from bolvek.report.words.common import ALL, MOST_LISTED

        return ALL if self.details else MOST_LISTED


def options(*decorators: Callable[[F], F]) -> Callable[[F], F]:
    """Several options as one decorator, listed in the order given."""

    def apply(function: F) -> F:
        for decorator in reversed(decorators):
            function = decorator(function)
        return function

    return apply


models_argument = click.argument("models", type=PATH, metavar="MODEL...", nargs=-1, required=True)
several_models = options(
    models_argument,
    click.option("--jobs", type=click.IntRange(1), default=1, metavar="N", help="Work on so many models at once."),
    click.option(
        "--table", "table_target", type=TABLE, metavar="FILE", help="Write a row a model: .csv, .jsonl or .md."
    ),
    click.option(
        "--as-sheet",
        "sheet_target",
        type=SHEET,
        metavar="FILE.toml",
        help="Only write the job sheet that does the same, for 'bolvek run'.",
    ),
)
"""Of verbs that work on each of several models."""
material_option = click.option(
    "--material",
    metavar="NAME",
    help="What to weigh it in ('bolvek profiles' lists them); without it the first of the printer's kind: "
    "standard-resin, or plain-filament.",
)
printer_option = click.option(
    "--printer", metavar="NAME", help="Take limits from a printer; 'bolvek profiles' lists them."
)
output_option = click.option(
    "-o",
    "--output",
    type=OUTPUT,
    metavar="PATH",
    help="File, or folder/, to write; without it beside MODEL, named after the verb.",
)
replace_option = click.option("--replace", is_flag=True, help="Write over an existing output.")
unit_option = click.option(
    "--unit",
    type=click.Choice(list(MILLIMETRES)),
    help="Unit of the numbers in MODEL; without it as the file states, else mm.",
)
json_option = click.option("--json", "json_target", type=PATH, metavar="FILE|-", help="Write the record; - is stdout.")
picture_option = click.option("--picture", "picture_target", type=PICTURE, metavar="FILE.png", help="Draw the result.")
page_option = click.option(
    "--page",
    "page_target",
    type=PAGE,
    metavar="FILE.html",
    help="Write a page: the result to turn, cut open and measure in a browser, with the report.",
)
details_option = click.option("--details", is_flag=True, help="Everything about every model, no list cut short.")
ascii_option = click.option("--ascii", "ascii_stl", is_flag=True, help="Write an STL as text.")

place_options = options(
    bound("--show", PlaceSettings, "show"),
    bound("--keep-off", PlaceSettings, "keep_off", type=BALL, several=True),
    bound("--only-within", PlaceSettings, "only_within", type=BALL, several=True),
)
"""Where holes that place themselves may be."""

to_solid_options = options(
    click.option("--plan", is_flag=True, help="Only tell the way to a solid, and why; write nothing."),
    click.option("--changes", type=PICTURE, metavar="FILE.png", help="Draw what that changed, before and after."),
    bound("--skin", SolidSettings, "skin_mm"),
    bound("--as", SolidSettings, "taken_as"),
)

reading_options = options(details_option, json_option, picture_option, page_option, unit_option, replace_option)
"""Of verbs that look at models."""
writing_options = options(
    details_option, json_option, picture_option, page_option, unit_option, ascii_option, replace_option
)
"""Of verbs that write models."""
scaled_options = options(
    bound("--height", ScaleSettings, "height_mm", help="Measure as if scaled to this height (z)."),
    bound("--longest", ScaleSettings, "longest_mm", help="Measure as if scaled to this longest side."),
    bound("--by", ScaleSettings, "by", type=float, metavar="FACTOR", help="Measure as if scaled by this factor."),
)
"""For verbs that measure models at a size that they are to have."""


def scaling_of(values: dict[str, Any]) -> ScaleSettings | None:
    """Scaling as asked with `scaled_options`, taken out of what was given; None where it was not. Raises UsageError."""
    aims = {name: given(ScaleSettings, name, values) for name in ("height_mm", "longest_mm", "by")}
    if all(aim is None for aim in aims.values()):
        return None
    scaling = ScaleSettings(**aims)
    scaling.check()
    return scaling
