"""A base under a model, fused with it: round, square, or following its lowest slice.

The model is sunk into it: the top of the plinth lies as far above the model's lowest point as was asked, and what the
model has below that is what the plinth carries. `follow` is the outline of that, offset by the margin: the level set
of the distance to it, as exact as its grid.
"""

import math
from dataclasses import dataclass

import numpy as np

from bolvek.analyses.finding import Finding, Worded
from bolvek.analyses.layers.sections import Stack
from bolvek.analyses.shells import nest_exactly
from bolvek.analyses.soundness import require_sound
from bolvek.arrays import Bools, Floats
from bolvek.errors import WorkError
from bolvek.kernels.surface.sections import fill_lines
from bolvek.mesh import Mesh
from bolvek.operations.fuse.unite import unite
from bolvek.settings import remedy
from bolvek.settings.parts import PlinthSettings
from bolvek.settings.ways_on import SOLID
from bolvek.spatial.points import PointTree
from bolvek.spatial.polygons import PolygonError, triangulate
from bolvek.units import Triple, as_triple, length_text

_SIDES = 128
_SLICES = 6  # through what is sunk
_PIXELS = 420  # of the grid that an outline is followed on
_WAIST = 1.5  # of the gap over which feet become one: closing it by more leaves a waist between them
_STRAIGHT_MM = 0.01  # corners of an outline that stand out less are left out
_UP: Triple = (0.0, 0.0, 1.0)


@dataclass(frozen=True, kw_only=True)
class PlinthRecord(Worded):
    """The plinth. top_mm: the height of its top; chamfer_mm: as made, less than asked where the outline is jagged;
    carried_mm2: the model's section where it goes in; base_mm2: of the plinth's underside; tips_deg: how far the whole
    may lean before it falls (below 0: it falls as it stands)."""

    shape: str
    size_mm: Triple
    top_mm: float
    chamfer_mm: float
    sunk_mm: float
    carried_mm2: float
    base_mm2: float
    added_mm3: float
    tips_deg: float
    triangles: int
    findings: tuple[Finding, ...] = ()

    WORDS = ("done", "falls")


def add_plinth(mesh: Mesh, settings: PlinthSettings) -> tuple[Mesh, PlinthRecord]:
    """A sound mesh on a plinth; faces it does not reach stay as they were. Raises UsageError, WorkError."""
    settings.check()
    require_sound(mesh, "only sound models get a plinth", SOLID)
    s = settings
    if s.sink_mm >= mesh.size[2]:
        raise WorkError(f"sunk by {length_text(s.sink_mm)} nothing of a model {length_text(mesh.size[2])} high is left")
    top = float(mesh.bounds[0, 2]) + s.sink_mm
    carried = _Carried(mesh, s)
    outline = carried.outline(s)
    body, chamfer = _body(outline, top - s.height_mm, top, s.chamfer_mm)
    result, _ = unite(mesh, body)
    before, after = len(nest_exactly(mesh).voids[0]), len(nest_exactly(result).voids[0])
    tips = _tips_deg(result, outline, top - s.height_mm)
    found = []
    if after > before:
        text = f"the plinth closes {after - before} void that was open below: it would trap resin, drain it elsewhere"
        found.append(Finding("void_made", "note", after - before, text))
    if tips <= 0:
        found.append(Finding("falls", "fault", 1, "it falls over as it stands: the middle of its mass is not above it"))
    record = PlinthRecord(
        shape=s.shape,
        size_mm=as_triple(body.size),
        top_mm=top,
        chamfer_mm=chamfer,
        sunk_mm=s.sink_mm,
        carried_mm2=carried.area_mm2,
        base_mm2=abs(_area(outline)),
        added_mm3=result.volume - mesh.volume,
        tips_deg=tips,
        triangles=len(result.faces),
        findings=tuple(found),
    )
    return result, record


