"""Options that verbs share, and what was asked with them."""

from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Any, TypeVar

import click

from bolvek.cli.base.types import BALL, LENGTH, PATH, PICTURE, PLACE
from bolvek.errors import UsageError
from bolvek.units import MILLIMETRES

if TYPE_CHECKING:
    from bolvek.settings.parts import ScaleSettings

F = TypeVar("F", bound=Callable[..., Any])


@dataclass(frozen=True, kw_only=True)
class Asked:
    """The shared options of a run."""

    json_target: Path | None = None
    picture_target: Path | None = None
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
    "-o", "--output", type=PATH, help="File or folder to write; without it beside MODEL, named after the verb."
)
replace_option = click.option("--replace", is_flag=True, help="Write over an existing output.")
unit_option = click.option(
    "--unit",
    type=click.Choice(list(MILLIMETRES)),
    help="Unit of the numbers in MODEL; without it as the file states, else mm.",
)
json_option = click.option("--json", "json_target", type=PATH, metavar="FILE|-", help="Write the record; - is stdout.")
picture_option = click.option("--picture", "picture_target", type=PICTURE, metavar="FILE.png", help="Draw the result.")
details_option = click.option("--details", is_flag=True, help="Everything about every model, no list cut short.")
ascii_option = click.option("--ascii", "ascii_stl", is_flag=True, help="Write an STL as text.")

place_options = options(
    click.option("--show", type=PLACE, help="The side people look at: holes elsewhere where they can be."),
    click.option("--keep-off", type=BALL, multiple=True, help="No hole begins in this ball; repeat for more."),
    click.option("--only-within", type=BALL, multiple=True, help="Holes begin in this ball only; repeat for more."),
)
"""Where holes that place themselves may be."""

to_solid_options = options(
    click.option("--plan", is_flag=True, help="Only tell the way to a solid, and why; write nothing."),
    click.option("--changes", type=PICTURE, metavar="FILE.png", help="Draw what that changed, before and after."),
    click.option("--skin", type=LENGTH, default="1.2mm", show_default=True, help="Thickness of what has none."),
    click.option(
        "--as",
        "taken_as",
        type=click.Choice(["solid", "skin"]),
        help="Open ends that may be either: lids that are missing, or rims of skins.",
    ),
)

reading_options = options(details_option, json_option, picture_option, unit_option, replace_option)
"""Of verbs that look at models."""
writing_options = options(details_option, json_option, picture_option, unit_option, ascii_option, replace_option)
"""Of verbs that write models."""
scaled_options = options(
    click.option("--height", type=LENGTH, help="Measure as if scaled to this height (z)."),
    click.option("--longest", type=LENGTH, help="Measure as if scaled to this longest side."),
    click.option("--by", type=float, metavar="FACTOR", help="Measure as if scaled by this factor."),
)


def scaling_of(height: float | None, longest: float | None, by: float | None) -> "ScaleSettings | None":
    """Scaling as asked with `scaled_options`; None where it was not. Raises UsageError."""
    from bolvek.settings.parts import ScaleSettings

    if (height, longest, by) == (None, None, None):
        return None
    if sum(aim is not None for aim in (height, longest, by)) > 1:
        raise UsageError("give at most one of --height, --longest and --by")
    scaling = ScaleSettings(by=by, height_mm=height, longest_mm=longest)
    scaling.check()
    return scaling
