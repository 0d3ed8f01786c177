"""A model while it is mended: its mesh, where each face comes from, and what crosses near what was changed."""

from dataclasses import dataclass

import numpy as np
from numpy.typing import ArrayLike

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


def crossing_pairs(mesh: Mesh, faces: Ints, base: Mesh | None = None) -> Ints:
    """Pairs (P, 2) of faces that meet beyond what they share, one of each among `faces`, the first.

    base: a mesh whose faces are the first of this one's; where they are is found once, for all that grow from it.
    """
    if not len(faces):
        return np.zeros((0, 2), np.int64)
    chosen = np.zeros(len(mesh.faces), bool)
    chosen[faces] = True
    own = mesh.vertices[mesh.faces[chosen]]
    known = mesh if base is None else base
    near = _cells(known).near(own.min(axis=1), own.max(axis=1))
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
    """A coarse grid of `count` cells a side over a mesh, and which (F, 3) the box of each face begins and ends in."""

    origin: Floats
    cell: float
    count: int
    first: Ints16
    last: Ints16

    def near(self, low: Floats, high: Floats) -> Ints:
        """Faces whose cells are among those of any of the boxes (B, 3): all that come near, and some others."""
        begin, end = (np.clip(self._at(p), 0, self.count - 1).astype(np.int64) for p in (low, high))
        # marks of all boxes at once: their corners, then sums along the axes
        marks = np.zeros((self.count + 1,) * 3, np.int32)
        for corner in range(8):
            up = [corner >> k & 1 for k in range(3)]
            place = tuple(end[:, k] + 1 if up[k] else begin[:, k] for k in range(3))
            np.add.at(marks, place, -1 if sum(up) % 2 else 1)
        for k in range(3):
            np.cumsum(marks, axis=k, out=marks)
        marked = marks[:-1, :-1, :-1] > 0
        sums = np.zeros((self.count + 1,) * 3, np.int32)
        sums[1:, 1:, 1:] = marked
        for k in range(3):
            np.cumsum(sums, axis=k, out=sums)
        wanted = marked[tuple(self.first.T)]
        rest = np.flatnonzero(~wanted & (self.first != self.last).any(axis=1))
        total = np.zeros(len(rest), np.int32)
        for corner in range(8):
            up = [corner >> k & 1 for k in range(3)]
            place = tuple(self.last[rest, k] + 1 if up[k] else self.first[rest, k] for k in range(3))
            total += (1 if sum(up) % 2 else -1) * sums[place]
        wanted[rest[total > 0]] = True
        return np.flatnonzero(wanted)

    def _at(self, points: Floats) -> Floats:
        return np.asarray(np.floor((points - self.origin) / self.cell))


@once_a_mesh
def _cells(mesh: Mesh) -> _Cells:
    low, high = mesh.bounds
    count = int(np.clip(np.sqrt(len(mesh.faces)) / 8, 8, _MOST_CELLS))
    cell = max(float((high - low).max()) / (count - 2), 1e-12)
    cells = np.clip(np.floor((mesh.vertices - (low - cell)) / cell), 0, count - 1).astype(np.int16)
    corner = [cells[mesh.faces[:, k]] for k in range(3)]
    first, last = (f(f(corner[0], corner[1]), corner[2]) for f in (np.minimum, np.maximum))
    return _Cells(low - cell, cell, count, first, last)
