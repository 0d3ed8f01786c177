"""Wall thickness of a whole model: distribution, thin spots as zones, where it breaks through, when it would print."""

from dataclasses import dataclass, field, replace

import numpy as np
from numpy.typing import NDArray

from bolvek.analyses.finding import Finding
from bolvek.analyses.shells import standing
from bolvek.analyses.thickness import (
    MOST_RAYS,
    Measures,
    Samples,
    check_solid,
    measure,
    sample_surface,
    surfaces_along,
)
from bolvek.analyses.thickness.spots import gather_spots
from bolvek.errors import UsageError
from bolvek.mesh import Mesh
from bolvek.units import length_text

Floats = NDArray[np.float64]
Triple = tuple[float, float, float]

WANTED_SAMPLES, MOST_SAMPLES = 200_000, 400_000
"""Samples beyond one a face, for the spacing chosen when none is given."""

HOLE_MM = 0.1
"""A wall below this prints as a hole."""

BALL_REACH = 5.0
"""Balls wider than so many times the minimum are not looked for: they decide nothing, and cost the most."""

KINDS = ("breakthrough", "hole", "thin", "gap")
"""Kinds of zones, in the order they are told."""

_MOST_ZONES = 10_000
PERCENTS = (1, 5, 25, 50, 75, 95)


@dataclass(frozen=True)
class WallSettings:
    """min_mm: least wall; gap_mm: least gap across air (None: not asked); hole_mm: a wall below it prints as
    a hole; ball: inscribed balls too, not only rays; spacing_mm: between samples (None: chosen)."""

    min_mm: float = 1.0
    gap_mm: float | None = None
    hole_mm: float = HOLE_MM
    ball: bool = True
    spacing_mm: float | None = None

    def check(self) -> None:
        """Raise UsageError when a length makes no sense."""
        for name, value in (("--min", self.min_mm), ("--gap", self.gap_mm), ("--spacing", self.spacing_mm)):
            if value is not None and not 0 < value < np.inf:
                raise UsageError(f"{name} must be above 0, not {value:g}")
        if not 0 <= self.hole_mm < np.inf:
            raise UsageError(f"--hole must be 0 or more, not {self.hole_mm:g}")


@dataclass(frozen=True)
class Measured:
    """One measure, by area: where it is a wall at all, extremes, percentiles, share of all area below the minimum."""

    measured_share: float
    below_share: float
    min_mm: float | None = None
    max_mm: float | None = None
    mean_mm: float | None = None
    percentiles_mm: dict[str, float] = field(default_factory=dict)


@dataclass(frozen=True)
class WallZone:
    """A thin spot: kind "breakthrough", "hole", "thin" or "gap"; the thinnest place, middle and extent of its
    box, the surface in it (all sides), which measure decided most of it, the shells it lies on (from 1)."""

    kind: str
    min_mm: float
    mean_mm: float
    area_mm2: float
    where_mm: Triple
    centre_mm: Triple
    size_mm: Triple
    decided: str
    shells: tuple[int, ...]


@dataclass(frozen=True)
class WallRecord:
    """Thickness of a model. Shares are of its surface; lengths mm, areas mm2.

    undefined_share: no other side to measure to (open skins, rays that get out); edge_share: beside an edge,
    where nothing is a wall; hidden_share: inside other material (told only where it looked thin).
    prints_at: factors by which to scale so that the thinnest zone, and 99% of the area, reach the minimum.
    """

    min_mm: float
    samples: int
    spacing_mm: float
    area_mm2: float
    undefined_share: float
    edge_share: float
    hidden_share: float
    ray: Measured
    ball: Measured | None
    wall: Measured
    histogram_edges_mm: list[float]
    histogram_share: list[float]
    zones: list[WallZone]
    zone_count: int
    gap: Measured | None
    gap_zones: list[WallZone]
    prints_at: dict[str, float]
    findings: tuple[Finding, ...]

    @property
    def verdict(self) -> str:
        """ "thin" when a finding is a fault, "not measured" where nothing could be."""
        if self.wall.min_mm is None:
            return "not measured"
        if any(f.severity == "fault" for f in self.findings):
            return "thin"
        return "thick enough where measured" if self.undefined_share > 0 else "thick enough"

    @property
    def ok(self) -> bool:
        """Whether a wall was measured and none falls short."""
        return self.wall.min_mm is not None and not any(f.severity == "fault" for f in self.findings)


