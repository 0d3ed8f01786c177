"""Openings: loops of open edges, measured, and told apart as holes, cracks, seams, rims and what may be either."""

from dataclasses import dataclass, replace

import numpy as np

from bolvek.analyses.shells.gaps import find_gaps
from bolvek.analyses.shells.islands import find_islands
from bolvek.analyses.shells.rims import Rims, find_rims, near_mm
from bolvek.arrays import Bools, Floats, Ints, Ints32
from bolvek.mesh import Mesh
from bolvek.mesh.topology import OPEN
from bolvek.spatial.groups import linked_groups
from bolvek.units import Triple

RIM_SHARE = 0.4
"""A loop is the rim of an open skin when a disc as long around has at least this share of the skin's area."""

CRACK_SHARE, CRACK_MOST = 2e-3, 1e-2
"""A loop is a crack when its two banks, on average and at most, are closer than these shares of their length."""

THROAT_SHARE, MOST_THROAT, LEAST_THROAT = 0.7, 3.0, 1e-3
"""A flat loop may be the rim of an open shell as well as a hole when its length is between these shares of that of the
shell's section a little deeper in, and a disc as long around has at least the last share of the shell's area."""

FLAT_SHARE, ROUGH_SHARE = 1e-3, 0.15
"""A loop bent by less than the first share of its span is flat; by more than the second, it was not meant as an end."""

ROUND_SHARE = 0.25
"""Nor was a slot meant as an end: a loop with less than this share of the area of a disc as long around."""

ENCLOSING = 1e-6
"""A shell closed in thought encloses something when 36 pi V2 is more than this share of A3 (a ball has 1)."""

LOW_SHARE = 0.02
"""A loop within this share of the height from the lowest point is at the bottom."""

EITHER = "hole or rim"

_MOST_PAIRS = 300  # rim points up to which all pairs are measured for the span
_MOST_THROATS = 100
_BANK = 64
_TEETH, _WAVES = 8, 3  # edges from which a rim can have teeth; waves once around that draw its shape


@dataclass(frozen=True)
class Opening:
    """One loop of open edges, or a seam: edges that lie on each other without being joined.

    kind: "hole", "crack", "seam", "rim" (of an open skin) or "hole or rim": where the shell ends as a vase does,
    nothing in it tells whether a lid is missing or a thickness. edges: open ones; crowded_edges: others that it
    runs along, used by three faces or more. span_mm: widest distance between two rim points; bent_mm: farthest rim
    point from the mean plane; lowest: at the bottom of its shell; shell counts from 1; islands: pieces of surface that
    lie in a hole, whose rims are rims of it too. A seam's length counts once, though its edges lie there twice.
    """

    kind: str
    edges: int
    length_mm: float
    span_mm: float
    bent_mm: float
    area_mm2: float
    where_mm: Triple
    size_mm: Triple
    shell: int
    crowded_edges: int = 0
    lowest: bool = False
    islands: int = 0

    @property
    def flat(self) -> bool:
        """Whether it lies in a plane."""
        return self.bent_mm <= FLAT_SHARE * self.span_mm


@dataclass(frozen=True)
class Openings:
    """All openings, largest span first; the half-edges of each; and the shells (S,) by what their openings say.

    skin: has a rim; unsure: has a loop that may be one; group (S,): the first of the shells that seams hold together.
    """

    found: list[Opening]
    half: list[Ints]
    skin: Bools
    unsure: Bools
    group: Ints32


