"""Which shell lies inside which, and what that makes of it."""

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from bolvek.mesh import Mesh
from bolvek.mesh.topology import CROWDED, OPEN

_DIRECTIONS = np.array([[0.5773, 0.2113, 0.7887], [-0.3301, 0.9102, 0.2501], [0.6602, -0.7103, -0.2409]])


@dataclass(frozen=True)
class Shells:
    """Per shell: depth (S,) closed shells around it, signed volume (S,) in mm3, closed (S,) bool.

    inner, outer (P,) list every pair of a shell and one around it. A sound nesting has positive volumes
    at even depth (parts) and negative at odd depth (cavities).
    """

    depth: NDArray[np.int64]
    volume: NDArray[np.float64]
    closed: NDArray[np.bool_]
    inner: NDArray[np.int64]
    outer: NDArray[np.int64]

    @property
    def cavities(self) -> NDArray[np.int64]:
        """Shells that bound an enclosed void."""
        return np.flatnonzero((self.depth % 2 == 1) & (self.volume < 0))

    @property
    def buried(self) -> NDArray[np.int64]:
        """Shells inside another part's material."""
        return np.flatnonzero((self.depth > 0) & (self.volume > 0) & (self.depth % 2 == 1))

    @property
    def inside_out(self) -> NDArray[np.int64]:
        """Outermost shells that face inward."""
        return np.flatnonzero((self.depth == 0) & (self.volume < 0))


def closed_shells(mesh: Mesh) -> NDArray[np.bool_]:
    """Shells (S,) without an open edge and with an even number of uses of every edge.

    Where a use comes from a face that stands there twice, the even number may be that of different faces.
    """
    topology = mesh.topology
    closed = np.ones(topology.shells, bool)
    closed[topology.shell[np.flatnonzero(topology.twin == OPEN) // 3]] = False
    crowded = np.flatnonzero(topology.twin == CROWDED)
    if len(crowded):
        face, k = np.divmod(crowded, 3)
        ends = np.sort(np.stack([mesh.faces[face, k], mesh.faces[face, (k + 1) % 3]], axis=1), axis=1)
        _, edge, uses = np.unique(ends, axis=0, return_inverse=True, return_counts=True)
        edge = edge.ravel()
        _, corners = np.unique(np.sort(mesh.faces[face], axis=1), axis=0, return_inverse=True)
        different = np.unique(np.stack([edge, corners.ravel()], axis=1), axis=0)[:, 0]
        odd = (uses % 2 == 1) & (np.bincount(different, minlength=len(uses)) % 2 == 1)
        closed[topology.shell[face[odd[edge]]]] = False
    return closed


def nest_shells(mesh: Mesh) -> Shells:
    """Depth, volume and containers of each shell; only closed shells contain.

    One point of each shell is tested by the parity of ray hits with every other shell, three rays,
    the majority deciding.
    """
    topology = mesh.topology
    n = topology.shells
    closed = closed_shells(mesh)
    none = np.zeros(0, np.int64)
    if n <= 1:
        return Shells(np.zeros(n, np.int64), mesh.shell_volumes, closed, none, none)
    # the middle of the largest face: the least likely to touch another shell
    largest = np.full(n, -1.0)
    np.maximum.at(largest, topology.shell, mesh.face_areas)
    candidates = np.flatnonzero(mesh.face_areas == largest[topology.shell])
    chosen = np.zeros(n, np.int64)
    chosen[topology.shell[candidates[::-1]]] = candidates[::-1]
    points = mesh.vertices[mesh.faces[chosen]].mean(axis=1)
    inside = []
    for direction in _DIRECTIONS:
        most = 64
        while True:
            hits = mesh.tree.rays(points, np.broadcast_to(direction, points.shape), most=most)
            if hits.found.max() < most or most > 1 << 16:
                break
            most *= 8
        ray, column = np.nonzero(hits.face >= 0)
        pair, count = np.unique(ray * np.int64(n) + topology.shell[hits.face[ray, column]], return_counts=True)
        inside.append(pair[count % 2 == 1])
    pair, votes = np.unique(np.concatenate(inside), return_counts=True)
    inner, outer = np.divmod(pair[votes >= 2], n)
    keep = (inner != outer) & closed[outer]
    inner, outer = inner[keep], outer[keep]
    return Shells(np.bincount(inner, minlength=n), mesh.shell_volumes, closed, inner, outer)
