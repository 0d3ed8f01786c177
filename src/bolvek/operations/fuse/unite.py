"""Union of two sound meshes, sound as a file will hold it."""

from collections.abc import Callable, Iterator

import numpy as np
from numpy.typing import NDArray

from bolvek.analyses.shells import faces_alike
from bolvek.analyses.soundness import find_defects
from bolvek.arrays import Bools, Floats, Ints32
from bolvek.errors import WorkError
from bolvek.mesh import Mesh
from bolvek.mesh.topology import collapsed_faces
from bolvek.operations.convex import TooClose
from bolvek.operations.fuse.arrange import UNION, arrange
from bolvek.operations.mend import mend
from bolvek.operations.slim import slim
from bolvek.settings.repairs import MendSettings
from bolvek.spatial.groups import linked_groups
from bolvek.spatial.points import PointTree

JITTER_SHARE = 1e-6
"""How far the second mesh is moved, as a share of the longest side, where a decision is too close to call; each try
goes twice as far as the one before."""
_SEED = 41
_SLIVERS = (1e-6, 1e-5, 1e-4)  # of the longest side
_STIFF, _FARTHEST = 1e-4, 3.0  # of the normals around a vertex; of the distance that planes come out
_DEPTH_SHARE = 2e-4  # of the longest side: and no part of it by more
_TRIES, _EXACT_TRIES = 6, 4
_SAME = 1e-5  # of the longest side: taking slivers out may move the surface by so much in the mean
_TOUCH = "two bodies could not be put together cleanly: they touch along whole faces or edges"
_TIDY = MendSettings(only=("drop", "crossings"))


def unite(a: Mesh, b: Mesh, keep: tuple[int, int] = UNION, tries: int = _TRIES) -> tuple[Mesh, Ints32]:
    """Both meshes as one, or another of the ways of `arrange`; and for each face the face it is of, b's numbered after
    a's (-1: neither's). The second mesh may be moved a little (see `JITTER_SHARE`), faces along the cut too. Raises
    WorkError where no sound result came out."""
    for exact, origin, _ in _arranged(a, b, keep, tries):
        found = settled(exact, origin)
        if found is not None:
            return found
    raise WorkError(_TOUCH)


def settled(exact: Mesh, origin: Ints32) -> tuple[Mesh, Ints32] | None:
    """What was cut and put together, with the face that each face is of (-1: none's), sound as a file will hold it;
    None where that changes more than slivers."""
    result, source = _stored(exact, origin)
    if find_defects(result):
        # rounding may lay slivers flat, or push them through each other
        result, record, before = mend(result, _TIDY)
        if record.verdict not in ("sound", "buried shells"):
            return None
        source = np.where(before >= 0, source[np.maximum(before, 0)], -1).astype(np.int32)
    return (result, source) if not find_defects(result) and _as_large(result, exact) else None


def unite_exactly(a: Mesh, b: Mesh) -> Mesh:
    """The union, closed, not rounded to what a file can hold; slivers along the cut may cross by as little as rounding
    moves. Raises WorkError where none came out."""
    for result, _, moved in _arranged(a, b, UNION, _EXACT_TRIES):
        if result.topology.sound:
            return put_together(result, np.concatenate([a.vertices, b.vertices]), moved) if moved else result
    raise WorkError(_TOUCH)


def put_together(mesh: Mesh, known: Floats, within_mm: float) -> Mesh:
    """A union of bodies that were grown or moved, with what came apart by that put together again: vertices that are
    none of known (N, 3) go to the nearest of those, else to each other, and what that lays flat is taken out. The mesh
    itself where that does not come out sound.
    """
    own = among(mesh.vertices, known)
    fresh = np.flatnonzero(~own)
    if not len(fresh):
        return mesh
    points = mesh.vertices[fresh].copy()
    gap, nearest = PointTree(known).nearest(points, within_mm)
    near = np.isfinite(gap)
    points[near] = known[nearest[near]]
    free = np.flatnonzero(~near)
    pairs = PointTree(points[free]).pairs(within_mm)
    group = linked_groups(len(free), pairs)
    _, first, row = np.unique(group, return_index=True, return_inverse=True)
    points[free] = points[free[first]][row.ravel()]
    vertices = mesh.vertices.copy()
    vertices[fresh] = points
    made = Mesh.from_indexed(vertices, mesh.faces)
    made = _without_doubled(made.picked(~collapsed_faces(made.faces)))
    if not len(made.faces) or not made.topology.sound:
        return mesh
    made, _ = slim(made, within_mm, among(made.vertices, known))
    return mesh if find_defects(made) or not _as_large(made, mesh) else made


def among(points: Floats, known: Floats) -> Bools:
    """Points (P, 3) that are some of known (N, 3), bit for bit."""
    one, other = (np.ascontiguousarray(a + 0.0).view("V24").ravel() for a in (points, known))
    return np.isin(one, other)


def _without_doubled(mesh: Mesh) -> Mesh:
    """The mesh without faces that lie back to back."""
    while True:
        alike = faces_alike(mesh)
        drop = []
        for key in np.unique(alike.key):
            here = alike.key == key
            one, other = alike.faces[here & alike.odd], alike.faces[here & ~alike.odd]
            both = min(len(one), len(other))
            drop += [*one[:both].tolist(), *other[:both].tolist()]
        if not drop:
            return mesh
        mesh = mesh.picked(np.delete(np.arange(len(mesh.faces)), drop))