def find_openings(mesh: Mesh) -> Openings:
    """All openings; vertices nearer than `near_mm` lie on each other."""
    shells = mesh.topology.shells
    if not mesh.topology.open_edges:
        nothing = np.zeros(shells, bool)
        return Openings([], [], nothing, nothing, np.arange(shells, dtype=np.int32))
    rims = find_rims(mesh, near_mm(mesh))
    # a hole between pieces that hang together by corners joins them
    shared = [np.unique(mesh.topology.shell[rims.half[rows] // 3]) for rows in rims.loops]
    links = np.array([(own[0], one) for own in shared for one in own[1:]], np.int64).reshape(-1, 2)
    links = np.concatenate([rims.links, links])
    group = _grouped(shells, links)
    loops = _measure(mesh, rims, rims.loops)
    seams = [replace(s, kind="seam", length_mm=0.5 * s.length_mm) for s in _measure(mesh, rims, rims.seams)]
    judged = _judge(mesh, rims, loops, group)
    holes, rows, joined = _with_islands(mesh, rims, judged)
    if len(joined):
        group = _grouped(shells, np.concatenate([links, joined]))
    pieces = [*zip(holes, rows, strict=True), *zip(seams, rims.seams, strict=True)]
    pieces.sort(key=lambda p: (-p[0].span_mm, p[0].where_mm))
    found = [o for o, _ in pieces]
    skin, unsure = np.zeros(shells, bool), np.zeros(shells, bool)
    skin[[o.shell - 1 for o in found if o.kind == "rim"]] = True
    unsure[[o.shell - 1 for o in found if o.kind == EITHER]] = True
    skin, unsure = (np.bincount(group, x, int(group.max()) + 1)[group] > 0 for x in (skin, unsure))
    return Openings(found, [np.unique(rims.half[rows]) for _, rows in pieces], skin, unsure & ~skin, group)


def _grouped(shells: int, links: Ints) -> Ints32:
    """The first shell of those that links (L, 2) hold together, for each shell."""
    if not len(links):
        return np.arange(shells, dtype=np.int32)
    _, first, at = np.unique(linked_groups(shells, links), return_index=True, return_inverse=True)
    return np.asarray(first[at.ravel()].astype(np.int32))


def _with_islands(mesh: Mesh, rims: Rims, judged: list[Opening]) -> tuple[list[Opening], list[Ints], Ints]:
    """Openings and the rows of each, those of islands with what is around them: one hole, whatever either looks like
    alone; and pairs of shells (L, 2) that belong together so."""
    forward = [_forward(rims.start[r], rims.end[r], np.array([0]), np.array([len(r)])) for r in rims.loops]
    home = find_islands(mesh, rims, forward)
    for one, other in _gaps(mesh, rims, forward, home):
        home[other] = one
    if (home < 0).all():
        return judged, rims.loops, np.zeros((0, 2), np.int64)
    found, rows = [], []
    for k in np.flatnonzero(home < 0).tolist():
        own = np.flatnonzero(home == k).tolist()
        hole = judged[k]
        if own:
            hole = replace(
                hole,
                kind="hole",
                edges=hole.edges + sum(judged[i].edges for i in own),
                length_mm=hole.length_mm + sum(judged[i].length_mm for i in own),
                area_mm2=max(hole.area_mm2 - sum(judged[i].area_mm2 for i in own), 0.0),
                islands=len(own),
            )
        found.append(hole)
        rows.append(np.concatenate([rims.loops[k], *(rims.loops[i] for i in own)]))
    inner = np.flatnonzero(home >= 0)
    shell = np.array([o.shell - 1 for o in judged])
    return found, rows, np.stack([shell[home[inner]], shell[inner]], axis=1)


def _gaps(mesh: Mesh, rims: Rims, forward: list[Bools], home: Ints) -> list[tuple[int, int]]:
    """Pairs of loops that bound one gap, of those that are no island and have none."""
    free = np.setdiff1d(np.flatnonzero(home < 0), home).tolist()
    alone = [k for k in free if bool((mesh.topology.opposite[rims.half[rims.loops[k]]] == OPEN).all())]
    loops = []
    for k in alone:
        rows = rims.loops[k]
        a, b = (mesh.vertices[end] for end in mesh.edge_ends(rims.half[rows]))
        way = np.where(forward[k][:, None], 1.0, -1.0) * (rims.end[rows] - rims.start[rows])
        points = np.where(forward[k][:, None], rims.start[rows], rims.end[rows])
        # a fill runs against the edges around it
        loops.append((points[::-1] if float(np.einsum("ij,ij->", way, b - a)) > 0 else points, rims.half[rows]))
    return [(alone[a], alone[b]) for a, b in find_gaps(mesh, loops)]


def lids(mesh: Mesh, openings: Openings) -> tuple[Floats, Ints, Ints]:
    """Triangles (N, 3, 3) that close every shell without a rim in thought; the shell and the face beside each.

    A fan from the middle of each opening, facing as the face beside it does.
    """
    corners, shell, beside = [np.zeros((0, 3, 3))], [np.zeros(0, np.int64)], [np.zeros(0, np.int64)]
    for o, half in zip(openings.found, openings.half, strict=True):
        if openings.skin[o.shell - 1]:
            continue
        half = half[mesh.topology.opposite[half] == OPEN]
        face = half // 3
        a, b = (mesh.vertices[end] for end in mesh.edge_ends(half))
        middle = np.broadcast_to(np.array(o.where_mm), a.shape)
        corners.append(np.stack([b, a, middle], axis=1))
        shell.append(mesh.topology.shell[face].astype(np.int64))
        beside.append(face.astype(np.int64))
    return np.concatenate(corners), np.concatenate(shell), np.concatenate(beside)


def _measure(mesh: Mesh, rims: Rims, chains: list[Ints]) -> list[Opening]:
    """Every chain measured, as a hole."""
    if not chains:
        return []
    edges = np.array([len(chain) for chain in chains])
    starts = np.concatenate([[0], np.cumsum(edges)[:-1]])
    owner = np.repeat(np.arange(len(chains)), edges)
    rows = np.concatenate(chains)
    a, b = rims.start[rows], rims.end[rows]
    length = np.linalg.norm(b - a, axis=1)
    total = np.add.reduceat(length, starts)
    weight = length / np.maximum(total, 1e-300)[owner]
    middle = np.add.reduceat(0.5 * (a + b) * weight[:, None], starts)
    # the loop's own way round, whatever the faces beside it say
    turn = _forward(a, b, starts, edges)
    p, q = np.where(turn[:, None], a, b), np.where(turn[:, None], b, a)
    area = np.linalg.norm(0.5 * np.add.reduceat(np.cross(p - middle[owner], q - middle[owner]), starts), axis=1)
    low, high = (f.reduceat(f(a, b), starts) for f in (np.minimum, np.maximum))
    span, bent = np.maximum.reduceat(length, starts), np.zeros(len(chains))
    for c in np.flatnonzero(edges != 3):
        some = slice(starts[c], starts[c] + edges[c])
        points = np.unique(np.concatenate([a[some], b[some]]), axis=0)
        span[c] = _span(points)
        if len(points) > 3:  # the mean plane: least spread of the rim points
            off = points - points.mean(axis=0)
            bent[c] = np.abs(off @ np.linalg.svd(off, full_matrices=False)[2][-1]).max()
    half = rims.half[rows]
    is_open = mesh.topology.opposite[half] == OPEN
    ends = np.unique(np.stack([owner[is_open], half[is_open]], axis=1), axis=0)[:, 0]
    count = np.bincount(ends, minlength=len(chains))
    crowded = np.bincount(owner, ~is_open, len(chains)).astype(int)
    first_open = np.array([int(np.flatnonzero(is_open[s : s + n])[0]) + s for s, n in zip(starts, edges, strict=True)])
    shell = mesh.topology.shell[half[first_open] // 3] + 1
    columns = (count, total, span, bent, area, middle, high - low, shell, crowded)
    return [
        Opening("hole", n, around, widest, off, within, (x, y, z), (u, v, w), number, others)
        for n, around, widest, off, within, (x, y, z), (u, v, w), number, others in zip(
            *(column.tolist() for column in columns), strict=True
        )
    ]


def _forward(a: Floats, b: Floats, starts: Ints, edges: Ints) -> Bools:
    """Whether each edge, as listed, ends where the next one of its loop touches it (the shorter way)."""
    following = np.arange(len(a)) + 1
    following[starts + edges - 1] = starts
    near_b = np.minimum(np.abs(b - a[following]).sum(axis=1), np.abs(b - b[following]).sum(axis=1))
    near_a = np.minimum(np.abs(a - a[following]).sum(axis=1), np.abs(a - b[following]).sum(axis=1))
    return np.asarray(near_b <= near_a)


def _judge(mesh: Mesh, rims: Rims, loops: list[Opening], group: Ints32) -> list[Opening]:
    """Each loop with its kind, and whether it is the lowest of its shell."""
    if not loops:
        return []
    shell_area = np.bincount(mesh.topology.shell, mesh.face_areas, mesh.topology.shells)
    area = np.bincount(group, shell_area)
    low, high = mesh.shell_boxes
    bottom, top = np.full(len(area), np.inf), np.full(len(area), -np.inf)
    np.minimum.at(bottom, group, low[:, 2])
    np.maximum.at(top, group, high[:, 2])
    home = np.array([group[o.shell - 1] for o in loops])
    length = np.array([o.length_mm for o in loops])
    # teeth make a rim long, not wide
    for i in np.flatnonzero(length**2 / (4 * np.pi) >= LEAST_THROAT * area[home]).tolist():
        if len(rims.loops[i]) >= _TEETH:
            length[i] = min(length[i], _without_teeth(rims.start[rims.loops[i]], rims.end[rims.loops[i]]))
    count = np.bincount(home, minlength=len(area))
    longest = np.zeros(len(area))
    np.maximum.at(longest, home, length)
    disc = length**2 / (4 * np.pi)
    tried = 0
    judged = list(loops)
    for i in np.argsort(-length, kind="stable").tolist():
        o, g = loops[i], home[i]
        kind = "hole"
        start, end = rims.start[rims.loops[i]], rims.end[rims.loops[i]]
        if _is_crack(o, start, end, area[g]) and (count[g] > 1 or _encloses(mesh, o, group, area[g])):
            kind = "crack"
        elif disc[i] >= RIM_SHARE * area[g] and length[i] >= 0.5 * longest[g]:
            kind = "rim"
        elif (
            o.edges + o.crowded_edges > 3
            and disc[i] >= LEAST_THROAT * area[g]
            and o.bent_mm <= ROUGH_SHARE * o.span_mm
            and o.area_mm2 >= ROUND_SHARE * disc[i]
            and tried < _MOST_THROATS
        ):
            tried += 1
            deeper = _section(mesh, o, start, end, group == g)
            if THROAT_SHARE * deeper <= length[i] <= MOST_THROAT * deeper:
                kind = EITHER
        height = float(top[g] - bottom[g])
        reach = float(max(start[:, 2].max(), end[:, 2].max()) - bottom[g])
        judged[i] = replace(o, kind=kind, lowest=height > 0 and reach <= LOW_SHARE * height)
    return judged


def _is_crack(o: Opening, start: Floats, end: Floats, area: float) -> bool:
    """Whether the two banks of a loop lie close to each other all along; not those of a ribbon, whose area (mm2) is
    no more than what lies between them."""
    if o.edges + o.crowded_edges < 3:
        return True
    if o.area_mm2 > 0.5 * CRACK_MOST * o.length_mm**2:
        return False
    points = _ordered(start, end)
    i = int(np.argmax(np.linalg.norm(points - points[0], axis=1)))
    points = np.roll(points, -i, axis=0)
    j = int(np.argmax(np.linalg.norm(points - points[0], axis=1)))
    if j in (0, len(points)):
        return False
    banks = [_even(points[: j + 1]), _even(np.concatenate([points[j:], points[:1]]))]
    apart = np.concatenate([_to_line(banks[0], banks[1]), _to_line(banks[1], banks[0])])
    reach = 0.5 * o.length_mm
    close = apart.mean() <= CRACK_SHARE * reach and apart.max() <= CRACK_MOST * reach
    return bool(close and apart.mean() * reach <= 0.5 * area)


def _without_teeth(start: Floats, end: Floats) -> float:
    """The length (mm) of a loop as its lowest waves alone draw it."""
    points = _ordered(start, end)
    even = _even(np.concatenate([points, points[:1]]))[:-1]
    waves = np.fft.rfft(even, axis=0)
    waves[_WAVES + 1 :] = 0
    smooth = np.fft.irfft(waves, len(even), axis=0)
    return float(np.linalg.norm(np.roll(smooth, -1, axis=0) - smooth, axis=1).sum())


def _ordered(start: Floats, end: Floats) -> Floats:
    """The points (N, 3) a loop passes, in its order."""
    n = np.array([len(start)])
    forward = _forward(start, end, np.array([0]), n)
    return np.where(forward[:, None], start, end)


def _even(line: Floats) -> Floats:
    """Points at even steps along a line (N, 3)."""
    along = np.concatenate([[0.0], np.cumsum(np.linalg.norm(np.diff(line, axis=0), axis=1))])
    at = np.linspace(0, along[-1], _BANK)
    return np.stack([np.interp(at, along, line[:, k]) for k in range(3)], axis=1)


def _to_line(points: Floats, line: Floats) -> Floats:
    """Distance (N,) of points to a line (M, 3) of straight pieces."""
    a, d = line[:-1], np.diff(line, axis=0)
    off = points[:, None] - a
    t = np.clip(np.einsum("nmk,mk->nm", off, d) / np.maximum(np.einsum("mk,mk->m", d, d), 1e-300), 0, 1)
    return np.asarray(np.linalg.norm(off - t[..., None] * d, axis=2).min(axis=1))


def _encloses(mesh: Mesh, o: Opening, group: Ints32, area: float) -> bool:
    """Whether the shell, its one loop closed in thought, encloses anything to speak of."""
    face = np.flatnonzero((group == group[o.shell - 1])[mesh.topology.shell])
    middle = np.array(o.where_mm)
    corners = mesh.vertices[mesh.faces[face]] - middle  # lids through the middle add nothing
    volume = abs(float(np.einsum("ij,ij->i", corners[:, 0], np.cross(corners[:, 1], corners[:, 2])).sum()) / 6)
    return 36 * np.pi * volume**2 > ENCLOSING * area**3


def _section(mesh: Mesh, o: Opening, start: Floats, end: Floats, shells: Bools) -> float:
    """Length (mm) of the section of the shells by the loop's plane moved half the loop's radius into them, near it."""
    points = np.unique(np.concatenate([start, end]), axis=0)
    middle = np.array(o.where_mm)
    normal = np.linalg.svd(points - points.mean(axis=0), full_matrices=False)[2][-1]
    reach = float(np.sqrt(max(o.area_mm2, 1e-300) / np.pi))
    reach = reach if reach > 0.05 * o.span_mm else o.length_mm / (2 * np.pi)
    face = np.flatnonzero(shells[mesh.topology.shell])
    corners = mesh.vertices[mesh.faces[face]] - middle
    near = np.linalg.norm(corners, axis=2).min(axis=1) <= max(2 * o.span_mm, 4 * reach)
    corners = corners[near]
    rise = corners @ normal
    close = np.abs(rise).max(axis=1) <= reach
    side = 1.0 if float(rise[close].sum() if close.any() else rise.sum()) >= 0 else -1.0
    rise = side * rise - 0.5 * reach
    total = 0.0
    for k in range(3):  # the corner alone on its side of the plane
        one, two, three = rise[:, k], rise[:, (k + 1) % 3], rise[:, (k + 2) % 3]
        for sign in (1.0, -1.0):
            lone = (sign * one > 0) & (sign * two <= 0) & (sign * three <= 0)
            p, q, r = (corners[lone, (k + j) % 3] for j in range(3))
            s = (one[lone] / (one[lone] - two[lone]))[:, None]
            t = (one[lone] / (one[lone] - three[lone]))[:, None]
            total += float(np.linalg.norm((p + s * (q - p)) - (p + t * (r - p)), axis=1).sum())
    return total


def _span(points: Floats) -> float:
    """The widest distance between two of the points."""
    if len(points) > _MOST_PAIRS:
        from scipy.spatial import ConvexHull, QhullError  # slow to import, and hardly ever needed

        try:
            points = points[ConvexHull(points).vertices]
        except QhullError:  # a flat rim: its hull in the plane it lies in
            axes = np.linalg.svd(points - points.mean(axis=0), full_matrices=False)[2][:2]
            try:
                points = points[ConvexHull(points @ axes.T).vertices]
            except QhullError:
                along = points @ axes[0]
                points = points[[int(along.argmin()), int(along.argmax())]]
    widest = 0.0
    for at in range(0, len(points), 1000):
        apart = points[at : at + 1000, None] - points
        widest = max(widest, float(np.einsum("ijk,ijk->ij", apart, apart).max()))
    return float(np.sqrt(widest))
