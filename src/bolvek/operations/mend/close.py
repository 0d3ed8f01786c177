"""Sixth step: openings closed, in the style that suits each, and only where the fill crosses nothing."""

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace

import numpy as np

from bolvek.analyses.shells.gaps import find_gaps
from bolvek.analyses.shells.islands import Outlines, newell, smallest_first
from bolvek.analyses.shells.openings import FLAT_SHARE
from bolvek.analyses.soundness.around import crossing_pairs
from bolvek.arrays import Ints
from bolvek.kernels.exact.pierce import pierce_pairs
from bolvek.kernels.exact.triangles import mark_flat
from bolvek.mesh import Mesh, once_a_mesh
from bolvek.mesh.topology import CROWDED, build_topology
from bolvek.operations.mend.dome import is_dome
from bolvek.operations.mend.draft import NEW, Draft, stored, window
from bolvek.operations.mend.fills import (
    Fill,
    Rim,
    blend,
    corner_fill,
    curved_fill,
    flat_fill,
    plain_fill,
)
from bolvek.operations.mend.loops import Loop, Named, choose, find_loops
from bolvek.operations.mend.record import Left, MendStep, Place
from bolvek.settings import remedy
from bolvek.settings.repairs import MendSettings
from bolvek.settings.ways_on import ANEW
from bolvek.spatial.parallel import run_ranges
from bolvek.units import count_text

CURVED_FROM = 5
"""Openings of fewer edges are closed by triangles on their rim alone, unless asked otherwise."""

CORNER_SHARE = 1e-4
"""Sides around an opening are flat when no rim point is farther off than this share of its extent."""

ISLAND_REACH = 0.25
"""An island belongs to the opening around it when it is nearer to its plane than this share of the opening's extent."""

WIDE_SHARE = 0.5
"""An opening this wide beside its body is not closed over other parts."""

NO_FILL = "no fill was found that crosses nothing"

_BURIES = remedy("mend", "closes it and takes those out", MendSettings(close_ends=True, drop_buried=True), anew=True)

_ALONG, _SQUARE = 0.985, 0.35  # cosines between the plane of a flat rim and the faces around it
_RINGS = 3  # of faces around an opening that say how its fill curves
_DRAWN_BACK = (1.0, 0.5, 0.25)
_FORBIDDING = 4  # rounds in which triangles that cross something are forbidden


@dataclass
class Job:
    """An opening being closed: what is tried next, what stands now; bad: triangles on its rim that crossed."""

    loops: list[Loop]
    rim: Rim
    tries: "Iterator[Fill]"
    fill: Fill | None = None
    settled: bool = False
    bad: frozenset[tuple[int, int, int]] = frozenset()


def close(draft: Draft, asked: MendSettings) -> tuple[Draft, MendStep]:
    """Close the openings that are asked for."""
    mesh = draft.mesh
    if not mesh.topology.open_edges:
        return draft, MendStep(step="close")
    loops, openings = find_loops(mesh)
    chosen, left = choose(mesh, loops, openings, asked)
    if not chosen:
        return draft, MendStep(step="close", left=left)
    jobs = fill_loops(draft, chosen, asked.style)
    counts: dict[str, int] = {}
    places = []
    for job in jobs:
        loop = job.loops[0]
        assert isinstance(loop, Named)
        o = loop.opening
        if job.fill is not None and not _told_to(asked) and (buried := _buried_by(mesh, job)):
            text = f"a lid would bury {count_text(buried, 'part')} that {'lies' if buried == 1 else 'lie'} in it"
            left.append(Left(o.kind, text, o.where_mm, o.size_mm, (_BURIES,)))
            job.fill = None
            continue
        if job.fill is None:
            left.append(Left(o.kind, NO_FILL, o.where_mm, o.size_mm, (ANEW,)))
            continue
        counts[job.fill.style] = counts.get(job.fill.style, 0) + 1
        places.append(Place(f"{o.kind}, {job.fill.style}", len(job.fill.faces), o.where_mm, o.size_mm))
    return with_fills(draft, jobs), MendStep(step="close", counts=counts, places=places, left=left)


