"""Fills of one opening: flat, from corner to corner, curved; each a list of faces and the points they need."""

from dataclasses import dataclass

import numpy as np

from bolvek.analyses.shells.islands import newell
from bolvek.arrays import Bools, Floats, Ints
from bolvek.kernels.exact import polygons as flat_kernels
from bolvek.kernels.surface import fill as kernels
from bolvek.mesh import Mesh
from bolvek.mesh.topology import build_topology
from bolvek.operations.mend.fair import fair
from bolvek.spatial.frames import across
from bolvek.spatial.polygons import PolygonError, signed_area, triangulate

MOST_AT_ONCE = 200
"""Rims of more edges are split at short chords before they are triangulated."""

_CONCAVE_CROSSED = 2


@dataclass(frozen=True)
class Rim:
    """A closed ring to be filled: vertices (N,) of the mesh in the order of the fill, where they are (N, 3), the unit
    normal of the face beyond each edge (N, 3), chords that are edges already (pairs of positions), loops: positions
    of the outer loop and of islands in it, where there are any."""

    vertices: Ints
    points: Floats
    beside: Floats
    taken: frozenset[tuple[int, int]]
    loops: tuple[tuple[int, ...], ...]

    @property
    def span_mm(self) -> float:
        """Extent of its box."""
        return float(np.ptp(self.points, axis=0).max())


@dataclass(frozen=True)
class Fill:
    """faces (F, 3): positions on the rim, and from N on points (P, 3) of its own; style as made."""

    style: str
    faces: Ints
    points: Floats


def _none() -> Floats:
    return np.zeros((0, 3))


def flat_fill(rim: Rim) -> Fill | None:
    """Triangles in the rim's plane, on its vertices alone; None where its projection crosses itself."""
    outer = rim.points[list(rim.loops[0])]
    normal = newell(outer)
    if not np.linalg.norm(normal) > 0:
        return None
    if len(rim.loops) == 1:
        count = len(rim.points)
        faces = np.zeros((count - 2, 3), np.int32)
        kind, bent = np.zeros(1, np.uint8), np.zeros(1)
        ends = np.array([0, count])
        flat_kernels.cut_polygons(rim.points, ends, np.arange(count), 0, 1, faces, kind, bent)
        if kind[0] & _CONCAVE_CROSSED:
            return None
        return Fill("flat", faces.astype(np.int64), _none())
    u, w = across(normal / np.linalg.norm(normal))
    flat = [(float(x), float(y)) for x, y in zip(rim.points @ u, rim.points @ w, strict=True)]
    loops = [list(rim.loops[0]), *(list(loop) for loop in rim.loops[1:])]
    if any(signed_area(flat, loop) >= 0 for loop in loops[1:]):
        return None
    try:
        return Fill("flat", np.array(triangulate(flat, loops), np.int64), _none())
    except PolygonError:
        return None


def plain_fill(rim: Rim, bad: frozenset[tuple[int, int, int]] = frozenset(), *, by_bend: bool = True) -> Fill | None:
    """The best triangles on the rim's vertices alone: least bend, then least area; none of `bad`."""
    ring, count = _ring(rim)
    faces: list[Ints] = []
    for part in _split(rim.points, ring, rim.taken):
        n = len(part)
        position = np.array(part, np.int64)
        blocked = np.zeros((n, n), bool)
        where: dict[int, list[int]] = {}
        for i, p in enumerate(part):
            where.setdefault(p, []).append(i)
        for p, q in rim.taken:
            for i in where.get(p, ()):
                for j in where.get(q, ()):
                    blocked[i, j] = blocked[j, i] = True
        for same in where.values():
            for i in same:
                for j in same:
                    blocked[i, j] = True
        for i in range(n):
            blocked[i, (i + 1) % n] = blocked[(i + 1) % n, i] = False
        beside = np.zeros((n, 3))
        for i, p in enumerate(part):
            if (p + 1) % count == part[(i + 1) % n] and len(rim.loops) == 1:
                beside[i] = rim.beside[p]
        codes = _codes(bad, where, n)
        out = np.empty((n, 3), np.int32)
        found = kernels.triangulate_rim(rim.points[position], beside, blocked, codes, by_bend, out)
        if found < 0:
            return None
        faces.append(position[out[:found]])
    return Fill("plain", np.concatenate(faces), _none())


def _codes(bad: frozenset[tuple[int, int, int]], where: dict[int, list[int]], n: int) -> Ints:
    """Sorted codes of triangles that must not be, in places of a part of the ring."""
    codes = []
    for triangle in bad:
        if all(p in where for p in triangle):
            for i in where[triangle[0]]:
                for j in where[triangle[1]]:
                    for k in where[triangle[2]]:
                        a, b, c = sorted((i, j, k))
                        codes.append((a * n + b) * n + c)
    return np.unique(np.array(codes, np.int64))


