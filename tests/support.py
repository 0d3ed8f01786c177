"""Shapes with known answers, and slow references that share no code with what they check."""

from collections import Counter
from fractions import Fraction
from functools import cache
from itertools import combinations, combinations_with_replacement
from pathlib import Path

import numpy as np
from PIL import Image
from scipy.spatial import cKDTree

from bolvek.mesh import Mesh
from bolvek.spatial.isosurface import dense_surface


def box(low=(0, 0, 0), high=(10, 10, 10)) -> Mesh:
    """An axis-parallel box of twelve triangles facing out."""
    ends = np.array([low, high], float)
    vertices = np.array([[ends[i & 1, 0], ends[i >> 1 & 1, 1], ends[i >> 2 & 1, 2]] for i in range(8)])
    quads = [(0, 2, 3, 1), (4, 5, 7, 6), (0, 1, 5, 4), (2, 6, 7, 3), (0, 4, 6, 2), (1, 3, 7, 5)]
    return Mesh(vertices, [t for a, b, c, d in quads for t in ((a, b, c), (a, c, d))])


def field(function, half=12.0, cell=0.6) -> Mesh:
    """The surface where function(x, y, z) is zero, negative inside, in a cube around the origin."""
    axis = np.arange(-half, half + cell, cell)
    values = function(*np.meshgrid(axis, axis, axis, indexing="ij"))
    surface = dense_surface(values, np.full(3, -half), cell)
    return Mesh(surface.vertices, surface.faces).as_stored()


@cache  # a mesh is never changed
def ball(radius=10.0, cell=0.6) -> Mesh:
    """A ball around the origin."""
    return field(lambda x, y, z: np.sqrt(x * x + y * y + z * z) - radius, radius + 2, cell)


@cache
def blob() -> Mesh:
    """An organic body with creases: three joined balls and a bumpy skin, about 9,000 triangles."""

    def shape(x, y, z):
        parts = [((0, 0, -4), 7.0), ((3, 2, 5), 6.0), ((-5, 1, 3), 4.5)]
        value = np.min([np.sqrt((x - a) ** 2 + (y - b) ** 2 + (z - c) ** 2) - r for (a, b, c), r in parts], axis=0)
        return value + 0.35 * np.sin(1.9 * x) * np.cos(1.7 * y) * np.sin(1.5 * z + 1)

    return field(shape, 14.0, 0.55)


def shell_box(wall=2.0, size=20.0) -> Mesh:
    """A cube with a closed cubic cavity."""
    inner = box((wall,) * 3, (size - wall,) * 3)
    return box((0, 0, 0), (size,) * 3).joined(inner.turned())


def pixels(path: Path) -> np.ndarray:
    """A picture (H, W) or (H, W, C) in 0..1."""
    image = Image.open(path)
    return np.asarray(image.convert("L") if image.mode == "1" else image) / 255


@cache
def pricked_ball() -> tuple[Mesh, np.ndarray]:
    """A ball of 100 mm with a hole of a tenth of a millimetre, and where that is."""
    mesh = ball(50, 2.5)
    middle = mesh.corners[1000].mean(axis=0)
    tiny = [middle + 0.05 * (c - middle) / np.linalg.norm(c - middle) for c in mesh.corners[1000]]
    n, (a, b, c) = len(mesh.vertices), mesh.faces[1000]
    ring = [(a, b, n), (b, n + 1, n), (b, c, n + 1), (c, n + 2, n + 1), (c, a, n + 2), (a, n, n + 2)]
    faces = np.concatenate([np.delete(mesh.faces, 1000, axis=0), ring])
    return Mesh(np.concatenate([mesh.vertices, tiny]), faces), middle


def assert_sound(mesh: Mesh) -> None:
    """Closed, oriented, manifold by counting; no crossing by exact arithmetic."""
    edges = Counter((int(f[k]), int(f[(k + 1) % 3])) for f in mesh.faces for k in range(3))
    assert max(edges.values()) == 1, "an edge is used twice the same way"
    assert all((b, a) in edges for a, b in edges), "an edge is open"
    around: dict[int, dict[int, int]] = {}
    for f in mesh.faces:
        for k in range(3):
            around.setdefault(int(f[k]), {})[int(f[(k + 1) % 3])] = int(f[(k + 2) % 3])
    for ring in around.values():
        start = node = next(iter(ring))
        length = 0
        while True:
            node = ring[node]
            length += 1
            if node == start:
                break
        assert length == len(ring), "a vertex has two fans"
    assert not crossing_pairs(mesh)


