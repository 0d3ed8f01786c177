"""Parts into one and out of one another: exact arrangement, union, difference."""

from bolvek.operations.fuse.fuse import FuseRecord, VoidMade, carve, fuse
from bolvek.operations.fuse.gather import Gathered, gather, gather_all
from bolvek.operations.fuse.parts import fuse_parts, parts_of
from bolvek.operations.fuse.reach import Reached
from bolvek.operations.fuse.unite import unite, unite_exactly
from bolvek.settings.parts import FuseSettings

__all__ = [
    "FuseRecord",
    "FuseSettings",
    "Gathered",
    "Reached",
    "VoidMade",
    "carve",
    "fuse",
    "fuse_parts",
    "gather",
    "gather_all",
    "parts_of",
    "unite",
    "unite_exactly",
]