def _ring(rim: Rim) -> tuple[list[int], int]:
    """One ring through all loops, islands joined by the shortest bridges, walked there and back."""
    ring = list(rim.loops[0])
    for island in rim.loops[1:]:
        off = np.linalg.norm(rim.points[ring][:, None] - rim.points[list(island)], axis=2)
        i, j = divmod(int(np.argmin(off)), len(island))
        turned = [*island[j:], *island[:j]]
        ring = [*ring[: i + 1], *turned, turned[0], *ring[i:]]
    return ring, len(rim.loops[0])


def _split(points: Floats, ring: list[int], taken: frozenset[tuple[int, int]]) -> list[list[int]]:
    """The ring cut at chords that are short for the way around that they spare, until no part is too long."""
    n = len(ring)
    if n <= MOST_AT_ONCE:
        return [ring]
    p = points[ring]
    step = max(1, n // 400)
    some = np.arange(0, n, step)
    apart = np.linalg.norm(p[some][:, None] - p[some], axis=2)
    around = np.abs(some[:, None] - some)
    around = np.minimum(around, n - around)
    worth = np.where(around >= n // 4, apart, np.inf)
    for code in np.argsort(worth, axis=None, kind="stable")[:200].tolist():
        i, j = (int(some[x]) for x in divmod(code, len(some)))
        i, j = min(i, j), max(i, j)
        a, b = ring[i], ring[j]
        if a != b and (a, b) not in taken and (b, a) not in taken:
            return [*_split(points, ring[i : j + 1], taken), *_split(points, [*ring[j:], *ring[: i + 1]], taken)]
    return [ring]


def refined(rim: Rim, plain: Fill) -> Fill:
    """The fill with points of its own, as close as those of the rim."""
    n = len(rim.points)
    edge = np.zeros(n)
    for loop in rim.loops:
        own = rim.points[list(loop)]
        length = np.linalg.norm(np.roll(own, -1, axis=0) - own, axis=1)
        edge[list(loop)] = 0.5 * (length + np.roll(length, 1))
    area = float(np.linalg.norm(np.cross(*_edges(rim.points, plain.faces)), axis=1).sum()) / 2
    typical = float(np.median(edge))
    room = n + int(min(40_000, 64 + 6 * area / max(typical**2, 1e-300)))
    p, spacing = np.zeros((room, 3)), np.zeros(room)
    p[:n], spacing[:n] = rim.points, edge
    faces = np.zeros((2 * room, 3), np.int32)
    opposite = np.full(6 * room, -1, np.int32)
    count = len(plain.faces)
    faces[:count] = plain.faces
    opposite[: 3 * count] = build_topology(np.ascontiguousarray(faces[:count]), n).opposite
    if (opposite[: 3 * count] < -1).any():
        return plain
    points, count = kernels.refine_fill(p, spacing, faces, opposite, n, count, 1.0)
    return Fill("curved", faces[:count].astype(np.int64), p[n:points])


def _edges(points: Floats, faces: Ints) -> tuple[Floats, Floats]:
    a, b, c = (points[faces[:, k]] for k in range(3))
    return b - a, c - a


def curved_fill(rim: Rim, around_points: Floats, around_faces: Ints, plain: Fill) -> tuple[Fill, Floats, bool] | None:
    """The fill refined and faired against its surroundings, where its points were before that, and whether they lie on
    the quadric that the surroundings lie on.

    around_faces (A, 3) are two rings of faces around the rim, in positions on the rim and from N on of around_points.
    """
    fine = refined(rim, plain)
    if not len(fine.points):
        return None
    n, m = len(rim.points), len(around_points)
    points = np.concatenate([rim.points, around_points, fine.points])
    own = np.where(fine.faces >= n, fine.faces + m, fine.faces)
    free = np.zeros(len(points), bool)
    free[n + m :] = True
    on_rim = np.zeros(len(points), bool)
    on_rim[:n] = True
    moved, on_quadric = fair(points, np.concatenate([around_faces, own]), free, on_rim)
    return Fill("curved", fine.faces, moved[n + m :]), fine.points, on_quadric


_LEAST_CORNER_DEG = 15.0


def corner_fill(rim: Rim, tolerance_mm: float) -> Fill | None:
    """The creases and the corner that the flat sides around the rim make beyond it; None where they are not flat, or
    do not meet in one way."""
    if len(rim.loops) != 1:
        return None
    runs = _runs(rim, tolerance_mm, _LEAST_CORNER_DEG)
    if runs is None:
        return None
    planes, starts = runs
    k = len(starts)
    n = len(rim.points)
    apexes, chains = _meeting(rim, planes, starts, tolerance_mm)
    if apexes is None:
        return None
    faces: list[tuple[int, int, int]] = []
    points = np.concatenate([rim.points, apexes])
    for r in range(k):
        begin, end = starts[r], starts[(r + 1) % k]
        length = (end - begin) % n or n
        loop = [(begin + i) % n for i in range(length + 1)]
        loop += [n + a for a in chains[r]]
        u, w = across(planes[r][0])
        flat = [(float(x), float(y)) for x, y in zip(points @ u, points @ w, strict=True)]
        if abs(signed_area(flat, loop)) < 1e-9 * rim.span_mm**2:
            return None
        try:
            faces += triangulate(flat, [loop])
        except PolygonError:
            return None
    return Fill("corner", np.array(faces, np.int64), apexes)


def _runs(rim: Rim, tolerance_mm: float, least_deg: float) -> tuple[list[tuple[Floats, float]], list[int]] | None:
    """Planes (normal, offset) of the sides around the rim in turn, and the position at which each begins."""
    n = len(rim.points)
    cosine = float(np.cos(np.radians(0.5 * least_deg)))
    same = np.einsum("ij,ij->i", rim.beside, np.roll(rim.beside, 1, axis=0)) > cosine
    starts = np.flatnonzero(~same).tolist()
    if not 2 <= len(starts) <= 8:
        return None
    planes = []
    for r, begin in enumerate(starts):
        length = (starts[(r + 1) % len(starts)] - begin) % n or n
        edges = [(begin + i) % n for i in range(length)]
        normal = rim.beside[edges].mean(axis=0)
        normal /= max(float(np.linalg.norm(normal)), 1e-300)
        if (rim.beside[edges] @ normal).min() < np.cos(np.radians(3.0)):
            return None
        ends = rim.points[[*edges, (begin + length) % n]]
        offset = float((ends @ normal).mean())
        if np.abs(ends @ normal - offset).max() > tolerance_mm:
            return None
        planes.append((normal, offset))
    return planes, _to_creases(rim, planes, starts, tolerance_mm)


def _to_creases(rim: Rim, planes: list[tuple[Floats, float]], starts: list[int], tolerance_mm: float) -> list[int]:
    """Where each side begins, once edges that run along the crease to the next side count to that: the face beyond
    such an edge is on this side, so what is missing is on the other."""
    n, k = len(rim.points), len(planes)
    on = [np.abs(rim.points @ normal - offset) <= tolerance_mm for normal, offset in planes]
    moved = list(starts)
    for r in range(k):
        before = (r - 1) % k
        while (moved[r] - moved[before]) % n > 1 and on[r][(moved[r] - 1) % n] and on[r][moved[r]]:
            moved[r] = (moved[r] - 1) % n
        if moved[r] == starts[r]:
            after = moved[(r + 1) % k]
            while (after - moved[r]) % n > 1 and on[before][moved[r]] and on[before][(moved[r] + 1) % n]:
                moved[r] = (moved[r] + 1) % n
    return moved


def _meeting(
    rim: Rim, planes: list[tuple[Floats, float]], starts: list[int], tolerance_mm: float
) -> tuple[Floats | None, list[list[int]]]:
    """Points where the planes meet, and for each plane those that its side of the fill runs through, from its last
    rim vertex back to its first."""
    k = len(planes)
    normals = np.array([p[0] for p in planes])
    offsets = np.array([p[1] for p in planes])
    if k == 2:
        return np.zeros((0, 3)), [[], []]
    reach = 4 * rim.span_mm
    middle = rim.points.mean(axis=0)

    def common(rows: list[int]) -> Floats | None:
        a, b = normals[rows], offsets[rows]
        if np.linalg.svd(a, compute_uv=False)[-1] < 0.05:
            return None
        point = np.linalg.lstsq(a, b, rcond=None)[0]
        if np.abs(a @ point - b).max() > tolerance_mm or np.linalg.norm(point - middle) > reach:
            return None
        return np.asarray(point)

    apex = common(list(range(k)))
    if apex is not None:
        return apex[None], [[0]] * k
    if k == 4:
        for first in (0, 1):  # planes first and first + 2 share an edge between two corners
            a, b, c, d = ((first + i) % 4 for i in range(4))
            one, two = common([a, b, c]), common([c, d, a])
            if one is None or two is None:
                continue
            chains: list[list[int]] = [[], [], [], []]
            chains[a], chains[b], chains[c], chains[d] = [0, 1], [0], [1, 0], [1]
            return np.stack([one, two]), chains
    return None, []


def blend(fill: Fill, before: Floats, share: float) -> Fill:
    """A curved fill drawn back towards where its points were."""
    return Fill(fill.style, fill.faces, before + share * (fill.points - before))


def sharpest_bend(mesh: Mesh, new: Bools) -> float:
    """The largest angle (degrees) between a face of `new` (F,) and the face beyond one of its edges."""
    half = np.flatnonzero(np.repeat(new, 3) & (mesh.topology.opposite >= 0))
    if not len(half):
        return 0.0
    one, other = mesh.normals_of(half // 3), mesh.normals_of(mesh.topology.opposite[half] // 3)
    return float(np.degrees(np.arccos(np.clip(np.einsum("ij,ij->i", one, other).min(), -1, 1))))
