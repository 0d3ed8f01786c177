"""Last step: small self-intersections taken out by making a small neighbourhood anew.

Faces that cross, with those around them, are cut out and the opening is closed again; more around them where that does
not do. Where two bodies go into each other, or one into itself over more than a small neighbourhood, nothing local
helps: that is left.
"""

from dataclasses import dataclass

import numpy as np

from bolvek.analyses.soundness.around import crossing_pairs
from bolvek.analyses.zones import Zone, group_faces, zones
from bolvek.arrays import Bools, Ints, Ints32
from bolvek.mesh import Mesh
from bolvek.operations.mend.close import Job, fill_loops, with_fills
from bolvek.operations.mend.draft import NEW, Draft, put_back, stored, window
from bolvek.operations.mend.loops import trace
from bolvek.operations.mend.record import Left, MendStep, Place
from bolvek.settings.ways_on import ANEW, FUSES
from bolvek.spatial.groups import linked_groups

MOST_FACES = 400
"""A neighbourhood of more faces is no small one."""

LARGEST_SHARE, FEW, LARGEST_OF_FEW = 0.1, 60, 0.25
"""Nor is one wider than the first share of the longest side; of so few faces, than the second."""

FARTHEST_SHARE = 0.02
"""Smoothing moves nothing farther than this share of the longest side."""

BODIES = "two bodies go into each other"

_RINGS = (0, 1, 2, 3)
_SWEEPS = 8
_NONE = np.zeros(0, np.int64)


@dataclass
class _Region:
    """Faces (N,) that cross or lie at a rim, where; why they are not to be remade; whether any cross."""

    faces: Ints
    zone: Zone
    why: str
    crosses: bool


def remake_crossings(draft: Draft, pairs: Ints32, rims: Ints = _NONE) -> tuple[Draft, MendStep]:
    """Remake small neighbourhoods in which faces cross; pairs (P, 2) are all that do. rims (R,): faces at openings for
    which no fill was found, to be remade with what crosses there.

    The work is done in a window around them, and what comes out is checked against everything.
    """
    if not len(pairs) and not len(rims):
        return draft, MendStep(step="crossings")
    mesh = draft.mesh
    corners = mesh.vertices[mesh.faces[np.union1d(pairs, rims)]]
    local = window(draft, corners.min(axis=1), corners.max(axis=1))
    place = np.full(len(mesh.faces), NEW, np.int32)
    place[local.faces] = np.arange(len(local.faces))
    shell = mesh.topology.shell
    changed, step = _in_rounds(local.draft, place[pairs], place[rims], shell[local.faces], float(mesh.size.max()))
    if not step.count:
        return draft, step
    done = put_back(draft, local, changed)
    moved = (done.mesh.vertices[: len(mesh.vertices)] != mesh.vertices).any(axis=1)
    moved = np.concatenate([moved, np.zeros(len(done.mesh.vertices) - len(moved), bool)])
    touched = (done.origin == NEW) | moved[done.mesh.faces].any(axis=1)
    if len(crossing_pairs(done.mesh, np.flatnonzero(touched))):
        changed, step = _in_rounds(Draft.of(mesh), pairs, rims.astype(np.int32), shell, float(mesh.size.max()))
        origin = np.where(changed.origin == NEW, NEW, draft.origin[np.maximum(changed.origin, 0)])
        done = Draft(changed.mesh, origin.astype(np.int32))
    return done, step


def _in_rounds(draft: Draft, pairs: Ints32, rims: Ints32, shell: Ints32, longest: float) -> tuple[Draft, MendStep]:
    """Larger neighbourhoods round by round. shell (F,): that of each face in the whole model."""
    places: list[Place] = []
    left: list[Left] = []
    begin = len(pairs)
    draft, pairs, relaxed, moved = _relax(draft, pairs, rims, shell, longest)
    places += [Place("crossing", len(r.faces), r.zone.where_mm, r.zone.size_mm) for r in relaxed]
    for rings in _RINGS:
        if not len(pairs) and not len(rims):
            left = []
            break
        regions = _regions(draft.mesh, pairs, rims, shell, longest)
        after, done = _remake(Draft.of(draft.mesh), [r for r in regions if not r.why], rings)
        places += [Place("crossing", len(r.faces), r.zone.where_mm, r.zone.size_mm) for r in done]
        text = "no way to remake its neighbourhood without another crossing"
        left = [
            Left("crossing faces", r.why or text, r.zone.where_mm, r.zone.size_mm, (FUSES if r.why else ANEW,))
            for r in regions
            if r.crosses and all(r is not d for d in done)
        ]
        if done:
            # what was made crosses nothing: those left are old faces that still cross each other
            number = np.full(len(draft.mesh.faces), NEW, np.int32)
            old = np.flatnonzero(after.origin != NEW)
            number[after.origin[old]] = old
            pairs = number[pairs]
            pairs = pairs[(pairs != NEW).all(axis=1)]
            rims = number[rims]
            rims = rims[rims != NEW]
            known = np.maximum(after.origin, 0)
            shell = shell[known]
            draft = Draft(after.mesh, np.where(after.origin == NEW, NEW, draft.origin[known]).astype(np.int32))
    counts = {"smoothed": len(relaxed), "neighbourhoods": len(places) - len(relaxed), "pairs": begin - len(pairs)}
    return draft, MendStep(
        step="crossings", counts={k: n for k, n in counts.items() if n}, places=places, moved_mm=moved, left=left
    )


