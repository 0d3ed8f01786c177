"""What hollowing, draining and the whole way are asked for."""

import math
from collections.abc import Iterator
from dataclasses import dataclass, replace

from bolvek.settings.describe import Settings, setting
from bolvek.settings.measures import LEAST_DRAIN_MM, LEAST_WALL_MM
from bolvek.settings.parts import ScaleSettings
from bolvek.settings.repairs import MendSettings, SolidSettings
from bolvek.units import Triple, length_text, point_text

Ball = tuple[Triple, float]

CELLS, CORE_CELLS = 30_000, 90_000
"""Lattice cells that the surface of a cavity, and of its core, may take before they get coarser than `FINEST`."""
FINEST, COARSEST, CORE_COARSEST = 0.25, 0.45, 0.4
"""Cells as shares of the wall."""
WORTH_SHARE, WORTH_MM3 = 0.03, 300.0
"""A cavity of less than this share of its part, or of less than this, is not worth the holes that drain it."""
CELLS_A_WALL = math.sqrt(3.0)
"""A wall must be more than so many cells, the diagonal of one, so that no brick of a lattice holds both its sides."""


@dataclass(frozen=True, kw_only=True)
class HollowSettings(Settings):
    """Wall, lattice cell (None: see `cell_mm`) and least width of the cavity (None: as wide as the wall; 0: any) in mm;
    slim the inner shell or not; hollow small pockets too. least_mm3: what a cavity has at least, or it stays solid
    (None: any may be), worth_share: what share of its part's volume. plugs_mm: balls (x, y, z, radius) that stay
    solid, to close a neck of the cavity."""

    wall_mm: float = setting(unit="mm", above=0, help="Wall to leave.")
    grid_mm: float | None = setting(
        None,
        unit="mm",
        above=0,
        help="Lattice cell of the cavity.",
        none="0.25 to 0.45 of the wall, or finer on small models",
    )
    slim: bool = setting(True, help="Keep all triangles of the inner shell.")
    keep_pockets: bool = setting(False, help="Hollow small pockets too instead of leaving them solid.")
    room_mm: float | None = setting(
        None,
        unit="mm",
        least=0,
        help="Least width of the cavity; 0 takes what there is.",
        none="as wide as the wall",
    )
    least_mm3: float | None = setting(
        None,
        unit="mm3",
        least=0,
        help="Smallest cavity worth having; smaller ones stay solid.",
        none="any",
    )
    worth_share: float = 0.0
    plugs_mm: tuple[tuple[float, float, float, float], ...] = ()

    @property
    def least_room_mm(self) -> float:
        """How wide the cavity is at least."""
        return self.wall_mm if self.room_mm is None else self.room_mm

    def cell_mm(self, longest_mm: float, area_mm2: float) -> float:
        """The lattice cell of the cavity's surface: as given, else a quarter of the wall, coarser where that would take
        more than `CELLS` cells, and at least 40 along the longest side of the model."""
        return self._cell(longest_mm, area_mm2, CELLS, COARSEST)

    def core_cell_mm(self, longest_mm: float, area_mm2: float) -> float:
        """The lattice cell on which it is found where the cavity may be: its narrow places need it finer."""
        return self._cell(longest_mm, area_mm2, CORE_CELLS, CORE_COARSEST)

    def _cell(self, longest: float, area: float, cells: int, coarsest: float) -> float:
        if self.grid_mm is not None:
            return self.grid_mm
        usual = min(max(math.sqrt(area / cells), FINEST * self.wall_mm), coarsest * self.wall_mm)
        return min(usual, longest / 40)

    def contradictions(self) -> Iterator[str]:
        """A wall takes some cells."""
        most = self.wall_mm / CELLS_A_WALL * 0.999
        if self.grid_mm is not None and self.grid_mm > most:
            yield (
                f"{{grid_mm}} {length_text(self.grid_mm)} is too coarse for a wall of {length_text(self.wall_mm)}: "
                f"at most {length_text(most)}"
            )


@dataclass(frozen=True, kw_only=True)
class PlaceSettings(Settings):
    """Holes a cavity (one: lowest; two: lowest and highest; more: the next lowest), diameter, up; least_mm: smaller
    holes are tried down to this (None: none are); wall_mm: what must be left beside a hole (None: not looked at).

    show: the side people look at; keep_off, only_within: balls (middle, radius in mm) in which no hole may begin, or in
    one of which it must.
    """

    count: int = setting(2, least=0, most=20, help="Holes a cavity: lowest point, vent, next lowest; 0: none.")
    diameter_mm: float = setting(3.5, unit="mm", above=0, help="Diameter of the holes.")
    up: Triple = setting((0.0, 0.0, 1.0), unit="direction", help="Direction held up while it drains.")
    least_mm: float | None = None
    wall_mm: float | None = None
    show: Triple | None = setting(
        None, unit="direction", help="The side people look at: holes elsewhere where they can be."
    )
    keep_off: tuple[Ball, ...] = setting((), help="No hole begins in this ball; repeat for more.")
    only_within: tuple[Ball, ...] = setting((), help="Holes begin in this ball only; repeat for more.")

    def contradictions(self) -> Iterator[str]:
        """Balls have a radius."""
        for name, balls in (("keep_off", self.keep_off), ("only_within", self.only_within)):
            for _, reach in balls:
                if not 0 < reach < math.inf:
                    yield f"{{{name}}} needs a radius above 0, not {reach:g} mm"


