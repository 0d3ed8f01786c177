"""What the measuring verbs are asked for."""

import math
from collections.abc import Iterator
from dataclasses import dataclass, field

from bolvek.settings.describe import Settings, setting
from bolvek.units import Triple

KNIFE_DEG = 10.0
"""Sharper edges of material are knife edges."""
HOLE_MM = 0.1
"""Thinner walls print as holes."""
BRIDGE_MOST_MM = 20.0
"""The longest bridge that a filament printer draws, unless told otherwise."""
HABITS = ("stands", "hangs")
"""How a print is built: on the bed, or from the plate."""
MEASURES = ("overhang", "islands", "support", "height", "contact", "standing", "section", "sealed", "show")
"""What build directions are weighed by."""
LEAST_DRAIN_MM, LEAST_WALL_MM = 1.5, 0.8
"""What a way out must let through, and what prints at all, unless a printer says otherwise: a careful small machine."""

_UP = (0.0, 0.0, 1.0)


@dataclass(frozen=True, kw_only=True)
class SurveySettings(Settings):
    """Tolerances; None takes a share of the longest side."""

    near_mm: float | None = setting(
        None,
        unit="mm",
        least=0,
        help="Vertices nearer than this count as doubled.",
        none="1/10,000 of the size, 0.02mm at most",
    )
    sliver_mm: float | None = setting(
        None,
        unit="mm",
        least=0,
        help="Faces lower than this are slivers.",
        none="1/100,000 of the size, 0.001mm at most",
    )
    knife_deg: float = setting(KNIFE_DEG, unit="degrees", least=0, below=90, help="Sharper is a knife edge.")


@dataclass(frozen=True, kw_only=True)
class WallSettings(Settings):
    """min_mm: least wall; gap_mm: least gap across air (None: not asked); hole_mm: a wall below it prints as
    a hole; ball: inscribed balls too, not only rays; spacing_mm: between samples (None: chosen); least_zone_mm2:
    smaller thin places are counted, not judged (None: a disc half as wide as the minimum)."""

    min_mm: float = setting(1.0, unit="mm", above=0, help="Thinnest wall that prints.")
    gap_mm: float | None = setting(None, unit="mm", above=0, help="Also find gaps across air narrower than this.")
    hole_mm: float = setting(HOLE_MM, unit="mm", least=0, help="Thinner walls print as holes.")
    ball: bool = setting(True, help="Rays alone, no inscribed balls: quicker.")
    spacing_mm: float | None = setting(
        None, unit="mm", above=0, help="Distance between places measured.", none="half the least wall"
    )
    least_zone_mm2: float | None = setting(
        None,
        unit="mm2",
        least=0,
        help="Smaller thin places are counted, not judged.",
        none="a disc half a least wall wide",
    )

    @property
    def thin_mm(self) -> float:
        """A wall below this is thin: the minimum less the tolerance that the proof has too."""
        return self.min_mm - wall_tolerance_mm(self.min_mm)

    @property
    def least_zone(self) -> float:
        """The least zone in mm2: a disc half as wide as the minimum, unless one is given."""
        return least_zone_mm2(self.min_mm) if self.least_zone_mm2 is None else self.least_zone_mm2


def least_zone_mm2(wall: float) -> float:
    """Thin places smaller than this are specks: a disc half as wide as the wall."""
    return math.pi / 16 * wall**2


def wall_tolerance_mm(wall: float) -> float:
    """How far a measured wall may fall short of the one asked for: 0.5% or 0.01 mm, the larger."""
    return max(0.005 * wall, 0.01)


@dataclass(frozen=True, kw_only=True)
class OverhangSettings(Settings):
    """angle_deg: faces flatter than this from the horizontal need support; up: build direction; layer_mm:
    layer height; habit: "stands" on the bed (filament) or "hangs" from the plate (resin); bridge_most_mm: the longest
    bridge; spacing_mm: between the samples that measure supports (None: chosen)."""

    angle_deg: float = setting(45.0, unit="degrees", above=0, most=90, help="Faces flatter than this need support.")
    up: Triple = setting(_UP, unit="direction", help="Build direction.")
    layer_mm: float = setting(0.2, unit="mm", above=0, help="Layer height.")
    habit: str = setting("stands", choices=HABITS, help="Stands on the bed (filament), hangs from the plate (resin).")
    bridge_most_mm: float = setting(BRIDGE_MOST_MM, unit="mm", above=0, help="The longest bridge.")
    spacing_mm: float | None = setting(
        None, unit="mm", above=0, help="Distance between places that measure the support.", none="chosen by size"
    )

    @property
    def contact_mm(self) -> float:
        """Half a layer: what lies no higher above the lowest point is on the bed."""
        return 0.5 * self.layer_mm


@dataclass(frozen=True, kw_only=True)
class RankSettings(Settings):
    """count: directions spread over the sphere; weights by measure (None: those of the habit); best: how many to
    tell; show: direction of the side people look at, to be kept free of support."""

    count: int = setting(100, least=1, most=100_000, help="Rank so many directions, and the sides it can stand on.")
    weights: dict[str, float] | None = None
    best: int = setting(5, least=1, most=100, help="How many directions to tell.")
    show: Triple | None = setting(None, unit="direction", help="The side people look at: kept free of support.")

    def contradictions(self) -> Iterator[str]:
        """Weights are for measures there are, none below 0, one at least above it."""
        for name, value in (self.weights or {}).items():
            if name not in MEASURES:
                yield f"there is no measure '{name}' to weigh; known are {', '.join(MEASURES)}"
            if not 0 <= value < float("inf"):
                yield f"the weight of {name} must be 0 or more, not {value:g}"
        if self.weights is not None and not any(self.weights.values()):
            yield "at least one weight must be above 0"


