"""A model while it is mended: its mesh, and where each face comes from."""

from dataclasses import dataclass

import numpy as np
from numpy.typing import ArrayLike

from bolvek.analyses.soundness.around import cells_of
from bolvek.arrays import Bools, Floats, Ints, Ints32
from bolvek.mesh import Mesh
from bolvek.operations.mend.record import Place
from bolvek.units import Triple, as_triple

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
    faces = cells_of(mesh).near(low - room, high + room)
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
