"""Third step: edges of more than two faces and pinched vertices taken apart into clean sheets.

Around a crowded edge, faces are paired two by two: where they bound material in turns, the two beside the same
material belong together; else those that go on most smoothly. Every fan of faces at a vertex gets a vertex of its own.
Equal places would be one again in the file, so all fans but the largest are drawn back a few micrometres, into their
own side, and only so that nothing crosses.
"""

import numpy as np

from bolvek.analyses.soundness import split_vertices
from bolvek.analyses.soundness.around import crossing_pairs
from bolvek.analyses.zones import edge_zones
from bolvek.arrays import Bools, Floats, Ints
from bolvek.mesh import Mesh
from bolvek.mesh.topology import CROWDED, OPEN, label_patches
from bolvek.operations.mend.draft import Draft, shell_places, stored
from bolvek.operations.mend.record import Left, MendStep, Place
from bolvek.spatial.groups import linked_groups
from bolvek.units import as_triple

DRAW_SHARE, LEAST_DRAW_MM = 2e-5, 5e-4
"""Fans are drawn apart by this share of the longest side, at least so many mm, at most a tenth of their edges."""

SHEET_SHARE = 0.05
"""A sheet without thickness that hung on a crowded edge is taken out up to this share of the model's area; larger only
when nothing else bounds it."""

_EDGE_SHARE = 0.1
_ONE_ANGLE = 2 * np.pi / 2**24  # faces of an edge that lie this near to each other, in radians, lie on each other
_LEAST_TURN_DEG = 60.0  # two uses of an edge that run the same way are only paired beyond this


def separate(draft: Draft, *, everywhere: bool = False) -> tuple[Draft, MendStep]:
    """Take apart what is not manifold. Open fans at a vertex stay together (a rim may yet be closed between them)
    unless `everywhere`."""
    mesh = draft.mesh
    counts: dict[str, int] = {}
    places: list[Place] = []
    left: list[Left] = []
    crowded = np.flatnonzero(mesh.topology.opposite == CROWDED)
    places += [Place("non-manifold edge", z.count, z.where_mm, z.size_mm) for z in edge_zones(mesh, crowded)]
    tried = []
    for material in (True, False):
        pairs = _pair(mesh, crowded, material)
        fans = _fans(mesh, crowded, pairs)
        corners, number, owner = _copies(mesh, *fans, _body_areas(mesh, pairs), crowded, everywhere)
        if len(owner):
            tried.append((*_draw_apart(draft, corners, number, owner), owner))
            if not tried[-1][3] and not tried[-1][0].mesh.topology.nonmanifold_edges:
                break
    if not tried:
        return draft, MendStep(step="separate")
    # where faces are inside out, what looks like material is air
    draft, moved, apart, stuck, owner = min(tried, key=lambda way: _pinched(way[0].mesh))
    counts["nonmanifold_edges"] = mesh.topology.nonmanifold_edges - draft.mesh.topology.nonmanifold_edges
    counts["vertices"] = apart
    left += [
        Left("touching fans", "no way to draw them apart without a crossing", as_triple(mesh.vertices[v]))
        for v in stuck[:50]
    ]
    draft = _drop_sheets(draft, crowded, counts, places)
    if not counts["nonmanifold_edges"]:
        places += [Place("pinched vertex", 1, as_triple(mesh.vertices[v])) for v in np.unique(owner)[:100].tolist()]
    return draft, MendStep(
        step="separate", counts={k: n for k, n in counts.items() if n}, places=places, moved_mm=moved, left=left
    )


def taken_apart(mesh: Mesh) -> Mesh:
    """The mesh with a vertex of its own for every fan of faces, edges of several faces paired beside the same material:
    bodies that only touch, or lie on each other, hang together no more. Nothing moves: their vertices stand in one
    place."""
    crowded = np.flatnonzero(mesh.topology.opposite == CROWDED)
    pairs = _pair(mesh, crowded, True)
    fans = _fans(mesh, crowded, pairs)
    corners, number, owner = _copies(mesh, *fans, _body_areas(mesh, pairs), crowded, True)
    if not len(owner):
        return mesh
    flat = np.array(mesh.faces).ravel()
    flat[corners] = len(mesh.vertices) + number
    return Mesh(np.concatenate([mesh.vertices, mesh.vertices[owner]]), flat.reshape(-1, 3))


