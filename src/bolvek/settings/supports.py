"""What is asked about what holds in a build."""

from dataclasses import dataclass

from bolvek.settings.describe import Settings, setting
from bolvek.units import Triple

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
    is told at least; carry_mm: how far from a tip its own layer holds; pixel_mm: of the columns (None: chosen)."""

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
    pixel_mm: float | None = setting(
        None,
        unit="mm",
        above=0,
        help="Width of the columns.",
        none="an eighth of the reach, 0.125mm at most; wider for a very large model",
    )
