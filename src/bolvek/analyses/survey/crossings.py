"""Self-intersections gathered into zones, told apart by the shells that meet."""

import numpy as np

from bolvek.analyses.survey.record import Crossing, Crossings
from bolvek.analyses.zones import zones
from bolvek.arrays import Bools, Floats, Ints, Ints32
from bolvek.kernels.surface import defects as kernels
from bolvek.mesh import Mesh
from bolvek.spatial.groups import linked_groups
from bolvek.spatial.parallel import run_ranges
from bolvek.spatial.tree import Tree

_MOST_ZONES = 10_000


_MOST_TESTED = 2000  # pairs of shells that touch, beyond which they are told as crossing
_INNER = np.array(
    [(1, 1, 1), (8, 1, 1), (1, 8, 1), (1, 1, 8), (4.5, 4.5, 1), (1, 4.5, 4.5), (4.5, 1, 4.5)], np.float64
)  # places in a face, as weights of its corners
_LEAST_RUN = 1e-9  # share of the longest side: faces that cross along less touch in a point


def find_crossings(mesh: Mesh, pairs: Ints32, *, total: int, twins: int, touch: Ints, apart: Ints) -> Crossings:
    """Zones of pairs (P, 2) of meeting faces that are no twins, out of `total` pairs that there are.

    touch: pairs of shells, as a S + b, that touch without going into each other; apart: those of them that are
    named parts of the file, whose contact is none of a model's faults.
    """
    if not len(pairs):
        return Crossings(total, of_twins=twins)
    shells = mesh.topology.shells
    shell = mesh.topology.shell.astype(np.int64)
    key = np.sort(shell[pairs], axis=1)
    key_code = key[:, 0] * shells + key[:, 1]
    keys, at = np.unique(key_code, return_inverse=True)
    # a node is a face together with the pair of shells it crosses for
    code = pairs.astype(np.int64) * len(keys) + at.ravel()[:, None]
    nodes, number = np.unique(code, return_inverse=True)
    number = number.reshape(-1, 2)
    face, kind = np.divmod(nodes, len(keys))
    links = [number]
    for k in range(3):
        opposite = mesh.topology.opposite[3 * face + k]
        beside = np.where(opposite >= 0, opposite // 3 * len(keys) + kind, -1)
        place = np.minimum(np.searchsorted(nodes, beside), len(nodes) - 1)
        same = nodes[place] == beside
        links.append(np.stack([np.flatnonzero(same), place[same]], axis=1))
    group = linked_groups(len(nodes), np.concatenate(links))
    # a pair lies in the group of either of its nodes, and in what the boxes of its faces have in common
    pair_group = group[number[:, 0]]
    of = np.zeros(int(group.max()) + 1, np.int64)
    of[pair_group] = at.ravel()
    corners = mesh.vertices[mesh.faces[pairs]]
    common = np.stack([corners.min(axis=2).max(axis=1), corners.max(axis=2).min(axis=1)], axis=1)
    label = np.asarray(np.unique(pair_group, return_inverse=True)[1], np.int32)
    count = np.bincount(label)
    kinds = of[np.unique(pair_group)]
    found = []
    for zone in zones(common, label, np.arange(len(count)), _MOST_ZONES):  # the group's number stands in for the count
        a, b = divmod(int(keys[kinds[zone.count]]), shells)
        only = bool(np.isin(a * shells + b, touch))
        found.append(Crossing(int(count[zone.count]), zone.where_mm, zone.size_mm, (a + 1, b + 1), only))
    of_itself = int((key[:, 0] == key[:, 1]).sum())
    contact = int(np.isin(key_code, apart).sum())
    touching = int(np.isin(key_code, touch).sum())
    rest = len(pairs) - of_itself - touching
    return Crossings(total, len(pairs), rest, of_itself, touching, contact, twins, len(count), found)


def find_touching(mesh: Mesh, pairs: Ints32, sign: Floats) -> Ints:
    """Pairs of shells, as a S + b with a < b, that meet without either going into the other's material.

    Exact where faces cross in earnest or lie in one plane facing the same way; else points just inside the faces
    that meet are asked for the other shell's winding number.
    """
    shells = mesh.topology.shells
    shell = mesh.topology.shell.astype(np.int64)
    key = np.sort(shell[pairs], axis=1)
    between = key[:, 0] != key[:, 1]
    pairs, code = pairs[between], key[between, 0] * shells + key[between, 1]
    if not len(pairs):
        return code
    kind = np.empty(len(pairs), np.int8)
    run_ranges(lambda b, e: kernels.pair_sides(mesh.vertices, mesh.faces, pairs, b, e, kind), len(pairs))
    normal = mesh.area_vectors * sign[:, None]
    same_way = np.einsum("ij,ij->i", normal[pairs[:, 0]], normal[pairs[:, 1]]) > 0
    into = np.zeros(len(pairs), bool)
    rows = np.flatnonzero((kind == 2) & same_way)
    into[rows] = _share_area(mesh, pairs[rows])
    rows = np.flatnonzero(kind == 1)
    into[rows] = _run(mesh, pairs[rows]) > _LEAST_RUN * float(mesh.size.max())
    left = np.setdiff1d(code, code[into])
    if len(left) > _MOST_TESTED:
        return np.zeros(0, np.int64)
    trees: dict[int, Tree] = {}
    fine = [not _goes_into(mesh, pairs[code == c], sign, *divmod(int(c), shells), trees) for c in left]
    return left[np.array(fine, bool)]


def _share_area(mesh: Mesh, pairs: Ints32) -> Bools:
    """Whether the two faces of each pair (P, 2), which lie in one plane, overlap: no side of either parts them."""
    normal = mesh.area_vectors[pairs[:, 0]]
    apart = np.zeros(len(pairs), bool)
    for one, other in ((0, 1), (1, 0)):
        a, b = mesh.corners[pairs[:, one]], mesh.corners[pairs[:, other]]
        way = np.sign(np.einsum("ij,ij->i", mesh.area_vectors[pairs[:, one]], normal))
        for k in range(3):
            inward = way[:, None] * np.cross(normal, a[:, (k + 1) % 3] - a[:, k])
            size = np.linalg.norm(inward, axis=1) * float(mesh.size.max())
            apart |= (np.einsum("ikj,ij->ik", b - a[:, k, None], inward) <= 1e-9 * size[:, None]).all(axis=1)
    return ~apart


def _run(mesh: Mesh, pairs: Ints32) -> Floats:
    """How far (P,) the two faces of each pair cross along their common line, in mm."""
    one, other = mesh.corners[pairs[:, 0]], mesh.corners[pairs[:, 1]]
    line = np.cross(mesh.area_vectors[pairs[:, 0]], mesh.area_vectors[pairs[:, 1]])
    line /= np.maximum(np.linalg.norm(line, axis=1), 1e-300)[:, None]
    ends = []
    for face, plane, at in ((one, pairs[:, 1], other), (other, pairs[:, 0], one)):
        height = np.einsum("ikj,ij->ik", face - at[:, :1], mesh.area_vectors[plane])
        along = np.einsum("ikj,ij->ik", face - one[:, :1], line)
        low, high = np.full(len(pairs), np.inf), np.full(len(pairs), -np.inf)
        for k in range(3):
            a, b = height[:, k], height[:, (k + 1) % 3]
            cuts = (a > 0) != (b > 0)
            t = np.divide(a, a - b, out=np.zeros(len(a)), where=cuts & (a != b))
            p = along[:, k] + t * (along[:, (k + 1) % 3] - along[:, k])
            low, high = np.where(cuts, np.minimum(low, p), low), np.where(cuts, np.maximum(high, p), high)
        ends.append((low, high))
    (a, b), (c, d) = ends
    return np.asarray(np.minimum(b, d) - np.maximum(a, c))


def _goes_into(mesh: Mesh, pairs: Ints32, sign: Floats, a: int, b: int, trees: dict[int, Tree]) -> bool:
    """Whether faces of shell a that meet shell b have b's material beneath them, or the other way round.

    trees, one a shell, are made as they are needed.
    """
    shell = mesh.topology.shell
    for inner, outer in ((a, b), (b, a)):
        faces = np.unique(pairs[shell[pairs] == inner])
        weights = _INNER / _INNER.sum(axis=1, keepdims=True)
        points = np.einsum("wk,fkj->fwj", weights, mesh.vertices[mesh.faces[faces]])
        step = 1e-4 * np.sqrt(mesh.face_areas[faces]) * sign[faces]
        points -= (step[:, None] * mesh.normals_of(faces))[:, None]
        if outer not in trees:
            other = np.flatnonzero(shell == outer)
            turned = np.where(sign[other, None] < 0, mesh.faces[other, ::-1], mesh.faces[other])
            trees[outer] = Tree(mesh.vertices, np.ascontiguousarray(turned))
        if (trees[outer].winding(points.reshape(-1, 3)) > 0.5).any():
            return True
    return False