class _Carried:
    """What the model has below the top of its plinth, seen from above."""

    def __init__(self, mesh: Mesh, s: PlinthSettings) -> None:
        stack = Stack(mesh, _UP, s.sink_mm)
        heights = (np.arange(1, _SLICES + 1) - 1e-4) * s.sink_mm / _SLICES
        self.loops = [[o.points for o in stack.outlines_at(float(h)) if o.closed] for h in heights]
        if not self.loops[-1]:
            raise WorkError(f"the model has no section {length_text(s.sink_mm)} above its lowest point")
        self.area_mm2 = sum(_area(loop) for loop in self.loops[-1])
        self.points = np.concatenate([p for loops in self.loops for p in loops])

    def outline(self, s: PlinthSettings) -> Floats:
        """The outline (N, 2) of the plinth, counterclockwise."""
        if s.shape == "round":
            middle, radius = smallest_circle(self.points)
            angle = 2 * np.pi * np.arange(_SIDES) / _SIDES
            # a polygon around the circle, not in it
            reach = (radius + s.margin_mm) / math.cos(math.pi / _SIDES)
            return middle + reach * np.stack([np.cos(angle), np.sin(angle)], axis=1)
        low, high = self.points.min(axis=0), self.points.max(axis=0)
        if s.shape == "square":
            half = 0.5 * float((high - low).max()) + s.margin_mm
            return 0.5 * (low + high) + half * np.array([[-1.0, -1], [1, -1], [1, 1], [-1, 1]])
        return self._followed(s, low, high)

    def _followed(self, s: PlinthSettings, low: Floats, high: Floats) -> Floats:
        """The level set of the distance to what is carried; where that falls apart, of what is left of it when it is
        grown until it is one and shrunk again."""
        from scipy.ndimage import distance_transform_edt, gaussian_filter, label

        off, corner, pixel = self._distance(low, high, 2.5 * s.margin_mm)
        if label(off <= s.margin_mm)[1] > 1:  # several feet: what no disc of the gap's width reaches is filled
            longest = float(np.linalg.norm(high - low))
            off, corner, pixel = self._distance(low, high, 2.5 * longest + 2.5 * s.margin_mm)
            plain, gap = off, 0.5 * s.margin_mm
            while label(off <= s.margin_mm)[1] > 1 and gap < 1.5 * longest:
                gap *= 1.3
                far = _WAIST * gap
                shrunk = far - pixel * distance_transform_edt(plain <= far)
                off = np.where(plain <= far, np.minimum(plain, shrunk), plain)
            off = gaussian_filter(off, 1.0)  # that distance counts in pixels
        return _outer(off - s.margin_mm, corner, pixel)

    def _distance(self, low: Floats, high: Floats, pad: float) -> tuple[Floats, Floats, float]:
        """Distance (Y, X) to the outline of what is carried, below zero inside; the middle of the first pixel, the
        pixel."""
        pixel = float((high - low).max() + 2 * pad) / _PIXELS
        corner = low - pad
        shape = tuple(int(n) for n in np.ceil((high - low + 2 * pad) / pixel)[::-1] + 1)
        inside = np.zeros(shape, bool)
        for loops in self.loops:
            inside |= _filled(loops, corner, pixel, shape)
        edge = np.concatenate([_dense(p, 0.25 * pixel) for loops in self.loops for p in loops])
        y, x = np.mgrid[: shape[0], : shape[1]]
        first = corner + 0.5 * pixel
        places = first + pixel * np.stack([x, y], axis=-1).reshape(-1, 2)
        off = PointTree(edge).nearest(places)[0].reshape(shape)
        return np.where(inside, -off, off), first, pixel


def _filled(loops: list[Floats], corner: Floats, pixel: float, shape: tuple[int, ...]) -> Bools:
    """Pixels (Y, X) inside loops."""
    lines = np.concatenate([np.concatenate([p, np.roll(p, -1, axis=0)], axis=1) for p in loops] or [np.zeros((0, 4))])
    inside = np.zeros(shape, bool)
    fill_lines(np.ascontiguousarray((lines - np.tile(corner, 2)) / pixel), np.zeros(shape, np.int16), inside)
    return inside