def stored_soundly(mesh: Mesh, fixed: Callable[[], Bools], within_mm: float | None = None) -> Mesh:
    """A union as a file will hold it: slivers along cuts, whose vertices are not fixed() (V,), are taken out where they
    would spoil it. within_mm: how far that may move a corner (None: by next to nothing). Raises WorkError where it is
    not sound all the same."""
    plain = _stored(mesh, np.zeros(len(mesh.faces), np.int32))[0]
    if not find_defects(plain):
        return plain
    mended = -1  # pairs that crossed when mending last left them
    for share in _SLIVERS:
        slimmed, _ = slim(mesh, share * float(mesh.size.max()), fixed())
        result, _ = _stored(slimmed, np.zeros(len(slimmed.faces), np.int32))
        if find_defects(result):
            # as many as before are the same ones, and come out the same
            if len(result.meeting[0]) == mended:
                continue
            mended = len(result.meeting[0])
            result = mend(result, _TIDY)[0]
        if not find_defects(result) and _as_large(result, mesh, within_mm):
            return result
    raise WorkError("rounded to what a file holds, the parts' union crosses itself")


def _as_large(result: Mesh, exact: Mesh, within_mm: float | None = None) -> bool:
    """Whether taking slivers out left the volume, and no corner far from where it was: a sound result may have lost one
    with them, or a groove."""
    longest = float(exact.size.max())
    within = _DEPTH_SHARE * longest if within_mm is None else within_mm
    if abs(result.volume - exact.volume) > _SAME * longest * exact.area:
        return False
    gaps = (one.tree.nearest(other.vertices)[0] for one, other in ((result, exact), (exact, result)))
    return all(float(gap.max(initial=0.0)) <= within for gap in gaps)


def _arranged(a: Mesh, b: Mesh, keep: tuple[int, int], tries: int) -> Iterator[tuple[Mesh, Ints32, float]]:
    """`arrange` with the second mesh where it is, then grown and moved a little, as often as asked; and by how much.

    Grown, so that bodies which lie on each other meet in earnest instead of being drawn apart.
    """
    rng = np.random.default_rng(_SEED)
    reach = JITTER_SHARE * float(np.maximum(a.size, b.size).max())
    for turn in range(tries):
        moved = b.moved(grown(b, 4 * reach * 2.0**turn) + rng.uniform(-reach, reach, 3) * 2.0**turn) if turn else b
        try:
            result, source = arrange(a, moved, keep)
        except TooClose:
            continue
        by = 2 * _FARTHEST * 4 * reach * 2.0**turn if turn else 0.0  # corners go farther than planes
        yield (_put_back(result, source >= len(a.faces), moved, b) if turn else result), source, by


def _put_back(result: Mesh, theirs: Bools, moved: Mesh, before: Mesh) -> Mesh:
    """The result with those corners of the second mesh where they were before it was moved that no cut face has."""

    def keys(vertices: Floats) -> NDArray[np.void]:
        return np.ascontiguousarray(vertices + 0.0).view("V24").ravel()

    order = np.argsort(keys(moved.vertices))
    known, mine = keys(moved.vertices)[order], keys(result.vertices)
    at = np.minimum(np.searchsorted(known, mine), len(known) - 1)
    found = known[at] == mine
    free = found.copy()
    free[result.faces[~theirs].ravel()] = False
    cut = theirs & ~found[result.faces].all(axis=1)
    free[result.faces[cut].ravel()] = False
    vertices = np.where(free[:, None], before.vertices[order[at]], result.vertices)
    return result.moved(vertices)


def grown(mesh: Mesh, by: float) -> Floats:
    """Vertices (V, 3) moved so that the planes of their faces come out by a distance, each as nearly as all allow: the
    corners of a box exactly (least squares, as in Ju et al. 2002)."""
    unit, n = mesh.unit_normals, len(mesh.vertices)
    square, total = np.zeros((n, 3, 3)), np.zeros((n, 3))
    for k in range(3):
        corner = mesh.faces[:, k]
        for i in range(3):
            total[:, i] += np.bincount(corner, unit[:, i], n)
            for j in range(i, 3):
                square[:, i, j] += np.bincount(corner, unit[:, i] * unit[:, j], n)
    for i, j in ((1, 0), (2, 0), (2, 1)):
        square[:, i, j] = square[:, j, i]
    weight = np.einsum("vii->v", square)
    square[:, range(3), range(3)] += (_STIFF * weight + 1e-12)[:, None]
    way = np.linalg.solve(square, total[:, :, None])[:, :, 0]
    length = np.linalg.norm(way, axis=1, keepdims=True)
    return np.asarray(mesh.vertices + by * way * np.minimum(1.0, _FARTHEST / np.maximum(length, 1e-300)))


def _stored(mesh: Mesh, source: Ints32) -> tuple[Mesh, Ints32]:
    """As a file will hold it, without the faces that have no area left in that."""
    stored = mesh.as_stored()
    gone = collapsed_faces(stored.faces)
    return (stored.picked(~gone), source[~gone]) if gone.any() else (stored, source)
