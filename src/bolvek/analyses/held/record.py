"""What is told of what holds: plain values."""

from dataclasses import dataclass

from bolvek.settings.supports import HeldSettings
from bolvek.units import Triple


@dataclass(frozen=True)
class UnheldPlace:
    """A place that nothing holds. kind: "island" (it begins in the air) or "ledge" (it reaches out too far from what
    holds); layer: its lowest, from 0; where_mm: its lowest point, height_mm above the lowest of the model; area_mm2:
    what begins without hold, in plan; tall_mm: how much higher all of it holds, or ends."""

    kind: str
    layer: int
    where_mm: Triple
    height_mm: float
    area_mm2: float
    tall_mm: float

    def counts(self, settings: HeldSettings) -> bool:
        """Whether it is told: it has the least area, or hangs as far down as a layer may reach out."""
        return self.area_mm2 >= settings.least_place_mm2 or self.tall_mm >= settings.reach_mm


@dataclass(frozen=True)
class TipPlace:
    """Where the tip of a support would hold: a place of the underside, height_mm above the lowest point."""

    where_mm: Triple
    height_mm: float


@dataclass(frozen=True)
class SupportsNeeded:
    """What supports would take, quickly estimated: tips as they are set before any is taken out again, and the material
    of a straight column under each, which trunks make less."""

    tips: int
    scars_mm2: float
    volume_mm3: float


@dataclass(frozen=True)
class HeldRecord:
    """What holds in a build without supports. pixel_mm: a debt is known to one of these. smaller: places too small to
    be told; places and tips: lowest first. held_by_tips: whether all that is told holds with them, as measured again.
    """

    angle_deg: float
    layer_mm: float
    reach_mm: float
    carry_mm: float
    bridge_most_mm: float
    pixel_mm: float
    held: bool
    islands: int
    ledges: int
    area_mm2: float
    smaller: int
    places: list[UnheldPlace]
    tips: list[TipPlace]
    held_by_tips: bool
