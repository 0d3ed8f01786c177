"""Which shell lies inside which, and what that makes of it."""

from dataclasses import dataclass
from fractions import Fraction

import numpy as np

from bolvek.analyses.shells.openings import Openings, lids
from bolvek.arrays import Bools, Floats, Ints
from bolvek.mesh import Mesh
from bolvek.mesh.topology import CROWDED, OPEN
from bolvek.spatial.tree import Tree

_DIRECTIONS = np.array([[0.5773, 0.2113, 0.7887], [-0.3301, 0.9102, 0.2501], [0.6602, -0.7103, -0.2409]])


@dataclass(frozen=True)
class Shells:
    """Per shell: depth (S,) closed shells around it, signed volume (S,) in mm3, closed (S,) bool.

    inner, outer (P,) list every pair of a shell and one around it. A sound nesting has positive volumes
    at even depth (parts) and negative at odd depth (cavities).
    """

    depth: Ints
    volume: Floats
    closed: Bools
    inner: Ints
    outer: Ints

    @property
    def cavities(self) -> Ints:
        """Shells that bound an enclosed void."""
        return np.flatnonzero((self.depth % 2 == 1) & (self.volume < 0))

    @property
    def around(self) -> Ints:
        """How often material is wound around the outside of each shell (S,): 0 in air, 1 in material."""
        facing = np.where(self.volume < 0, -1, 1)
        return np.bincount(self.inner, facing[self.outer], len(self.depth)).astype(np.int64)

    @property
    def voids(self) -> tuple[Ints, Floats]:
        """Shells that close a void in material, and its volume (mm3) without the parts that lie in it."""
        shells = np.flatnonzero((self.volume < 0) & (self.around == 1))
        volume = -self.volume[shells]
        for k, shell in enumerate(shells):
            within = self.inner[self.outer == shell]
            loose = within[self.depth[within] == self.depth[shell] + 1]
            volume[k] -= np.abs(self.volume[loose]).sum()
        return shells, volume


