"""How thick the material of a model is, at places of its surface."""

from bolvek.analyses.thickness.probe import (
    MOST_RAYS,
    SKIN_SHARE,
    SQUARE_DEG,
    Measures,
    check_solid,
    measure,
    surfaces_along,
)
from bolvek.analyses.thickness.samples import (
    SAMPLES_A_WALL,
    Samples,
    crease_samples,
    edge_points,
    sample_surface,
    wall_tolerance_mm,
)

__all__ = [
    "MOST_RAYS",
    "SAMPLES_A_WALL",
    "SKIN_SHARE",
    "SQUARE_DEG",
    "Measures",
    "Samples",
    "check_solid",
    "crease_samples",
    "edge_points",
    "measure",
    "sample_surface",
    "surfaces_along",
    "wall_tolerance_mm",
]
