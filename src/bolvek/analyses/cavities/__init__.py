"""Rooms of air in and around a model: which there are, how they open, how wide their ways out are."""

from bolvek.analyses.cavities.necks import Chamber, NeckWays, find_ways
from bolvek.analyses.cavities.rooms import (
    OUTSIDE,
    Cavities,
    Cavity,
    WayOut,
    convex_shells,
    default_ball_mm,
    find_cavities,
)

__all__ = [
    "OUTSIDE",
    "Cavities",
    "Cavity",
    "Chamber",
    "WayOut",
    "NeckWays",
    "convex_shells",
    "default_ball_mm",
    "find_cavities",
    "find_ways",
]