def burying(mesh: Mesh, asked: MendSettings) -> Ints:
    """Shells with an opening that is left because a lid on it would bury others."""
    if not mesh.topology.open_edges or _told_to(asked):
        return np.zeros(0, np.int64)
    loops, openings = find_loops(mesh)
    jobs = _first_fills(mesh, choose(mesh, loops, openings, asked)[0], asked)
    shells = [mesh.topology.shell[job.loops[0].half[0] // 3] for job in jobs if _buried_by(mesh, job)]
    return np.unique(np.array(shells, np.int64))


def _told_to(asked: MendSettings) -> bool:
    """Whether openings are to be closed whatever they may be."""
    return bool(asked.at) or asked.close_ends


def _buried_by(mesh: Mesh, job: Job) -> int:
    """How many other shells would lie in the material of a body whose widest side is closed, as furniture does in a
    room without a ceiling."""
    topology = mesh.topology
    own = int(topology.shell[job.loops[0].half[0] // 3])
    # islands in the opening become part of the lid
    lid = np.unique([topology.shell[loop.half[0] // 3] for loop in job.loops])
    low, high = mesh.shell_boxes
    if topology.shells < 2 or job.rim.span_mm < WIDE_SHARE * float((high[own] - low[own]).max()):
        return 0
    inner = np.flatnonzero((low >= low[own]).all(axis=1) & (high <= high[own]).all(axis=1))
    inner = np.setdiff1d(inner, lid)
    if not len(inner):
        return 0
    closed = with_fills(Draft.of(mesh).picked(np.isin(topology.shell, lid)), [job]).mesh
    return sum(_lies_inside(closed, mesh, int(shell)) for shell in inner)


def _lies_inside(closed: Mesh, mesh: Mesh, shell: int) -> bool:
    """Whether a shell of a mesh lies in a closed surface: asked at the corner farthest off it, where no rounding
    decides."""
    order, start = _by_shell(mesh)
    corners = mesh.vertices[np.unique(mesh.faces[order[start[shell] : start[shell + 1]]])]
    off = closed.tree.nearest(corners)[0]
    return bool(abs(closed.tree.winding(corners[[int(np.argmax(off))]])[0]) > 0.5)


@once_a_mesh
def _by_shell(mesh: Mesh) -> tuple[Ints, Ints]:
    """Faces (F,) shell by shell, and where each shell begins."""
    shell = mesh.topology.shell
    return np.argsort(shell, kind="stable"), np.searchsorted(np.sort(shell), np.arange(mesh.topology.shells + 1))


def unclosed(mesh: Mesh, asked: MendSettings) -> tuple[Ints, list[Left]]:
    """Faces at the rims of openings that were to be closed and are not, but for those that another shell passes
    through; and why every opening that is left is."""
    if not mesh.topology.open_edges:
        return np.zeros(0, np.int64), []
    loops, openings = find_loops(mesh)
    chosen, left = choose(mesh, loops, openings, asked)
    left += [Left(loop.opening.kind, NO_FILL, loop.opening.where_mm, loop.opening.size_mm, (ANEW,)) for loop in chosen]
    if not chosen:
        return np.zeros(0, np.int64), left
    jobs = _first_fills(mesh, chosen, asked)
    sizes = [0 if job.fill is None else len(job.fill.faces) for job in jobs]
    grown, first = with_fills(Draft.of(mesh), jobs).mesh, len(mesh.faces)
    owner = np.repeat(np.arange(len(jobs)), sizes)
    pairs = crossing_pairs(grown, np.arange(first, len(grown.faces)), mesh)
    pairs = pairs[(pairs[:, 0] >= first) & (pairs[:, 1] < first)]
    home = np.array([mesh.topology.shell[job.loops[0].half[0] // 3] for job in jobs])
    through = np.zeros(len(jobs), bool)
    through[owner[pairs[:, 0] - first][mesh.topology.shell[pairs[:, 1]] != home[owner[pairs[:, 0] - first]]]] = True
    rim = np.zeros(len(mesh.vertices), bool)
    for job in (job for job, passed in zip(jobs, through.tolist(), strict=True) if not passed):
        rim[job.rim.vertices] = True
    return np.flatnonzero(rim[mesh.faces].any(axis=1)), left


def meant_openings(mesh: Mesh, asked: MendSettings) -> list[Left]:
    """Openings that are left because they may be meant: rims of skins, mouths of vases, ceilings of rooms."""
    if not mesh.topology.open_edges:
        return []
    loops, openings = find_loops(mesh)
    chosen, left = choose(mesh, loops, openings, asked)
    if _told_to(asked):
        return left
    for job in _first_fills(mesh, chosen, asked):
        loop = job.loops[0]
        if isinstance(loop, Named) and _buried_by(mesh, job):
            o = loop.opening
            left.append(Left(o.kind, "a lid would bury parts that lie in it", o.where_mm, o.size_mm))
    return left


def caps(mesh: Mesh, asked: MendSettings) -> Mesh:
    """The mesh with a fill in every opening that is to be closed, whatever it crosses, but for lids that would bury
    others: what encloses does so again, for whoever takes crossings."""
    loops, openings = find_loops(mesh)
    jobs = _first_fills(mesh, choose(mesh, loops, openings, asked)[0], asked)
    if not _told_to(asked):
        jobs = [job for job in jobs if not _buried_by(mesh, job)]
    return with_fills(Draft.of(mesh), jobs).mesh


def _first_fills(mesh: Mesh, loops: Sequence[Loop], asked: MendSettings) -> list[Job]:
    """The fill that suits each opening best, whatever it crosses."""
    around = _Around(mesh)
    jobs = [_job(mesh, group, around, asked.style) for group in _grouped(mesh, loops)]
    for job in jobs:
        job.fill = next(job.tries, None)
    return jobs


def fill_loops(draft: Draft, loops: Sequence[Loop], style: str) -> list[Job]:
    """Fills for loops of a draft, islands with what surrounds them: each crosses nothing, or is None.

    The work is done in a window around the loops, and what comes out is checked against everything.
    """
    if not loops:
        return []
    mesh = draft.mesh
    boxes = [mesh.vertices[loop.vertices] for loop in loops]
    low, high = np.array([p.min(axis=0) for p in boxes]), np.array([p.max(axis=0) for p in boxes])
    local = window(draft, low, high)
    number = np.full(len(mesh.vertices), -1, np.int64)
    number[local.vertices] = np.arange(len(local.vertices))
    place = np.full(len(mesh.faces), -1, np.int64)
    place[local.faces] = np.arange(len(local.faces))
    inside = [Loop(number[loop.vertices], 3 * place[loop.half // 3] + loop.half % 3) for loop in loops]
    jobs = _fill(local.draft, inside, style)
    by_loop = {id(one): loop for one, loop in zip(inside, loops, strict=True)}
    for job in jobs:
        job.loops = [by_loop[id(one)] for one in job.loops]
        job.rim = replace(job.rim, vertices=local.vertices[job.rim.vertices])
    grown = with_fills(draft, jobs).mesh
    new = np.arange(len(mesh.faces), len(grown.faces))
    if len(local.faces) < len(mesh.faces) and len(crossing_pairs(grown, new, mesh)):
        return _fill(draft, loops, style)
    return jobs


def _fill(draft: Draft, loops: Sequence[Loop], style: str) -> list[Job]:
    around = _Around(draft.mesh)
    jobs = [_job(draft.mesh, group, around, style) for group in _grouped(draft.mesh, loops)]
    _settle(draft, jobs, around)
    return jobs


def with_fills(draft: Draft, jobs: Sequence[Job]) -> Draft:
    """The draft with the fills there are."""
    base = len(draft.mesh.vertices)
    faces, points = [np.zeros((0, 3), np.int64)], [np.zeros((0, 3))]
    for job in jobs:
        if job.fill is not None:
            faces.append(_numbered(job, base))
            points.append(stored(job.fill.points))
            base += len(job.fill.points)
    return draft.grown(np.concatenate(faces), NEW, np.concatenate(points))


def _numbered(job: Job, base: int) -> Ints:
    """Faces of a fill by vertices of the mesh, its own points numbered from `base`."""
    assert job.fill is not None
    n = len(job.rim.vertices)
    own = job.fill.faces
    return np.where(own < n, job.rim.vertices[np.minimum(own, n - 1)], base + own - n)


class _Around:
    """The faces at each vertex of a mesh, looked up for many rims."""

    def __init__(self, mesh: Mesh) -> None:
        self.mesh = mesh
        flat = mesh.faces.ravel()
        self._order = np.argsort(flat, kind="stable")
        self._start = np.searchsorted(flat[self._order], np.arange(len(mesh.vertices) + 1))

    def faces_at(self, vertices: Ints) -> Ints:
        """All faces at any of the vertices."""
        found = [self._order[self._start[v] : self._start[v + 1]] // 3 for v in vertices.tolist()]
        return np.unique(np.concatenate(found)) if found else np.zeros(0, np.int64)

    def edges_between(self, vertices: Ints) -> frozenset[tuple[int, int]]:
        """Pairs of positions in a ring of vertices that are edges of the mesh already."""
        position = {int(v): i for i, v in enumerate(vertices)}
        corners = self.mesh.faces[self.faces_at(vertices)]
        known = np.isin(corners, vertices)
        pairs = set()
        for k in range(3):
            both = known[:, k] & known[:, (k + 1) % 3]
            for a, b in zip(corners[both, k].tolist(), corners[both, (k + 1) % 3].tolist(), strict=True):
                pairs.add((position[a], position[b]))
        return frozenset(pairs)

    def rings(self, vertices: Ints, count: int) -> Ints:
        """Faces around the vertices, those around these, and so on."""
        faces = self.faces_at(vertices)
        for _ in range(count - 1):
            faces = self.faces_at(np.unique(self.mesh.faces[faces]))
        return faces


def _grouped(mesh: Mesh, loops: Sequence[Loop]) -> list[list[Loop]]:
    """Each loop with the islands in it: loops that lie in its plane's reach, within it, and run the other way; or with
    the loop on the other side of the gap that both bound."""
    if len(loops) < 2:
        return [[loop] for loop in loops]
    points = [mesh.vertices[loop.vertices] for loop in loops]
    normals = np.array([newell(p) for p in points])
    sizes = np.linalg.norm(normals, axis=1)
    middle = np.array([p.mean(axis=0) for p in points])
    outlines = Outlines(points, normals)
    low = np.array([p.min(axis=0) for p in points])
    high = np.array([p.max(axis=0) for p in points])
    home: dict[int, int] = {}
    slack = ISLAND_REACH * (high - low).max(axis=1)
    for inner in range(len(loops)):
        near = (
            (sizes > sizes[inner])
            & (low - slack[:, None] <= low[inner]).all(axis=1)
            & (high + slack[:, None] >= high[inner]).all(axis=1)
        )
        for outer in smallest_first(near, inner, normals, sizes):
            n = normals[outer] / sizes[outer]
            if outer in home or np.abs((points[inner] - middle[outer]) @ n).max() > slack[outer]:
                continue
            if outlines.hold(outer, points[inner]):
                home[inner] = outer
                break
    alone = [i for i in range(len(loops)) if i not in home and i not in home.values()]
    for a, b in find_gaps(mesh, [(points[i], loops[i].half) for i in alone]):
        home[alone[b]] = alone[a]
    groups = {i: [loop] for i, loop in enumerate(loops) if i not in home}
    for inner, outer in home.items():
        if outer in groups:
            groups[outer].append(loops[inner])
        else:
            groups[inner] = [loops[inner]]
    return [groups[i] for i in sorted(groups)]


def _job(mesh: Mesh, group: list[Loop], around: _Around, style: str) -> Job:
    vertices = np.concatenate([loop.vertices for loop in group])
    half = np.concatenate([loop.half for loop in group])
    ends = np.cumsum([0] + [len(loop.vertices) for loop in group]).tolist()
    rim = Rim(
        vertices,
        mesh.vertices[vertices],
        mesh.normals_of(half // 3),
        around.edges_between(vertices),
        tuple(tuple(range(a, b)) for a, b in zip(ends[:-1], ends[1:], strict=True)),
    )
    job = Job(group, rim, iter(()))
    job.tries = _tries(mesh, job, around, style)
    return job


def _tries(mesh: Mesh, job: Job, around: _Around, style: str) -> "Iterator[Fill]":
    """Fills to try, best first."""
    rim = job.rim
    outer = rim.points[list(rim.loops[0])]
    off = rim.points - outer.mean(axis=0)
    bent = float(np.abs(off @ np.linalg.svd(off, full_matrices=False)[2][-1]).max())
    flat = bent <= FLAT_SHARE * rim.span_mm
    count = len(rim.points)
    # a flat rim may be that of a cap cut off: then what is around it leans to its plane, neither in it nor square to it
    leans = rim.beside @ (newell(outer) / max(float(np.linalg.norm(newell(outer))), 1e-300))
    leaning = (leans < _ALONG) & (leans > _SQUARE)
    flat = flat and not (count >= CURVED_FROM and leaning.mean() > 0.5)
    if style == "flat" or (style == "auto" and flat):
        fill = flat_fill(rim)
        if fill is not None:
            yield fill
    if style == "corner" or (style == "auto" and not flat and count > 3):
        fill = corner_fill(rim, CORNER_SHARE * rim.span_mm)
        if fill is not None:
            yield fill
    plain = plain_fill(rim)
    if plain is not None and (style == "curved" or (style == "auto" and count >= CURVED_FROM and not flat)):
        yield from _curved(mesh, rim, around, plain)
    for _ in range(_FORBIDDING):
        if plain is None:
            break
        job.bad = frozenset()
        yield plain
        if not job.bad:
            break
        plain = plain_fill(rim, job.bad)
    plain = plain_fill(rim, by_bend=False)
    for _ in range(_FORBIDDING):
        if plain is None:
            break
        known = job.bad
        yield plain
        if job.bad == known:
            break
        plain = plain_fill(rim, job.bad, by_bend=False)
    # triangles that do not meet as seen along the rim's normal cross each other nowhere
    level = None if flat else flat_fill(rim)
    if level is not None:
        yield from _curved(mesh, rim, around, level)
        yield level


def _curved(mesh: Mesh, rim: Rim, around: _Around, plain: Fill) -> "Iterator[Fill]":
    faces = mesh.faces[around.rings(rim.vertices, _RINGS)].astype(np.int64)
    beyond = np.setdiff1d(faces, rim.vertices)
    n = len(rim.vertices)
    number = np.full(len(mesh.vertices), -1, np.int64)
    number[beyond] = n + np.arange(len(beyond))
    number[rim.vertices] = np.arange(n)
    found = curved_fill(rim, mesh.vertices[beyond], number[faces], plain)
    if found is None:
        return
    fill, before, on_quadric = found
    if on_quadric or not is_dome(mesh, rim, around.rings(rim.vertices, _RINGS), fill.points):
        for share in _DRAWN_BACK:
            yield blend(fill, before, share)


def _settle(draft: Draft, jobs: list[Job], around: _Around) -> None:
    """Go through the fills of each opening until none crosses anything; one for which there is none keeps no fill."""
    mesh = draft.mesh
    if not jobs:
        return
    beside = around.faces_at(np.unique(np.concatenate([job.rim.vertices for job in jobs])))
    pierced = _pierced(mesh, np.concatenate([loop.half for job in jobs for loop in job.loops]))
    for job in jobs:
        # whatever has an edge of the rim crosses what goes through that
        if not any(np.isin(loop.half, pierced).any() for loop in job.loops):
            job.fill = next(job.tries, None)
    while True:
        active = [job for job in jobs if job.fill is not None]
        if not active:
            return
        grown = with_fills(draft, active).mesh
        sizes = [0 if job.fill is None else len(job.fill.faces) for job in active]
        at = np.repeat(np.arange(len(active)), sizes)
        first = len(mesh.faces)
        new = first + np.arange(len(at))
        loose = np.array([not job.settled for job in active])
        bad: dict[int, set[int]] = {}
        for f in _faulty(grown, mesh, beside, new, new[loose[at]]).tolist():
            # of two fills that cross each other, the one that is new gives way
            if f >= first and loose[at[f - first]]:
                bad.setdefault(int(at[f - first]), set()).add(f - first)
        for k, job in enumerate(active):
            job.settled = k not in bad
        if not bad:
            return
        starts = np.cumsum([0, *sizes])
        for k, rows in bad.items():
            job = active[k]
            assert job.fill is not None
            triangles = job.fill.faces[np.array(sorted(rows)) - starts[k]]
            job.bad |= {(int(a), int(b), int(c)) for a, b, c in triangles if max(a, b, c) < len(job.rim.vertices)}
            job.fill = next(job.tries, None)


def _pierced(mesh: Mesh, half: Ints) -> Ints:
    """Those of some half-edges that a face goes through."""
    pairs = crossing_pairs(mesh, np.unique(half // 3))
    hits = np.zeros((len(pairs), 6), np.int8)
    run_ranges(lambda b, e: pierce_pairs(mesh.vertices, mesh.faces, pairs, b, e, hits), len(pairs), grain=256)
    row, k = np.nonzero(np.abs(hits) == 1)
    return np.intersect1d(half, 3 * pairs[row, (k >= 3).astype(np.int64)] + k % 3)


def _faulty(grown: Mesh, mesh: Mesh, beside: Ints, new: Ints, asked: Ints) -> Ints:
    """Faces among `asked` that cross something, have no area, or have an edge that others have already. beside: the
    faces at the rims."""
    flat = np.zeros(len(grown.faces), bool)
    mark_flat(grown.vertices, grown.faces, int(new[0]), len(grown.faces), flat)
    local = np.concatenate([beside, new])
    edges = build_topology(np.ascontiguousarray(grown.faces[local]), len(grown.vertices)).opposite
    crowded = local[np.flatnonzero(edges == CROWDED) // 3]
    pairs = crossing_pairs(grown, asked, mesh)
    found = np.concatenate([np.flatnonzero(flat), crowded, pairs[:, 0]])
    return np.intersect1d(found, asked)
