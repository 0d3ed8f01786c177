"""Wall thickness of a whole model: distribution, thin places as zones, edges, and the size at which it prints."""

from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from bolvek.analyses.shells import counted_once, for_all_faces
from bolvek.analyses.thickness.look import BALL_REACH, BROKEN, HIDDEN, PLAIN, UNDEFINED, Scene, Seen, look
from bolvek.analyses.thickness.probe import check_solid, measure
from bolvek.analyses.thickness.record import KINDS, Measured, WallEdge, WallField, WallRecord, WallZone, findings_of
from bolvek.analyses.thickness.samples import Samples, sample_surface
from bolvek.analyses.thickness.sharpen import area_of_ways, sharpened, thin_ways
from bolvek.analyses.thickness.shortest import Ways
from bolvek.analyses.thickness.spots import gather_spots
from bolvek.arrays import Bools, Floats, Ints
from bolvek.mesh import Mesh
from bolvek.settings.measures import WallSettings
from bolvek.units import as_triple

_PLAIN = WallSettings()

WANTED_SAMPLES, MOST_SAMPLES = 200_000, 400_000
"""Samples beyond one a face, for the spacing chosen when none is given."""

_MOST_ZONES = 10_000
PERCENTS = (1, 5, 25, 50, 75, 95)


def default_spacing(mesh: Mesh, min_mm: float) -> float:
    """Between a tenth and half of the minimum, by the samples it takes; wider only beyond `MOST_SAMPLES`."""
    wanted, least = (float(np.sqrt(mesh.area / n)) for n in (WANTED_SAMPLES, MOST_SAMPLES))
    return max(least, min(0.5 * min_mm, max(0.1 * min_mm, wanted)))


def measure_walls(mesh: Mesh, settings: WallSettings = _PLAIN) -> tuple[WallRecord, WallField]:
    """Measure every wall; copies of faces count once.

    Raises UsageError, or WorkError for a model without surface or without extent.
    """
    settings.check()
    check_solid(mesh)
    once, keep = counted_once(mesh)
    record, found = _measure_walls(once, settings)
    if keep is None:
        return record, found
    samples = replace(found.samples, face=keep[found.samples.face])
    return record, replace(found, samples=samples, face_mm=for_all_faces(found.face_mm, keep, mesh))


def _measure_walls(mesh: Mesh, s: WallSettings) -> tuple[WallRecord, WallField]:
    mesh.prepare()
    scene = Scene.of(mesh)
    spacing = s.spacing_mm or default_spacing(mesh, s.min_mm)
    samples = sample_surface(mesh, spacing)
    seen = look(scene, samples, s)
    total = float(samples.area.sum())

    def share(mask: Bools) -> float:
        return float(samples.area[mask].sum() / total)

    edges = _edges(mesh, samples, seen, s)
    gap, gap_zones = _gaps(scene, samples, s) if s.gap_mm is not None else (None, [])
    ways = thin_ways(scene, samples, seen, s)
    told = _zones(scene, samples, seen, ways, s)
    zones = [z for z in told if z.area_mm2 >= s.least_zone or z.kind == "breakthrough" or z.decided == "way"]
    if sum(z.area_mm2 for z in told if z not in zones) > 0.5 * total:
        zones = list(told)  # what is most of the model is no speck on it, however small
    # the flank of a spot that nearly breaks through leans like an edge
    edges = [e for e in edges if not any(_beside(e.centre_mm, z, 0.0) and z.area_mm2 > e.area_mm2 for z in zones)]
    specks = [z for z in told if z not in zones]
    zones = sorted(zones, key=_zone_order)
    count = len(zones)
    zones, least = sharpened(scene, zones[:_MOST_ZONES], spacing, s)
    zones.sort(key=_zone_order)
    wall, ray, ball = (
        _lowered(_measured(values, samples.area, s.thin_mm), x)
        for values, x in zip((seen.wall, seen.ray, seen.ball), least, strict=True)
    )
    bins, shares = _histogram(seen.wall, samples.area)
    face = np.full(len(mesh.faces), np.inf)
    np.minimum.at(face, samples.face, np.where(np.isnan(seen.wall), np.inf, seen.wall))
    vertex = np.full(len(mesh.vertices), np.inf)
    for k in range(3):
        np.minimum.at(vertex, mesh.faces[:, k], face)
    thinnest = min(specks, key=_zone_order, default=None)
    # what no sample shows is a wall all the same
    wall = _lowered(wall, float(ways.length.min(initial=np.inf)))
    record = WallRecord(
        min_mm=s.min_mm,
        tolerance_mm=s.min_mm - s.thin_mm,
        samples=len(samples.area),
        spacing_mm=spacing,
        area_mm2=total,
        undefined_share=share(seen.state == UNDEFINED),
        edge_share=share(np.isnan(seen.wall) & (seen.state == PLAIN)),
        hidden_share=share(seen.state == HIDDEN),
        ray=ray,
        ball=ball if s.ball else None,
        wall=wall,
        histogram_edges_mm=bins,
        histogram_share=shares,
        zones=zones,
        zone_count=count,
        least_zone_mm2=s.least_zone,
        specks=len(specks),
        speck_mm=None if thinnest is None else thinnest.min_mm,
        speck_where_mm=None if thinnest is None else thinnest.where_mm,
        edges=edges,
        gap=gap,
        gap_asked_mm=s.gap_mm,
        gap_zones=gap_zones,
        prints_at=_prints_at(zones, wall, s),
        findings=(),
    )
    field_ = WallField(samples, seen.wall, *(np.where(np.isinf(a), np.nan, a) for a in (face, vertex)))
    return replace(record, findings=findings_of(record)), field_


