"""What recasting is asked for, and what it says it did."""

import math
from dataclasses import dataclass

import numpy as np

from bolvek.analyses.deviation import OneWay
from bolvek.analyses.zones import Zone
from bolvek.errors import UsageError, WorkError

FINEST_SHARE = 1 / 250
"""The automatic grid is this share of the longest side, or finer where the model has little surface."""

MOST_CELLS_ON_SURFACE = 150_000
"""And no finer than so many cells on one side of the surface."""

MOST_CELLS = 1_500_000
"""Cells on one side of the surface that fit into the memory of a small machine, a gigabyte and a half."""

INSIDES = ("fill", "keep-cavities")
"""What becomes of voids that nothing from outside gets into."""


@dataclass(frozen=True, kw_only=True)
class RecastSettings:
    """Lengths in mm. grid_mm: cell (None: from the model's size and surface). bridge_mm: gaps up to so wide are closed
    (None: two cells). grow_mm: half the thickness that what has none is given (None: a cell; 0: it vanishes).
    grow_closed_mm: the same where it belongs to a closed shell, as folds and blades do (None: as grow_mm). inside:
    one of INSIDES. keep_edges: bring sharp edges and corners back. within_mm: deviation allowed to slimming (None: a
    twentieth of the cell; 0: no slimming). least_mm3: smaller pieces are dropped."""

    grid_mm: float | None = None
    bridge_mm: float | None = None
    grow_mm: float | None = None
    grow_closed_mm: float | None = None
    inside: str = "fill"
    keep_edges: bool = False
    within_mm: float | None = None
    least_mm3: float = 0.0

    def check(self) -> None:
        """Raise UsageError when any of them makes no sense."""
        for name, value, least in (
            ("--grid", self.grid_mm, None),
            ("--bridge", self.bridge_mm, 0.0),
            ("--grow", self.grow_mm, 0.0),
            ("--within", self.within_mm, 0.0),
            ("--least", self.least_mm3, 0.0),
        ):
            if value is None:
                continue
            if not np.isfinite(value) or value < (least or 0.0) or (least is None and not value > 0):
                raise UsageError(f"{name} must be {'more than 0' if least is None else '0 or more'}, not {value:g}")
        if self.inside not in INSIDES:
            raise UsageError(f"--inside takes {' or '.join(INSIDES)}, not '{self.inside}'")

    def cell_mm(self, longest_mm: float, area_mm2: float) -> float:
        """The cell for a model of this size and surface. Raises WorkError for one that would not fit into memory."""
        if self.grid_mm is not None:
            fits = math.sqrt(area_mm2 / MOST_CELLS)
            if self.grid_mm < fits:
                raise WorkError(
                    f"a grid of {self.grid_mm:.3g} mm on {area_mm2:.3g} mm2 of faces would not fit into memory: "
                    f"--grid {1.05 * fits:.2g}mm would"
                )
            return self.grid_mm
        return max(longest_mm * FINEST_SHARE, math.sqrt(area_mm2 / MOST_CELLS_ON_SURFACE))


LEAK_CELLS = 12.0
"""A room whose every way in is narrower than so many cells is told as a leak."""


@dataclass(frozen=True)
class Leak:
    """Air inside that gets in through gaps: how much (mm3), where the widest gap is and how wide (mm)."""

    volume_mm3: float
    where_mm: tuple[float, float, float]
    width_mm: float


@dataclass(frozen=True, kw_only=True)
class RecastRecord:
    """What recasting made: cell, bridge and grow as used; parts; what was closed in, dropped or given a thickness;
    triangles before and after slimming; edge_points: points at which sharp edges were brought back; how far the two
    surfaces are apart, both ways (mm), where the original bounds the solid: lost are places of the original that
    nothing is near, added those of the result."""

    grid_mm: float
    bridge_mm: float
    grow_mm: float
    parts: int
    cavities: int
    voids_filled: int
    dropped: int
    grown_mm2: float
    triangles_before_slim: int
    triangles: int
    volume_mm3: float
    slim_deviation_mm: float
    edge_points: int
    to_new: OneWay
    to_old: OneWay
    lost_mm2: float
    lost: list[Zone]
    added_mm2: float
    added: list[Zone]
    leaks: list[Leak]
