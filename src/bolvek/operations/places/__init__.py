"""Places of a surface made anew in small cubes around them, and the rest left bit for bit as it is."""

from bolvek.operations.places.faults import without_buried
from bolvek.operations.places.local import LocalRecord, recast_places
from bolvek.operations.places.remake import remade_places

__all__ = ["LocalRecord", "recast_places", "remade_places", "without_buried"]