def wall_at(mesh: Mesh, points: Floats, face: NDArray[np.integer], settings: WallSettings) -> Floats:
    """Walls (Q,) at any points (Q, 3) of faces (Q,); nan where there is none, 0 where it has broken through."""
    once, keep = counted_once(mesh)
    row = np.asarray(face, np.int64) if keep is None else for_all_faces(np.arange(len(keep)), keep, mesh)[face]
    samples = Samples(points, np.ones(len(points)), row, 0.0)
    return look(Scene.of(once), samples, settings).wall


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


def _lowered(m: Measured, least: float) -> Measured:
    return m if m.min_mm is None or m.min_mm <= least else replace(m, min_mm=least)


_BINS = 40


def _histogram(wall: Floats, area: Floats) -> tuple[list[float], list[float]]:
    """Edges (mm) and share of the area in each bin, up to the 95th percentile; the last bin holds the rest."""
    good = ~np.isnan(wall)
    if not good.any():
        return [], []
    order = np.sort(wall[good])
    top = float(order[int(0.95 * (len(order) - 1))]) * 1.05
    edges = np.linspace(0.0, max(top, 1e-9), _BINS + 1)
    counts, _ = np.histogram(np.minimum(wall[good], edges[-1]), edges, weights=area[good])
    return edges.tolist(), (counts / area.sum()).tolist()


def _prints_at(zones: list[WallZone], wall: Measured, s: WallSettings) -> dict[str, float]:
    """Factors of size at which all zones, and 99% of the area, reach the minimum."""
    prints = {}
    thinnest = min((z.min_mm for z in zones), default=wall.min_mm and max(wall.min_mm, s.min_mm))
    if thinnest:
        prints["thinnest"] = s.min_mm / thinnest
    if wall.percentiles_mm and wall.percentiles_mm["1"] > 0:
        prints["99_percent"] = s.min_mm / wall.percentiles_mm["1"]
    return prints


def _zones(scene: Scene, samples: Samples, seen: Seen, ways: Ways, s: WallSettings) -> list[WallZone]:
    """Thin samples and ways gathered: what breaks through, what prints as a hole, what is thin."""
    thin = np.flatnonzero(seen.wall < s.thin_mm)
    broken = seen.state[thin] == BROKEN
    kind = np.where(broken, 0, np.where((seen.wall[thin] < s.hole_mm) & seen.square[thin], 1, 2))
    by_ray = (seen.ray[thin] <= seen.wall[thin]) | broken
    if not len(ways.length):
        return _gathered(scene, samples, thin, seen.wall, by_ray, kind, s.min_mm, s)
    # a way is a place at each of its ends, without area
    n, begin = len(ways.length), len(samples.area)
    both = Samples(
        np.concatenate([samples.points, ways.start, ways.end]),
        np.concatenate([samples.area, np.zeros(2 * n)]),
        np.concatenate([samples.face, ways.face, ways.far_face]),
        samples.spacing_mm,
    )
    chosen = np.concatenate([thin, np.arange(begin, begin + 2 * n)])
    value = np.concatenate([seen.wall, ways.length, ways.length])
    by_ray = np.concatenate([by_ray, np.zeros(2 * n, bool)])
    kind = np.concatenate([kind, np.tile(np.where(ways.length < s.hole_mm, 1, 2), 2)])
    return _gathered(scene, both, chosen, value, by_ray, kind, s.min_mm, s, ways)


