"""Faces in trouble gathered into zones: what hangs together, where it is and how large."""

from dataclasses import dataclass

import numpy as np

from bolvek.arrays import Floats, Ints, Ints32
from bolvek.mesh import Mesh
from bolvek.spatial.groups import linked_groups
from bolvek.units import Triple


@dataclass(frozen=True)
class Zone:
    """Faces that hang together: how many (or edges, pairs, where said), middle and extent of their box."""

    count: int
    where_mm: Triple
    size_mm: Triple


def group_faces(mesh: Mesh, faces: Ints) -> Ints32:
    """Group of each face named: faces that share a vertex hang together."""
    vertices, at = np.unique(mesh.faces[faces], return_inverse=True)
    at = at.reshape(-1, 3)
    rows = np.repeat(np.arange(len(faces)), 3)
    group = linked_groups(len(faces) + len(vertices), np.stack([rows, len(faces) + at.ravel()], axis=1))
    return np.asarray(np.unique(group[: len(faces)], return_inverse=True)[1], np.int32)


def group_edges(mesh: Mesh, half: Ints) -> Ints32:
    """Group of each half-edge named: edges that share a vertex hang together."""
    ends = np.stack(mesh.edge_ends(half), axis=1)
    vertices, at = np.unique(ends, return_inverse=True)
    group = linked_groups(len(vertices), at.reshape(-1, 2))
    return np.asarray(np.unique(group[at.reshape(-1, 2)[:, 0]], return_inverse=True)[1], np.int32)


def zones(
    points: Floats,
    group: Ints32,
    counts: Ints | None = None,
    most: int | None = None,
) -> list[Zone]:
    """A zone a group, from the points (N, K, 3) of its members, largest extent first, at most so many."""
    if not len(group):
        return []
    order = np.argsort(group, kind="stable")
    starts = np.searchsorted(group[order], np.arange(group.max() + 1))
    low = np.minimum.reduceat(points[order].min(axis=1), starts)
    high = np.maximum.reduceat(points[order].max(axis=1), starts)
    if counts is None:
        counts = np.bincount(group)
    where, size = 0.5 * (low + high), high - low
    order = np.lexsort((*where.T[::-1], -size.max(axis=1)))[:most]
    return [
        Zone(n, (x, y, z), (u, v, w))
        for n, (x, y, z), (u, v, w) in zip(
            counts[order].tolist(), where[order].tolist(), size[order].tolist(), strict=True
        )
    ]


def face_zones(mesh: Mesh, faces: Ints) -> list[Zone]:
    """Zones of faces that share vertices."""
    return zones(mesh.vertices[mesh.faces[faces]], group_faces(mesh, faces)) if len(faces) else []


def edge_zones(mesh: Mesh, half: Ints) -> list[Zone]:
    """Zones of edges that share vertices; several half-edges of one edge count once."""
    if not len(half):
        return []
    ends = np.stack(mesh.edge_ends(half), axis=1)
    group = group_edges(mesh, half)
    _, first = np.unique(np.sort(ends, axis=1), axis=0, return_index=True)
    return zones(mesh.vertices[ends], group, np.bincount(group[first]))