@dataclass(frozen=True)
class WallField:
    """What was measured where: samples, the wall at each (nan: none), and by face and vertex the least (nan too)."""

    samples: Samples
    wall: Floats
    face_mm: Floats
    vertex_mm: Floats


def default_spacing(mesh: Mesh, min_mm: float) -> float:
    """Between a tenth and half of the minimum, by the samples it takes; wider only beyond `MOST_SAMPLES`."""
    wanted, least = (float(np.sqrt(mesh.area / n)) for n in (WANTED_SAMPLES, MOST_SAMPLES))
    return max(least, min(0.5 * min_mm, max(0.1 * min_mm, wanted)))


def measure_walls(mesh: Mesh, settings: WallSettings = WallSettings()) -> tuple[WallRecord, WallField]:
    """Measure every wall. Raises UsageError, or WorkError for a model without surface or without extent."""
    settings.check()
    s = settings
    check_solid(mesh)
    mesh.prepare()
    spacing = s.spacing_mm or default_spacing(mesh, s.min_mm)
    samples = sample_surface(mesh, spacing)
    sign, skin = _sides(mesh)
    ray, ball, state, wall, square = _ask(mesh, samples, sign, skin, s)
    total = float(samples.area.sum())

    def share(mask: NDArray[np.bool_]) -> float:
        return float(samples.area[mask].sum() / total)

    thin = np.flatnonzero(wall < s.min_mm)
    zones, count = _zones(mesh, samples, thin, wall, ray, state, square, s)
    gap, gap_zones = _gaps(mesh, samples, sign, skin, s) if s.gap_mm is not None else (None, [])
    stats = [_measured(values, samples.area, s.min_mm) for values in (wall, ray, ball)]
    zones, least = _sharpened(mesh, zones, spacing, sign, skin, s)
    stats = [_lowered(m, x) for m, x in zip(stats, least, strict=True)]
    edges, shares = _histogram(wall, samples.area)
    prints = {}
    if zones and zones[0].min_mm > 0:
        prints["thinnest"] = s.min_mm / min(z.min_mm for z in zones)
    if stats[0].percentiles_mm and stats[0].percentiles_mm["1"] > 0:
        prints["99_percent"] = s.min_mm / stats[0].percentiles_mm["1"]
    face = np.full(len(mesh.faces), np.inf)
    np.minimum.at(face, samples.face, np.where(np.isnan(wall), np.inf, wall))
    vertex = np.full(len(mesh.vertices), np.inf)
    for k in range(3):
        np.minimum.at(vertex, mesh.faces[:, k], face)
    record = WallRecord(
        min_mm=s.min_mm,
        samples=len(samples.area),
        spacing_mm=spacing,
        area_mm2=total,
        undefined_share=share(state == _UNDEFINED),
        edge_share=share(np.isnan(wall) & (state == _PLAIN)),
        hidden_share=share(state == _HIDDEN),
        ray=stats[1],
        ball=stats[2] if s.ball else None,
        wall=stats[0],
        histogram_edges_mm=edges,
        histogram_share=shares,
        zones=zones,
        zone_count=count,
        gap=gap,
        gap_zones=gap_zones,
        prints_at=prints,
        findings=(),
    )
    field_ = WallField(samples, wall, *(np.where(np.isinf(a), np.nan, a) for a in (face, vertex)))
    return replace(record, findings=_findings(record)), field_


