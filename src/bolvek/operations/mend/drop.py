"""Second step: what has no thickness of its own goes: faces without area, copies, strays.

A face without area is taken out by collapsing its short edge or by flipping its long one, so that nothing tears.
"""

import numpy as np

from bolvek.analyses.shells import faces_alike, find_openings, nest_shells
from bolvek.analyses.soundness import flat_faces
from bolvek.analyses.soundness.around import crossing_pairs
from bolvek.analyses.survey.describe import STRAY_SHARE
from bolvek.analyses.zones import face_zones
from bolvek.arrays import Bools, Ints, Ints32
from bolvek.kernels.surface import defects as kernels
from bolvek.mesh import Mesh
from bolvek.mesh.topology import OPEN, collapsed_faces
from bolvek.operations.mend.draft import Draft, shell_places
from bolvek.operations.mend.record import MendStep, Place
from bolvek.spatial.groups import linked_groups

_ROUNDS = 12


def drop(draft: Draft, sliver_mm: float, near_mm: float, *, strays: bool) -> tuple[Draft, MendStep]:
    """Take out faces without area (or lower than `sliver_mm`), twin faces and strays; all strays when asked, else
    only those that enclose nothing."""
    counts: dict[str, int] = {}
    places: list[Place] = []
    gone = collapsed_faces(draft.mesh.faces)
    if gone.any():
        counts["loose_edges"] = int(gone.sum())
        draft = draft.picked(~gone)
    draft = _drop_twins(draft, counts, places)
    draft, moved = _drop_flat(draft, sliver_mm, near_mm, counts, places)
    draft = _drop_strays(draft, counts, places, closed_too=strays)
    return draft, MendStep(step="drop", counts=counts, places=places, moved_mm=moved)


def _drop_twins(draft: Draft, counts: dict[str, int], places: list[Place]) -> Draft:
    """Copies the same way round go. Of two the opposite way round both go, unless that opens the surface around them
    and one of them, the right way round, keeps it closed; or unless nothing else is there, as where every face of a
    model has a back."""
    mesh = draft.mesh
    alike = faces_alike(mesh)
    if not len(alike.faces):
        return draft
    _, first = np.unique(2 * alike.key + alike.odd, return_index=True)
    copies = np.delete(alike.faces, first)
    if len(copies):
        counts["copies"] = len(copies)
        places += [Place("copies", z.count, z.where_mm, z.size_mm) for z in face_zones(mesh, copies)]
        keep = np.ones(len(mesh.faces), bool)
        keep[copies] = False
        draft = draft.picked(keep)
        mesh = draft.mesh
        alike = faces_alike(mesh)
    if not len(alike.faces):
        return draft
    # patches of doubled faces decide together, by the edges that surround them
    faces = alike.faces
    involved = np.zeros(len(mesh.vertices), bool)
    involved[mesh.faces[faces]] = True
    near = np.flatnonzero(involved[mesh.faces].sum(axis=1) >= 2)
    own = mesh.faces[near]
    ends = np.sort(np.stack([own, np.roll(own, -1, axis=1)], axis=2).reshape(-1, 2), axis=1)
    _, at, uses = np.unique(ends, axis=0, return_inverse=True, return_counts=True)
    edge = np.full((len(mesh.faces), 3), -1, np.int64)
    edge[near] = at.reshape(-1, 3)
    doubled = np.bincount(edge[faces].ravel(), minlength=len(uses))
    others = uses - doubled
    patch = _patches(edge[faces])
    rim = doubled[edge[faces]] == 2  # the two of one place only
    closes = np.bincount(patch, ((others[edge[faces]] == 1) & rim).sum(axis=1))
    spare = np.bincount(patch, ((others[edge[faces]] != 1) & rim).sum(axis=1))
    # what is double all over and touches nothing else is one surface with two sides
    alone = np.bincount(patch, (others[edge[faces]] > 0).sum(axis=1)) == 0
    keep_one = (alone | (closes > spare))[patch]
    keep = np.ones(len(mesh.faces), bool)
    keep[faces[~keep_one]] = False
    beside: dict[int, list[tuple[int, int]]] = {}
    for f, e, k in zip(np.repeat(near, 3).tolist(), edge[near].ravel().tolist(), [0, 1, 2] * len(near), strict=True):
        beside.setdefault(e, []).append((f, k))
    order = np.argsort(alike.key[keep_one], kind="stable")
    chosen = faces[keep_one][order]
    for pair in np.split(chosen, np.flatnonzero(np.diff(alike.key[keep_one][order])) + 1):
        if len(pair):
            keep[pair[1:] if _agrees(mesh, int(pair[0]), edge, beside) else pair[:1]] = False
    gone = np.flatnonzero(~keep)
    counts["opposite_twins"] = len(gone)
    places += [Place("opposite twins", z.count, z.where_mm, z.size_mm) for z in face_zones(mesh, gone)]
    return draft.picked(keep)


