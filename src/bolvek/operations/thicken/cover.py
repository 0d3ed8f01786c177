"""A skin with two sides: each face twice, back to back, joined along the rim.

Every fan of faces at a vertex gets two vertices, one a side; which side of a face belongs to which is found by going
around the fan. So the two copies of a skin are apart where it has two sides, and one surface where it has only one
(a Moebius band), with nothing to be told apart.
"""

from dataclasses import dataclass

import numpy as np

from bolvek.arrays import Bools, Floats, Ints, Ints32, stored
from bolvek.mesh import Mesh
from bolvek.mesh.topology import OPEN
from bolvek.spatial.groups import linked_groups

_PULL = 0.05
MOST_MITRE = 1.6
"""At a crease the other side is as far from both faces as elsewhere, unless its corner would be farther off than so
many thicknesses."""


@dataclass(frozen=True)
class Cover:
    """faces (2F, 3): first as the skin's, then turned; rim (2R, 3): the strip between the two. place (N,): the skin's
    vertex of each of ours; mate (N,): the one on the other side; front (N,): those that the skin's own sides use (all,
    where it has one side only); out (N, 3): how far a thickness of 1 mm moves each, outward; half (R,): open
    half-edges, with two faces of the rim each."""

    skin: Mesh
    faces: Ints32
    rim: Ints32
    place: Ints
    mate: Ints
    front: Bools
    back: Bools
    out: Floats
    half: Ints

    @property
    def one_sided(self) -> bool:
        """Whether a vertex is used by both sides."""
        return bool((self.front & self.back).any())

    def edges(self) -> tuple[Ints, Ints]:
        """Ends (E,) of the edges of the covering faces, twice each."""
        return self.faces.ravel().astype(np.int64), np.roll(self.faces, -1, axis=1).ravel().astype(np.int64)

    def solid(self, move: Floats) -> Mesh:
        """The closed mesh with each vertex moved outward by so many mm (N,), as a file will hold it; the vertices are
        not welded."""
        points = self.skin.vertices[self.place] + self.out * move[:, None]
        points[move == 0] = self.skin.vertices[self.place[move == 0]]
        return Mesh(stored(points), np.concatenate([self.faces, self.rim]))


def cover(skin: Mesh, smoothed: int = 0) -> Cover:
    """The two sides of a skin, its normals smoothed so many rounds."""
    n, topology = len(skin.faces), skin.topology
    half = np.flatnonzero(topology.opposite >= 0)
    other, same = topology.opposite[half].astype(np.int64), topology.same_way[half]
    a, b, c, d = half, _after(half), other, _after(other)
    # the corner at an edge's end goes with the other face's corner there, on its other side where they disagree
    first, second = np.where(same, c, d), np.where(same, d, c)
    flip = 3 * n * same.astype(np.int64)
    links = [np.stack([x, y + flip], axis=1) for x, y in ((a, first), (b, second))]
    links += [np.stack([x + 3 * n, (y + flip + 3 * n) % (6 * n)], axis=1) for x, y in ((a, first), (b, second))]
    node = linked_groups(6 * n, np.concatenate(links)).astype(np.int64)
    count = int(node.max()) + 1
    plus, minus = node[: 3 * n].reshape(-1, 3), node[3 * n :].reshape(-1, 3)
    place, mate = np.empty(count, np.int64), np.empty(count, np.int64)
    place[plus], place[minus] = skin.faces, skin.faces
    mate[plus], mate[minus] = minus, plus
    front, back = np.zeros(count, bool), np.zeros(count, bool)
    front[plus], back[minus] = True, True
    edge = np.flatnonzero(topology.opposite == OPEN)
    f, k = np.divmod(edge, 3)
    a, b = plus[f, k], plus[f, (k + 1) % 3]
    c, d = minus[f, k], minus[f, (k + 1) % 3]
    rim = np.stack([np.stack([b, a, c], axis=1), np.stack([b, c, d], axis=1)], axis=1).reshape(-1, 3)
    faces = np.concatenate([plus, minus[:, ::-1]]).astype(np.int32)
    out = _outward(skin, plus, minus, count, mate, smoothed)
    return Cover(skin, faces, rim.astype(np.int32), place, mate, front, back, out, edge)


def _after(half: Ints) -> Ints:
    return np.where(half % 3 == 2, half - 2, half + 1)


def _outward(skin: Mesh, plus: Ints, minus: Ints, count: int, mate: Ints, smoothed: int) -> Floats:
    """Where vertices (N, 3) go for a thickness of 1: as far as possible the same off all faces around them."""
    normal, corners = skin.unit_normals, skin.corners
    total, square, mean = np.zeros(count), np.zeros((count, 6)), np.zeros((count, 3))
    for k in range(3):
        u = corners[:, (k + 1) % 3] - corners[:, k]
        w = corners[:, (k + 2) % 3] - corners[:, k]
        angle = np.arctan2(np.linalg.norm(np.cross(u, w), axis=1), np.einsum("ij,ij->i", u, w))
        for node, sign in ((plus[:, k], 1.0), (minus[:, k], -1.0)):
            total += np.bincount(node, angle, count)
            for i in range(3):
                mean[:, i] += np.bincount(node, sign * angle * normal[:, i], count)
            for row, (i, j) in enumerate(_SYMMETRIC):
                square[:, row] += np.bincount(node, angle * normal[:, i] * normal[:, j], count)
    total = np.maximum(total, 1e-300)
    unit = mean / np.maximum(np.linalg.norm(mean, axis=1), 1e-300)[:, None]
    if smoothed:
        unit = _smoothed(unit, np.concatenate([plus, minus]), count, smoothed)
        along = np.einsum("ij,ij->i", mean, unit) / total
        return np.asarray(unit * np.clip(1.0 / np.maximum(along, 1e-3), 1.0, MOST_MITRE)[:, None])
    matrix = np.empty((count, 3, 3))
    for row, (i, j) in enumerate(_SYMMETRIC):
        matrix[:, i, j] = matrix[:, j, i] = square[:, row] / total
    matrix += _PULL * np.eye(3)
    out = np.linalg.solve(matrix, (mean / total[:, None] + _PULL * unit)[:, :, None])[:, :, 0]
    length = np.linalg.norm(out, axis=1)
    return np.asarray(out * np.minimum(1.0, MOST_MITRE / np.maximum(length, 1e-300))[:, None])


_SYMMETRIC = ((0, 0), (0, 1), (0, 2), (1, 1), (1, 2), (2, 2))


def _smoothed(unit: Floats, faces: Ints, count: int, rounds: int) -> Floats:
    """Unit vectors (N, 3), each round the mean of those around, itself among them."""
    from scipy.sparse import csr_matrix, identity

    a, b = faces.ravel(), np.roll(faces, -1, axis=1).ravel()
    ones = np.ones(2 * len(a))
    around = csr_matrix((ones, (np.concatenate([a, b]), np.concatenate([b, a]))), shape=(count, count))
    around = around + identity(count, format="csr")
    for _ in range(rounds):
        unit = around @ unit
        unit /= np.maximum(np.linalg.norm(unit, axis=1), 1e-300)[:, None]
    return unit
