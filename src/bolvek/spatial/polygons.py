"""Triangulating polygons with holes in the plane; every vertex is kept, decisions are exact.

Ear clipping on the boundary, holes joined by visible bridges first (large ones are swept over), then flips towards
Delaunay.
All orientation tests are exact (rational arithmetic where the float filter cannot decide), so
vertices on straight runs stay vertices and the result fits its neighbours.
"""

from collections.abc import Mapping, Sequence
from fractions import Fraction

from bolvek.spatial.sweep import SweepError, sweep_triangles

Point = tuple[float, float]
Triangle = tuple[int, int, int]

_FILTER = 4e-16
_LARGE = 150  # corners: more are swept over, not clipped ear by ear


class PolygonError(Exception):
    """The boundary is not a simple polygon with holes, as far as floats can tell."""


def turn(a: Point, b: Point, c: Point) -> int:
    """1 when a, b, c turn left, -1 right, 0 straight; exact."""
    left = (a[0] - c[0]) * (b[1] - c[1])
    right = (a[1] - c[1]) * (b[0] - c[0])
    det = left - right
    if abs(det) > _FILTER * (abs(left) + abs(right)):
        return 1 if det > 0 else -1
    ax, ay, bx, by, cx, cy = (Fraction(x) for x in (*a, *b, *c))
    exact = (ax - cx) * (by - cy) - (ay - cy) * (bx - cx)
    return (exact > 0) - (exact < 0)


def seen_against(normal: Sequence[float], points: Mapping[int, Sequence[float]]) -> dict[int, Point]:
    """Points in space seen against a normal: its largest component is dropped, the turn is kept."""
    k = max(range(3), key=lambda axis: abs(normal[axis]))
    i, j = ((k + 1) % 3, (k + 2) % 3) if normal[k] > 0 else ((k + 2) % 3, (k + 1) % 3)
    return {n: (float(p[i]), float(p[j])) for n, p in points.items()}


def signed_area(points: Sequence[Point], loop: Sequence[int]) -> float:
    """Area of a loop, positive when counterclockwise."""
    x0, y0 = points[loop[0]]
    total = 0.0
    for i, j in zip(loop, [*loop[1:], loop[0]], strict=True):
        total += (points[i][0] - x0) * (points[j][1] - y0) - (points[j][0] - x0) * (points[i][1] - y0)
    return 0.5 * total


def contains(points: Sequence[Point], loop: Sequence[int], p: Point) -> bool:
    """Whether p lies inside the loop (points on it may go either way)."""
    inside = False
    for i, j in zip(loop, [*loop[1:], loop[0]], strict=True):
        a, b = points[i], points[j]
        if (a[1] > p[1]) != (b[1] > p[1]):
            low, high = (a, b) if a[1] < b[1] else (b, a)
            if turn(low, high, p) > 0:
                inside = not inside
    return inside


def trace_loops(after: dict[int, int]) -> list[list[int]]:
    """The loops that steps make, each place left once; `after` is used up. Raises PolygonError."""
    loops = []
    while after:
        first, at = after.popitem()
        loop = [first]
        while at != first:
            loop.append(at)
            if at not in after:
                raise PolygonError("the steps do not close")
            at = after.pop(at)
        loops.append(loop)
    return loops


def triangulate(points: Sequence[Point], loops: Sequence[Sequence[int]]) -> list[Triangle]:
    """Counterclockwise triangles of the area between loops (outer ones ccw, holes cw).

    points are named by the loops' indices; several outer loops may each have holes. Raises
    PolygonError when no valid triangulation is found.
    """
    outers = [list(loop) for loop in loops if signed_area(points, loop) > 0]
    holes: list[list[list[int]]] = [[] for _ in outers]
    for loop in loops:
        if signed_area(points, loop) > 0:
            continue
        inside = [
            (abs(signed_area(points, outer)), k)
            for k, outer in enumerate(outers)
            if contains(points, outer, points[loop[0]])
        ]
        if not inside:
            raise PolygonError("a hole lies outside every boundary")
        holes[min(inside)[1]].append(list(loop))
    triangles: list[Triangle] = []
    for outer, own in zip(outers, holes, strict=True):
        if len(outer) + sum(len(hole) for hole in own) > _LARGE:
            triangles += _swept(points, [outer, *own])
            continue
        ring = outer
        for hole in sorted(own, key=lambda h: -max(points[i][0] for i in h)):
            ring = _bridge(points, ring, hole, own)
        triangles += _flip(points, _clip_ears(points, ring), [outer, *own])
    return triangles


def _swept(points: Sequence[Point], loops: list[list[int]]) -> list[Triangle]:
    """Triangles of a large polygon with holes. Raises PolygonError."""
    try:
        found = sweep_triangles(points, loops, turn)
    except SweepError as error:
        raise PolygonError(str(error)) from None
    flipped = _flip(points, found, loops)
    if len(flipped) != sum(len(loop) for loop in loops) + 2 * len(loops) - 4:
        raise PolygonError("the boundary crosses itself")
    if any(turn(points[a], points[b], points[c]) <= 0 for a, b, c in flipped):
        raise PolygonError("a triangle has no area")
    return flipped


