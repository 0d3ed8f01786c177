"""What keeps a mesh from being sound, and the gate that every operation's product passes."""

from bolvek.analyses.soundness.defects import WORDS, Defect, find_defects, flat_faces, split_vertices
from bolvek.analyses.soundness.gate import made_worse, pass_gate, require_sound

__all__ = [
    "WORDS",
    "Defect",
    "find_defects",
    "flat_faces",
    "made_worse",
    "pass_gate",
    "require_sound",
    "split_vertices",
]