def _gathered(
    scene: Scene,
    samples: Samples,
    chosen: Ints,
    value: Floats,
    by_ray: Bools,
    kind: Ints,
    reach_mm: float,
    s: WallSettings,
    ways: Ways | None = None,
) -> list[WallZone]:
    """Zones of the chosen samples (N,), the last of which are the ends of ways, of the worst of their kinds (N,) each,
    as they are told."""
    points, area = samples.points[chosen], samples.area[chosen]
    shell = scene.mesh.topology.shell[samples.face[chosen]] + 1
    first_way = len(chosen) - (0 if ways is None else 2 * len(ways.length))
    zones = []
    for spot in gather_spots(points, value[chosen], area, max(1.5 * samples.spacing_mm, reach_mm)):
        rows = spot.rows
        size, extent = spot.area_mm2, spot.size_mm
        along = rows[rows >= first_way]
        if ways is not None and len(along) and len(along) == len(rows):
            # of a corner, the box is that of a disc of that area
            size = area_of_ways(scene, ways.chosen(np.unique((along - first_way) % len(ways.length))), s)
            extent = as_triple(np.maximum(extent, 2 * np.sqrt(size / np.pi)))
            decided = "way"
        elif len(along) and float(value[chosen][along].min()) <= spot.least:
            decided = "way"
        else:
            decided = "ray" if float(area[rows][by_ray[rows]].sum()) >= 0.5 * float(area[rows].sum()) else "ball"
        shells = tuple(np.unique(shell[rows]).tolist())
        zones.append(
            WallZone(
                kind=KINDS[int(kind[rows].min())],
                min_mm=spot.least,
                mean_mm=spot.mean,
                area_mm2=size,
                where_mm=spot.where_mm,
                centre_mm=spot.centre_mm,
                size_mm=extent,
                decided=decided,
                shells=shells,
            )
        )
    return sorted(zones, key=_zone_order)


def _edges(mesh: Mesh, samples: Samples, seen: Seen, s: WallSettings) -> list[WallEdge]:
    """What tapers, gathered, the longest recession first; its length is what its strip's area and width make it."""
    chosen = np.flatnonzero(~np.isnan(seen.taper_deg))
    points, area, angle = samples.points[chosen], samples.area[chosen], seen.taper_deg[chosen]
    shell = mesh.topology.shell[samples.face[chosen]] + 1
    edges = []
    for spot in gather_spots(points, angle, area, max(1.5 * samples.spacing_mm, s.min_mm)):
        rows = spot.rows
        recedes = s.min_mm / (2 * np.tan(np.radians(0.5 * spot.mean)))
        # both sides of the strip have about that width
        length = spot.area_mm2 / (2 * recedes)
        if spot.area_mm2 < s.least_zone or recedes < s.min_mm or length < 2 * s.min_mm:
            continue
        shells = tuple(np.unique(shell[rows]).tolist())
        edges.append(
            WallEdge(
                angle_deg=spot.mean,
                length_mm=float(length),
                recedes_mm=float(recedes),
                area_mm2=spot.area_mm2,
                centre_mm=spot.centre_mm,
                size_mm=spot.size_mm,
                shells=shells,
            )
        )
    return sorted(edges, key=lambda e: (-e.recedes_mm, e.centre_mm))


def _beside(place: tuple[float, float, float], zone: WallZone, reach: float) -> bool:
    """Whether a place lies in a zone's box, or within a reach of it."""
    off = np.abs(np.array(place) - zone.centre_mm) - 0.5 * np.array(zone.size_mm)
    return bool((off <= reach).all())


def _zone_order(z: WallZone) -> tuple[int, float, tuple[float, float, float]]:
    """What is told first."""
    return KINDS.index(z.kind), z.min_mm, z.where_mm


def _gaps(scene: Scene, samples: Samples, s: WallSettings) -> tuple[Measured, list[WallZone]]:
    """Clearances across air, and those below the minimum as zones."""
    assert s.gap_mm is not None
    m = measure(
        scene.mesh,
        samples.points,
        samples.face,
        scene.sign,
        widest_ball_mm=BALL_REACH * s.gap_mm * s.ball,
        across_air=True,
    )
    gap = m.wall
    gap[scene.skin[samples.face]] = np.nan
    narrow = np.flatnonzero(gap < s.gap_mm)
    if scene.several and len(narrow):  # what has material before it has no gap there
        outward = scene.outward(samples.face[narrow])
        buried = narrow[scene.in_material(samples.points[narrow] + scene.beside_mm * outward)]
        gap[buried] = np.nan
        narrow = np.setdiff1d(narrow, buried)
    kind = np.full(len(narrow), KINDS.index("gap"))
    zones = _gathered(scene, samples, narrow, gap, m.ray[narrow] <= gap[narrow], kind, s.gap_mm, s)
    zones = [z for z in zones if z.area_mm2 >= s.least_zone]
    return _measured(gap, samples.area, s.gap_mm), zones[:_MOST_ZONES]
