"""First step: rims that lie on each other become one.

Only vertices of open edges are welded, in pairs that are nearest to each other, and only where that closes edges. Two
faces that would then lie on each other like the sides of a thin wall are no crack, and are left.
"""

import numpy as np

from bolvek.analyses.shells import open_pairs
from bolvek.analyses.shells.rims import lying_on_edges
from bolvek.analyses.soundness.around import crossing_pairs
from bolvek.analyses.zones import edge_zones
from bolvek.arrays import Bools, Ints, Ints32
from bolvek.mesh import Mesh
from bolvek.mesh.topology import CROWDED, OPEN, collapsed_faces
from bolvek.operations.mend.draft import Draft
from bolvek.operations.mend.record import MendStep, Place
from bolvek.spatial.groups import linked_groups

FOLD_DEG = 25.0
"""Faces that would meet at less than this angle are the sides of a thin wall, not the banks of a crack."""

_ROUNDS = 4
_CHECKS = 8


def weld(draft: Draft, near_mm: float) -> tuple[Draft, MendStep]:
    """Weld rims nearer than `near_mm`; vertices that lie on an open edge are put into it first."""
    begin = draft
    places: list[Place] = []
    moved, welded, split = 0.0, 0, 0
    for _ in range(_ROUNDS):
        draft, here, far, where = _weld_pairs(draft, near_mm)
        draft, cut = _split_edges(draft, near_mm)
        places += where
        welded, split, moved = welded + here, split + cut, max(moved, far)
        if not here + cut:
            break
    counts = {"vertices": welded, "edges_split": split}
    closed = begin.mesh.topology.open_edges - draft.mesh.topology.open_edges
    counts = {"edges_closed": closed, **counts}
    return draft, MendStep(step="weld", counts={k: n for k, n in counts.items() if n}, places=places, moved_mm=moved)


def _weld_pairs(draft: Draft, near_mm: float) -> tuple[Draft, int, float, list[Place]]:
    """One round of vertices nearest to each other: how many were welded, how far they went, and where."""
    mesh = draft.mesh
    pairs = open_pairs(mesh, near_mm) if mesh.topology.open_edges else np.zeros((0, 2), np.int64)
    pairs = _tight(mesh, pairs, near_mm) if len(pairs) else pairs
    for _ in range(_CHECKS):
        if not len(pairs):
            return draft, 0, 0.0, []
        label = np.arange(len(mesh.vertices), dtype=np.int32)
        label[pairs[:, 1]] = pairs[:, 0]
        faces = label[mesh.faces]
        touched = np.zeros(len(mesh.vertices), bool)
        touched[pairs] = True
        changed = np.flatnonzero(touched[faces].any(axis=1))
        bad = _bad_welds(mesh, changed, faces[changed], pairs)
        if not bad.any():
            done = draft.edited(faces=faces)
            crossing = crossing_pairs(done.mesh, changed, mesh, near_mm)
            if len(crossing) <= len(crossing_pairs(mesh, changed)):
                break
            bad = np.isin(pairs[:, 0], faces[crossing])
            if not bad.any():
                return draft, 0, 0.0, []
        pairs = pairs[~bad]
    else:
        return draft, 0, 0.0, []
    apart = np.linalg.norm(mesh.vertices[pairs[:, 0]] - mesh.vertices[pairs[:, 1]], axis=1)
    rim = np.flatnonzero(mesh.topology.opposite == OPEN)
    closed = rim[done.mesh.topology.opposite[rim] != OPEN]
    where = [Place("crack", z.count, z.where_mm, z.size_mm) for z in edge_zones(done.mesh, closed)]
    return done, len(pairs), float(apart.max(initial=0.0)), where


def _tight(mesh: Mesh, pairs: Ints, near_mm: float) -> Ints:
    """What is to be welded: the members (second) of each group that fits into a ball of the tolerance, to its first;
    of looser groups, pairs that are each other's nearest."""
    group = linked_groups(len(mesh.vertices), pairs)
    members = np.unique(pairs)
    _, first, at = np.unique(group[members], return_index=True, return_inverse=True)
    points = mesh.vertices[members]
    size = np.bincount(at)
    middle = np.stack([np.bincount(at, points[:, k]) for k in range(3)], axis=1) / size[:, None]
    off = np.zeros(len(size))
    np.maximum.at(off, at, np.linalg.norm(points - middle[at], axis=1))
    tight = off <= 0.5 * near_mm
    rest = tight[at] & (members != members[first[at]])
    in_tight = np.zeros(len(mesh.vertices), bool)
    in_tight[members[tight[at]]] = True
    together = np.stack([members[first[at]][rest], members[rest]], axis=1)
    return np.concatenate([together, _mutual(mesh, pairs[~in_tight[pairs[:, 0]]])])