def _crosses(p: Point, q: Point, a: Point, b: Point) -> bool:
    """Whether open segments p q and a b meet; sharing an end is no meeting unless they overlap."""
    if p in (a, b) or q in (a, b):
        shared = p if p in (a, b) else q
        other = q if shared == p else p
        far = b if shared == a else a
        if other == far:
            return True
        if turn(shared, other, far) != 0:
            return False
        dot = (other[0] - shared[0]) * (far[0] - shared[0]) + (other[1] - shared[1]) * (far[1] - shared[1])
        return dot > 0
    s, t = turn(p, q, a), turn(p, q, b)
    u, v = turn(a, b, p), turn(a, b, q)
    if s == t == u == v == 0:
        k = 0 if abs(p[0] - q[0]) >= abs(p[1] - q[1]) else 1
        return max(min(p[k], q[k]), min(a[k], b[k])) <= min(max(p[k], q[k]), max(a[k], b[k]))
    return s * t <= 0 and u * v <= 0


def _bridge(points: Sequence[Point], ring: list[int], hole: list[int], holes: list[list[int]]) -> list[int]:
    """The ring with the hole joined at the shortest bridge that crosses nothing."""
    walls = [(ring[i - 1], ring[i]) for i in range(len(ring))]
    walls += [(h[i - 1], h[i]) for h in holes for i in range(len(h))]
    pairs = sorted(
        ((points[r][0] - points[h][0]) ** 2 + (points[r][1] - points[h][1]) ** 2, i, j)
        for i, r in enumerate(ring)
        for j, h in enumerate(hole)
    )
    for _, i, j in pairs:
        r, h = points[ring[i]], points[hole[j]]
        before, after = points[ring[i - 1]], points[ring[(i + 1) % len(ring)]]
        # a corner that stands twice in the ring (an older bridge) must open towards the hole
        if turn(before, r, after) > 0:
            fits = turn(before, r, h) > 0 and turn(r, after, h) > 0
        else:
            fits = turn(before, r, h) > 0 or turn(r, after, h) > 0
        if fits and not any(_crosses(r, h, points[a], points[b]) for a, b in walls):
            return ring[: i + 1] + hole[j:] + hole[: j + 1] + ring[i:]
    raise PolygonError("a hole cannot be joined to its boundary")


def _clip_ears(points: Sequence[Point], ring: list[int]) -> list[Triangle]:
    """Triangles of a ring in which a bridge may stand twice; best-shaped ears first."""
    ring = list(ring)
    triangles: list[Triangle] = []
    quality: dict[tuple[int, int, int], float] = {}
    while len(ring) > 3:
        n = len(ring)
        order = []
        for k in range(n):
            key = (ring[k - 1], ring[k], ring[(k + 1) % n])
            if key not in quality:
                quality[key] = _shape(*(points[i] for i in key))
            if quality[key] > 0:
                order.append((-quality[key], k))
        for _, k in sorted(order):
            i, j, m = ring[k - 1], ring[k], ring[(k + 1) % n]
            a, b, c = points[i], points[j], points[m]
            if turn(a, b, c) <= 0:
                continue
            blocked = False
            for o in ring:
                p = points[o]
                if p in (a, b, c):
                    continue
                if turn(a, b, p) >= 0 and turn(b, c, p) >= 0 and turn(c, a, p) >= 0:
                    blocked = True
                    break
            if not blocked:
                triangles.append((i, j, m))
                del ring[k]
                break
        else:
            raise PolygonError("no ear is left: the boundary crosses itself")
    if turn(*(points[i] for i in ring)) <= 0:
        raise PolygonError("the last triangle has no area")
    triangles.append((ring[0], ring[1], ring[2]))
    return triangles


def _shape(a: Point, b: Point, c: Point) -> float:
    """Height over longest side, signed by the turn."""
    area2 = (a[0] - c[0]) * (b[1] - c[1]) - (a[1] - c[1]) * (b[0] - c[0])
    longest = max((p[0] - q[0]) ** 2 + (p[1] - q[1]) ** 2 for p, q in ((a, b), (b, c), (c, a)))
    if longest == 0.0:
        return 0.0
    return area2 / longest or (1e-300 if turn(a, b, c) > 0 else 0.0)


def _flip(points: Sequence[Point], triangles: list[Triangle], loops: list[list[int]]) -> list[Triangle]:
    """Flip diagonals while that improves the worse of two triangles."""
    fixed = {(loop[i - 1], loop[i]) for loop in loops for i in range(len(loop))}
    faces = list(triangles)
    edges = {(t[k], t[(k + 1) % 3]): n for n, t in enumerate(faces) for k in range(3)}
    if len(edges) != 3 * len(faces):
        raise PolygonError("two triangles use the same side of an edge")
    queue = [e for e in edges if e[0] < e[1] and (e[1], e[0]) in edges and e not in fixed]
    budget = 20 * len(faces)
    while queue and budget:
        budget -= 1
        i, j = queue.pop()
        if (i, j) not in edges or (j, i) not in edges:
            continue
        m, n = edges[(i, j)], edges[(j, i)]
        p = next(x for x in faces[m] if x not in (i, j))
        q = next(x for x in faces[n] if x not in (i, j))
        a, b, c, d = points[i], points[j], points[p], points[q]
        if p == q or (p, q) in edges or (q, p) in edges or turn(d, c, a) <= 0 or turn(d, c, b) >= 0:
            continue
        if min(_shape(d, b, c), _shape(c, a, d)) <= min(_shape(a, b, c), _shape(b, a, d)) * (1 + 1e-9):
            continue
        if turn(d, b, c) <= 0 or turn(c, a, d) <= 0:
            continue
        for t in (m, n):
            for k in range(3):
                del edges[(faces[t][k], faces[t][(k + 1) % 3])]
        faces[m], faces[n] = (q, j, p), (p, i, q)
        for t in (m, n):
            for k in range(3):
                edges[(faces[t][k], faces[t][(k + 1) % 3])] = t
        for e in ((j, p), (p, i), (i, q), (q, j)):
            if (e[1], e[0]) in edges:
                queue.append(e)
    return faces
