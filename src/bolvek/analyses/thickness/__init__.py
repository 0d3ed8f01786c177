"""How thick the material of a model is, at places of its surface."""

from bolvek.analyses.thickness.look import Scene, ends_at_an_edge
from bolvek.analyses.thickness.probe import (
    MOST_RAYS,
    SKIN_SHARE,
    SQUARE_DEG,
    Measures,
    check_solid,
    measure,
    surfaces_along,
)
from bolvek.analyses.thickness.record import Measured, WallEdge, WallField, WallRecord, WallZone
from bolvek.analyses.thickness.samples import SAMPLES_A_WALL, Samples, carried, crease_samples, edges_of, sample_surface
from bolvek.analyses.thickness.sharpen import WIDEST, least_wall
from bolvek.analyses.thickness.shortest import Ways, joined_ways, shortest_ways
from bolvek.analyses.thickness.waists import find_waists
from bolvek.analyses.thickness.walls import measure_walls, wall_at
from bolvek.settings.measures import WallSettings, wall_tolerance_mm

__all__ = [
    "MOST_RAYS",
    "SAMPLES_A_WALL",
    "SKIN_SHARE",
    "SQUARE_DEG",
    "Measured",
    "Measures",
    "Samples",
    "Scene",
    "WIDEST",
    "WallEdge",
    "WallField",
    "WallRecord",
    "WallSettings",
    "WallZone",
    "Ways",
    "carried",
    "check_solid",
    "crease_samples",
    "edges_of",
    "ends_at_an_edge",
    "find_waists",
    "joined_ways",
    "least_wall",
    "measure",
    "measure_walls",
    "sample_surface",
    "shortest_ways",
    "surfaces_along",
    "wall_at",
    "wall_tolerance_mm",
]
