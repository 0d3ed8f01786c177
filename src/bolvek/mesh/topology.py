"""Edges, shells and fans of a mesh."""

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from bolvek.arrays import Bools, Ints, Ints32
from bolvek.kernels.surface import topology as kernels

OPEN, CROWDED = kernels.OPEN, kernels.CROWDED
COLLAPSED = -3
"""Instead of an opposite, for the half-edges of a face that uses a vertex twice."""


@dataclass(frozen=True)
class Topology:
    """How the faces hang together. Half-edge 3 f + k runs from corner k to k + 1 of face f.

    opposite (3F,) int32: the half-edge across, OPEN or CROWDED; same_way (3F,) bool: both uses of the
    edge run the same way; shell (F,) int32: shell number, numbered by first face; fan (3F,) int32:
    smallest corner of the fan around the vertex; first_face (S,): lowest face of each shell.

    A face that uses a vertex twice has no surface: it takes no part in edges, fans and shells. Its half-edges
    are COLLAPSED, its fans -1, its shell that of a neighbour (for the sake of having one).
    """

    opposite: Ints32
    same_way: Bools
    shell: Ints32
    fan: Ints32
    first_face: Ints
    open_edges: int
    nonmanifold_edges: int
    badly_oriented_edges: int
    extra_fans: int

    @property
    def collapsed(self) -> Bools:
        """Faces (F,) that use a vertex twice."""
        return np.asarray(self.opposite[::3] == COLLAPSED)

    @property
    def shells(self) -> int:
        """Number of edge-connected shells."""
        return len(self.first_face)

    @property
    def open_shells(self) -> Bools:
        """Shells (S,) with an open edge."""
        found = np.zeros(self.shells, bool)
        found[self.shell[np.flatnonzero(self.opposite == OPEN) // 3]] = True
        return found

    @property
    def sound(self) -> bool:
        """Closed, manifold (each edge two uses, each vertex one fan), consistently oriented."""
        return not (self.open_edges or self.nonmanifold_edges or self.badly_oriented_edges or self.extra_fans)


def collapsed_faces(faces: Ints32) -> Bools:
    """Mask (F,) of faces that use a vertex twice."""
    a, b, c = faces.T
    return np.asarray((a == b) | (b == c) | (c == a))


def build_topology(faces: Ints32, vertex_count: int) -> Topology:
    """Topology of faces (F, 3) int32 in linear time."""
    gone = collapsed_faces(faces)
    if gone.any():
        return _with_collapsed(build_topology(np.ascontiguousarray(faces[~gone]), vertex_count), faces, gone)
    n = len(faces)
    faces = faces.view()
    faces.flags.writeable = False  # one signature of the kernel, whoever calls
    opposite = np.empty(3 * n, np.int32)
    same_way = np.empty(3 * n, np.bool_)
    shell = np.empty(n, np.int32)
    fan = np.empty(3 * n, np.int32)
    totals = np.zeros(4, np.int64)
    kernels.pair_edges(faces, vertex_count, opposite, same_way, shell, fan, totals)
    roots = np.flatnonzero(shell == np.arange(n))
    number = np.zeros(max(n, 1), np.int32)
    number[roots] = np.arange(len(roots))
    return Topology(opposite, same_way, number[shell], fan, roots, *(int(t) for t in totals))


def _with_collapsed(live: Topology, faces: Ints32, gone: Bools) -> Topology:
    """The topology of the other faces with numbers for all of them."""
    kept = np.flatnonzero(~gone)
    half = (3 * kept[:, None] + np.arange(3)).ravel().astype(np.int32)
    opposite = np.full(3 * len(faces), COLLAPSED, np.int32)
    same_way = np.zeros(3 * len(faces), np.bool_)
    fan = np.full(3 * len(faces), -1, np.int32)
    shell = np.zeros(len(faces), np.int32)
    if len(kept):
        opposite[half] = np.where(live.opposite >= 0, half[np.maximum(live.opposite, 0)], live.opposite)
        fan[half] = half[live.fan]
        same_way[half] = live.same_way
        shell[kept] = live.shell
        at_vertex = np.zeros(int(faces.max()) + 1, np.int32)
        at_vertex[faces[kept].ravel()[::-1]] = np.repeat(live.shell, 3)[::-1]
        shell[gone] = at_vertex[faces[gone, 0]]
    first = kept[live.first_face] if len(kept) else np.zeros(1, np.int64)  # one shell, of nothing
    counts = (live.open_edges, live.nonmanifold_edges, live.badly_oriented_edges, live.extra_fans)
    return Topology(opposite, same_way, shell, fan, first, *counts)


def join_topologies(parts: Sequence[Topology]) -> Topology:
    """Topology of meshes put one after the other without a common vertex."""
    faces = np.cumsum([0] + [len(p.shell) for p in parts])
    shells = np.cumsum([0] + [p.shells for p in parts])
    return Topology(
        np.concatenate(
            [
                np.where(p.opposite >= 0, p.opposite + np.int32(3 * f), p.opposite)
                for p, f in zip(parts, faces, strict=False)
            ]
        ),
        np.concatenate([p.same_way for p in parts]),
        np.concatenate([p.shell + np.int32(s) for p, s in zip(parts, shells, strict=False)]),
        np.concatenate([np.where(p.fan >= 0, p.fan + np.int32(3 * f), -1) for p, f in zip(parts, faces, strict=False)]),
        np.concatenate([p.first_face + f for p, f in zip(parts, faces, strict=False)]),
        sum(p.open_edges for p in parts),
        sum(p.nonmanifold_edges for p in parts),
        sum(p.badly_oriented_edges for p in parts),
        sum(p.extra_fans for p in parts),
    )


def label_patches(topology: Topology, wanted: Bools) -> tuple[Ints32, int]:
    """Edge-connected patches of the wanted faces: patch (F,) int32, -1 elsewhere, and how many."""
    patch = np.empty(len(wanted), np.int32)
    kernels.join_wanted(topology.opposite, wanted, patch)
    roots = np.flatnonzero(patch == np.arange(len(wanted)))
    number = np.full(len(wanted) + 1, -1, np.int32)
    number[roots] = np.arange(len(roots))
    return number[patch], len(roots)