def crossing_pairs(mesh: Mesh) -> set[tuple[int, int]]:
    """`slow_pairs` for a mesh of any size: only pairs whose boxes meet and that float64 cannot surely tell apart."""
    corners = mesh.corners
    middle = corners.mean(axis=1)
    radius = np.linalg.norm(corners - middle[:, None], axis=2).max(axis=1)
    size = np.floor(np.log2(np.maximum(radius, 1e-300)))  # faces of about one size are looked up together
    found = []
    for one, other in combinations_with_replacement(np.unique(size), 2):
        a, b = np.flatnonzero(size == one), np.flatnonzero(size == other)
        near = cKDTree(middle[a]).query_ball_tree(cKDTree(middle[b]), 2.0 ** (one + 1) + 2.0 ** (other + 1))
        rows = np.repeat(np.arange(len(a)), [len(x) for x in near])
        found.append(np.stack([a[rows], b[np.concatenate([np.array(x, int) for x in near])]], axis=1))
    pairs = np.sort(np.concatenate(found), axis=1)
    f, g = np.unique(pairs[pairs[:, 0] != pairs[:, 1]], axis=0).T
    low, high = corners.min(axis=1), corners.max(axis=1)
    meet = ((low[f] <= high[g]) & (low[g] <= high[f])).all(axis=1)
    f, g = f[meet], g[meet]
    open_case = ~(_surely_beside(mesh, f, g) | _surely_beside(mesh, g, f))
    f, g = f[open_case], g[open_case]
    open_case = ~_surely_apart(mesh, f, g)
    exact = [[Fraction(float(x)) for x in v] for v in mesh.vertices]
    rest = zip(f[open_case].tolist(), g[open_case].tolist(), strict=True)
    return {(i, j) for i, j in rest if slow_meet(exact, mesh.faces[i], mesh.faces[j])}


def _surely_beside(mesh: Mesh, f, g):
    """Pairs (P,) in which g's corners that f does not have lie, by a wide margin, on one side of f's plane, or beyond
    one side of f within its plane: all that the two can share then is what they have in common."""
    corners, own = mesh.corners[f], mesh.faces[f]
    normal = np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0])
    shared = (mesh.faces[g][:, :, None] == own[:, None, :]).any(axis=2)
    side = _cosine(mesh.corners[g] - corners[:, :1], normal)
    beside = (shared | (side > 1e-9)).all(axis=1) | (shared | (side < -1e-9)).all(axis=1)
    for k in range(3):
        inward = np.cross(normal, corners[:, (k + 1) % 3] - corners[:, k])
        ends = own[:, [k, (k + 1) % 3]]
        on_side = (mesh.faces[g][:, :, None] == ends[:, None, :]).any(axis=2)
        beside |= (on_side | (_cosine(mesh.corners[g] - corners[:, k : k + 1], inward) < -1e-9)).all(axis=1)
    return beside & ~shared.all(axis=1)


def _surely_apart(mesh: Mesh, f, g):
    """Pairs (P,) that a plane holds apart by a wide margin, but for the corner or the edge that they have in common:
    tried are planes across the way from one middle to the other, and those along an edge of each."""
    a, b = mesh.corners[f], mesh.corners[g]
    same = mesh.faces[f][:, :, None] == mesh.faces[g][:, None, :]
    of_a, of_b = same.any(axis=2), same.any(axis=1)
    count = of_a.sum(axis=1)
    # the place that both have, or midway; along what they share a plane may only lie
    weight = np.where(count[:, None] > 0, of_a, 0.5)
    place = np.einsum("pk,pkx->px", weight, a) + np.where(count == 0, 0.5, 0.0)[:, None] * b.sum(axis=1)
    place = place / np.where(count > 0, count, 3)[:, None]
    ends = np.argsort(~of_a, axis=1, kind="stable")[:, :2]
    rows = np.arange(len(f))
    along = np.where((count == 2)[:, None], a[rows, ends[:, 1]] - a[rows, ends[:, 0]], 0.0)
    along /= np.maximum(np.linalg.norm(along, axis=1), 1e-300)[:, None]
    ways = [_unit(_unit(b - place[:, None]).sum(axis=1)) - _unit(_unit(a - place[:, None]).sum(axis=1))]
    sides = [np.roll(c, -1, axis=1) - c for c in (a, b)]
    ways += [np.cross(sides[0][:, i], sides[1][:, j]) for i in range(3) for j in range(3)]
    apart = np.zeros(len(f), bool)
    for way in ways:
        way = way - np.einsum("px,px->p", way, along)[:, None] * along
        here, there = _cosine(a - place[:, None], way), _cosine(b - place[:, None], way)
        if_far = (count == 0)[:, None]  # nothing in common: no side of the middle is asked for, only a gap
        for sign in (1, -1):
            beside = ((of_a | (sign * here < -1e-9)) & (of_b | (sign * there > 1e-9)) | if_far).all(axis=1)
            off = sign * np.einsum("pkx,px->pk", b, way), sign * np.einsum("pkx,px->pk", a, way)
            size = np.linalg.norm(way, axis=1) * np.abs(np.concatenate([a, b], axis=1)).max(axis=(1, 2))
            gap = off[0].min(axis=1) - off[1].max(axis=1) > 1e-9 * np.maximum(size, 1e-300)
            apart |= beside & np.where(count == 0, gap, (count < 3) & (np.linalg.norm(way, axis=1) > 1e-6))
    return apart


def _unit(off):
    """Directions (..., 3)."""
    return off / np.maximum(np.linalg.norm(off, axis=-1, keepdims=True), 1e-300)


