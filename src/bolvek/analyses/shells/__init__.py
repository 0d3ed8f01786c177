"""Shells: which lies inside which, their openings, and which way they face."""

from bolvek.analyses.shells.copies import counted_once, faces_alike, for_all_faces, part_by_part
from bolvek.analyses.shells.enclosing import enclosing_shells
from bolvek.analyses.shells.nesting import Shells, closed_shells, nest_exactly, nest_shells
from bolvek.analyses.shells.openings import EITHER, Opening, Openings, find_openings
from bolvek.analyses.shells.rims import near_mm, open_pairs
from bolvek.analyses.shells.standing import (
    Standing,
    facing_out,
    material_tree,
    model_volume,
    outward_signs,
    owners_of_cavities,
    standing,
    turned_faces,
)

__all__ = [
    "EITHER",
    "Opening",
    "Openings",
    "Shells",
    "Standing",
    "closed_shells",
    "counted_once",
    "enclosing_shells",
    "faces_alike",
    "facing_out",
    "find_openings",
    "for_all_faces",
    "material_tree",
    "model_volume",
    "near_mm",
    "nest_exactly",
    "nest_shells",
    "open_pairs",
    "outward_signs",
    "owners_of_cavities",
    "part_by_part",
    "standing",
    "turned_faces",
]
