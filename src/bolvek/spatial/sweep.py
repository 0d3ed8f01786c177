"""Triangulating large polygons with holes: a line sweeps over them and cuts them into monotone pieces.

After de Berg et al., Computational Geometry (2008), chapter 3; all orientation tests are exact, ties are ordered by
both coordinates. n log n steps, where ear clipping takes n squared.
"""

from collections.abc import Callable, Mapping, Sequence
from functools import cmp_to_key

Point = tuple[float, float]
Triangle = tuple[int, int, int]
Turn = Callable[[Point, Point, Point], int]
Points = Mapping[int, Point] | Sequence[Point]


class SweepError(Exception):
    """The loops are no simple polygons, as far as floats can tell."""


def sweep_triangles(points: Points, loops: Sequence[Sequence[int]], turn: Turn) -> list[Triangle]:
    """Counterclockwise triangles of the area between loops (outer ones counterclockwise, holes clockwise), by the
    names of the points; some may have no area where corners lie on one line. Raises SweepError."""
    after = {a: b for loop in loops for a, b in zip(loop, [*loop[1:], loop[0]], strict=True)}
    before = {b: a for a, b in after.items()}
    if len(before) != sum(len(loop) for loop in loops):
        raise SweepError("a corner stands twice in the loops")
    diagonals = _diagonals(points, after, before, turn)
    triangles: list[Triangle] = []
    for ring in _rings(points, after, before, diagonals, turn):
        _monotone(points, ring, turn, triangles)
    return triangles


def _diagonals(points: Points, after: dict[int, int], before: dict[int, int], turn: Turn) -> list[tuple[int, int]]:
    """Diagonals that leave only pieces which every upright line meets once."""
    found: list[tuple[int, int]] = []
    status: list[int] = []  # edges with the inside above them, by their first corner, from below
    helper: dict[int, int] = {}
    merges: set[int] = set()

    def place(p: Point) -> int:
        low, high = 0, len(status)
        while low < high:
            middle = (low + high) // 2
            edge = status[middle]
            if turn(points[edge], points[after[edge]], p) > 0:
                low = middle + 1
            else:
                high = middle
        return low

    def close(edge: int, v: int) -> None:
        if helper[edge] in merges:
            found.append((v, helper[edge]))

    def end(v: int) -> None:
        edge = before[v]
        at = place(points[v])
        if at >= len(status) or status[at] != edge:
            raise SweepError("edges cross")
        close(edge, v)
        del status[at]

    def below(v: int) -> int:
        at = place(points[v]) - 1
        if at < 0:
            raise SweepError("a corner lies outside")
        return status[at]

    for v in sorted(after, key=lambda n: (points[n], n)):
        p, a, b = points[v], points[before[v]], points[after[v]]
        if p in (a, b):
            raise SweepError("two corners lie in one place")
        if a > p and b > p:
            bend = turn(a, p, b)
            if bend == 0:
                raise SweepError("a spike")
            if bend < 0:
                edge = below(v)
                found.append((v, helper[edge]))
                helper[edge] = v
            status.insert(place(p), v)
            helper[v] = v
        elif a < p and b < p:
            bend = turn(a, p, b)
            if bend == 0:
                raise SweepError("a spike")
            end(v)
            if bend < 0:
                edge = below(v)
                close(edge, v)
                helper[edge] = v
                merges.add(v)
        elif a < p:
            end(v)
            status.insert(place(p), v)
            helper[v] = v
        else:
            edge = below(v)
            close(edge, v)
            helper[edge] = v
    return found


def _rings(
    points: Points, after: dict[int, int], before: dict[int, int], diagonals: list[tuple[int, int]], turn: Turn
) -> list[list[int]]:
    """The pieces that diagonals cut the loops into."""
    ways: dict[int, list[int]] = {}
    for a, b in diagonals:
        ways.setdefault(a, []).append(b)
        ways.setdefault(b, []).append(a)
    following: dict[tuple[int, int], int] = {}
    for v in after:
        around = [after[v]]
        if v in ways:
            around += _by_angle(points, v, after[v], ways[v], turn)
        around.append(before[v])
        for one, other in zip(around, around[1:], strict=False):
            following[(other, v)] = one
    rings = []
    while following:
        first = edge = next(iter(following))
        ring = []
        while edge in following:
            ring.append(edge[1])
            edge = edge[1], following.pop(edge)
        if edge != first:
            raise SweepError("edges cross")
        rings.append(ring)
    return rings


def _by_angle(points: Points, v: int, first: int, ends: list[int], turn: Turn) -> list[int]:
    """The ends of diagonals from v, counterclockwise from the edge to `first`."""
    at = points[v]

    def half(end: int) -> int:
        side = turn(at, points[first], points[end])
        return 0 if side > 0 else 1 if side == 0 else 2

    def order(one: int, other: int) -> int:
        if half(one) != half(other):
            return half(one) - half(other)
        return -turn(at, points[one], points[other])

    return sorted(ends, key=cmp_to_key(order))


def _monotone(points: Points, ring: list[int], turn: Turn, triangles: list[Triangle]) -> None:
    """Triangles of a piece that every upright line meets once."""
    n = len(ring)
    if n == 3:
        triangles.append((ring[0], ring[1], ring[2]))
        return
    key = [(points[v], v) for v in ring]
    left = min(range(n), key=key.__getitem__)
    right = max(range(n), key=key.__getitem__)
    lower = {ring[(left + k) % n] for k in range(1, (right - left) % n)}
    order = sorted(range(n), key=key.__getitem__)
    stack = [ring[order[0]], ring[order[1]]]
    for k in range(2, n - 1):
        v = ring[order[k]]
        is_lower = v in lower
        if is_lower != (stack[-1] in lower):
            for one, other in zip(stack, stack[1:], strict=False):
                triangles.append((one, v, other) if is_lower else (one, other, v))
            stack = [stack[-1], v]
            continue
        last = stack.pop()
        while stack:
            bend = turn(points[stack[-1]], points[last], points[v])
            if bend != (1 if is_lower else -1):
                break
            triangles.append((stack[-1], last, v) if is_lower else (v, last, stack[-1]))
            last = stack.pop()
        stack += [last, v]
    v = ring[order[-1]]
    on_lower = stack[-1] in lower
    for one, other in zip(stack, stack[1:], strict=False):
        triangles.append((one, other, v) if on_lower else (one, v, other))
