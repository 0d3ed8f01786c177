"""What is asked about what holds in a build."""

import math
from collections.abc import Iterator
from dataclasses import dataclass

from bolvek.settings.describe import Settings, setting
from bolvek.settings.measures import Making
from bolvek.settings.shape import Ball
from bolvek.units import Triple, length_text

REACH_MM = 1.0
"""How far a layer reaches out over what holds it, unless told otherwise."""
CARRY_MM = 2.0
"""How far from its tip a support holds a layer, unless told otherwise."""
LEAST_PLACE_MM2 = 0.25
"""A smaller place that nothing holds counts only if it hangs as far down as the reach."""


@dataclass(frozen=True, kw_only=True)
class HeldSettings(Settings):
    """angle_deg: what rises at it or steeper holds itself; layer_mm: layer height; up: build direction; reach_mm: the
    most a place may reach out beyond what holds it; bridge_most_mm: the longest bridge (0: none); least_place_mm2: what
    is told at least; carry_mm: how far from a tip its own layer holds; lift_mm: of the model above the bed; pixel_mm:
    of the columns (None: chosen)."""

    angle_deg: float = setting(30.0, unit="degrees", above=0, below=90, help="What rises steeper holds itself.")
    layer_mm: float = setting(0.05, unit="mm", above=0, help="Layer height.")
    up: Triple = setting((0.0, 0.0, 1.0), unit="direction", help="Build direction.")
    reach_mm: float = setting(
        REACH_MM, unit="mm", above=0, help="How far a layer may reach out beyond what holds it, paid back by height."
    )
    bridge_most_mm: float = setting(0.0, unit="mm", least=0, help="The longest bridge; 0 for none.")
    least_place_mm2: float = setting(
        LEAST_PLACE_MM2, unit="mm2", least=0, help="Smaller places count only if they hang as far down as the reach."
    )
    carry_mm: float = setting(
        CARRY_MM, unit="mm", above=0, help="How far around its tip a support holds the layer that begins there."
    )
    lift_mm: float = setting(
        0.0, unit="mm", least=0, help="How high above the bed the model begins; then nothing holds it but supports."
    )
    pixel_mm: float | None = setting(
        None,
        unit="mm",
        above=0,
        help="Width of the columns.",
        none="an eighth of the reach, 0.125mm at most; wider for a very large model",
    )


@dataclass(frozen=True, kw_only=True)
class SupportSettings(Settings):
    """What supports are made of. held: what they have to hold.

    tip_mm, tip_long_mm: of the cone that ends at the model; enter_mm: how deep it goes in, unless gap_mm leaves air
    above a flat pad instead; column_mm: diameter of a column, one longer than `slender` diameters is thicker; lean_deg:
    the most a way leans from the upright; clearance_mm: between the model and all but tips; trunk_mm: how far a column
    leans to another; foot: what columns stand on. density: so many times the tips that are needed. at_mm: places that
    get a tip; show: the side people look at; keep_off: balls without tips; inside: rooms within the model too.
    making: how layers are made, where the time that supports take is told.
    """

    held: HeldSettings = HeldSettings()
    tip_mm: float = setting(0.4, unit="mm", above=0, help="Diameter of a tip where it meets the model.")
    tip_long_mm: float = setting(2.0, unit="mm", above=0, help="Length of the cone from the tip to its column.")
    enter_mm: float = setting(0.15, unit="mm", above=0, help="How deep a tip goes into the model.")
    gap_mm: float = setting(0.0, unit="mm", least=0, help="Air between model and pad; then no tip goes in.")
    column_mm: float = setting(1.0, unit="mm", above=0, help="Diameter of a column at least.")
    slender: float = setting(40.0, least=5, help="A column longer than so many of its diameters gets thicker.")
    lean_deg: float = setting(
        40.0, unit="degrees", least=0, most=60, help="How far a way down leans from the upright at most."
    )
    clearance_mm: float = setting(
        0.4, unit="mm", least=0, help="Between the model and a support, but for the cones of tips."
    )
    trunk_mm: float = setting(
        12.0, unit="mm", least=0, help="How far a column leans to join another; 0: each stands alone."
    )
    foot: str = setting(
        "discs", choices=("discs", "plate", "none"), help="What columns stand on; a plate needs --lift."
    )
    foot_mm: float = setting(0.8, unit="mm", above=0, help="Thickness of a foot.")
    density: float = setting(1.0, least=1, most=16, help="So many times the tips that are needed, by area.")
    at_mm: tuple[Triple, ...] = setting((), help="A place that gets a tip in any case; repeat for more.")
    show: Triple | None = setting(
        None, unit="direction", help="The side people look at: tips elsewhere where another place holds as well."
    )
    keep_off: tuple[Ball, ...] = setting((), help="No tip in this ball; repeat for more.")
    inside: bool = setting(False, help="Support what is inside of rooms of the model too.")
    making: Making | None = None

    def contradictions(self) -> Iterator[str]:
        """Sizes that go with each other."""
        if self.tip_mm > self.column_mm:
            yield (
                f"{{tip_mm}} {length_text(self.tip_mm)} must not be wider than {{column_mm}} "
                f"{length_text(self.column_mm)}"
            )
        least = self.foot_mm + self.clearance_mm
        if self.foot == "plate" and self.held.lift_mm < least and not math.isclose(self.held.lift_mm, least):
            yield f"{{foot}} plate lies under all of the model: it needs a lift of {length_text(least)} at least"
        for _, reach in self.keep_off:
            if not reach > 0:
                yield f"{{keep_off}} needs a radius above 0, not {reach:g} mm"