def _patches(edge: Ints) -> Ints:
    """Patch (N,) of faces with edges (N, 3): those that share an edge hang together."""
    names, at = np.unique(edge, return_inverse=True)
    rows = np.repeat(np.arange(len(edge)), 3)
    group = linked_groups(len(edge) + len(names), np.stack([rows, len(edge) + at.ravel()], axis=1))
    return np.asarray(np.unique(group[: len(edge)], return_inverse=True)[1], np.int64)


def _agrees(mesh: Mesh, face: int, edge: Ints, beside: dict[int, list[tuple[int, int]]]) -> bool:
    """Whether a face runs the other way than the single faces beyond its edges do."""
    votes = 0
    own = set(mesh.faces[face].tolist())
    for k in range(3):
        beyond = [(f, m) for f, m in beside[int(edge[face, k])] if set(mesh.faces[f].tolist()) != own]
        if len(beyond) == 1:
            f, m = beyond[0]
            votes += 1 if mesh.faces[f, m] != mesh.faces[face, k] else -1
    return votes >= 0


def _low_faces(mesh: Mesh, sliver_mm: float) -> Bools:
    """Faces without area, or lower than asked."""
    low = flat_faces(mesh)
    if sliver_mm > 0:
        height = np.empty(len(mesh.faces))
        kernels.face_heights(mesh.vertices, mesh.faces, 0, len(height), height)
        low = low | (height < sliver_mm)
    return low


def _drop_flat(
    draft: Draft, sliver_mm: float, near_mm: float, counts: dict[str, int], places: list[Place]
) -> tuple[Draft, float]:
    """Collapse and flip until no face is flat, or none of those left can be taken out; how far anything moved."""
    moved, done = 0.0, 0
    given_up: set[tuple[int, ...]] = set()
    for _ in range(_ROUNDS):
        mesh = draft.mesh
        low = np.flatnonzero(_low_faces(mesh, sliver_mm))
        low = np.array([f for f in low.tolist() if tuple(mesh.faces[f]) not in given_up], np.int64)
        if not len(low):
            break
        if not done:
            places += [Place("without area", z.count, z.where_mm, z.size_mm) for z in face_zones(mesh, low)]
        draft, here, far = _flatten_round(draft, low, near_mm, given_up)
        done, moved = done + here, max(moved, far)
        if not here:
            break
    if done:
        counts["without_area"] = done
    return draft, moved


def _flatten_round(draft: Draft, low: Ints, near_mm: float, given_up: set[tuple[int, ...]]) -> tuple[Draft, int, float]:
    """Each low face that no other of this round is beside: its short edge collapsed, or its long one flipped."""
    mesh = draft.mesh
    v, faces = mesh.vertices, np.array(mesh.faces)
    around = _faces_at(mesh, np.unique(mesh.faces[low]))
    taken: set[int] = set()
    keep = np.ones(len(faces), bool)
    added: list[tuple[int, int, int]] = []
    origins: list[int] = []
    far, count = 0.0, 0
    for f in low.tolist():
        corners = mesh.faces[f].tolist()
        near = set(around[corners[0]]) | set(around[corners[1]]) | set(around[corners[2]])
        if near & taken:
            continue
        length = [float(np.linalg.norm(v[corners[k]] - v[corners[k - 2]])) for k in range(3)]
        short, long = int(np.argmin(length)), int(np.argmax(length))
        done = False
        if length[short] <= near_mm:
            done = _collapse(mesh, faces, keep, around, corners[short], corners[short - 2])
            far = max(far, length[short]) if done else far
        if not done:
            flipped = _flip_long(mesh, f, long, around)
            if flipped is not None:
                gone, new = flipped
                keep[gone] = False
                added += new
                origins += [int(draft.origin[gone[-1]])] * len(new)
                done = True
        if not done and length[short] > near_mm and length[short] < 0.5 * length[long]:
            done = _collapse(mesh, faces, keep, around, corners[short], corners[short - 2])
            far = max(far, length[short]) if done else far
        if done:
            taken |= near
            count += 1
        else:
            given_up.add(tuple(mesh.faces[f]))
    result = Draft(Mesh(v, faces[keep]), draft.origin[keep]).grown(
        np.array(added, np.int32), np.array(origins, np.int32)
    )
    return result, count, far


def _faces_at(mesh: Mesh, vertices: Ints) -> dict[int, list[int]]:
    """The faces at each of some vertices."""
    number = np.full(len(mesh.vertices), -1, np.int64)
    number[vertices] = np.arange(len(vertices))
    face, k = np.nonzero(number[mesh.faces] >= 0)
    found: dict[int, list[int]] = {int(x): [] for x in vertices}
    for f, x in zip(face.tolist(), mesh.faces[face, k].tolist(), strict=True):
        found[x].append(f)
    return found