def _relax(
    draft: Draft, pairs: Ints32, rims: Ints32, shell: Ints32, longest: float
) -> tuple[Draft, Ints32, list[_Region], float]:
    """Vertices of crossing faces moved to the middle of those around them, until nothing crosses there: what that does
    not settle stays as it was. The draft, the pairs left, what was settled, how far anything moved (mm)."""
    mesh = draft.mesh
    regions = [r for r in _regions(mesh, pairs, rims, shell, longest) if r.why != BODIES and r.crosses]
    if not regions:
        return draft, pairs, [], 0.0
    region_of = np.full(len(mesh.faces), -1, np.int64)
    for k, region in enumerate(regions):
        region_of[region.faces] = k
    half = np.flatnonzero(mesh.topology.opposite >= 0)
    a, b = mesh.edge_ends(half)
    fixed = np.zeros(len(mesh.vertices), bool)
    for end in mesh.edge_ends(np.flatnonzero(mesh.topology.opposite < 0)):
        fixed[end] = True
    owner = np.full(len(mesh.vertices), -1, np.int64)
    own = np.flatnonzero(region_of >= 0)
    owner[mesh.faces[own].ravel()] = np.repeat(region_of[own], 3)
    owner[fixed] = -1
    moving = owner >= 0
    points = np.array(mesh.vertices)
    settled = np.full(len(regions), -1, np.int64)
    result = points.copy()
    touching = np.flatnonzero(moving[mesh.faces].any(axis=1))
    inner = moving[a]
    count = np.maximum(np.bincount(a[inner], minlength=len(points)), 1)[:, None]
    for sweep in range(_SWEEPS):
        total = np.stack([np.bincount(a[inner], points[b[inner], k], len(points)) for k in range(3)], axis=1)
        points[moving] = stored((0.3 * points + 0.7 * total / count)[moving])
        crossing = crossing_pairs(mesh.moved(points), touching)
        at_fault = np.zeros(len(regions), bool)
        faulty = owner[mesh.faces[crossing].reshape(-1)]
        at_fault[faulty[faulty >= 0]] = True
        done = np.flatnonzero(~at_fault & (settled < 0))
        settled[done] = sweep
        rows = np.isin(owner, done)
        result[rows] = points[rows]
        moving &= ~rows
        if not moving.any():
            break
        inner = moving[a]
        points[~moving] = result[~moving]
    good = np.flatnonzero(settled >= 0)
    # regions that settled while others around them were still on the move, which then went back
    changed = mesh.moved(result)
    crossing = crossing_pairs(changed, touching)
    far = np.linalg.norm(result - mesh.vertices, axis=1) > FARTHEST_SHARE * longest
    good = np.setdiff1d(good, np.concatenate([owner[mesh.faces[crossing].reshape(-1)], owner[far]]))
    result = np.where(np.isin(owner, good)[:, None], result, mesh.vertices)
    if not len(good):
        return draft, pairs, [], 0.0
    moved = float(np.linalg.norm(result - mesh.vertices, axis=1).max())
    relaxed = mesh.moved(result)
    still = relaxed.tree.meeting_pairs()[0]
    if len(still) >= len(pairs):
        return draft, pairs, [], 0.0
    return Draft(relaxed, draft.origin), still, [regions[k] for k in good], moved


def _regions(mesh: Mesh, pairs: Ints32, rims: Ints32, shell: Ints32, longest: float) -> list[_Region]:
    """Crossing faces that hang together, or cross each other, and why some are not to be remade."""
    faces = np.union1d(pairs, rims).astype(np.int64)
    crossing = np.zeros(len(mesh.faces), bool)
    crossing[pairs] = True
    _, first, at = np.unique(group_faces(mesh, faces), return_index=True, return_inverse=True)
    hang = np.stack([np.arange(len(faces)), first[at.ravel()]], axis=1)
    group = linked_groups(len(faces), np.concatenate([hang, np.searchsorted(faces, pairs)]))
    order = np.argsort(group, kind="stable")
    found = []
    for rows in np.split(order, np.flatnonzero(np.diff(group[order])) + 1):
        own = faces[rows]
        zone = zones(mesh.vertices[mesh.faces[own]], np.zeros(len(own), np.int32))[0]
        why = ""
        if len(np.unique(shell[own])) > 1:
            why = BODIES
        elif len(own) > MOST_FACES or max(zone.size_mm) > longest * (
            LARGEST_OF_FEW if len(own) <= FEW else LARGEST_SHARE
        ):
            why = "it crosses itself over more than a small neighbourhood"
        found.append(_Region(own, zone, why, bool(crossing[own].any())))
    return found


