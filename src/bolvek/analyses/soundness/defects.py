"""What keeps a mesh from being sound, class by class, with a place for each.

Sound: closed, manifold (two uses an edge, one fan a vertex), consistently oriented, free of faces
without area, twin faces and self-intersections. Everything is decided exactly (see
`bolvek.kernels.predicates`), no tolerance is involved.
"""

from dataclasses import dataclass

import numpy as np

from bolvek.arrays import Bools, Floats, Ints
from bolvek.kernels.exact.triangles import mark_flat
from bolvek.mesh import Mesh, once_a_mesh
from bolvek.mesh.topology import CROWDED, OPEN
from bolvek.spatial.parallel import run_ranges

_MOST_PLACES = 5

WORDS = {
    "open_edges": ("open edge", "open edges"),
    "nonmanifold_edges": ("edge used by more than two faces", "edges used by more than two faces"),
    "badly_oriented_edges": (
        "edge whose two faces disagree about the outside",
        "edges whose two faces disagree about the outside",
    ),
    "split_vertices": ("vertex where separate fans of faces touch", "vertices where separate fans of faces touch"),
    "flat_faces": ("face without area", "faces without area"),
    "self_intersections": ("pair of faces that cross or touch", "pairs of faces that cross or touch"),
}
"""The classes and how one and several are told to people."""


@dataclass(frozen=True)
class Defect:
    """One class of defect: how many, and up to five places (mm)."""

    code: str
    count: int
    where_mm: tuple[tuple[float, float, float], ...]

    @property
    def text(self) -> str:
        """For people: the count and the words."""
        return f"{self.count:,} {WORDS[self.code][self.count != 1]}"


@once_a_mesh
def find_defects(mesh: Mesh) -> tuple[Defect, ...]:
    """All defects of a mesh; empty when it is sound.

    Flat faces are those whose corners lie exactly on a line, or of which two are the same.
    """
    mesh.prepare()
    topology = mesh.topology
    found = []

    def add(code: str, count: int, places: Floats) -> None:
        if count:
            where = tuple(tuple(float(x) for x in p) for p in places[:_MOST_PLACES])
            found.append(Defect(code, count, where))  # type: ignore[arg-type]

    def edge_middles(mask: Bools) -> Floats:
        half = np.flatnonzero(mask)[: 4 * _MOST_PLACES]
        a, b = (mesh.vertices[end] for end in mesh.edge_ends(half))
        return np.unique(0.5 * (a + b), axis=0)

    add("open_edges", topology.open_edges, edge_middles(topology.opposite == OPEN))
    add("nonmanifold_edges", topology.nonmanifold_edges, edge_middles(topology.opposite == CROWDED))
    add("badly_oriented_edges", topology.badly_oriented_edges, edge_middles(topology.same_way))
    split = split_vertices(mesh)
    add("split_vertices", len(split), mesh.vertices[split])
    flat = flat_faces(mesh)
    add("flat_faces", int(flat.sum()), mesh.vertices[mesh.faces[flat]].mean(axis=1))
    pairs, count = mesh.meeting
    add("self_intersections", count, mesh.vertices[mesh.faces[pairs[: 4 * _MOST_PLACES]]].mean(axis=(1, 2)))
    return tuple(found)


def split_vertices(mesh: Mesh) -> Ints:
    """Vertices where fans of faces touch that share no edge there; non-manifold edges are not told again."""
    topology = mesh.topology
    if not topology.extra_fans:
        return np.zeros(0, np.int64)
    corners = np.flatnonzero(topology.fan == np.arange(len(topology.fan)))
    vertex, uses = np.unique(mesh.faces.ravel()[corners], return_counts=True)
    told = np.concatenate(mesh.edge_ends(np.flatnonzero(topology.opposite == CROWDED)))
    return np.setdiff1d(vertex[uses > 1], told).astype(np.int64)


@once_a_mesh
def flat_faces(mesh: Mesh) -> Bools:
    """Mask (F,) of faces whose three corners lie exactly on one line."""
    flat = np.empty(len(mesh.faces), bool)
    run_ranges(lambda b, e: mark_flat(mesh.vertices, mesh.faces, b, e, flat), len(mesh.faces))
    return flat