def _collapse(mesh: Mesh, faces: Ints32, keep: Bools, around: dict[int, list[int]], gone: int, stays: int) -> bool:
    """Move vertex `gone` onto `stays` in faces when nothing folds or is pinched by it."""
    for lost, kept in ((gone, stays), (stays, gone)):
        ring = {int(x) for f in around[lost] for x in mesh.faces[f]}
        other = {int(x) for f in around[kept] for x in mesh.faces[f]}
        shared = [f for f in around[lost] if kept in mesh.faces[f]]
        if len((ring & other) - {lost, kept}) != len(shared) or not shared:
            continue
        if any(
            mesh.topology.opposite[3 * f + k] == OPEN
            for f in around[lost]
            for k in range(3)
            if mesh.faces[f, k] == lost or mesh.faces[f, (k + 1) % 3] == lost
        ):
            if len(shared) != 1:
                continue
        fine = True
        for f in around[lost]:
            if f in shared:
                continue
            after = np.where(mesh.faces[f] == lost, kept, mesh.faces[f])
            old, new = _normal(mesh, mesh.faces[f]), _normal(mesh, after)
            if float(old @ old) > 0 and float(old @ new) <= 0.5 * np.sqrt(float((old @ old) * (new @ new))):
                fine = False
        if fine:
            keep[shared] = False
            for f in around[lost]:
                faces[f][faces[f] == lost] = kept
            return True
    return False


def _normal(mesh: Mesh, corners):  # type: ignore[no-untyped-def]
    a, b, c = mesh.vertices[corners]
    return np.cross(b - a, c - a)


def _height2(mesh: Mesh, corners: list[int]) -> float:
    a, b, c = mesh.vertices[corners]
    longest = max(float((b - a) @ (b - a)), float((c - b) @ (c - b)), float((a - c) @ (a - c)))
    n = np.cross(b - a, c - a)
    return float(n @ n) / max(longest, 1e-300)


def _flip_long(
    mesh: Mesh, f: int, long: int, around: dict[int, list[int]]
) -> tuple[list[int], list[tuple[int, int, int]]] | None:
    """Faces to take out and put in for a low face whose longest edge ends at corner `long`."""
    k = (long + 1) % 3  # length[long] is that between corner long and corner long - 2 = long + 1
    a, b = int(mesh.faces[f, long]), int(mesh.faces[f, k])
    r = int(mesh.faces[f, (long + 2) % 3])
    half = 3 * f + long
    g = int(mesh.topology.opposite[half])
    if g == OPEN:
        return [f], []
    if g < 0 or mesh.topology.same_way[half]:
        return None
    s = int(mesh.faces[g // 3, (g % 3 + 2) % 3])
    if s == r:
        return [f, g // 3], []
    if any(s in mesh.faces[x] for x in around[r]):
        return None
    new = [(a, s, r), (s, b, r)]
    old = _normal(mesh, mesh.faces[g // 3])
    for corners in new:
        n = _normal(mesh, list(corners))
        if not float(n @ n) > 0 or float(n @ old) < 0:
            return None
    if min(_height2(mesh, list(c)) for c in new) <= _height2(mesh, mesh.faces[f].tolist()):
        return None
    return [f, g // 3], new


def _drop_strays(draft: Draft, counts: dict[str, int], places: list[Place], *, closed_too: bool) -> Draft:
    """Shells whose box diagonal is below a share of the largest one's, that cross nothing and lie in nothing."""
    mesh = draft.mesh
    topology = mesh.topology
    n = topology.shells
    if n < 2:
        return draft
    low, high = mesh.shell_boxes
    diagonal = np.linalg.norm(high - low, axis=1)
    small = diagonal < STRAY_SHARE * diagonal.max()
    is_open = np.zeros(n, bool)
    is_open[topology.shell[np.flatnonzero(topology.opposite < 0) // 3]] = True
    nothing = ~is_open & (
        36 * np.pi * mesh.shell_volumes**2 <= 1e-12 * np.bincount(topology.shell, mesh.face_areas, n) ** 3
    )
    small &= (is_open | nothing) if not closed_too else True
    if not small.any():
        return draft
    chosen = np.flatnonzero(small)
    # a piece that the weld could not join, but that a rim runs beside, is no stray
    openings = find_openings(mesh)
    alone = np.bincount(openings.group, minlength=n)[openings.group] == 1
    faces = np.flatnonzero(np.isin(topology.shell, chosen))
    pairs = crossing_pairs(mesh, faces)
    meets = np.zeros(n, bool)
    shells = topology.shell[pairs]
    meets[shells[shells[:, 0] != shells[:, 1]]] = True
    stray = small & alone & ~meets
    if closed_too:
        stray &= is_open | (nest_shells(mesh).depth == 0)
    if not stray.any():
        return draft
    places += shell_places(mesh, np.flatnonzero(stray), "stray")
    counts["strays"] = int(stray.sum())
    return draft.picked(~stray[topology.shell])
