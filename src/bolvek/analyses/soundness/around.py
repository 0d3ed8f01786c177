"""What crosses near some faces of a mesh: exact, and without looking at all of it."""

from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np

from bolvek.arrays import Floats, Ints, Ints16, Ints32
from bolvek.kernels.surface import cells as kernels
from bolvek.mesh import Mesh, once_a_mesh
from bolvek.spatial.parallel import run_ranges
from bolvek.spatial.tree import Tree


def crossing_pairs(mesh: Mesh, faces: Ints, base: Mesh | None = None, slack_mm: float = 0.0) -> Ints:
    """Pairs (P, 2) of faces that meet beyond what they share, one of each among `faces`, the first.

    base: a mesh whose faces are the first of this one's, moved by no more than the slack; where they are is found once,
    for all that grow from it.
    """
    if not len(faces):
        return np.zeros((0, 2), np.int64)
    chosen = np.zeros(len(mesh.faces), bool)
    chosen[faces] = True
    own = mesh.vertices[mesh.faces[chosen]]
    known = mesh if base is None else base
    near = cells_of(known).near(own.min(axis=1) - slack_mm, own.max(axis=1) + slack_mm)
    later = np.arange(len(known.faces), len(mesh.faces))
    local = np.concatenate([np.union1d(np.flatnonzero(chosen[: len(known.faces)]), near), later]).astype(np.int64)
    pairs, _ = Tree(mesh.vertices, mesh.faces[local], mesh.bounds.mean(axis=0)).meeting_pairs()
    found = local[pairs.astype(np.int64)]
    first, second = chosen[found[:, 0]], chosen[found[:, 1]]
    found = np.concatenate([found[first], found[second & ~first][:, ::-1]])
    return found[np.lexsort((found[:, 1], found[:, 0]))]


_MOST_CELLS = 96


@dataclass(frozen=True)
class Cells:
    """A coarse grid of `count` cells a side over a mesh: the cells (F, 6) that the box of each face takes, the first
    along x, y, z and the one after the last."""

    origin: Floats
    cell: float
    count: int
    taken: Ints16

    def near(self, low: Floats, high: Floats) -> Ints:
        """Faces whose cells are among those of any of the boxes (B, 3): all that come near, and some others."""
        n = self.count
        begin, end = (np.clip((p - self.origin) // self.cell, 0, n - 1).astype(np.int64) for p in (low, high))
        # marks of all boxes at once: their corners, then sums along the axes
        marks = np.zeros((n + 1,) * 3, np.int32)
        for sign, x, y, z in _corners(begin, end + 1):
            np.add.at(marks, (x, y, z), sign)
        sums = np.zeros((n + 1,) * 3, np.int32)
        sums[1:, 1:, 1:] = _summed(marks)[:-1, :-1, :-1] > 0
        summed, wanted = _summed(sums), np.empty(len(self.taken), bool)
        run_ranges(lambda b, e: kernels.faces_in_cells(self.taken, summed, b, e, wanted), len(wanted))
        return np.flatnonzero(wanted)


def _corners(begin: Ints, end: Ints) -> Iterator[tuple[int, Ints, Ints, Ints]]:
    """The eight corners of boxes (B, 3) as x, y, z, and the sign with which each counts in a sum over the box."""
    ends = (begin, end)
    for i in (0, 1):
        for j in (0, 1):
            for k in (0, 1):
                yield -1 if (i + j + k) % 2 else 1, ends[i][:, 0], ends[j][:, 1], ends[k][:, 2]


def _summed(table: Ints32) -> Ints32:
    """The table summed up along all axes, in place."""
    for k in range(3):
        np.cumsum(table, axis=k, out=table)
    return table


@once_a_mesh
def cells_of(mesh: Mesh) -> Cells:
    """The grid over a mesh."""
    low, high = mesh.bounds
    n = int(np.clip(np.sqrt(len(mesh.faces)) / 8, 8, _MOST_CELLS))
    cell = max(float((high - low).max()) / (n - 2), 1e-12)
    origin, taken = low - cell, np.empty((len(mesh.faces), 6), np.int16)
    args = mesh.vertices, mesh.faces, origin, cell, n
    run_ranges(lambda b, e: kernels.cells_of_faces(*args, b, e, taken), len(taken))
    return Cells(origin, cell, n, taken)
