"""Thin places found more finely: the first zones again, and what only an edge or a corner shows."""

from collections.abc import Callable
from dataclasses import replace

import numpy as np

from bolvek.analyses.thickness.look import PLAIN, Scene, Seen, ends_at_an_edge, look
from bolvek.analyses.thickness.probe import Measures, measure
from bolvek.analyses.thickness.record import WallZone
from bolvek.analyses.thickness.samples import SAMPLES_A_WALL, Samples, sample_surface
from bolvek.analyses.thickness.shortest import Ways, joined_ways, no_ways, shortest_ways
from bolvek.analyses.thickness.waists import find_waists
from bolvek.arrays import Bools, Floats, Ints
from bolvek.mesh import Mesh
from bolvek.settings.measures import WallSettings
from bolvek.spatial.frames import fibonacci_sphere

_SHARPENED, _PASSES, _FINER = 12, 2, 8  # zones looked at again; how often; how much finer each time
_MOST_AGAIN, _FINER_STILL = 50_000, 6
WIDEST = 1.25
"""Balls wider than so many walls decide nothing."""
_WAYS, _FEW = 2000, 4  # rays, and places they start from, that tell how large a thin place at a crease is


def sharpened(
    scene: Scene, zones: list[WallZone], spacing: float, s: WallSettings
) -> tuple[list[WallZone], list[float]]:
    """The first zones with their thinnest places found more finely, and the least wall, ray and ball met there.

    A minimum often lies at a corner of the mesh, which no sample hits. Only where the sides face each other
    squarely.
    """
    least = [np.inf, np.inf, np.inf]
    found = []
    for k, zone in enumerate(zones):
        if k >= _SHARPENED or zone.kind == "breakthrough":
            found.append(zone)
            continue
        where, reach, best, kind = np.array(zone.where_mm), spacing, zone.min_mm, zone.kind
        for _ in range(_PASSES):
            some = _around(scene, where, reach, reach / _FINER)
            if some is None:
                break
            seen = look(scene, some, s)
            wall = np.where(seen.square, seen.wall, np.nan)
            for i, values in enumerate((seen.wall, seen.ray, seen.ball)):
                least[i] = min(least[i], float(np.nanmin(np.where(seen.square, values, np.nan), initial=np.inf)))
            if np.nanmin(wall, initial=np.inf) < best:
                i = int(np.nanargmin(wall))
                best, where = float(wall[i]), some.points[i]
                kind = "hole" if best < s.hole_mm else kind
            reach /= 0.5 * _FINER
        x, y, z = (float(c) for c in where)
        found.append(replace(zone, kind=kind, min_mm=best, where_mm=(x, y, z)))
    return found, least


def _around(scene: Scene, where: Floats, reach: float, spacing: float) -> Samples | None:
    """Samples of the surface in a cube around a place, None where there is none."""
    mesh = scene.mesh
    near = mesh.tree.faces_in_box(where - reach, where + reach)
    only = np.zeros(len(mesh.faces), bool)
    only[near] = True
    fine = max(spacing, float(np.sqrt(mesh.face_areas[near].sum() / _MOST_AGAIN)))
    some = sample_surface(mesh, fine, only)
    inside = (np.abs(some.points - where) <= reach).all(axis=1)
    if not inside.any():
        return None
    return Samples(some.points[inside], some.area[inside], some.face[inside], fine)