def wall_at(mesh: Mesh, points: Floats, face: NDArray[np.integer], settings: WallSettings) -> Floats:
    """Walls (Q,) at any points (Q, 3) of faces (Q,); nan where there is none, 0 where it has broken through."""
    samples = Samples(points, np.ones(len(points)), np.asarray(face, np.int64), 0.0)
    return _ask(mesh, samples, *_sides(mesh), settings)[3]


def _ask(
    mesh: Mesh, samples: Samples, sign: Floats, skin: NDArray[np.bool_], s: WallSettings
) -> tuple[Floats, Floats, NDArray[np.int8], Floats, NDArray[np.bool_]]:
    """Ray, ball, state and wall at samples, and where its sides face each other squarely."""
    found = measure(mesh, samples.points, samples.face, sign, widest_ball_mm=BALL_REACH * s.min_mm * s.ball)
    ray, ball, state = _judged(mesh, samples, sign, skin, found, s)
    wall = np.fmin(ray, ball)
    wall[state == _BROKEN] = 0.0
    return ray, ball, state, wall, found.square | (state == _BROKEN)


_PLAIN, _UNDEFINED, _HIDDEN, _BROKEN = range(4)


def _sides(mesh: Mesh) -> tuple[Floats, NDArray[np.bool_]]:
    """Per face: 1 where it faces out of its material, -1 where it is turned; and which lie on open skins."""
    found = standing(mesh)
    return found.sign, found.openings.skin[mesh.topology.shell]


def _judged(
    mesh: Mesh, samples: Samples, sign: Floats, skin: NDArray[np.bool_], m: Measures, s: WallSettings
) -> tuple[Floats, Floats, NDArray[np.int8]]:
    """Ray and ball (nan: no wall) and what each sample is, after a second look where the plain answer may lie.

    The second look counts every surface along the ray: the material is left where as many surfaces were
    left as entered. Where none is left at all, there was no material to begin with: two shells have gone
    through each other. Where more than one is, the sample lies inside other material.
    """
    ray, ball = m.ray.copy(), m.ball.copy()
    state = np.full(len(ray), _PLAIN, np.int8)
    lost = ~np.isfinite(m.ray_mm)
    # where edges are open, crowded or disagree, counting surfaces proves nothing
    topology = mesh.topology
    whole = not (topology.open_edges or topology.nonmanifold_edges or topology.badly_oriented_edges)
    state[lost] = _BROKEN if whole and mesh.topology.shells > 1 else _UNDEFINED
    state[skin[samples.face]] = _UNDEFINED
    again = (state == _PLAIN) & ((m.facing < 0) | (np.fmin(ray, ball) < s.min_mm))
    if mesh.topology.shells == 1 and whole:  # one closed shell cannot hide in another: only what looks wrong
        again &= m.facing < 0
    rows = np.flatnonzero(again)
    inward = -mesh.unit_normals * sign[:, None] if len(rows) else np.zeros((0, 3))
    for at in range(0, len(rows), MOST_RAYS):
        some = rows[at : at + MOST_RAYS]
        distance, step = surfaces_along(mesh, samples.points[some], inward[samples.face[some]], sign)
        depth = step.sum(axis=1)
        left = np.cumsum(step, axis=1) >= np.maximum(depth, 1)[:, None]
        out = np.argmax(left, axis=1)
        simple = (depth == 1) & (step[:, 0] > 0)
        through = distance[np.arange(len(some)), out]
        merged = (depth == 1) & ~simple
        ray[some[merged]] = through[merged]
        for mask, kind in ((depth > 1, _HIDDEN), (depth < 1, _BROKEN if whole else _UNDEFINED)):
            state[some[mask]] = kind
        ball[some[~simple]] = np.nan
    gone = state != _PLAIN
    ray[gone] = ball[gone] = np.nan
    return ray, ball, state


