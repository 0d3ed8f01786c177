"""A model while it is mended: its mesh, where each face comes from, and what crosses near what was changed."""

from collections.abc import Iterator
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import ArrayLike, NDArray

from bolvek.arrays import Bools, Floats, Ints, Ints16, Ints32
from bolvek.mesh import Mesh, once_a_mesh
from bolvek.operations.mend.record import Place
from bolvek.spatial.tree import Tree
from bolvek.units import as_triple

Triple = tuple[float, float, float]

NEW = -1
"""Origin of a face that no face of the model became."""


@dataclass(frozen=True)
class Draft:
    """origin (F,) int32: the face of the model that each face was, or NEW."""

    mesh: Mesh
    origin: Ints32

    @classmethod
    def of(cls, mesh: Mesh) -> "Draft":
        """Nothing changed yet."""
        return cls(mesh, np.arange(len(mesh.faces), dtype=np.int32))

    def picked(self, keep: Bools) -> "Draft":
        """Without the other faces; vertices keep their numbers."""
        return Draft(Mesh(self.mesh.vertices, self.mesh.faces[keep]), self.origin[keep])

    def edited(self, *, vertices: ArrayLike | None = None, faces: ArrayLike | None = None) -> "Draft":
        """Other vertices, or other corners of the same faces."""
        return Draft(
            Mesh(self.mesh.vertices if vertices is None else vertices, self.mesh.faces if faces is None else faces),
            self.origin,
        )

    def grown(self, faces: ArrayLike, origin: ArrayLike | int = NEW, points: Floats | None = None) -> "Draft":
        """More faces (N, 3), and points (P, 3) numbered after the vertices there are."""
        more = np.asarray(faces, np.int32).reshape(-1, 3)
        vertices = self.mesh.vertices if points is None else np.concatenate([self.mesh.vertices, points])
        return Draft(
            Mesh(vertices, np.concatenate([self.mesh.faces, more])),
            np.concatenate([self.origin, np.broadcast_to(np.asarray(origin, np.int32), len(more))]),
        )

    def packed(self) -> "Draft":
        """Without vertices of no face."""
        used = np.zeros(len(self.mesh.vertices), bool)
        used[self.mesh.faces.ravel()] = True
        return self if used.all() else Draft(self.mesh.picked(slice(None)), self.origin)


def shell_place(mesh: Mesh, shell: int) -> tuple[Triple, Triple]:
    """Middle and extent of a shell's box."""
    low, high = mesh.shell_boxes
    return as_triple(0.5 * (low[shell] + high[shell])), as_triple(high[shell] - low[shell])


def shell_places(mesh: Mesh, shells: Ints, what: str) -> list[Place]:
    """A place for each shell named, with its triangles."""
    count = np.bincount(mesh.topology.shell, minlength=mesh.topology.shells)
    return [Place(what, int(count[s]), *shell_place(mesh, s)) for s in shells.tolist()]


def stored(points: Floats) -> Floats:
    """Points as a binary STL file will hold them."""
    return np.asarray(points, np.float32).astype(np.float64)


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
    near = _cells(known).near(own.min(axis=1) - slack_mm, own.max(axis=1) + slack_mm)
    later = np.arange(len(known.faces), len(mesh.faces))
    local = np.concatenate([np.union1d(np.flatnonzero(chosen[: len(known.faces)]), near), later]).astype(np.int64)
    pairs, _ = Tree(mesh.vertices, mesh.faces[local], mesh.bounds.mean(axis=0)).meeting_pairs()
    found = local[pairs.astype(np.int64)]
    first, second = chosen[found[:, 0]], chosen[found[:, 1]]
    found = np.concatenate([found[first], found[second & ~first][:, ::-1]])
    return found[np.lexsort((found[:, 1], found[:, 0]))]


@dataclass(frozen=True)
class Window:
    """A piece of a draft as a draft of its own (origin: faces of the whole): which vertices and faces it has of it."""

    draft: Draft
    vertices: Ints
    faces: Ints


def window(draft: Draft, low: Floats, high: Floats) -> Window:
    """What lies around some boxes (B, 3), each with as much room around it as it is wide."""
    mesh = draft.mesh
    room = (high - low).max(axis=1)[:, None] + 1e-3 * float(mesh.size.max())
    faces = _cells(mesh).near(low - room, high + room)
    used = np.zeros(len(mesh.vertices), bool)
    used[mesh.faces[faces]] = True
    vertices = np.flatnonzero(used)
    number = np.cumsum(used, dtype=np.int32) - 1
    local = Mesh(mesh.vertices[vertices], number[mesh.faces[faces]])
    return Window(Draft(local, faces.astype(np.int32)), vertices, faces)


