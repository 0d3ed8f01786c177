"""Options about the build direction and what it is weighed by, for every verb that asks."""

from typing import TYPE_CHECKING

import click

from bolvek.cli.base.options import options
from bolvek.cli.base.types import LENGTH, PLACE
from bolvek.errors import UsageError

if TYPE_CHECKING:
    from bolvek.settings.measures import OverhangSettings


def settings_for(
    printer: str | None,
    *,
    angle: float | None = None,
    up: tuple[float, float, float] = (0.0, 0.0, 1.0),
    layer: float | None = None,
    habit: str | None = None,
    bridge_most: float | None = None,
    spacing: float | None = None,
) -> "OverhangSettings":
    """Settings as given, else as the printer has them, else for a filament printer of 45 degrees and 0.2 mm."""
    from bolvek.profiles import load_profiles
    from bolvek.settings.measures import BRIDGE_MOST_MM, OverhangSettings

    if printer is not None:
        known = load_profiles().printer(printer)
        angle = known.overhang_deg if angle is None else angle
        layer = known.layer_mm if layer is None else layer
        habit = habit or ("hangs" if known.kind == "resin" else "stands")
        bridge_most = known.bridge_most_mm if bridge_most is None else bridge_most
    return OverhangSettings(
        angle_deg=45.0 if angle is None else angle,
        up=up,
        layer_mm=0.2 if layer is None else layer,
        habit=habit or "stands",
        bridge_most_mm=BRIDGE_MOST_MM if bridge_most is None else bridge_most,
        spacing_mm=spacing,
    )


def weights_for(texts: tuple[str, ...], habit: str, *, show: bool) -> dict[str, float] | None:
    """Weights of the comparison: those given over those of the habit; None where none is given."""
    from bolvek.analyses.overhangs.directions import WEIGHTS

    if not texts:
        return None
    weights = dict(WEIGHTS[habit]) | ({"show": 1.0} if show else {})
    for text in texts:
        name, _, value = text.partition("=")
        try:
            weights[name.strip()] = float(value)
        except ValueError:
            raise UsageError(f"--weigh takes MEASURE=NUMBER, as in support=2; found '{text}'") from None
    return weights


angle_option = click.option("--angle", type=float, metavar="DEGREES", help="Faces flatter than this need support (45).")
layer_option = click.option("--layer", type=LENGTH, help="Layer height (0.2 mm, or the printer's).")
habit_option = click.option(
    "--habit",
    type=click.Choice(["stands", "hangs"]),
    help="Stands on the bed (filament), hangs from the plate (resin).",
)
bridge_option = click.option("--bridge-most", type=LENGTH, help="The longest bridge (20 mm, or the printer's).")
weigh_option = click.option(
    "--weigh",
    multiple=True,
    metavar="MEASURE=N",
    help="overhang, islands, support, height, contact, standing, section, sealed or show; repeat.",
)
show_option = click.option("--show", type=PLACE, help="The side people look at: kept free of support.")
direction_options = options(angle_option, layer_option, habit_option, bridge_option, weigh_option, show_option)
"""What a build direction is judged by."""