def _mutual(mesh: Mesh, pairs: Ints) -> Ints:
    """Those pairs (P, 2) of which each vertex is the other's nearest; the lower number first."""
    if not len(pairs):
        return pairs
    apart = np.linalg.norm(mesh.vertices[pairs[:, 0]] - mesh.vertices[pairs[:, 1]], axis=1)
    order = np.lexsort((pairs[:, 1], pairs[:, 0], apart))
    taken = np.zeros(len(mesh.vertices), bool)
    chosen = []
    for row in order.tolist():
        a, b = pairs[row]
        if not taken[a] and not taken[b]:
            taken[a] = taken[b] = True
            chosen.append(row)
    return np.sort(pairs[np.sort(chosen)], axis=1)


def _bad_welds(mesh: Mesh, changed: Ints, faces: Ints32, pairs: Ints) -> Bools:
    """Welds (P,) that make a face collapse, an edge of three faces, a fold, or close nothing. faces (C, 3): the faces
    `changed` (C,), all those at a welded vertex, as they become."""
    bad = np.zeros(len(mesh.vertices), bool)
    bad[faces[collapsed_faces(faces)].ravel()] = True
    bad_face = bad.copy()
    after = Mesh(mesh.vertices, faces)
    half = (3 * changed[:, None] + np.arange(3)).ravel()
    before, now = mesh.topology.opposite[half], after.topology.opposite
    crowded = np.flatnonzero((now == CROWDED) & (before != CROWDED))
    for end in after.edge_ends(crowded):
        bad[end] = True
    new = np.flatnonzero((before == OPEN) & (now >= 0))
    folded = new[_folds(after, new)]
    for end in after.edge_ends(folded):
        bad[end] = True
    useful = np.zeros(len(mesh.vertices), bool)
    for end in after.edge_ends(new):
        useful[end] = True
    return np.asarray(bad[pairs[:, 0]] | bad_face[pairs[:, 0]] | ~useful[pairs[:, 0]])


def _folds(mesh: Mesh, half: Ints) -> Bools:
    """Paired half-edges (N,) whose two faces lie on each other."""
    other = mesh.topology.opposite[half]
    a, b = (mesh.vertices[end] for end in mesh.edge_ends(half))
    along = (b - a) / np.maximum(np.linalg.norm(b - a, axis=1), 1e-300)[:, None]
    ways = []
    for h in (half, other):
        off = mesh.vertices[mesh.faces[h // 3, (h % 3 + 2) % 3]] - a
        off = off - np.einsum("ij,ij->i", off, along)[:, None] * along
        ways.append(off / np.maximum(np.linalg.norm(off, axis=1), 1e-300)[:, None])
    return np.asarray(np.einsum("ij,ij->i", *ways) > np.cos(np.radians(FOLD_DEG)))


def _split_edges(draft: Draft, near_mm: float) -> tuple[Draft, int]:
    """Put vertices of open edges that lie on another open edge into it, where the pieces then close."""
    mesh = draft.mesh
    edge, vertex, t = lying_on_edges(mesh, near_mm)
    if not len(edge):
        return draft, 0
    half = np.flatnonzero(mesh.topology.opposite == OPEN)
    a, b = (end.astype(np.int64) for end in mesh.edge_ends(half))
    pieces: dict[tuple[int, int], int] = {}
    for u, v in zip(a.tolist(), b.tolist(), strict=True):
        pieces[min(u, v), max(u, v)] = pieces.get((min(u, v), max(u, v)), 0) + 1
    rows = np.split(np.arange(len(edge)), np.flatnonzero(np.diff(edge)) + 1)
    stops = {
        int(half[edge[r[0]]]): [int(a[edge[r[0]]]), *(int(v) for v in vertex[r]), int(b[edge[r[0]]])] for r in rows
    }
    for stop in stops.values():
        for u, v in zip(stop[:-1], stop[1:], strict=True):
            pieces[min(u, v), max(u, v)] = pieces.get((min(u, v), max(u, v)), 0) + 1
    chosen: dict[int, tuple[int, list[int]]] = {}
    for h, stop in stops.items():
        closes = sum(pieces[min(u, v), max(u, v)] == 2 for u, v in zip(stop[:-1], stop[1:], strict=True))
        if closes and h // 3 not in chosen:
            chosen[h // 3] = h, stop
    if not chosen:
        return draft, 0
    gone = np.zeros(len(mesh.faces), bool)
    gone[list(chosen)] = True
    faces, origin = [], []
    for f, (h, stop) in sorted(chosen.items()):
        apex = int(mesh.faces[f, (h % 3 + 2) % 3])
        faces += [(u, v, apex) for u, v in zip(stop[:-1], stop[1:], strict=True)]
        origin += [int(draft.origin[f])] * (len(stop) - 1)
    done = draft.picked(~gone).grown(faces, origin)
    new = np.arange(len(done.mesh.faces) - len(faces), len(done.mesh.faces))
    half_new = (3 * new[:, None] + np.arange(3)).ravel()
    half_new = half_new[done.mesh.topology.opposite[half_new] >= 0]
    worse = (
        done.mesh.topology.nonmanifold_edges > mesh.topology.nonmanifold_edges
        or done.mesh.topology.open_edges >= mesh.topology.open_edges
        or collapsed_faces(np.array(faces, np.int32)).any()
        or bool(_folds(done.mesh, half_new).any())
    )
    return (draft, 0) if worse else (done, len(chosen))