def _dense(loop: Floats, spacing: float) -> Floats:
    """Points all along a loop."""
    ends = np.roll(loop, -1, axis=0)
    found = [loop]
    length = np.linalg.norm(ends - loop, axis=1)
    for p, q, n in zip(loop, ends, np.ceil(length / spacing).astype(int).tolist(), strict=True):
        if n > 1:
            t = np.arange(1, n)[:, None] / n
            found.append(p + t * (q - p))
    return np.concatenate(found)


def _outer(field: Floats, origin: Floats, pixel: float) -> Floats:
    """The outer line (N, 2) on which a field (Y, X) is zero, counterclockwise around what is below zero."""
    rows, columns = field.shape
    y, x = np.mgrid[:rows, :columns]
    place = np.stack([origin[0] + pixel * x, origin[1] + pixel * y, -field], axis=-1).reshape(-1, 3)
    k = (np.arange(rows - 1)[:, None] * columns + np.arange(columns - 1)).ravel()
    faces = np.concatenate(
        [np.stack([k, k + 1, k + columns + 1], axis=1), np.stack([k, k + columns + 1, k + columns], axis=1)]
    )
    terrain = Mesh(place, faces)
    stack = Stack(terrain, _UP, 1.0)
    loops = [o.points for o in stack.outlines_at(-stack.floor_mm) if o.closed]
    loops.sort(key=lambda p: -abs(_area(p)))
    if not loops:
        raise WorkError(
            "the outline of the lowest slice does not close", remedy("", "needs none", PlinthSettings(shape="round"))
        )
    outline = loops[0] if _area(loops[0]) > 0 else loops[0][::-1]
    return _straightened(outline, _STRAIGHT_MM)


def _straightened(loop: Floats, within: float) -> Floats:
    """The loop without corners that stand out from the line between those kept by less than a distance (Douglas and
    Peucker 1973)."""
    n = len(loop)
    keep = np.zeros(n + 1, bool)
    points = np.concatenate([loop, loop[:1]])
    far = int(np.argmax(np.linalg.norm(loop - loop[0], axis=1)))
    keep[[0, far, n]] = True
    stack = [(0, far), (far, n)]
    while stack:
        a, b = stack.pop()
        if b - a < 2:
            continue
        along = points[b] - points[a]
        length = max(float(np.linalg.norm(along)), 1e-12)
        between = points[a + 1 : b] - points[a]
        off = np.abs(between[:, 0] * along[1] - between[:, 1] * along[0]) / length
        k = int(np.argmax(off))
        if off[k] > within:
            keep[a + 1 + k] = True
            stack += [(a, a + 1 + k), (a + 1 + k, b)]
    return loop[keep[:n]]


def _area(loop: Floats) -> float:
    """Signed area of a loop (N, 2)."""
    x, y = (loop - loop[0]).T
    return 0.5 * float(x @ np.roll(y, -1) - np.roll(x, -1) @ y)


def _body(outline: Floats, low: float, high: float, chamfer: float) -> tuple[Mesh, float]:
    """The solid between two heights, its upper edge broken as asked, or by less where the outline is too jagged."""
    for share in (1.0, 0.5, 0.25, 0.1):
        try:
            return _broken(outline, low, high, share * chamfer), share * chamfer
        except PolygonError:
            continue
    return _broken(outline, low, high, 0.0), 0.0