def _cosine(off, way):
    """Cosines (P, 3) of the angles between offsets (P, 3, 3) and a direction (P, 3)."""
    size = np.linalg.norm(off, axis=2) * np.linalg.norm(way, axis=1)[:, None]
    return np.einsum("pkx,px->pk", off, way) / np.maximum(size, 1e-300)


def slow_pairs(mesh: Mesh) -> set[tuple[int, int]]:
    """Pairs of faces that meet beyond what they share, in rational arithmetic, all against all."""
    exact = [[Fraction(float(x)) for x in v] for v in mesh.vertices]
    corners = mesh.corners
    low, high = corners.min(axis=1), corners.max(axis=1)
    found = set()
    for f, g in combinations(range(len(mesh.faces)), 2):
        if (low[f] <= high[g]).all() and (low[g] <= high[f]).all() and slow_meet(exact, mesh.faces[f], mesh.faces[g]):
            found.add((f, g))
    return found


def slow_meet(exact, f, g) -> bool:
    """Whether two triangles have a common point outside the corner or edge they share.

    The corners of their (convex) intersection are found exactly: corners of one in the other, edges of
    one through the other, edges across edges.
    """
    shared = [exact[i] for i in sorted({int(i) for i in f} & {int(i) for i in g})]
    if len(shared) == 3:
        return True
    a, b = [exact[int(i)] for i in f], [exact[int(i)] for i in g]
    points = [p for p in a if _in_triangle(p, b)] + [p for p in b if _in_triangle(p, a)]
    for one, other in ((a, b), (b, a)):
        for k in range(3):
            p, q = one[k], one[(k + 1) % 3]
            points += _through(p, q, other)
            for m in range(3):
                points += _across(p, q, other[m], other[(m + 1) % 3])
    return any(not _in_hull(p, shared) for p in points)


def _minus(p, q):
    return [x - y for x, y in zip(p, q, strict=True)]


def _dot(p, q):
    return sum(x * y for x, y in zip(p, q, strict=True))


def _cross(p, q):
    return [p[1] * q[2] - p[2] * q[1], p[2] * q[0] - p[0] * q[2], p[0] * q[1] - p[1] * q[0]]


def _in_hull(p, shared):
    if len(shared) == 1:
        return p == shared[0]
    if len(shared) == 2:
        return _on_segment(p, *shared)
    return False


def _on_segment(p, a, b):
    if a == b:
        return p == a
    if any(_cross(_minus(b, a), _minus(p, a))):
        return False
    t = _dot(_minus(p, a), _minus(b, a))
    return 0 <= t <= _dot(_minus(b, a), _minus(b, a))


def _in_triangle(p, t):
    n = _cross(_minus(t[1], t[0]), _minus(t[2], t[0]))
    if not any(n):
        return any(_on_segment(p, t[k], t[(k + 1) % 3]) for k in range(3))
    if _dot(n, _minus(p, t[0])):
        return False
    return all(_dot(n, _cross(_minus(t[(k + 1) % 3], t[k]), _minus(p, t[k]))) >= 0 for k in range(3))


def _through(p, q, t):
    n = _cross(_minus(t[1], t[0]), _minus(t[2], t[0]))
    a, b = _dot(n, _minus(p, t[0])), _dot(n, _minus(q, t[0]))
    if a == b or a * b > 0:
        return []
    x = [u + (v - u) * a / (a - b) for u, v in zip(p, q, strict=True)]
    return [x] if _in_triangle(x, t) else []


def _across(p, q, r, s):
    d, e, w = _minus(q, p), _minus(s, r), _minus(r, p)
    n = _cross(d, e)
    size = _dot(n, n)
    if not size or _dot(n, w):
        return []
    t, u = _dot(_cross(w, e), n) / size, _dot(_cross(w, d), n) / size
    return [[x + t * y for x, y in zip(p, d, strict=True)]] if 0 <= t <= 1 and 0 <= u <= 1 else []


def closest_on_triangles(p, a, b, c):
    """Closest point (P, 3) to p on triangle a b c, row by row."""
    ab, ac = b - a, c - a
    candidates = [_nearest_on_segment(p, a, b), _nearest_on_segment(p, b, c), _nearest_on_segment(p, c, a)]
    normal = np.cross(ab, ac)
    size = np.einsum("ij,ij->i", normal, normal)
    with np.errstate(divide="ignore", invalid="ignore"):
        flat = p - normal * (np.einsum("ij,ij->i", p - a, normal) / size)[:, None]
        inside = size > 0
        for s, e in ((a, b), (b, c), (c, a)):
            inside &= np.einsum("ij,ij->i", np.cross(e - s, flat - s), normal) >= 0
    flat[~inside] = np.inf
    stacked = np.stack([*candidates, flat])
    with np.errstate(invalid="ignore"):
        gap = np.linalg.norm(stacked - p, axis=2)
    return np.asarray(stacked[np.nanargmin(gap, axis=0), np.arange(len(p))])


def _nearest_on_segment(p, a, b):
    d = b - a
    size = np.einsum("ij,ij->i", d, d)
    t = np.divide(np.einsum("ij,ij->i", p - a, d), size, out=np.zeros(len(p)), where=size > 0)
    return np.asarray(a + np.clip(t, 0, 1)[:, None] * d)
