"""Union of two sound meshes, sound as a file will hold it."""

import numpy as np

from bolvek.analyses.soundness import find_defects
from bolvek.arrays import Ints32
from bolvek.errors import WorkError
from bolvek.mesh import Mesh
from bolvek.mesh.topology import collapsed_faces
from bolvek.operations.cut import TooClose
from bolvek.operations.fuse.arrange import UNION, arrange
from bolvek.operations.mend import MendSettings, mend

JITTER_SHARE = 1e-6
"""How far the second mesh is moved, as a share of the longest side, where a decision is too close to call; each try
goes twice as far as the one before."""
_SEED = 41
_TIDY = MendSettings(only=("drop", "crossings"))


def unite(a: Mesh, b: Mesh, keep: tuple[int, int] = UNION, tries: int = 6) -> tuple[Mesh, Ints32]:
    """Both meshes as one, or another of the ways of `arrange`; and for each face the face it is of, b's numbered after
    a's (-1: neither's). The second mesh may be moved a little (see `JITTER_SHARE`), faces along the cut too. Raises
    WorkError where no sound result came out."""
    rng = np.random.default_rng(_SEED)
    reach = JITTER_SHARE * float(np.maximum(a.size, b.size).max())
    for turn in range(tries):
        moved = b.moved(b.vertices + rng.uniform(-reach, reach, 3) * 2.0**turn) if turn else b
        try:
            result, source = arrange(a, moved, keep)
        except TooClose:
            continue
        result, source = _stored(result, source)
        if find_defects(result):
            # rounding may lay slivers flat, or push them through each other
            result, record, origin = mend(result, _TIDY)
            if record.verdict not in ("sound", "buried shells"):
                continue
            source = np.where(origin >= 0, source[np.maximum(origin, 0)], -1).astype(np.int32)
        if not find_defects(result):
            return result, source
    raise WorkError("two bodies could not be put together cleanly: they touch along whole faces or edges")


def _stored(mesh: Mesh, source: Ints32) -> tuple[Mesh, Ints32]:
    """As a file will hold it, without the faces that have no area left in that."""
    stored = mesh.as_stored()
    gone = collapsed_faces(stored.faces)
    return (stored.picked(~gone), source[~gone]) if gone.any() else (stored, source)
