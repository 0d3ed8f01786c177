"""The wall: how thick the material is, measured through it and from both sides.

Judged are the faces that bound rooms, and all faces of every part that has no room (cups, pipes, plates, brackets with
bores for screws, a pin in its knuckle), whatever other parts have. Nothing is left out near openings: the sides of a
bore are faces like all others. What decides are the shortest ways through the material (`thickness.shortest`), from
corners, creases and edges to whatever they come to first, of which one end at least is judged; and between faces that
look square at each other samples: cells of the judged faces by ray and ball, cells of all others by rays no longer
than the wall, which count when they come out on a judged face.

Where two faces lean to each other and the material ends where they meet, it runs out to an edge; that is told as its
area. What else is narrow is a waist (`thickness.waists`).
"""

from dataclasses import dataclass

import numpy as np

from bolvek.analyses.cavities import Cavities
from bolvek.analyses.proof.origin import OUTER, Origin
from bolvek.analyses.proof.record import Wall
from bolvek.analyses.thickness import (
    SAMPLES_A_WALL,
    Ways,
    ends_at_an_edge,
    find_waists,
    joined_ways,
    measure,
    sample_surface,
    shortest_ways,
)
from bolvek.analyses.thickness.spots import gather_spots
from bolvek.arrays import Bools, Floats, Ints, Ints32
from bolvek.mesh import Mesh
from bolvek.settings.measures import wall_tolerance_mm
from bolvek.units import as_triple

MOST_SAMPLES = 1_500_000
"""Beyond one a face: for a surface that would take more, samples stand farther apart, which is told."""
_WIDEST = 1.25  # walls: wider balls decide nothing
_SHARPENED, _PASSES, _FINER = 12, 2, 6
_BATCH = 500_000


@dataclass
class _Measured:
    """Walls at places (Q, 3) of faces (Q,), nan where there is none, the area (Q,) each stands for; the touching
    balls."""

    points: Floats
    face: Ints
    area: Floats
    wall: Floats
    square: Bools
    ball: Floats

    def __add__(self, other: "_Measured") -> "_Measured":
        pairs = zip(vars(self).values(), vars(other).values(), strict=True)
        return _Measured(*(np.concatenate(p) for p in pairs))


class _Judged:
    """Which places of the surface the wall asked for is meant for."""

    def __init__(self, mesh: Mesh, cavities: Cavities, origin: Origin | None) -> None:
        self.mesh, self.cavities, self.origin = mesh, cavities, origin
        self.rooms = bool(cavities.is_room.any())
        if origin is not None and (origin.face != OUTER).any():
            self.of = "faces that hollowing and drilling made"
        else:
            self.origin = None
            solid = cavities.roomless
            if solid.all():
                self.of = "all faces: every room is only a bore" if self.rooms else "all faces, there is no room"
            else:
                self.of = "faces that bound rooms" + (", and all faces of parts without a room" if solid.any() else "")

    def at(self, points: Floats, normals: Floats, face: Ints) -> Bools:
        """Mask (Q,) of places that are judged; normals (Q, 3) point out of the material."""
        if self.origin is not None:
            return np.asarray(self.origin.face[face] != OUTER)
        judged = self.cavities.roomless[face]
        if self.rooms and not judged.all():
            rest = np.flatnonzero(~judged)
            seen = self.cavities.look(self.mesh, points[rest], normals[rest], face[rest])
            judged[rest] = self.cavities.is_room[seen]
        return judged

    def faces(self) -> Bools:
        """Mask (F,) of faces that may have judged places; a large one may look into a room with a part of it."""
        if self.origin is not None:
            return np.asarray(self.origin.face != OUTER)
        large = self.mesh.face_areas > 4 * self.cavities.spacing_mm**2
        return np.asarray(self.cavities.roomless | self.cavities.inside | (large & self.rooms))


