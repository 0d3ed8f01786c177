"""Which shell lies inside which, and what that makes of it."""

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from bolvek.mesh import Mesh

_DIRECTIONS = np.array([[0.5773, 0.2113, 0.7887], [-0.3301, 0.9102, 0.2501], [0.6602, -0.7103, -0.2409]])


@dataclass(frozen=True)
class Shells:
    """Per shell of a closed mesh: depth (S,) shells around it, signed volume (S,) in mm3.

    A sound nesting has positive volumes at even depth (parts) and negative at odd depth (cavities).
    """

    depth: NDArray[np.int64]
    volume: NDArray[np.float64]

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


def nest_shells(mesh: Mesh) -> Shells:
    """Depth and volume of each shell of a closed mesh.

    One point of each shell is tested by the parity of ray hits with every other shell, three rays,
    the majority deciding.
    """
    topology = mesh.topology
    n = topology.shells
    if n <= 1:
        return Shells(np.zeros(n, np.int64), mesh.shell_volumes)
    points = mesh.vertices[mesh.faces[topology.first_face]].mean(axis=1)
    votes = np.zeros((n, n), np.int64)
    for direction in _DIRECTIONS:
        most = 64
        while True:
            hits = mesh.tree.rays(points, np.broadcast_to(direction, points.shape), most=most)
            if hits.found.max() < most or most > 1 << 16:
                break
            most *= 8
        ray, column = np.nonzero(hits.face >= 0)
        crossed = topology.shell[hits.face[ray, column]]
        counts = np.zeros((n, n), np.int64)
        np.add.at(counts, (ray, crossed), 1)
        votes += counts % 2
    inside = votes >= 2
    np.fill_diagonal(inside, False)
    return Shells(inside.sum(axis=1), mesh.shell_volumes)