def closed_shells(mesh: Mesh) -> Bools:
    """Shells (S,) without an open edge and with an even number of uses of every edge.

    Where a use comes from a face that stands there twice, the even number may be that of different faces.
    """
    topology = mesh.topology
    closed = np.ones(topology.shells, bool)
    closed[topology.shell[np.flatnonzero(topology.opposite == OPEN) // 3]] = False
    crowded = np.flatnonzero(topology.opposite == CROWDED)
    if len(crowded):
        face = crowded // 3
        ends = np.sort(np.stack(mesh.edge_ends(crowded), axis=1), axis=1)
        _, edge, uses = np.unique(ends, axis=0, return_inverse=True, return_counts=True)
        edge = edge.ravel()
        _, corners = np.unique(np.sort(mesh.faces[face], axis=1), axis=0, return_inverse=True)
        different = np.unique(np.stack([edge, corners.ravel()], axis=1), axis=0)[:, 0]
        odd = (uses % 2 == 1) & (np.bincount(different, minlength=len(uses)) % 2 == 1)
        closed[topology.shell[face[odd[edge]]]] = False
    return closed


def nest_exactly(mesh: Mesh) -> Shells:
    """Depth, volume and containers of each shell of a sound mesh, by exact predicates.

    Shells that do not meet lie inside or outside each other with all they have, so one vertex stands for a
    shell: the faces that a line from it goes through are found exactly (see `kernels.tree.stab`). The facing
    of a shell whose volume is near rounding is told in rational numbers.
    """
    topology = mesh.topology
    n = topology.shells
    starts = mesh.faces[topology.first_face, 0].astype(np.int64)
    stabbed = mesh.tree.stab(starts) if n > 1 else np.zeros((0, 3), np.int64)
    outer = topology.shell[stabbed[:, 1]].astype(np.int64)
    pair, at = np.unique(stabbed[:, 0] * np.int64(n) + outer, return_inverse=True)
    wound = np.bincount(at.ravel(), stabbed[:, 2], len(pair)).astype(np.int64)
    inner, outer = np.divmod(pair[wound != 0], n)
    keep = inner != outer
    inner, outer = inner[keep], outer[keep]
    volume = mesh.shell_volumes.copy()
    reach = float(np.abs(mesh.bounds).max(initial=0.0))
    area = np.bincount(topology.shell, mesh.face_areas, n)
    for s in np.flatnonzero(np.abs(volume) <= 1e-12 * reach * area):
        volume[s] = _exact_volume(mesh.vertices[mesh.faces[topology.shell == s]])
    return Shells(np.bincount(inner, minlength=n), volume, np.ones(n, bool), inner, outer)


def _exact_volume(corners: Floats) -> float:
    """Signed volume of closed triangles (N, 3, 3), exact but for the last rounding."""
    total = Fraction(0)
    for triangle in corners.tolist():
        (ax, ay, az), (bx, by, bz), (cx, cy, cz) = ([Fraction(x) for x in p] for p in triangle)
        total += ax * (by * cz - bz * cy) + ay * (bz * cx - bx * cz) + az * (bx * cy - by * cx)
    return float(total / 6)


def nest_shells(mesh: Mesh, openings: Openings | None = None) -> Shells:
    """Depth, volume and containers of each shell; only closed shells contain, and those closed in thought.

    openings: those of the mesh; shells without a rim are closed by lids over their openings. One point of each
    shell is tested by the parity of ray hits with every other shell, three rays, the majority deciding.
    """
    topology = mesh.topology
    n = topology.shells
    closed = closed_shells(mesh)
    volume, none = mesh.shell_volumes, np.zeros(0, np.int64)
    tree, shell, contains = mesh.tree, topology.shell.astype(np.int64), closed
    if openings is not None and openings.found and not openings.skin.all():
        lid, owner, _ = lids(mesh, openings)
        contains = closed | (~openings.skin & _only_open(mesh))
        volume = volume + np.bincount(owner, fan_volumes(lid - mesh.bounds.mean(axis=0)), n)
        if n > 1:
            corners = np.concatenate([mesh.corners, lid]).reshape(-1, 3)
            tree = Tree(corners, np.arange(len(corners), dtype=np.int32).reshape(-1, 3))
            shell = np.concatenate([shell, owner])
        # what seams hold together contains as one
        shell = openings.group.astype(np.int64)[shell]
    if n <= 1:
        return Shells(np.zeros(n, np.int64), volume, closed, none, none)
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
            hits = tree.rays(points, np.broadcast_to(direction, points.shape), most=most)
            if hits.found.max() < most or most > 1 << 16:
                break
            most *= 8
        ray, column = np.nonzero(hits.face >= 0)
        pair, count = np.unique(ray * np.int64(n) + shell[hits.face[ray, column]], return_counts=True)
        inside.append(pair[count % 2 == 1])
    pair, votes = np.unique(np.concatenate(inside), return_counts=True)
    inner, outer = np.divmod(pair[votes >= 2], n)
    group = np.arange(n) if openings is None else openings.group.astype(np.int64)
    keep = (group[inner] != group[outer]) & contains[outer]
    inner, outer = inner[keep], outer[keep]
    return Shells(np.bincount(inner, minlength=n), volume, closed, inner, outer)


def _only_open(mesh: Mesh) -> Bools:
    """Shells (S,) that nothing but open edges keeps from being closed: no edge of theirs is used by three faces."""
    fine = np.ones(mesh.topology.shells, bool)
    fine[mesh.topology.shell[np.flatnonzero(mesh.topology.opposite == CROWDED) // 3]] = False
    return fine


def fan_volumes(corners: Floats) -> Floats:
    """Volume (N,) of the tetrahedra between triangles (N, 3, 3) and the origin."""
    cross = np.cross(corners[:, 1], corners[:, 2])
    return np.asarray(np.einsum("ij,ij->i", corners[:, 0], cross) / 6)