def _pair(mesh: Mesh, crowded: Ints, material: bool) -> Ints:
    """Half-edges (P, 2) of crowded edges that are to be two uses of one edge: beside the same material, or air."""
    if not len(crowded):
        return np.zeros((0, 2), np.int64)
    ends = np.stack(mesh.edge_ends(crowded), axis=1).astype(np.int64)
    low = ends.min(axis=1)
    order = np.lexsort((crowded, ends.max(axis=1), low))
    crowded, ends = crowded[order], ends[order]
    edge = np.sort(ends, axis=1)
    groups = np.split(np.arange(len(crowded)), np.flatnonzero((np.diff(edge, axis=0) != 0).any(axis=1)) + 1)
    forward = ends[:, 0] == edge[:, 0]
    a, b = mesh.vertices[edge[:, 0]], mesh.vertices[edge[:, 1]]
    along = (b - a) / np.maximum(np.linalg.norm(b - a, axis=1), 1e-300)[:, None]
    off = mesh.vertices[mesh.faces[crowded // 3, (crowded % 3 + 2) % 3]] - a
    off -= np.einsum("ij,ij->i", off, along)[:, None] * along
    found: list[tuple[int, int]] = []
    for rows in groups:
        x = off[rows[0]] / max(float(np.linalg.norm(off[rows[0]])), 1e-300)
        y = np.cross(along[rows[0]], x)
        angle = np.arctan2(off[rows] @ y, off[rows] @ x) % (2 * np.pi)
        angle[0] = 0.0
        # faces that lie on each other: of two bodies that touch, nothing is between them
        step = np.rint(angle / _ONE_ANGLE).astype(np.int64) % round(2 * np.pi / _ONE_ANGLE)
        turn = np.lexsort((np.arange(len(rows)), ~forward[rows], step))
        for i, j in _partners(angle[turn], forward[rows][turn], material):
            found.append((int(crowded[rows[turn[i]]]), int(crowded[rows[turn[j]]])))
    return np.array(found, np.int64).reshape(-1, 2)


def _partners(angle: Floats, forward: Bools, material: bool) -> list[tuple[int, int]]:
    """Which faces around an edge, sorted by angle, go together. A forward one has air after it, material before."""
    n = len(angle)
    if n % 2 == 0 and (forward != np.roll(forward, 1)).all():
        start = int(np.flatnonzero(forward ^ material)[0])
        return [((start + i) % n, (start + i + 1) % n) for i in range(0, n, 2)]
    least = np.radians(_LEAST_TURN_DEG)
    options = []
    for i in range(n):
        for j in range(i + 1, n):
            between = abs(angle[j] - angle[i])
            bend = abs(np.pi - min(between, 2 * np.pi - between))
            same = bool(forward[i] == forward[j])
            if not same or bend < np.pi - least:
                options.append((same, bend, i, j))
    taken: set[int] = set()
    found = []
    for _, _, i, j in sorted(options):
        if i not in taken and j not in taken:
            taken |= {i, j}
            found.append((i, j))
    return found


def _fans(mesh: Mesh, crowded: Ints, pairs: Ints) -> tuple[Ints, Ints]:
    """Corners (C,) at vertices of crowded edges and of several fans, and the fan (C,) of each, those of crowded edges
    joined through their new partners."""
    flat, fan = mesh.faces.ravel(), mesh.topology.fan
    roots = np.flatnonzero(fan == np.arange(len(fan)))
    wanted = np.bincount(flat[roots], minlength=len(mesh.vertices)) > 1
    for end in mesh.edge_ends(crowded):
        wanted[end] = True
    corners = np.flatnonzero(wanted[flat] & (fan >= 0))
    links = [np.stack([corners, fan[corners]], axis=1)]
    if len(pairs):
        h, g = pairs.T
        h_next, g_next = h // 3 * 3 + (h % 3 + 1) % 3, g // 3 * 3 + (g % 3 + 1) % 3
        same = flat[h] == flat[g]
        links.append(np.stack([h, np.where(same, g, g_next)], axis=1))
        links.append(np.stack([h_next, np.where(same, g_next, g)], axis=1))
    joined = np.searchsorted(corners, np.concatenate(links))
    return corners, linked_groups(len(corners), joined).astype(np.int64)


def pinched_faces(mesh: Mesh) -> Ints:
    """Faces at vertices of crowded edges, and at those where fans of faces touch."""
    if not _pinched(mesh):
        return np.zeros(0, np.int64)
    at = np.zeros(len(mesh.vertices), bool)
    at[split_vertices(mesh)] = True
    for end in mesh.edge_ends(np.flatnonzero(mesh.topology.opposite == CROWDED)):
        at[end] = True
    return np.flatnonzero(at[mesh.faces].any(axis=1))


def _pinched(mesh: Mesh) -> int:
    """How much of it is not manifold."""
    return mesh.topology.nonmanifold_edges + mesh.topology.extra_fans


def _body_areas(mesh: Mesh, pairs: Ints) -> Floats:
    """Area (F,) of the piece that each face belongs to once only paired edges hold pieces together."""
    patch, count = label_patches(mesh.topology, np.ones(len(mesh.faces), bool))
    body = linked_groups(count, patch[pairs // 3])[patch]
    return np.asarray(np.bincount(body, mesh.face_areas)[body])


def _copies(
    mesh: Mesh, corners: Ints, fan: Ints, body: Floats, crowded: Ints, everywhere: bool
) -> tuple[Ints, Ints, Ints]:
    """Corners (C,) that get a vertex of their own, its number (from 0) for each, and the vertex each copies. fan (N,):
    that of some corners (N,)."""
    flat = mesh.faces.ravel().astype(np.int64)
    _, first = np.unique(fan, return_index=True)  # fans are numbered by their first corner
    vertex = flat[corners[first]]
    several = np.zeros(len(mesh.vertices), bool)
    several[vertex[np.bincount(vertex, minlength=len(mesh.vertices))[vertex] > 1]] = True
    if not several.any():
        none = np.zeros(0, np.int64)
        return none, none, none
    on_edge = np.zeros(len(mesh.vertices), bool)
    for end in mesh.edge_ends(crowded):
        on_edge[end] = True
    area = np.bincount(fan, mesh.face_areas[corners // 3], len(first))
    size = body[corners[first] // 3]
    is_open = np.zeros(len(mesh.faces) * 3, bool)
    rim = np.flatnonzero(mesh.topology.opposite == OPEN)
    is_open[rim] = True
    is_open[rim // 3 * 3 + (rim % 3 + 1) % 3] = True
    open_fan = np.bincount(fan, is_open[corners], len(first)) > 0
    # one fan of each vertex keeps it: an open one where those stay together, else that of the largest piece
    together = open_fan & ~on_edge[vertex] & (not everywhere)
    order = np.lexsort((first, -area, -size, ~together, vertex))
    order = order[several[vertex[order]]]
    keeps = np.concatenate([[True], np.diff(vertex[order]) != 0])
    moving = order[~keeps & ~together[order]]
    number = np.full(len(first), -1, np.int64)
    number[moving] = np.arange(len(moving))
    chosen = number[fan] >= 0
    return corners[chosen], number[fan[chosen]], vertex[moving]


def _draw_apart(draft: Draft, corners: Ints, number: Ints, owner: Ints) -> tuple[Draft, float, int, list[int]]:
    """Give the corners their vertices and draw those back; what crosses in every direction tried stays where it was."""
    mesh = draft.mesh
    count = len(owner)
    face = corners // 3
    base = len(mesh.vertices)
    nothing = np.zeros(count, bool)
    ahead, behind, shortest = _directions(mesh, corners, number, owner, count)
    draw = np.minimum(max(DRAW_SHARE * float(mesh.size.max()), LEAST_DRAW_MM), _EDGE_SHARE * shortest)
    before = len(crossing_pairs(mesh, np.unique(face)))
    slack = float(draw.max())
    chosen = np.zeros(count, np.int64)  # the direction each takes; 4 is back to the vertex it came from
    ways = [-ahead, behind, ahead, -behind]

    def made(chosen: Ints) -> Draft:
        points = mesh.vertices[owner].copy()
        for k, way in enumerate(ways):
            rows = chosen == k
            points[rows] += draw[rows, None] * way[rows]
        flat = np.array(mesh.faces).ravel()
        apart = chosen[number] < len(ways)
        flat[corners[apart]] = base + number[apart]
        return Draft(Mesh(np.concatenate([mesh.vertices, stored(points)]), flat.reshape(-1, 3)), draft.origin)

    for _ in range(len(ways) + 2):
        done = made(chosen)
        pairs = crossing_pairs(done.mesh, np.unique(face), mesh, slack)
        if len(pairs) <= before and not len(pairs):
            break
        bad = nothing.copy()
        touched = done.mesh.faces[pairs].ravel() - base
        bad[touched[(touched >= 0) & (touched < count)]] = True
        bad &= chosen < len(ways)
        if not bad.any():
            break
        chosen[bad] += 1
    used = chosen < len(ways)
    moved = float(draw[used].max(initial=0.0))
    return done.packed(), moved, int(used.sum()), np.unique(owner[~used]).tolist()


def _directions(mesh: Mesh, corners: Ints, number: Ints, owner: Ints, count: int) -> tuple[Floats, Floats, Floats]:
    """Of each fan: the way its faces look (N, 3), the way its edges run from the vertex (N, 3), its shortest edge."""
    face, k = np.divmod(corners, 3)
    p = mesh.vertices[owner[number]]
    ahead, along = np.zeros((count, 3)), np.zeros((count, 3))
    shortest = np.full(count, np.inf)
    normal = mesh.normals_of(face)
    ways = []
    for step in (1, 2):
        off = mesh.vertices[mesh.faces[face, (k + step) % 3]] - p
        length = np.linalg.norm(off, axis=1)
        np.minimum.at(shortest, number, length)
        ways.append(off / np.maximum(length, 1e-300)[:, None])
    angle = np.arccos(np.clip(np.einsum("ij,ij->i", *ways), -1, 1))
    np.add.at(ahead, number, angle[:, None] * normal)
    np.add.at(along, number, ways[0] + ways[1])
    unit = [x / np.maximum(np.linalg.norm(x, axis=1), 1e-300)[:, None] for x in (ahead, along)]
    return unit[0], unit[1], shortest


def _drop_sheets(draft: Draft, crowded: Ints, counts: dict[str, int], places: list[Place]) -> Draft:
    """Take out sheets that hung on crowded edges and now are open pieces of their own, beside others."""
    mesh = draft.mesh
    topology = mesh.topology
    if topology.shells < 2 or not len(crowded):
        return draft
    n = topology.shells
    hung = np.zeros(n, np.int64)
    rim = np.zeros(n, np.int64)
    open_now = np.flatnonzero(topology.opposite == OPEN)
    np.add.at(rim, topology.shell[open_now // 3], 1)
    was = np.intersect1d(open_now, crowded)
    np.add.at(hung, topology.shell[was // 3], 1)
    area = np.bincount(topology.shell, mesh.face_areas, n)
    small = area <= SHEET_SHARE * area.sum()
    membrane = hung == rim  # all around
    rest = area.sum() - area
    out = (hung > 0) & (small | membrane) & (rest > area)
    if not out.any():
        return draft
    places += shell_places(mesh, np.flatnonzero(out), "sheet")
    counts["sheets"] = int(out.sum())
    return draft.picked(~out[topology.shell])