def _measured(values: Floats, area: Floats, min_mm: float) -> Measured:
    total = float(area.sum())
    good = np.flatnonzero(~np.isnan(values))
    if not len(good):
        return Measured(0.0, 0.0)
    order = good[np.argsort(values[good], kind="stable")]
    v, a = values[order], area[order]
    along = np.cumsum(a)
    at = np.searchsorted(along, np.array(PERCENTS) / 100 * along[-1])
    percentiles = {str(p): float(v[min(i, len(v) - 1)]) for p, i in zip(PERCENTS, at, strict=True)}
    below = float(a[v < min_mm].sum() / total)
    mean = float((v * a).sum() / along[-1])
    return Measured(float(along[-1] / total), below, float(v[0]), float(v[-1]), mean, percentiles)


def _histogram(wall: Floats, area: Floats, bins: int = 40) -> tuple[list[float], list[float]]:
    """Edges (mm) and share of the area in each bin, up to the 95th percentile; the last bin holds the rest."""
    good = ~np.isnan(wall)
    if not good.any():
        return [], []
    order = np.sort(wall[good])
    top = float(order[int(0.95 * (len(order) - 1))]) * 1.05
    edges = np.linspace(0.0, max(top, 1e-9), bins + 1)
    counts, _ = np.histogram(np.minimum(wall[good], edges[-1]), edges, weights=area[good])
    return edges.tolist(), (counts / area.sum()).tolist()


def _zones(
    mesh: Mesh,
    samples: Samples,
    thin: NDArray[np.int64],
    wall: Floats,
    ray: Floats,
    state: NDArray[np.int8],
    square: NDArray[np.bool_],
    s: WallSettings,
) -> tuple[list[WallZone], int]:
    """Thin samples gathered: what breaks through first, then what prints as a hole, then by thickness."""
    broken = state[thin] == _BROKEN
    kind = np.where(broken, 0, np.where((wall[thin] < s.hole_mm) & square[thin], 1, 2))
    zones = _gathered(mesh, samples, thin, wall, (ray[thin] <= wall[thin]) | broken, kind, s.min_mm)
    return zones[:_MOST_ZONES], len(zones)


def _gathered(
    mesh: Mesh,
    samples: Samples,
    chosen: NDArray[np.int64],
    value: Floats,
    by_ray: NDArray[np.bool_],
    kind: NDArray[np.int64],
    reach_mm: float,
) -> list[WallZone]:
    """Zones of the chosen samples (N,), of the worst of their kinds (N,) each, as they are told."""
    points, area = samples.points[chosen], samples.area[chosen]
    shell = mesh.topology.shell[samples.face[chosen]] + 1
    zones = []
    for spot in gather_spots(points, value[chosen], area, max(1.5 * samples.spacing_mm, reach_mm)):
        rows = spot.rows
        decided = "ray" if float(area[rows][by_ray[rows]].sum()) >= 0.5 * float(area[rows].sum()) else "ball"
        shells = tuple(np.unique(shell[rows]).tolist())
        zones.append(WallZone(KINDS[int(kind[rows].min())], *spot.figures, decided, shells))
    return sorted(zones, key=_zone_order)


_SHARPENED, _PASSES, _FINER = 12, 2, 8  # zones looked at again; how often; how much finer each time
_MOST_AGAIN = 50_000