def put_back(draft: Draft, piece: Window, changed: Draft) -> Draft:
    """The draft with a window as it was changed: its own vertices first, its faces those of the window or new."""
    mesh = draft.mesh
    keep = np.ones(len(mesh.faces), bool)
    keep[piece.faces] = False
    own = len(piece.vertices)
    number = np.concatenate([piece.vertices, len(mesh.vertices) + np.arange(len(changed.mesh.vertices) - own)])
    origin = np.where(changed.origin == NEW, NEW, draft.origin[np.maximum(changed.origin, 0)])
    vertices = np.array(mesh.vertices)
    vertices[piece.vertices] = changed.mesh.vertices[:own]
    rest = Draft(Mesh(vertices, mesh.faces[keep]), draft.origin[keep])
    return rest.grown(number[changed.mesh.faces], origin, changed.mesh.vertices[own:])


_MOST_CELLS = 96


@dataclass(frozen=True)
class _Cells:
    """A coarse grid of `count` cells a side over a mesh: the cell (F,) in which the box of each face begins, counted
    through; the faces (W,) that go on beyond it, with their first cell and the one after their last (W, 3)."""

    origin: Floats
    cell: float
    count: int
    first: Ints32
    wide: Ints
    begin: Ints16
    after: Ints16

    def near(self, low: Floats, high: Floats) -> Ints:
        """Faces whose cells are among those of any of the boxes (B, 3): all that come near, and some others."""
        n = self.count
        begin, end = (np.clip((p - self.origin) // self.cell, 0, n - 1).astype(np.int64) for p in (low, high))
        # marks of all boxes at once: their corners, then sums along the axes
        marks = np.zeros((n + 1,) * 3, np.int32)
        for sign, x, y, z in _corners(begin, end + 1):
            np.add.at(marks, (x, y, z), sign)
        marked = _summed(marks)[:-1, :-1, :-1] > 0
        wanted = marked.ravel()[self.first]
        sums = np.zeros((n + 1,) * 3, np.int32)
        sums[1:, 1:, 1:] = marked
        summed = _summed(sums).ravel()
        total = np.zeros(len(self.wide), np.int32)
        for sign, x, y, z in _corners(self.begin.astype(np.int32), self.after.astype(np.int32)):
            total -= sign * summed[(x * (n + 1) + y) * (n + 1) + z]
        wanted[self.wide[total > 0]] = True
        return np.flatnonzero(wanted)


def _corners(begin: NDArray[np.integer], end: NDArray[np.integer]) -> Iterator[tuple[int, Any, Any, Any]]:
    """The eight corners of boxes (B, 3) as x, y, z, and the sign with which each counts in a sum over the box."""
    ends = (begin, end)
    for i in (0, 1):
        for j in (0, 1):
            for k in (0, 1):
                yield -1 if (i + j + k) % 2 else 1, ends[i][:, 0], ends[j][:, 1], ends[k][:, 2]


def _summed(table: NDArray[np.int32]) -> NDArray[np.int32]:
    """The table summed up along all axes, in place."""
    for k in range(3):
        np.cumsum(table, axis=k, out=table)
    return table


@once_a_mesh
def _cells(mesh: Mesh) -> _Cells:
    low, high = mesh.bounds
    n = int(np.clip(np.sqrt(len(mesh.faces)) / 8, 8, _MOST_CELLS))
    cell = max(float((high - low).max()) / (n - 2), 1e-12)
    cells = np.clip((mesh.vertices - (low - cell)) // cell, 0, n - 1).astype(np.int16)
    first, last = np.empty((2, len(mesh.faces), 3), np.int16)
    for k in range(3):
        a, b, c = cells[:, k][mesh.faces.T]
        first[:, k] = np.minimum(np.minimum(a, b), c)
        last[:, k] = np.maximum(np.maximum(a, b), c)
    wide = np.flatnonzero((first != last).any(axis=1))
    flat = (first[:, 0].astype(np.int32) * n + first[:, 1]) * n + first[:, 2]
    return _Cells(low - cell, cell, n, flat, wide, first[wide], last[wide] + np.int16(1))