def thin_ways(scene: Scene, samples: Samples, seen: Seen, s: WallSettings) -> Ways:
    """The shortest ways between corners, creases and edges that are thin, and waists; none where it is not clear what
    is inside."""
    mesh = scene.mesh
    if not scene.whole or (scene.sign < 0).any():
        return no_ways()
    ways = shortest_ways(mesh, s.thin_mm, s.min_mm, max(samples.spacing_mm, s.min_mm / SAMPLES_A_WALL))
    if s.ball:
        edge = ~np.isnan(seen.taper_deg)
        lean = ~(seen.square & ~np.isnan(seen.wall))
        plain = seen.state == PLAIN
        waists = find_waists(
            mesh,
            samples.points[plain],
            -scene.outward(samples.face[plain]),
            samples.face[plain],
            seen.touching[plain],
            s.thin_mm,
            lean=lean[plain],
            edge=edge[plain],
        )
        ways = joined_ways([ways, waists])
    clear = np.ones(len(ways.length), bool)
    if scene.several:  # an end with material before it is no surface
        for place, out in ((ways.start, -ways.direction), (ways.end, ways.direction)):
            clear &= ~scene.in_material(place + scene.beside_mm * out)
    return ways.chosen(clear)


def area_of_ways(scene: Scene, ways: Ways, s: WallSettings) -> float:
    """Area (mm2) of the surface within a minimum of where some ways start, across the material.

    Rays in all directions of the material's side tell it at the thinnest ones; along a row of places, as a strip.
    """
    sphere = fibonacci_sphere(_WAYS)
    best = 0.0
    points, inward = ways.start, ways.direction
    for k in np.argsort(ways.length, kind="stable")[:_FEW]:
        around = sphere[sphere @ inward[k] > 0.1]
        start = np.broadcast_to(points[k] + scene.beside_mm * inward[k], around.shape)
        hits = scene.mesh.tree.rays(start, around, far=s.min_mm)
        met = np.flatnonzero(hits.face[:, 0] >= 0)
        square = np.einsum("ij,ij->i", around[met], scene.outward(hits.face[met, 0]))
        seen = square > 0.1
        each = hits.distance[met[seen], 0] ** 2 / square[seen]
        best = max(best, float(each.sum()) * 4 * np.pi / _WAYS)
    along = float(np.linalg.norm(np.ptp(points, axis=0)))
    return max(best, 2 * float(np.sqrt(best / np.pi)) * along)


def least_wall(
    mesh: Mesh,
    points: Floats,
    wall: Floats,
    spacing: float,
    aim: float,
    counts: Callable[[Floats, Ints, Measures], Bools],
) -> tuple[float, Floats]:
    """The least wall at places (Q, 3) of a sound mesh, with walls (Q,) that face each other squarely, and where: looked
    for more finely around the thinnest. counts: which of some places of faces, as measured, do."""
    if not len(wall):
        return np.inf, np.zeros(3)
    order = np.lexsort((*points.T[::-1], wall))
    best, where = float(wall[order[0]]), points[order[0]]
    seen: list[Floats] = []
    for row in order[: 40 * _SHARPENED]:
        place = points[row]
        if len(seen) >= _SHARPENED:
            break
        if any(np.abs(place - s).max() < 2 * spacing for s in seen):
            continue
        seen.append(place)
        value, reach = float(wall[row]), spacing
        for _ in range(_PASSES):
            near = mesh.tree.faces_in_box(place - reach, place + reach)
            near = near[mesh.face_areas[near] > 0]
            only = np.zeros(len(mesh.faces), bool)
            only[near] = True
            fine = max(reach / _FINER_STILL, float(np.sqrt(mesh.face_areas[near].sum() / _MOST_AGAIN)))
            some = sample_surface(mesh, fine, only)
            around = (np.abs(some.points - place) <= reach).all(axis=1)
            p, f = some.points[around], some.face[around]
            m = measure(mesh, p, f, np.ones(len(mesh.faces)), widest_ball_mm=WIDEST * aim)
            good = np.flatnonzero(m.square & (m.wall < value) & counts(p, f, m))
            good = good[~ends_at_an_edge(mesh, p[good], f[good], aim)]
            if not len(good):
                break
            k = good[np.argmin(m.wall[good])]
            if m.wall[k] < value:
                value, place = float(m.wall[k]), p[k]
            reach /= 0.5 * _FINER_STILL
        if value < best:
            best, where = value, place
    return best, where