def _sharpened(
    mesh: Mesh, zones: list[WallZone], spacing: float, sign: Floats, skin: NDArray[np.bool_], s: WallSettings
) -> tuple[list[WallZone], list[float]]:
    """The first zones with their thinnest places found more finely, and the least wall, ray and ball met there.

    A minimum often lies at a corner of the mesh, which no sample hits. Only where the sides face each other
    squarely: a tapering edge gets thinner the nearer one looks, down to nothing.
    """
    least = [np.inf, np.inf, np.inf]
    found = []
    for k, zone in enumerate(zones):
        if k >= _SHARPENED or zone.kind == "breakthrough":
            found.append(zone)
            continue
        where, reach, best, kind = np.array(zone.where_mm), spacing, zone.min_mm, zone.kind
        for _ in range(_PASSES):
            near = mesh.tree.faces_in_box(where - reach, where + reach)
            only = np.zeros(len(mesh.faces), bool)
            only[near] = True
            fine = max(reach / _FINER, float(np.sqrt(mesh.face_areas[near].sum() / _MOST_AGAIN)))
            some = sample_surface(mesh, fine, only)
            around = (np.abs(some.points - where) <= reach).all(axis=1)
            some = Samples(some.points[around], some.area[around], some.face[around], fine)
            if not len(some.area):
                break
            ray, ball, _, wall, square = _ask(mesh, some, sign, skin, s)
            for i, values in enumerate((wall, ray, ball)):
                values[~square] = np.nan
                least[i] = min(least[i], float(np.nanmin(values, initial=np.inf)))
            if np.nanmin(wall, initial=np.inf) < best:
                i = int(np.nanargmin(wall))
                best, where = float(wall[i]), some.points[i]
                kind = "hole" if best < s.hole_mm else kind
            reach /= 0.5 * _FINER
        x, y, z = (float(c) for c in where)
        found.append(replace(zone, kind=kind, min_mm=best, where_mm=(x, y, z)))
    return sorted(found, key=_zone_order), least


def _lowered(m: Measured, least: float) -> Measured:
    return m if m.min_mm is None or m.min_mm <= least else replace(m, min_mm=least)


def _zone_order(z: WallZone) -> tuple[int, float, Triple]:
    """What is told first."""
    return KINDS.index(z.kind), z.min_mm, z.where_mm


def _gaps(
    mesh: Mesh, samples: Samples, sign: Floats, skin: NDArray[np.bool_], s: WallSettings
) -> tuple[Measured, list[WallZone]]:
    """Clearances across air, and those below the minimum as zones."""
    assert s.gap_mm is not None
    m = measure(
        mesh, samples.points, samples.face, sign, widest_ball_mm=BALL_REACH * s.gap_mm * s.ball, across_air=True
    )
    gap = m.wall
    gap[skin[samples.face]] = np.nan
    narrow = np.flatnonzero(gap < s.gap_mm)
    kind = np.full(len(narrow), KINDS.index("gap"))
    zones = _gathered(mesh, samples, narrow, gap, m.ray[narrow] <= gap[narrow], kind, s.gap_mm)
    return _measured(gap, samples.area, s.gap_mm), zones[:_MOST_ZONES]


def _findings(r: WallRecord) -> tuple[Finding, ...]:
    found = []
    texts = {
        "breakthrough": ("wall_broken", "place", "where a wall has broken through: it prints as a hole"),
        "hole": ("wall_hole", "place", "as good as gone: it prints as a hole or not at all"),
        "thin": ("wall_thin", "zone", f"thinner than {length_text(r.min_mm)}"),
    }
    for kind, (code, word, text) in texts.items():
        zones = [z for z in r.zones if z.kind == kind]
        if zones:
            words = f"{len(zones):,} {word}{'' if len(zones) == 1 else 's'} {text}"
            if kind != "breakthrough":
                words += f", {length_text(zones[0].min_mm)} at least"
            found.append(Finding(code, "fault", len(zones), words, zones[0].where_mm))
    if r.gap_zones:
        least, n = r.gap_zones[0], len(r.gap_zones)
        words = f"{n:,} gap{'' if n == 1 else 's'} too narrow, {length_text(least.min_mm)} at least"
        found.append(Finding("gap_narrow", "fault", n, words, least.where_mm))
    if r.wall.min_mm is None:
        found.append(Finding("wall_unmeasured", "fault", 1, "nowhere a wall that could be measured"))
    if r.undefined_share > 0:
        share = f"{100 * r.undefined_share:.1f}% of the surface has no other side: an open skin, an opening or a fault"
        found.append(Finding("wall_undefined", "note", 1, share))
    return tuple(found)
