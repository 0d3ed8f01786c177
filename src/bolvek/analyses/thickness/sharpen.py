"""Thin places found more finely: the first zones again, and what only an edge or a corner of the other side shows."""

from dataclasses import replace

import numpy as np

from bolvek.analyses.thickness.look import Scene, look
from bolvek.analyses.thickness.probe import measure
from bolvek.analyses.thickness.record import WallEdge, WallSettings, WallZone
from bolvek.analyses.thickness.samples import Samples, crease_samples, sample_surface, tip_samples
from bolvek.analyses.thickness.spots import gather_spots
from bolvek.arrays import Floats
from bolvek.spatial.frames import fibonacci_sphere
from bolvek.units import as_triple

_SHARPENED, _PASSES, _FINER = 12, 2, 8  # zones looked at again; how often; how much finer each time
_MOST_AGAIN = 50_000
_WAYS, _FEW = 2000, 4  # rays, and places they start from, that tell how large a thin place at a crease is
_MOST_SOUGHT = 200  # thin places at creases that are looked at finely


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


def sought_at_creases(
    scene: Scene, known: list[WallZone], edges: list[WallEdge], spacing: float, s: WallSettings
) -> list[WallZone]:
    """Thin zones that no sample within a face shows: across from the tips of pits and the feet of grooves.

    Their area is that of the surface within a minimum of such a place, on the other side of the material. Places in
    known zones and at edges are not told again.
    """
    mesh = scene.mesh
    if not scene.whole or (scene.sign < 0).any():
        return []
    # samples half a minimum apart meet the foot of a groove, but not the tip of a pit
    if spacing > 0.5 * s.min_mm:
        points, face, normal = crease_samples(mesh, max(spacing, s.min_mm))
    else:
        points, face, normal = tip_samples(mesh)
    m = measure(
        mesh, points, face, scene.sign, widest_ball_mm=s.min_mm * s.ball, normals=normal, far_mm=s.min_mm
    )  # fmt: skip
    fresh = (m.wall < s.min_mm) & m.square
    for centre, size in [(z.centre_mm, z.size_mm) for z in known] + [(e.centre_mm, e.size_mm) for e in edges]:
        off = np.abs(points - np.array(centre)) - 0.5 * np.array(size)
        fresh &= (off > 1.5 * max(spacing, s.min_mm)).any(axis=1)
    rows = np.flatnonzero(fresh)
    shell = mesh.topology.shell[face] + 1
    found = []
    for spot in gather_spots(points[rows], m.wall[rows], np.ones(len(rows)), s.min_mm)[:_MOST_SOUGHT]:
        own = rows[spot.rows]
        area = _area_across(scene, points[own], -normal[own], m.wall[own], s)
        if area < s.least_zone:
            continue
        kind = "hole" if spot.least < s.hole_mm else "thin"
        shells = tuple(np.unique(shell[own]).tolist())
        # of a corner, the box is that of a disc of that area
        box = as_triple(np.maximum(spot.size_mm, 2 * np.sqrt(area / np.pi)))
        found.append(
            WallZone(
                kind=kind,
                min_mm=spot.least,
                mean_mm=spot.mean,
                area_mm2=area,
                where_mm=spot.where_mm,
                centre_mm=spot.centre_mm,
                size_mm=box,
                decided="ray",
                shells=shells,
            )
        )
    return found


def _area_across(scene: Scene, points: Floats, inward: Floats, wall: Floats, s: WallSettings) -> float:
    """Area (mm2) of the surface within a minimum of thin places (N, 3), across the material.

    Rays in all directions of the material's side tell it at the thinnest ones; along a row of places, as a strip.
    """
    sphere = fibonacci_sphere(_WAYS)
    best = 0.0
    for k in np.argsort(wall, kind="stable")[:_FEW]:
        ways = sphere[sphere @ inward[k] > 0.1]
        start = np.broadcast_to(points[k] + scene.beside_mm * inward[k], ways.shape)
        hits = scene.mesh.tree.rays(start, ways, far=s.min_mm)
        met = np.flatnonzero(hits.face[:, 0] >= 0)
        square = np.einsum("ij,ij->i", ways[met], scene.outward(hits.face[met, 0]))
        seen = square > 0.1
        each = hits.distance[met[seen], 0] ** 2 / square[seen]
        best = max(best, float(each.sum()) * 4 * np.pi / _WAYS)
    along = float(np.linalg.norm(np.ptp(points, axis=0)))
    return max(best, 2 * float(np.sqrt(best / np.pi)) * along)