def _broken(outline: Floats, low: float, high: float, chamfer: float) -> Mesh:
    """The solid between two heights with a chamfer. Raises PolygonError."""
    rings = [(outline, low)]
    if chamfer > 0:
        rings += [(outline, high - chamfer), (_inset(outline, chamfer), high)]
    else:
        rings.append((outline, high))
    n = len(outline)
    points = np.concatenate([np.column_stack([ring, np.full(n, z)]) for ring, z in rings]).astype(np.float32)
    a = np.arange(n)
    b = (a + 1) % n
    faces = []
    for k in range(len(rings) - 1):
        p, q = k * n, (k + 1) * n
        faces += [np.stack([p + a, p + b, q + b], axis=1), np.stack([p + a, q + b, q + a], axis=1)]
    flat = points.astype(np.float64)[:, :2].tolist()
    last = (len(rings) - 1) * n
    faces.append(np.array(triangulate([(x, y) for x, y in flat], [list(range(last, last + n))])))
    faces.append(np.array(triangulate([(x, y) for x, y in flat], [list(range(n))]))[:, ::-1])
    return Mesh(points, np.concatenate(faces))


def _inset(outline: Floats, by: float) -> Floats:
    """The outline moved inward by a distance, each corner along the middle of its sides' normals."""
    side = np.roll(outline, -1, axis=0) - outline
    normal = np.stack([-side[:, 1], side[:, 0]], axis=1) / np.linalg.norm(side, axis=1)[:, None]
    before = np.roll(normal, 1, axis=0)
    middle = normal + before
    middle /= np.maximum(np.linalg.norm(middle, axis=1), 1e-12)[:, None]
    lean = np.maximum((middle * normal).sum(axis=1), 0.5)
    return outline + by * middle / lean[:, None]


def smallest_circle(points: Floats) -> tuple[Floats, float]:
    """Middle (2,) and radius of the smallest circle around points (N, 2) (Welzl 1991)."""
    from scipy.spatial import ConvexHull, QhullError

    try:
        hull = points[ConvexHull(points).vertices]
    except QhullError:  # all on a line
        hull = points[[int(points[:, k].argmin()) for k in (0, 1)] + [int(points[:, k].argmax()) for k in (0, 1)]]
    hull = hull[np.random.default_rng(1).permutation(len(hull))]
    middle, radius = hull[0], 0.0
    for i, p in enumerate(hull):
        if _within(p, middle, radius):
            continue
        middle, radius = p, 0.0
        for j, q in enumerate(hull[:i]):
            if _within(q, middle, radius):
                continue
            middle, radius = 0.5 * (p + q), 0.5 * float(np.linalg.norm(p - q))
            for r in hull[:j]:
                if not _within(r, middle, radius):
                    middle, radius = _through(p, q, r)
    return middle, radius


def _within(p: Floats, middle: Floats, radius: float) -> bool:
    return float(np.linalg.norm(p - middle)) <= radius * (1 + 1e-9) + 1e-12


def _through(p: Floats, q: Floats, r: Floats) -> tuple[Floats, float]:
    """The circle through three points."""
    a, b = q - p, r - p
    cross = 2 * (a[0] * b[1] - a[1] * b[0])
    if abs(cross) < 1e-30:
        ends = max(((p, q), (q, r), (p, r)), key=lambda e: float(np.linalg.norm(e[0] - e[1])))
        return 0.5 * (ends[0] + ends[1]), 0.5 * float(np.linalg.norm(ends[0] - ends[1]))
    x = np.array([b[1] * (a @ a) - a[1] * (b @ b), a[0] * (b @ b) - b[0] * (a @ a)]) / cross
    return p + x, float(np.linalg.norm(x))


def _tips_deg(mesh: Mesh, outline: Floats, floor: float) -> float:
    """How far the model may lean on the outline of its base before it falls."""
    corner = mesh.vertices[mesh.faces]
    origin = mesh.bounds.mean(axis=0)
    volume = np.einsum("ij,ij->i", corner[:, 0] - origin, mesh.area_vectors) / 3
    middle = ((corner.sum(axis=1) + origin) / 4 * volume[:, None]).sum(axis=0) / volume.sum()
    from scipy.spatial import ConvexHull

    sides = ConvexHull(outline).equations
    inside = -float((sides[:, :2] @ middle[:2] + sides[:, 2]).max())
    return math.degrees(math.atan2(inside, max(float(middle[2]) - floor, 1e-9)))
