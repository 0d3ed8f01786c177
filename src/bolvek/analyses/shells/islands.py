"""Islands: surface that lies in an opening of another one. What is around them is one hole, in the shape of a ring."""

from collections.abc import Sequence

import numpy as np

from bolvek.analyses.shells.rims import Rims
from bolvek.arrays import Bools, Floats, Ints
from bolvek.mesh import Mesh
from bolvek.mesh.topology import OPEN
from bolvek.spatial.frames import across

FLAT_REACH = 0.03
"""How far an island may lie off the plane of the opening around it, of its extent, beyond what the rim is bent."""
_AT_ONCE = 256  # points of a loop asked together
_LEANING = 0.5  # cosine of the angle between the opening's plane and the surface beside it up to which it bulges on


def newell(points: Floats) -> Floats:
    """Normal (3,) of a loop, as long as twice the area of its projection."""
    off = points - points.mean(axis=0)
    return np.asarray(np.cross(off, np.roll(off, -1, axis=0)).sum(axis=0))


class Outlines:
    """Loops (N, 3 each) as seen along normals (L, 3), each made ready when it is first asked."""

    def __init__(self, points: Sequence[Floats], normals: Floats) -> None:
        self.points, self.normals = points, normals
        self.ready: dict[int, tuple[Floats, ...]] = {}

    def hold(self, outer: int, inner: Floats) -> bool:
        """Whether points (M, 3) lie within a loop, as seen along its normal."""
        if outer not in self.ready:
            u, w = across(self.normals[outer] / np.linalg.norm(self.normals[outer]))
            a = np.stack([self.points[outer] @ u, self.points[outer] @ w], axis=1)
            b = np.roll(a, -1, axis=0)
            with np.errstate(divide="ignore", invalid="ignore"):
                slope = (b[:, 0] - a[:, 0]) / (b[:, 1] - a[:, 1])
            self.ready[outer] = (u, w, a[:, 0], a[:, 1], b[:, 1], slope)
        u, w, left, low, high, slope = self.ready[outer]
        # most that do not lie within are told by their first point
        for rows in (slice(0, 1), *(slice(k, k + _AT_ONCE) for k in range(1, len(inner), _AT_ONCE))):
            x, y = (inner[rows] @ u)[:, None], (inner[rows] @ w)[:, None]
            cuts = (low > y) != (high > y)
            with np.errstate(invalid="ignore"):
                beyond = x < left + (y - low) * slope
            if not ((cuts & beyond).sum(axis=1) % 2).all():
                return False
        return True


def smallest_first(chosen: Bools, inner: int, normals: Floats, sizes: Floats) -> list[int]:
    """Of the chosen loops (N,) those that run against one of them in about its plane, by what they enclose."""
    rows = np.flatnonzero(chosen)
    rows = rows[normals[rows] @ normals[inner] <= -0.5 * sizes[inner] * sizes[rows]]
    return rows[np.argsort(sizes[rows], kind="stable")].tolist()


def find_islands(mesh: Mesh, rims: Rims, forward: list[Bools]) -> Ints:
    """For each loop of open edges the loop around it that it is an island in, -1 for the others.

    An island lies in the plane of the opening, or as far off as the surface beside it bulges on, within its rim, and
    its own rim runs the other way round. forward: of each loop, which of its pieces are listed in its own order.
    """
    count = len(rims.loops)
    home = np.full(count, -1)
    whole = [bool((mesh.topology.opposite[rims.half[rows]] == OPEN).all()) for rows in rims.loops]
    if sum(whole) < 2:
        return home
    points = [
        np.where(f[:, None], rims.start[rows], rims.end[rows]) for f, rows in zip(forward, rims.loops, strict=True)
    ]
    normal = np.zeros((count, 3))
    for k, rows in enumerate(rims.loops):
        a, b = (mesh.vertices[end] for end in mesh.edge_ends(rims.half[rows]))
        way = np.where(forward[k][:, None], 1.0, -1.0) * (rims.end[rows] - rims.start[rows])
        # a fill runs against the edges around it
        normal[k] = -np.sign(float(np.einsum("ij,ij->", way, b - a))) * newell(points[k])
    size = np.linalg.norm(normal, axis=1)
    low, high = (np.array([f(p, axis=0) for p in points]) for f in (np.min, np.max))
    reach = np.array(
        [_reach(mesh, p, rims.half[rows], n) for p, rows, n in zip(points, rims.loops, normal, strict=True)]
    )
    lean = np.array(
        [
            leaning(mesh, rims.half[rows], n / max(s, 1e-300))
            for rows, n, s in zip(rims.loops, normal, size, strict=True)
        ]
    )
    middle = np.array([p.mean(axis=0) for p in points])
    outlines = Outlines(points, normal)
    usable = np.array(whole) & (size > 0)
    # surface lies outside of an opening, and within the rim of an island: a skin's own rim has it the other way round
    for inner in np.flatnonzero(usable & (lean <= _LEANING)).tolist():
        near = usable & (lean >= -_LEANING) & (size > size[inner])
        near &= (low - reach[:, None] <= low[inner]).all(axis=1) & (high + reach[:, None] >= high[inner]).all(axis=1)
        for outer in smallest_first(near, inner, normal, size):
            n = normal[outer] / size[outer]
            if np.abs((points[inner] - middle[outer]) @ n).max() > reach[outer]:
                continue
            if outlines.hold(outer, points[inner]):
                home[inner] = outer
                break
    return home


def _reach(mesh: Mesh, points: Floats, half: Ints, normal: Floats) -> float:
    """How far off the mean plane of a rim (N, 3) what it encloses may lie (mm)."""
    size = float(np.linalg.norm(normal))
    if not size > 0:
        return 0.0
    n, off = normal / size, points - points.mean(axis=0)
    span, bent = float(np.ptp(points, axis=0).max()), float(np.abs(off @ n).max())
    cosine = leaning(mesh, half, n)
    bulge = 0.6 * span * float(np.sqrt((1 - cosine) / (1 + cosine))) if cosine >= _LEANING else 0.0
    return bent + FLAT_REACH * span + bulge


def leaning(mesh: Mesh, half: Ints, normal: Floats) -> float:
    """How far the faces at a rim of half-edges (N,) run outward as they go away from it, in the mean: 1 in its plane, 0
    square to it, below 0 where the shell widens towards its rim; normal: of its plane, of unit length."""
    a, b = (mesh.vertices[end] for end in mesh.edge_ends(half))
    away = mesh.vertices[mesh.faces[half // 3, (half % 3 + 2) % 3]] - a
    along = (b - a) / np.maximum(np.linalg.norm(b - a, axis=1), 1e-300)[:, None]
    away = away - np.einsum("ij,ij->i", away, along)[:, None] * along
    away /= np.maximum(np.linalg.norm(away, axis=1), 1e-300)[:, None]
    weight = np.linalg.norm(b - a, axis=1)
    outward = 0.5 * (a + b) - (0.5 * (a + b) * weight[:, None]).sum(axis=0) / max(float(weight.sum()), 1e-300)
    outward -= (outward @ normal)[:, None] * normal
    outward /= np.maximum(np.linalg.norm(outward, axis=1), 1e-300)[:, None]
    return float((np.einsum("ij,ij->i", away, outward) * weight).sum() / max(float(weight.sum()), 1e-300))
