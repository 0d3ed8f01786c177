"""The wall: how thick the material is, measured through it and from both sides.

Judged are the faces that bound rooms, and all faces of every part that has no room (cups, pipes, plates, brackets with
bores for screws, a pin in its knuckle), whatever other parts have. Nothing is left out near openings: the sides of a
bore are faces like all others. What decides are the shortest ways through the material (`thickness.shortest`), from
corners, creases and edges to whatever they come to first, of which one end at least is judged; and between faces that
look square at each other samples: cells of the judged faces by ray and ball, cells of all others by rays no longer
than the wall, which count when they come out on a judged face. What no judged face bounds is a feature (`features`).

Where two faces lean to each other and the material ends where they meet, it runs out to an edge; that is told as its
area. What else is narrow is a waist (`thickness.waists`).
"""

import numpy as np

from bolvek.analyses.cavities import Cavities
from bolvek.analyses.proof.features import Limits, Places, feature_waists, measure_features
from bolvek.analyses.proof.origin import OUTER, Origin
from bolvek.analyses.proof.record import Features, Wall
from bolvek.analyses.thickness import (
    SAMPLES_A_WALL,
    WIDEST,
    Ways,
    find_waists,
    joined_ways,
    least_wall,
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
_TOUCHING = 1.1  # radii from the middle of a ball: what it touches
_BATCH = 500_000


class Judged:
    """Which places of the surface the wall asked for is meant for."""

    def __init__(self, mesh: Mesh, cavities: Cavities, origin: Origin | None, *, nothing: bool = False) -> None:
        """nothing: no place is, all material is held against the least wall."""
        self.mesh, self.cavities = mesh, cavities
        # by label, the last for outside: a bore or a pocket of the skin is no room
        self.holds = np.array([c.holds for c in cavities.found] + [False])
        self.large = mesh.face_areas > 4 * cavities.spacing_mm**2
        # where it is known which faces were made, those and no others
        self.made = np.zeros(len(mesh.faces), bool) if nothing else None
        solid = cavities.roomless
        if origin is not None and (origin.face != OUTER).any():
            self.made = np.asarray(origin.face != OUTER)
            self.of = "faces that hollowing and drilling made"
        elif solid.all():
            self.of = "all faces, there is no room"
        else:
            self.of = "faces that bound rooms" + (", and all faces of parts without a room" if solid.any() else "")

    def at(self, points: Floats, normals: Floats, face: Ints) -> Bools:
        """Mask (Q,) of places that are judged; normals (Q, 3) point out of the material."""
        if self.made is not None:
            return np.asarray(self.made[face])
        judged = self.cavities.roomless[face]
        if self.holds.any() and not judged.all():
            rest = np.flatnonzero(~judged)
            seen = self.cavities.look(self.mesh, points[rest], normals[rest], face[rest])
            judged[rest] = self.holds[seen]
        return judged

    def faces(self) -> Bools:
        """Mask (F,) of faces that may have judged places; a large one may look into a room with a part of it."""
        if self.made is not None:
            return self.made
        rooms = self.holds[self.cavities.face] | (self.large & self.holds.any())
        return np.asarray(self.cavities.roomless | rooms)

    def other_faces(self) -> Bools:
        """Mask (F,) of faces that may have places that are not judged."""
        if self.made is not None:
            return np.asarray(~self.made)
        return np.asarray(~self.cavities.roomless & (~self.holds[self.cavities.face] | self.large))


def measure_wall(
    mesh: Mesh,
    cavities: Cavities,
    asked: float | None,
    origin: Origin | None,
    least_mm: float | None,
    *,
    closely: bool = True,
) -> tuple[Wall | None, Features | None]:
    """Measure the wall of a sound mesh, and hold the features against a least wall (None: not judged);
    without a wall asked for all material is.

    The wall is None where nothing judged has another side to measure to, the features where all material is judged.
    closely: features are looked at by balls and waists too, and between all edges, not only by rays and what is found
    on the way.
    """
    if asked is None and least_mm is not None:
        wall, _ = _measured(mesh, Judged(mesh, cavities, origin), None, None, closely=closely)
        everything = Judged(mesh, cavities, None, nothing=True)
        return wall, _measured(mesh, everything, least_mm, least_mm, closely=closely)[1]
    return _measured(mesh, Judged(mesh, cavities, origin), asked, least_mm, closely=closely)


def _measured(
    mesh: Mesh, judged: Judged, asked: float | None, least_mm: float | None, *, closely: bool
) -> tuple[Wall | None, Features | None]:
    mask, elsewhere = judged.faces(), judged.other_faces()
    area = float(mesh.face_areas[mask].sum())
    aim = asked or float(np.clip(np.sqrt(area / 150_000) * SAMPLES_A_WALL, 1e-3 * mesh.size.max(), mesh.size.max()))
    spacing = max(aim / SAMPLES_A_WALL, float(np.sqrt(area / MOST_SAMPLES)))
    found = _cells(mesh, judged, mask, spacing, aim)
    apart = max(spacing, 0.5 * min(aim, least_mm or aim))
    ball = WIDEST * aim if least_mm and closely else 0.0
    others, features = _from_the_other_side(mesh, judged, elsewhere, apart, max(aim, least_mm or 0.0), aim, ball)
    tolerance = wall_tolerance_mm(asked) if asked else None
    limit = asked - (tolerance or 0.0) if asked else 0.0
    both = found + others
    edge = both.taper(mesh, limit, aim)
    candidates = np.flatnonzero(both.facing & ~edge)
    least, where = least_wall(
        mesh,
        both.points[candidates],
        both.wall[candidates],
        spacing,
        aim,
        lambda points, face, _: judged.at(points, mesh.normals_of(face), face),
    )
    # without a sample to compare with, ways are followed across the whole model
    most = max(asked or 0.0, least_mm or 0.0, min(least, float(np.linalg.norm(mesh.size))))
    ways = shortest_ways(mesh, most, aim, spacing, judged=mask if least_mm is None or not closely else None)
    own = judged.at(ways.start, -ways.direction, ways.face) | judged.at(ways.end, ways.direction, ways.far_face)
    ours, rest = ways.chosen(own), ways.chosen(~own)
    if asked:
        waists = find_waists(
            mesh,
            found.points,
            -mesh.normals_of(found.face),
            found.face,
            found.ball,
            limit,
            lean=~found.facing,
            edge=edge[: len(found.wall)],
        )
        ours = joined_ways([ours, waists.chosen(_touch_judged(mesh, judged, waists))])
    told = None
    if least_mm is not None and elsewhere.any():
        limits = Limits(least_mm, asked or least_mm)
        tapers = limits.taper(mesh, features)
        if closely:
            waists = feature_waists(mesh, features, tapers, limits)
            touch = _touch_judged(mesh, judged, waists)
            ours, rest = joined_ways([ours, waists.chosen(touch)]), joined_ways([rest, waists.chosen(~touch)])
        told = measure_features(features, tapers, rest, limits, apart)
    if len(ours.length):
        k = int(np.lexsort((*ours.start.T[::-1], ours.length))[0])
        if ours.length[k] < least:
            least, where = float(ours.length[k]), 0.5 * (ours.start[k] + ours.end[k])
    if not len(found.area) or not np.isfinite(least):
        return None, told
    thin = candidates[both.wall[candidates] < limit]
    short = np.flatnonzero(ours.length < limit)
    places = np.concatenate([both.points[thin], ours.start[short]])
    below = np.concatenate([both.wall[thin], ours.length[short]])
    spots = gather_spots(places, below, np.ones(len(below)), max(1.5 * spacing, aim))
    measured = np.flatnonzero(~np.isnan(found.wall))
    p1 = median = least
    if len(measured):
        order = measured[np.argsort(found.wall[measured], kind="stable")]
        plain = found.square[order] & ~edge[order]
        order = order[plain] if plain.any() else order
        share = np.cumsum(found.area[order])
        at = np.minimum(np.searchsorted(share, np.array([0.01, 0.5]) * share[-1]), len(order) - 1)
        p1, median = (float(found.wall[order[k]]) for k in at)
    tapering = ~found.square & (found.wall < limit)
    wall = Wall(
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
    )
    return wall, told


def _touch_judged(mesh: Mesh, judged: Judged, waists: Ways) -> Bools:
    """Waists (N,) whose ball touches a judged place: from a judged place one may be found far away."""
    touch = np.zeros(len(waists.length), bool)
    middle = 0.5 * (waists.start + waists.end)
    for k in range(len(touch)):
        reach = _TOUCHING * 0.5 * float(waists.length[k])
        near = mesh.tree.faces_in_box(middle[k] - reach, middle[k] + reach)
        at = mesh.tree.closest_points(np.broadcast_to(middle[k], (len(near), 3)), near.astype(np.int32))
        close = np.linalg.norm(at - middle[k], axis=1) <= reach
        near = near[close]
        touch[k] = judged.at(at[close], mesh.normals_of(near), near).any()
    return touch


def _cells(mesh: Mesh, judged: Judged, mask: Bools, spacing: float, aim: float) -> Places:
    """Rays and balls at cells of the faces that may be judged, those that are."""
    samples = sample_surface(mesh, spacing, mask)
    found = Places.none()
    for begin in range(0, len(samples.area), _BATCH):
        rows = slice(begin, begin + _BATCH)
        points, face = samples.points[rows], samples.face[rows]
        keep = judged.at(points, mesh.normals_of(face), face)
        found += _asked(mesh, points[keep], face[keep], samples.area[rows][keep], aim)
    return found


def _asked(mesh: Mesh, points: Floats, face: Ints, area: Floats, aim: float) -> Places:
    m = measure(mesh, points, face, np.ones(len(mesh.faces)), widest_ball_mm=WIDEST * aim)
    return Places(points, face, area, m.wall, m.square, m.ball_mm)


def _from_the_other_side(
    mesh: Mesh, judged: Judged, mask: Bools, spacing: float, far: float, aim: float, ball_mm: float
) -> tuple[Places, Places]:
    """Places of faces that may have others than judged ones: those from which a ray comes out on a judged face within
    the wall aimed at, with the length of that; and those of features, with balls up to a width."""
    if not mask.any():
        return Places.none(), Places.none()
    spacing = max(spacing, float(np.sqrt(mesh.face_areas[mask].sum() / MOST_SAMPLES)))
    samples = sample_surface(mesh, spacing, mask)
    points, face = samples.points, samples.face
    other = ~judged.at(points, mesh.normals_of(face), face)
    points, face, area = points[other], face[other], samples.area[other]
    m = measure(mesh, points, face, np.ones(len(mesh.faces)), widest_ball_mm=ball_mm, far_mm=far)
    ours = _ends_judged(mesh, judged, points, face, m.ray_mm, m.hit)
    rests = np.where(m.ball < np.fmin(m.ray, np.inf), m.rest, -1)
    by_ball = _ends_judged(mesh, judged, points, face, 0.5 * m.ball, rests)
    places = Places(points, face, area, m.wall, m.square, m.ball_mm)
    # told of the judged place that it comes out on
    thin = np.flatnonzero(ours & (m.ray < aim))
    ends = points[thin] - mesh.normals_of(face[thin]) * m.ray_mm[thin, None]
    zero = np.zeros(len(thin))
    seen = Places(ends, m.hit[thin].astype(np.int64), zero, m.ray[thin], m.square[thin], zero)
    return seen, places.chosen(~ours & ~by_ball)


def _ends_judged(mesh: Mesh, judged: Judged, points: Floats, face: Ints, depth: Floats, met: Ints32) -> Bools:
    """Whether what is met from places (Q, 3), the point of a face (Q,) (-1: none) nearest to so deep below them, is
    a judged place."""
    out = np.zeros(len(points), bool)
    rows = np.flatnonzero(met >= 0)
    below = points[rows] - mesh.normals_of(face[rows]) * depth[rows, None]
    ends = mesh.tree.closest_points(below, met[rows])
    out[rows] = judged.at(ends, mesh.normals_of(met[rows]), met[rows].astype(np.int64))
    return out
