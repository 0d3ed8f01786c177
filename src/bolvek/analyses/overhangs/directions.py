"""The best way up: many build directions compared by what each would cost."""

from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray

from bolvek.analyses.overhangs.overhangs import (
    ANGLE_SLACK_DEG,
    OverhangSettings,
    material_minima,
    neighbours,
    vertex_normals,
)
from bolvek.analyses.shells import outward_signs
from bolvek.analyses.thickness import SKIN_SHARE, check_solid, sample_surface
from bolvek.errors import UsageError
from bolvek.kernels import overhangs as kernels
from bolvek.mesh import Mesh
from bolvek.spatial.frames import fibonacci_sphere
from bolvek.spatial.parallel import run_ranges
from bolvek.units import as_triple

Floats = NDArray[np.float64]
Triple = tuple[float, float, float]

MEASURES = ("overhang", "islands", "support", "height", "contact")
WEIGHTS = {"overhang": 1.0, "islands": 1.0, "support": 1.0, "height": 0.3, "contact": 0.3}
"""What each measure weighs in the score unless said otherwise."""

_SAMPLES = 20_000
_MOST_FLATS = 12
_SAME_COSINE = np.cos(np.radians(0.5))


@dataclass(frozen=True)
class CompareSettings:
    """count: directions spread over the sphere; weights by measure; best: how many to tell."""

    count: int = 100
    weights: dict[str, float] = field(default_factory=lambda: dict(WEIGHTS))
    best: int = 5

    def check(self) -> None:
        """Raise UsageError when a number or a name makes no sense."""
        if not 1 <= self.count <= 100_000:
            raise UsageError(f"--compare-up must be from 1 to 100,000, not {self.count}")
        if not 1 <= self.best <= 100:
            raise UsageError(f"--best must be from 1 to 100, not {self.best}")
        for name, value in self.weights.items():
            if name not in MEASURES:
                raise UsageError(f"there is no measure '{name}' to weigh; known are {', '.join(MEASURES)}")
            if not 0 <= value < np.inf:
                raise UsageError(f"the weight of {name} must be 0 or more, not {value:g}")
        if not any(self.weights.values()):
            raise UsageError("at least one weight must be above 0")


@dataclass(frozen=True)
class Direction:
    """One build direction and what it costs; score is the weighted sum of shares of the worst, lower is better.

    support_volume_mm3 is an estimate from samples; `source` says where the direction comes from.
    """

    up: Triple
    source: str
    score: float
    overhang_mm2: float
    islands: int
    support_volume_mm3: float
    height_mm: float
    bed_contact_mm2: float


@dataclass(frozen=True)
class Comparison:
    """The best directions, best first, how the model stands now, and how many were tried."""

    tried: int
    weights: dict[str, float]
    best: list[Direction]
    now: Direction


def flat_sides(mesh: Mesh, most: int = _MOST_FLATS) -> Floats:
    """Outward unit normals (N, 3) of the largest sides of the convex hull: what the model can stand on."""
    from scipy.spatial import ConvexHull, QhullError

    try:
        hull = ConvexHull(mesh.vertices[np.unique(mesh.faces)])
    except QhullError:  # as good as flat: no side to tell
        return np.zeros((0, 3))
    corners = hull.points[hull.simplices]
    area = 0.5 * np.linalg.norm(np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0]), axis=1)
    plane, at = np.unique(np.round(hull.equations[:, :3], 4), axis=0, return_inverse=True)
    total = np.bincount(at.ravel(), area)
    chosen = plane[np.argsort(-total, kind="stable")[:most]]
    return np.asarray(chosen / np.linalg.norm(chosen, axis=1)[:, None])


def compare_directions(
    mesh: Mesh, settings: OverhangSettings, compare: CompareSettings = CompareSettings()
) -> Comparison:
    """Try directions and rank them. Raises UsageError, or WorkError for a model without surface or extent.

    Overhang and contact areas are exact; islands are exact but for those inside other parts, which are not
    told apart here; supports come from samples.
    """
    settings.check()
    compare.check()
    check_solid(mesh)
    sources = [
        ("as asked", settings.direction[None]),
        ("flat side", -flat_sides(mesh)),
        ("axis", np.concatenate([np.eye(3), -np.eye(3)])),
        ("spread", fibonacci_sphere(compare.count)),
    ]
    ups: list[Floats] = []
    names: list[str] = []
    for name, some in sources:
        for up in some:
            if not ups or (np.array(ups) @ up).max() < _SAME_COSINE:
                ups.append(up)
                names.append(name)
    costs = _costs(mesh, np.array(ups), settings)
    score = _scores(costs, compare.weights)
    rows = [
        Direction(as_triple(up), name, float(s), float(c[0]), int(c[1]), float(c[2]), float(c[3]), float(c[4]))
        for up, name, s, c in zip(ups, names, score, costs, strict=True)
    ]
    order = np.argsort(score, kind="stable")
    return Comparison(len(rows), dict(compare.weights), [rows[i] for i in order[: compare.best]], rows[0])


def _costs(mesh: Mesh, ups: Floats, s: OverhangSettings) -> Floats:
    """Overhang area, islands, support volume, height and contact area (N, 5) of each direction."""
    sign = outward_signs(mesh)
    area = np.ascontiguousarray(mesh.area_vectors * sign[:, None])
    normals = vertex_normals(mesh, sign)
    neighbours(mesh)
    limit = float(np.cos(np.radians(max(s.angle_deg - ANGLE_SLACK_DEG, 0.0))))
    # every sample stands for the same area: taken at even steps along all of it
    found = sample_surface(mesh, float(np.sqrt(mesh.area / _SAMPLES)))
    along = np.cumsum(found.area)
    rows = np.searchsorted(along, (np.arange(_SAMPLES) + 0.5) / _SAMPLES * along[-1])
    points, each = found.points[rows], float(along[-1]) / _SAMPLES
    normal = area[found.face[rows]] / np.maximum(mesh.face_areas[found.face[rows]], 1e-300)[:, None]
    near = SKIN_SHARE * float(mesh.size.max())
    out = np.empty((len(ups), 5))

    def work(begin: int, end: int) -> None:
        height = np.empty(len(mesh.vertices))
        for i in range(begin, end):
            up = ups[i]
            low, high = kernels.heights(mesh.vertices, *up, height)
            over, bed = kernels.direction_areas(mesh.vertices, mesh.faces, area, height, *up, limit, low, s.contact_mm)
            minima, _, _ = material_minima(mesh, height, normals, up, s.layer_mm)
            islands = int((height[minima] > low + s.contact_mm).sum())
            slope = normal @ up
            above = points @ up - low
            hang = np.flatnonzero((slope < -limit) & (above > s.contact_mm))
            hits = mesh.tree.rays(points[hang], np.broadcast_to(-up, (len(hang), 3)), near=near, alone=True)
            drop = np.minimum(hits.distance[:, 0], above[hang])
            out[i] = over, islands, float((each * -slope[hang] * drop).sum()), high - low, bed

    run_ranges(work, len(ups), grain=1)
    return out


def _scores(costs: Floats, weights: dict[str, float]) -> Floats:
    """Weighted sums of what each direction has of the most that any has; of contact, of what it lacks."""
    share = costs / np.maximum(costs.max(axis=0), 1e-300)
    share[:, 4] = 1 - share[:, 4]
    return np.asarray(share @ np.array([weights.get(name, 0.0) for name in MEASURES]))