def _remake(draft: Draft, regions: list[_Region], rings: int) -> tuple[Draft, list[_Region]]:
    """The draft with some regions, grown by so many rings of faces, cut out and closed again; and which."""
    mesh = draft.mesh
    owner = np.full(len(mesh.faces), -1, np.int64)
    for k, region in enumerate(regions):
        owner[region.faces] = k
    owner = _grown(mesh, owner, rings)
    taken = owner >= 0
    if not taken.any():
        return draft, []
    base = draft.picked(~taken)
    kept = np.flatnonzero(~taken)
    half = (3 * kept[:, None] + np.arange(3)).ravel()  # of the base, in the mesh
    across = mesh.topology.opposite[half]
    beyond = np.where(across >= 0, owner[np.maximum(across, 0) // 3], -1)
    jobs_of: dict[int, list[Job]] = {}
    loops = trace(base.mesh)
    # regions that one opening runs along are one
    shared = [home[home >= 0] for home in (beyond[loop.half] for loop in loops)]
    links = [np.stack([home[:-1], home[1:]], axis=1) for home in shared if len(home) > 1]
    first = linked_groups(len(regions), np.concatenate(links)) if links else np.arange(len(regions))
    _, leader, group = np.unique(first, return_index=True, return_inverse=True)
    first = leader[group.ravel()]
    owner[taken], beyond[beyond >= 0] = first[owner[taken]], first[beyond[beyond >= 0]]
    failed = first != np.arange(len(regions))
    chosen, homes = [], []
    for loop in loops:
        home = beyond[loop.half]
        if (home >= 0).all():
            chosen.append(loop)
            homes.append(int(home[0]))
        else:
            failed[home[home >= 0]] = True
    # a region that has no loop of its own at all, or runs along a rim, is not remade
    reached = np.zeros(len(regions), bool)
    reached[homes] = True
    failed |= ~reached
    fine = [loop for loop, home in zip(chosen, homes, strict=True) if not failed[home]]
    by_loop = {id(loop): home for loop, home in zip(chosen, homes, strict=True)}
    for job in fill_loops(base, fine, "auto"):
        of = by_loop[id(job.loops[0])]
        jobs_of.setdefault(of, []).append(job)
        failed[of] |= job.fill is None
    while not failed.all():
        result = _put_together(draft, base, owner, failed, jobs_of)
        bad = _spoilt(result, failed, jobs_of, mesh)
        if not bad.any():
            return result, [r for k, r in enumerate(regions) if not failed[first[k]]]
        failed |= bad
    return draft, []


def _grown(mesh: Mesh, owner: Ints, rings: int) -> Ints:
    """Each region with the faces around it; regions that meet keep their own."""
    for _ in range(rings):
        at_vertex = np.full(len(mesh.vertices), -1, np.int64)
        inside = np.flatnonzero(owner >= 0)
        at_vertex[mesh.faces[inside].ravel()] = np.repeat(owner[inside], 3)
        owner = np.where(owner >= 0, owner, at_vertex[mesh.faces].max(axis=1))
    return owner


def _put_together(draft: Draft, base: Draft, owner: Ints, failed: Bools, jobs_of: dict[int, list[Job]]) -> Draft:
    """Faces outside, those of regions that failed as they were, fills of the others."""
    back = np.zeros(len(owner), bool)
    back[owner >= 0] = failed[owner[owner >= 0]]
    restored = base.grown(draft.mesh.faces[back], draft.origin[back])
    return with_fills(restored, [job for k in sorted(jobs_of) if not failed[k] for job in jobs_of[k]])


def _spoilt(result: Draft, failed: Bools, jobs_of: dict[int, list[Job]], before: Mesh) -> Bools:
    """Regions whose fills cross something that was put back, or leave the surface less closed than it was."""
    sizes = [
        (k, sum(0 if job.fill is None else len(job.fill.faces) for job in jobs_of[k]))
        for k in sorted(jobs_of)
        if not failed[k]
    ]
    home = np.repeat([k for k, _ in sizes], [n for _, n in sizes]).astype(np.int64)
    first = len(result.mesh.faces) - len(home)
    new = np.arange(first, len(result.mesh.faces))
    bad = np.zeros(len(failed), bool)
    pairs = crossing_pairs(result.mesh, new)
    bad[home[pairs[:, 0] - first]] = True
    t = result.mesh.topology
    loose = np.flatnonzero((t.opposite < 0) | t.same_way) // 3
    bad[home[loose[loose >= first] - first]] = True
    worse = (
        t.open_edges > before.topology.open_edges
        or t.nonmanifold_edges > before.topology.nonmanifold_edges
        or t.badly_oriented_edges > before.topology.badly_oriented_edges
        or t.extra_fans > before.topology.extra_fans
        # what only touched may come apart
        or t.shells > before.topology.shells + max(before.topology.extra_fans - t.extra_fans, 0)
    )
    if worse and not bad.any():
        bad |= ~failed
    return bad
