"""Edges, shells and fans of a mesh."""

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from bolvek.kernels import topology as kernels

OPEN, CROWDED = kernels.OPEN, kernels.CROWDED


@dataclass(frozen=True)
class Topology:
    """How the faces hang together. Half-edge 3 f + k runs from corner k to k + 1 of face f.

    twin (3F,) int32: the half-edge across, OPEN or CROWDED; same_way (3F,) bool: both uses of the
    edge run the same way; shell (F,) int32: shell number, numbered by first face; fan (3F,) int32:
    smallest corner of the fan around the vertex; first_face (S,): lowest face of each shell.
    """

    twin: NDArray[np.int32]
    same_way: NDArray[np.bool_]
    shell: NDArray[np.int32]
    fan: NDArray[np.int32]
    first_face: NDArray[np.int64]
    open_edges: int
    nonmanifold_edges: int
    badly_oriented_edges: int
    extra_fans: int

    @property
    def shells(self) -> int:
        """Number of edge-connected shells."""
        return len(self.first_face)

    @property
    def sound(self) -> bool:
        """Closed, manifold (each edge two uses, each vertex one fan), consistently oriented."""
        return not (self.open_edges or self.nonmanifold_edges or self.badly_oriented_edges or self.extra_fans)


def build_topology(faces: NDArray[np.int32], vertex_count: int) -> Topology:
    """Topology of faces (F, 3) int32 in linear time."""
    n = len(faces)
    twin = np.empty(3 * n, np.int32)
    same_way = np.empty(3 * n, np.bool_)
    shell = np.empty(n, np.int32)
    fan = np.empty(3 * n, np.int32)
    totals = np.zeros(4, np.int64)
    kernels.pair_edges(faces, vertex_count, twin, same_way, shell, fan, totals)
    roots = np.flatnonzero(shell == np.arange(n))
    number = np.zeros(max(n, 1), np.int32)
    number[roots] = np.arange(len(roots))
    return Topology(twin, same_way, number[shell], fan, roots, *(int(t) for t in totals))


def join_topologies(parts: Sequence[Topology]) -> Topology:
    """Topology of meshes put one after the other without a common vertex."""
    faces = np.cumsum([0] + [len(p.shell) for p in parts])
    shells = np.cumsum([0] + [p.shells for p in parts])
    return Topology(
        np.concatenate(
            [np.where(p.twin >= 0, p.twin + np.int32(3 * f), p.twin) for p, f in zip(parts, faces, strict=False)]
        ),
        np.concatenate([p.same_way for p in parts]),
        np.concatenate([p.shell + np.int32(s) for p, s in zip(parts, shells, strict=False)]),
        np.concatenate([p.fan + np.int32(3 * f) for p, f in zip(parts, faces, strict=False)]),
        np.concatenate([p.first_face + f for p, f in zip(parts, faces, strict=False)]),
        sum(p.open_edges for p in parts),
        sum(p.nonmanifold_edges for p in parts),
        sum(p.badly_oriented_edges for p in parts),
        sum(p.extra_fans for p in parts),
    )


def label_patches(topology: Topology, wanted: NDArray[np.bool_]) -> tuple[NDArray[np.int32], int]:
    """Edge-connected patches of the wanted faces: patch (F,) int32, -1 elsewhere, and how many."""
    patch = np.empty(len(wanted), np.int32)
    kernels.join_wanted(topology.twin, wanted, patch)
    roots = np.flatnonzero(patch == np.arange(len(wanted)))
    number = np.full(len(wanted) + 1, -1, np.int32)
    number[roots] = np.arange(len(roots))
    return number[patch], len(roots)