@dataclass(frozen=True, kw_only=True)
class PlugSettings(Settings):
    """clearance_mm: how much narrower than the hole, all around; taper_deg: how much it narrows inward, each side."""

    clearance_mm: float = setting(0.1, unit="mm", least=0, help="Of a plug, all around.")
    taper_deg: float = setting(2.0, unit="degrees", least=0, most=30, help="Of a plug, inward.")
    sides: int = 48


@dataclass(frozen=True)
class Drain(Settings):
    """One hole: a point on or near the outside, diameter across its corners (mm).

    toward: a point the axis aims at (None: square into the surface). depth_mm: length of a blind
    hole (None: through the wall into the cavity), least_skin_mm: what it leaves before its end at least.
    """

    at_mm: Triple
    diameter_mm: float = setting(3.5, unit="mm", above=0, help="Diameter, once for all holes or once a hole.")
    toward_mm: Triple | None = setting(None, help="Point to aim at.", none="square into the surface")
    depth_mm: float | None = setting(None, unit="mm", above=0, help="Length of a blind hole.", none="through the wall")
    least_skin_mm: float = LEAST_WALL_MM

    def contradictions(self) -> Iterator[str]:
        """It aims at another place than its own."""
        if self.toward_mm is not None and math.dist(self.toward_mm, self.at_mm) < 1e-9:
            yield f"{{toward_mm}} {point_text(self.toward_mm)} is the drain's own place: name another point"


@dataclass(frozen=True, kw_only=True)
class DrainSettings(Settings):
    """The holes to cut in one go, and the number of sides of each."""

    drains: tuple[Drain, ...] = setting(help="On or near the outside; repeat for more holes.")
    sides: int = setting(32, least=3, most=256, help="Sides of each hole.")

    def contradictions(self) -> Iterator[str]:
        """At least one hole."""
        if not self.drains:
            yield "no drain was asked for: name at least one place with {drains}"


@dataclass(frozen=True, kw_only=True)
class AutoSettings(Settings):
    """place: the holes and where they may be (its count is not used); most: holes a room (None: as many as it takes);
    wall_mm: the wall that holds liquid apart, for the pixels; closed_only: only voids without a way out are rooms, as
    in a model that was just hollowed."""

    place: PlaceSettings
    most: int | None = setting(
        None,
        least=1,
        most=20,
        help="Find the places by flooding: as many holes as it takes, or so many a cavity at most.",
    )
    least_drain_mm: float = LEAST_DRAIN_MM
    wall_mm: float = LEAST_WALL_MM
    closed_only: bool = False


@dataclass(frozen=True, kw_only=True)
class PrepSettings(Settings):
    """Scale (None: as it is), mend (None: as it is), make a solid (None: as it is), hollow and drains; least drain and
    least wall (mm) of the printer. strict: what the model's own surface falls short in is a fault too. auto: places and
    number of the holes are found by flooding."""

    hollow: HollowSettings
    drains: PlaceSettings
    auto: bool = False
    scale: ScaleSettings | None = None
    mend: MendSettings | None = None
    solid: SolidSettings | None = None
    least_drain_mm: float = setting(LEAST_DRAIN_MM, unit="mm", above=0, help="Clearance every way out must have.")
    least_wall_mm: float = setting(LEAST_WALL_MM, unit="mm", above=0, help="Thinnest wall that prints.")
    strict: bool = setting(False, help="What the model's own skin falls short in is a fault, not a note.")

    @property
    def least_passage_mm(self) -> float:
        """What every way out must let through: the least drain, or the holes asked for when they are narrower."""
        return min(self.least_drain_mm, self.drains.diameter_mm)

    @property
    def worth(self) -> HollowSettings:
        """How it is hollowed: where nothing else is asked for, only cavities that are worth the holes they get."""
        asked = self.hollow
        if asked.least_mm3 is not None or asked.keep_pockets or not (self.auto or self.drains.count):
            return asked
        return replace(asked, least_mm3=WORTH_MM3, worth_share=WORTH_SHARE)