def measure_wall(
    mesh: Mesh, cavities: Cavities, asked: float | None, origin: Origin | None, least_mm: float | None
) -> Wall | None:
    """Measure the wall of a sound mesh; None where nothing judged has another side to measure to."""
    judged = _Judged(mesh, cavities, origin)
    mask = judged.faces()
    area = float(mesh.face_areas[mask].sum())
    aim = asked or float(np.clip(np.sqrt(area / 150_000) * SAMPLES_A_WALL, 1e-3 * mesh.size.max(), mesh.size.max()))
    spacing = max(aim / SAMPLES_A_WALL, float(np.sqrt(area / MOST_SAMPLES)))
    found = _cells(mesh, judged, mask, spacing, aim)
    if not len(found.area):
        return None
    far = max(aim, least_mm or 0.0)
    others, features = _from_the_other_side(mesh, judged, ~mask, max(spacing, 0.5 * aim), far, aim, least_mm)
    measured = ~np.isnan(found.wall)
    tolerance = wall_tolerance_mm(asked) if asked else None
    limit = asked - (tolerance or 0.0) if asked else 0.0
    walls = np.concatenate([found.wall, others.wall])
    square = np.concatenate([found.square, others.square])
    points = np.concatenate([found.points, others.points])
    candidates = np.flatnonzero(square & ~np.isnan(walls))
    face = np.concatenate([found.face, others.face])
    edge = np.zeros(len(walls), bool)
    thin = candidates[walls[candidates] < limit]
    edge[thin] = ends_at_an_edge(mesh, points[thin], face[thin], aim)
    candidates = candidates[~edge[candidates]]
    least, where = _least(mesh, judged, points[candidates], walls[candidates], spacing, aim)
    # without a sample to compare with, ways are followed across the whole model
    ways = _judged_ways(
        mesh, judged, mask, max(asked or 0.0, min(least, float(np.linalg.norm(mesh.size)))), aim, spacing
    )
    if asked:
        waists = find_waists(
            mesh,
            found.points,
            -mesh.normals_of(found.face),
            found.face,
            found.ball,
            limit,
            lean=~(found.square & ~np.isnan(found.wall)),
            edge=edge[: len(found.wall)],
        )
        ways = joined_ways([ways, waists])
    if len(ways.length):
        k = int(np.lexsort((*ways.start.T[::-1], ways.length))[0])
        if ways.length[k] < least:
            least, where = float(ways.length[k]), 0.5 * (ways.start[k] + ways.end[k])
    if not np.isfinite(least):
        return None
    thin = candidates[walls[candidates] < limit]
    short = np.flatnonzero(ways.length < limit)
    places = np.concatenate([points[thin], ways.start[short]])
    below = np.concatenate([walls[thin], ways.length[short]])
    spots = gather_spots(places, below, np.ones(len(below)), max(1.5 * spacing, aim))
    p1 = median = least
    if measured.any():
        order = np.flatnonzero(measured)[np.argsort(found.wall[measured], kind="stable")]
        plain = found.square[order] & ~edge[order]
        order = order[plain] if plain.any() else order
        share = np.cumsum(found.area[order])
        at = np.minimum(np.searchsorted(share, np.array([0.01, 0.5]) * share[-1]), len(order) - 1)
        p1, median = (float(found.wall[order[k]]) for k in at)
    tapering = ~found.square & (found.wall < limit)
    return Wall(
        min(least, p1),
        p1,
        median,
        as_triple(where),
        len(found.area) + len(others.area),
        spacing,
        judged.of,
        float(found.area.sum() / mesh.area),
        float(found.area[tapering].sum()),
        max(len(spots), int(least < limit)),
        asked,
        tolerance,
        *features,
    )


def _judged_ways(mesh: Mesh, judged: _Judged, mask: Bools, most: float, aim: float, spacing: float) -> Ways:
    """The shortest ways through material that begin or end on a judged place."""
    ways = shortest_ways(mesh, most, aim, spacing, judged=mask)
    along = ways.direction
    return ways.chosen(judged.at(ways.start, -along, ways.face) | judged.at(ways.end, along, ways.far_face))


