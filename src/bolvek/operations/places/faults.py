"""Where a surface is at fault, and which pieces of the rest bound material.

Faults cut the surface into patches. A patch with the generalized winding number of all faces (Jacobson and others
2013) near nothing before it, and so near one behind it, bounds material. One that has material before it lies within,
and goes; one that has air behind it is a sheet without thickness.
"""

from dataclasses import dataclass

import numpy as np

from bolvek.analyses.soundness import flat_faces, split_vertices
from bolvek.arrays import Bools, Floats, Ints
from bolvek.mesh import Mesh
from bolvek.mesh.topology import CROWDED
from bolvek.spatial.groups import linked_groups

BOUNDS, BURIED, WALL, UNDECIDED = range(4)
"""A wall is buried too, and nothing opens without it."""
_CLEAR, _WITHIN, _DOUBTFUL = 0.25, 0.35, 0.15
"""A patch bounds material where the number before it is nearer to nothing than the first, and lies within it where
it is above the second, or above the third and nothing opens without it."""
_ROUNDS = 4
_AGREE = 0.9  # of the places asked
_ASKED = 24  # places a patch
_BEFORE = 1e-4  # of a face's size: how far before it is asked


@dataclass(frozen=True)
class Faults:
    """Half-edges (H,) at which two faces do not go together, vertices (V,) where fans touch, faces (F,) bool that
    cross, touch or have no area."""

    half: Ints
    vertex: Ints
    face: Bools

    def __bool__(self) -> bool:
        return bool(len(self.half) or len(self.vertex) or self.face.any())


def find_faults(mesh: Mesh) -> Faults:
    """All that keeps a mesh from being sound."""
    t = mesh.topology
    face = flat_faces(mesh).copy()
    face[mesh.meeting[0].ravel()] = True
    return Faults(np.flatnonzero((t.opposite < 0) | t.same_way), split_vertices(mesh), face)


def places_of(mesh: Mesh, found: Faults, step_mm: float, more: Bools | None = None) -> Floats:
    """Points (N, 3) on what is at fault, and on more faces (F,), so that none of it is farther from one than a step."""
    a, b = (mesh.vertices[end] for end in mesh.edge_ends(found.half))
    faces = found.face if more is None else found.face | more
    return np.concatenate([along(a, b, step_mm), mesh.vertices[found.vertex], _across(mesh.corners[faces], step_mm)])


def along(a: Floats, b: Floats, step_mm: float) -> Floats:
    """Points (N, 3) on lines (L, 3), no farther apart than a step."""
    count = np.maximum(np.ceil(np.linalg.norm(b - a, axis=1) / step_mm).astype(np.int64), 1) + 1
    line = np.repeat(np.arange(len(a)), count)
    number = np.arange(len(line)) - np.repeat(np.cumsum(count) - count, count)
    share = number / (count - 1)[line]
    return np.asarray(a[line] + share[:, None] * (b - a)[line])


def _across(corners: Floats, step_mm: float) -> Floats:
    """Points on faces (F, 3, 3)."""
    done = [np.zeros((0, 3))]
    while len(corners):
        edges = np.linalg.norm(np.roll(corners, -1, axis=1) - corners, axis=2)
        long = edges.max(axis=1) > step_mm
        done.append(corners[~long].reshape(-1, 3))
        corners, k = corners[long], edges[long].argmax(axis=1)
        rows = np.arange(len(corners))
        a, b, c = (corners[rows, (k + i) % 3] for i in range(3))
        middle = 0.5 * (a + b)
        corners = np.concatenate([np.stack([a, middle, c], axis=1), np.stack([middle, b, c], axis=1)])
    return np.concatenate(done)


