"""What recasting is asked for, and what it says it did."""

from dataclasses import dataclass

from bolvek.analyses.deviation import OneWay
from bolvek.analyses.zones import Zone

MOST_CELLS = 1_500_000
"""Cells on one side of the surface that fit into the memory of a small machine, a gigabyte and a half."""


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