def _cells(mesh: Mesh, judged: _Judged, mask: Bools, spacing: float, aim: float) -> _Measured:
    """Rays and balls at cells of the faces that may be judged, those that are."""
    samples = sample_surface(mesh, spacing, mask)
    parts = []
    for begin in range(0, len(samples.area), _BATCH):
        rows = slice(begin, begin + _BATCH)
        points, face = samples.points[rows], samples.face[rows]
        keep = judged.at(points, mesh.normals_of(face), face)
        parts.append(_asked(mesh, points[keep], face[keep], samples.area[rows][keep], aim))
    return sum(parts[1:], parts[0]) if parts else _nothing()


def _asked(mesh: Mesh, points: Floats, face: Ints, area: Floats, aim: float) -> _Measured:
    m = measure(mesh, points, face, np.ones(len(mesh.faces)), widest_ball_mm=_WIDEST * aim)
    return _Measured(points, face, area, m.wall, m.square, m.ball_mm)


def _comes_out_judged(
    mesh: Mesh, judged: _Judged, points: Floats, normals: Floats, length: Floats, hit: Ints32
) -> Bools:
    out = np.zeros(len(points), bool)
    rows = np.flatnonzero(hit >= 0)
    if len(rows):
        ends = points[rows] - normals[rows] * length[rows, None]
        out[rows] = judged.at(ends, mesh.normals_of(hit[rows]), hit[rows].astype(np.int64))
    return out


def _from_the_other_side(
    mesh: Mesh,
    judged: _Judged,
    mask: Bools,
    spacing: float,
    far: float,
    aim: float,
    least_mm: float | None,
) -> tuple[_Measured, tuple[int, float | None, tuple[float, float, float] | None]]:
    """Rays from faces that are not judged: those that come out on judged ones, and thin features besides."""
    features: tuple[int, float | None, tuple[float, float, float] | None] = (0, None, None)
    if not mask.any():
        return _nothing(), features
    spacing = max(spacing, float(np.sqrt(mesh.face_areas[mask].sum() / MOST_SAMPLES)))
    samples = sample_surface(mesh, spacing, mask)
    normals = mesh.normals_of(samples.face)
    m = measure(mesh, samples.points, samples.face, np.ones(len(mesh.faces)), widest_ball_mm=0.0, far_mm=far)
    thin = np.flatnonzero(~np.isnan(m.ray))
    ours = _comes_out_judged(mesh, judged, samples.points[thin], normals[thin], m.ray[thin], m.hit[thin])
    if least_mm is not None:
        own = thin[~ours & m.square[thin] & (m.ray[thin] < least_mm)]
        if len(own):
            spots = gather_spots(samples.points[own], m.ray[own], samples.area[own], max(1.5 * spacing, least_mm))
            worst = min(spots, key=lambda s: s.least)
            features = (len(spots), worst.least, worst.where_mm)
    thin = thin[ours & (m.ray[thin] < aim)]
    zero = np.zeros(len(thin))
    return _Measured(samples.points[thin], samples.face[thin], zero, m.ray[thin], m.square[thin], zero), features


def _least(
    mesh: Mesh, judged: _Judged, points: Floats, wall: Floats, spacing: float, aim: float
) -> tuple[float, Floats]:
    """The least wall and where, looked for more finely around the thinnest places."""
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
            fine = max(reach / _FINER, float(np.sqrt(mesh.face_areas[near].sum() / 50_000)))
            some = sample_surface(mesh, fine, only)
            around = (np.abs(some.points - place) <= reach).all(axis=1)
            p, f = some.points[around], some.face[around]
            keep = judged.at(p, mesh.normals_of(f), f)
            found = _asked(mesh, p[keep], f[keep], some.area[around][keep], aim)
            good = np.flatnonzero(found.square & (found.wall < value))
            good = good[~ends_at_an_edge(mesh, found.points[good], found.face[good], aim)]
            if not len(good):
                break
            k = good[np.argmin(found.wall[good])]
            if found.wall[k] < value:
                value, place = float(found.wall[k]), found.points[k]
            reach /= 0.5 * _FINER
        if value < best:
            best, where = value, place
    return best, where


def _nothing() -> _Measured:
    none = np.zeros(0)
    return _Measured(np.zeros((0, 3)), np.zeros(0, np.int64), none, none, np.zeros(0, bool), none)