def judge_patches(mesh: Mesh, found: Faults, held: Bools) -> tuple[Ints, Ints]:
    """The patch (F,) of each face between faults, -1 for those at fault and those held (F,) by what is made anew; and
    for each patch (P,) BOUNDS, BURIED, WALL or UNDECIDED."""
    across = mesh.topology.opposite
    whole = np.ones(len(across), bool)
    whole[found.half] = False
    half = np.flatnonzero(whole & (across > np.arange(len(across))))
    links = np.stack([half // 3, across[half] // 3], axis=1).astype(np.int64)
    links = links[~found.face[links].any(axis=1)]
    _, patch = np.unique(linked_groups(len(mesh.faces), links), return_inverse=True)
    count = int(patch.max()) + 1
    patch = np.where(found.face, -1, patch)
    asked = np.flatnonzero((patch >= 0) & ~held)
    rng = np.random.default_rng(29)
    order = asked[np.lexsort((rng.random(len(asked)), patch[asked]))]
    first = np.concatenate([[True], np.diff(patch[order]) != 0]) if len(order) else np.zeros(0, bool)
    start = np.flatnonzero(first)
    rank = np.arange(len(order)) - np.repeat(start, np.diff([*start, len(order)]))
    face = order[rank < _ASKED]
    off = _BEFORE * np.sqrt(mesh.face_areas[face])[:, None] * mesh.normals_of(face)
    before = mesh.tree.winding(mesh.corners[face].mean(axis=1) + off)
    n = np.maximum(np.bincount(patch[face], minlength=count), 1)
    bounds = np.bincount(patch[face], np.abs(before) <= _CLEAR, count) / n
    within = np.bincount(patch[face], before >= _WITHIN, count) / n
    told = np.full(count, UNDECIDED)
    told[bounds >= _AGREE], told[within >= _AGREE] = BOUNDS, BURIED
    # where several walls meet, each hides the others' share of the number: what they leave is asked for as well
    doubtful = np.bincount(patch[face], before >= _DOUBTFUL, count) / n >= _AGREE
    told[_spare(mesh, found, patch, doubtful)] = WALL
    return np.where(held, -1, patch).astype(np.int64), told


def _spare(mesh: Mesh, found: Faults, patch: Ints, doubtful: Bools) -> Bools:
    """Of doubtful patches (P,) those bounded by edges of more than two faces only, which without all of them are edges
    of two that agree, or none."""
    t = mesh.topology
    rim = found.half[t.opposite[found.half] == CROWDED]
    ends = np.stack(mesh.edge_ends(rim), axis=1).astype(np.int64)
    edge = np.unique(np.sort(ends, axis=1), axis=0, return_inverse=True)[1].ravel()
    ahead, own = ends[:, 0] < ends[:, 1], patch[rim // 3]
    spare = doubtful.copy()
    # nor any that end at something else
    other = found.half[t.opposite[found.half] != CROWDED] // 3
    across = np.flatnonzero((t.opposite >= 0) & found.face[np.maximum(t.opposite, 0) // 3]) // 3
    beside = np.concatenate([patch[other], patch[across]])
    spare[beside[beside >= 0]] = False
    while True:
        gone = (own >= 0) & spare[np.maximum(own, 0)]
        left = np.stack(
            [np.bincount(edge[~gone & way], minlength=int(edge.max(initial=-1)) + 1) for way in (ahead, ~ahead)]
        )
        wrong = own[gone & ~((left[0] == left[1]) & (left[0] <= 1))[edge]]
        if not len(wrong):
            return spare
        spare[wrong] = False


def without_buried(mesh: Mesh, *, walls_only: bool = False) -> tuple[Mesh, int]:
    """Without patches that lie within material (or only those without which nothing opens), and how many faces these
    were."""
    begin = len(mesh.faces)
    for _ in range(_ROUNDS):
        faults = find_faults(mesh)
        if not faults:
            break
        patch, told = judge_patches(mesh, faults, np.zeros(len(mesh.faces), bool))
        gone = (patch >= 0) & np.isin(told[np.maximum(patch, 0)], (WALL,) if walls_only else (BURIED, WALL))
        if not gone.any() or gone.all():
            break
        mesh = mesh.picked(~gone)
    return mesh, begin - len(mesh.faces)
