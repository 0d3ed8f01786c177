"""Hollowing: an inner shell at a given wall; the outer surface is not touched."""

from bolvek.operations.hollow.inner_shell import hollow
from bolvek.operations.hollow.settings import HollowRecord, NoCavityError, check_hollowable, count_openings
from bolvek.settings.shape import HollowSettings

__all__ = ["HollowRecord", "HollowSettings", "NoCavityError", "check_hollowable", "count_openings", "hollow"]