@dataclass(frozen=True, kw_only=True)
class Making:
    """How a layer is made. kind: "resin" or "filament"; times in seconds, None where not known; density g/cm3.

    material: what it is weighed as; price_per_l: of a litre; price_per_kg: of a kilogram. pixel_mm: what the printer
    can tell apart.
    """

    kind: str = "resin"
    material: str = ""
    exposure_s: float | None = None
    first_exposure_s: float | None = None
    first_layers: int = 0
    lift_s: float | None = None
    flow_mm3_s: float | None = None
    layer_change_s: float | None = None
    density_g_cm3: float | None = None
    price_per_l: float | None = None
    price_per_kg: float | None = None
    pixel_mm: float | None = None

    def seconds(self, layers: int, volume_mm3: float) -> float | None:
        """How long it takes, an estimate; None where the times are not known."""
        if self.kind == "resin":
            if self.exposure_s is None:
                return None
            first = min(self.first_layers, layers)
            long = (self.first_exposure_s or self.exposure_s) * first
            return long + self.exposure_s * (layers - first) + (self.lift_s or 0.0) * layers
        if self.flow_mm3_s is None:
            return None
        return volume_mm3 / self.flow_mm3_s + (self.layer_change_s or 0.0) * layers

    def weight_g(self, volume_mm3: float) -> float | None:
        """What it weighs."""
        return None if self.density_g_cm3 is None else self.density_g_cm3 * volume_mm3 / 1000

    def price(self, volume_mm3: float) -> float | None:
        """What its material costs."""
        weight = self.weight_g(volume_mm3)
        if self.price_per_l is not None:
            return self.price_per_l * volume_mm3 / 1e6
        return None if self.price_per_kg is None or weight is None else self.price_per_kg * weight / 1000


@dataclass(frozen=True, kw_only=True)
class LayerSettings(Settings):
    """layer_mm: layer height; up: build direction; pixel_mm: of the columns (None: chosen); least_wall_mm: thinner
    floors and roofs are told; on_plate: it is built on the plate, which closes what is open downward.

    drain_poses: directions held up, one after the other, while it drains (none: as it is built).
    """

    layer_mm: float = setting(0.05, unit="mm", above=0, help="Layer height.")
    up: Triple = setting(_UP, unit="direction", help="Build direction.")
    pixel_mm: float | None = setting(
        None, unit="mm", above=0, help="Width of the columns.", none="about a million of them"
    )
    least_wall_mm: float = setting(
        LEAST_WALL_MM, unit="mm", above=0, help="Thinnest wall that prints: thinner floors and roofs are told."
    )
    on_plate: bool = setting(False, help="Built right on the plate, which closes what is open downward.")
    drain_poses: tuple[Triple, ...] = setting(
        (), unit="direction", help="Direction held up while it drains; repeat for one after the other.", none="as built"
    )
    making: Making = field(default_factory=Making)


@dataclass(frozen=True, kw_only=True)
class ProofSettings(Settings):
    """wall_mm: wall asked for (None: measured, not judged). least_drain_mm: clearance of a way out. allow_closed_mm3:
    a closed void up to this volume is wanted (0: none is). ball_mm: tells rooms from grooves (None: chosen).
    least_wall_mm: what all other material is held against (None: `LEAST_WALL_MM` where a wall is asked for).
    drain_poses: directions held up, one after the other, while it drains (none: as it stands, or else as it drains).
    own_told: what the model's own surface falls short in, thin walls where nothing was made and small chambers of its
    skin, is told and no fault; features_told: so are features thinner than the least wall, of its own."""

    wall_mm: float | None = setting(
        None, unit="mm", above=0, help="Wall that must be there.", none="measured, not judged"
    )
    least_drain_mm: float = setting(LEAST_DRAIN_MM, unit="mm", above=0, help="Clearance every way out must have.")
    allow_closed_mm3: float = setting(0.0, unit="mm3", least=0, help="Closed voids up to this volume are wanted so.")
    ball_mm: float | None = setting(
        None, unit="mm", above=0, help="Diameter that tells a room from a groove; wider than any drain.", none="chosen"
    )
    least_wall_mm: float | None = setting(
        None,
        unit="mm",
        above=0,
        help="Wall that all other material must have, as a fin on a hollow body.",
        none=f"the printer's, else {LEAST_WALL_MM:g}mm",
    )
    drain_poses: tuple[Triple, ...] = setting(
        (),
        unit="direction",
        help="Direction held up while it drains; repeat for one after the other.",
        none="as it stands, or else in the best of many ways",
    )
    own_told: bool = False
    features_told: bool = False

    @property
    def features_mm(self) -> float | None:
        """What material must have that the wall asked for is not meant for, no more than that; without one what all
        must have. None: not judged."""
        if self.wall_mm is None:
            return self.least_wall_mm
        return min(self.least_wall_mm or LEAST_WALL_MM, self.wall_mm)


@dataclass(frozen=True, kw_only=True)
class LookSettings(Settings):
    """What the page of a model as it is measures: walls against least_wall_mm, layers of layer_mm."""

    least_wall_mm: float = setting(1.0, unit="mm", above=0, help="Thinnest wall that prints.")
    layer_mm: float = setting(0.05, unit="mm", above=0, help="Layer height.")


@dataclass(frozen=True, kw_only=True)
class CompareSettings(Settings):
    """spacing_mm: how far apart changed faces are sampled (None: 1/400 of the longest side); within_mm: surfaces that
    are farther apart fall short (None: told only)."""

    spacing_mm: float | None = setting(
        None, unit="mm", above=0, help="Distance between samples.", none="1/400 of the longest side"
    )
    within_mm: float | None = setting(
        None, unit="mm", least=0, help="Deviation allowed: fall short (exit code 1) where it is more."
    )
