"""What lies behind a place of the surface: a wall, an edge that tapers, other material, or nothing."""

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from bolvek.analyses.shells import material_tree, standing
from bolvek.analyses.thickness.probe import MOST_RAYS, Measures, measure, surfaces_along
from bolvek.analyses.thickness.samples import Samples
from bolvek.arrays import Bools, Floats, Ints, Ints8
from bolvek.mesh import Mesh
from bolvek.mesh.topology import OPEN
from bolvek.settings.measures import WallSettings
from bolvek.spatial.points import PointTree
from bolvek.spatial.tree import Tree

BALL_REACH = 5.0
"""Balls wider than so many times the minimum are not looked for: they decide nothing, and cost the most."""

TAPER_DEG = (2.0, 60.0)
"""Sides that lean to each other by an angle between these may taper to an edge."""

BESIDE_SHARE = 1e-5
"""Just beside a surface: this share of the longest side."""

_EDGE_REACH = 1.25  # minima: wider balls tell no edge
_NEAR_RUN = 2.5  # minima from a place to where its sides would meet, up to which they are taken for planes
_PAST = (1.1, 1.5)  # how far beyond that line to look, in distances to it: sides that bow in meet later than planes
_WIDER = 1.05  # by so much a waist widens again
_DEPTHS = (0.02, 0.15, 0.5)  # shares of the thickness below a side at which material beyond is looked for

PLAIN, UNDEFINED, HIDDEN, BROKEN = range(4)


@dataclass(frozen=True)
class Scene:
    """A mesh as walls are measured in it: sign (F,) 1 where a face looks out of material, skin (F,) faces of open
    skins, material: the tree whose winding number tells it; whole: counting surfaces proves something; several: there
    may be several bodies."""

    mesh: Mesh
    sign: Floats
    skin: Bools
    material: Tree
    whole: bool
    several: bool

    @classmethod
    def of(cls, mesh: Mesh) -> "Scene":
        """The scene of a mesh without copies of faces."""
        found, topology = standing(mesh), mesh.topology
        whole = not (topology.open_edges or topology.nonmanifold_edges or topology.badly_oriented_edges)
        # parts that touch may share edges, and are one shell then
        several = topology.shells > 1 or topology.nonmanifold_edges > 0
        skin = found.openings.skin[topology.shell]
        return cls(mesh, found.sign, skin, material_tree(mesh), whole, several)

    @classmethod
    def sound(cls, mesh: Mesh) -> "Scene":
        """The scene of a sound mesh, where nothing needs to be found out."""
        faces = len(mesh.faces)
        return cls(mesh, np.ones(faces), np.zeros(faces, bool), mesh.tree, True, mesh.topology.shells > 1)

    def outward(self, face: NDArray[np.integer]) -> Floats:
        """Normals (N, 3) out of the material."""
        return np.asarray(self.mesh.normals_of(face) * self.sign[face][:, None])

    def in_material(self, points: Floats) -> Bools:
        """Whether points (N, 3) lie in material."""
        return np.asarray(self.material.winding(points) > 0.5)

    @property
    def beside_mm(self) -> float:
        """Just beside a surface."""
        return BESIDE_SHARE * float(self.mesh.size.max())


@dataclass(frozen=True)
class Seen:
    """At Q samples: ray, ball and wall in mm (nan: none), what each is, whether its sides face each other squarely;
    taper_deg: the angle of the edge it belongs to (nan: none), where the wall is none; touching: the ball's width
    whatever its sides are (inf: wide)."""

    ray: Floats
    ball: Floats
    wall: Floats
    state: Ints8
    square: Bools
    taper_deg: Floats
    touching: Floats


def look(scene: Scene, samples: Samples, s: WallSettings) -> Seen:
    """What lies behind samples of the surface."""
    mesh = scene.mesh
    m = measure(mesh, samples.points, samples.face, scene.sign, widest_ball_mm=BALL_REACH * s.min_mm * s.ball)
    ray, ball, state = _judged(scene, samples, m, s)
    if scene.several:
        _without_buried(scene, samples, m, s, ray, ball, state)
    if mesh.topology.open_edges:
        ball[_rests_on_a_rim(scene, samples, m, ball, s.min_mm)] = np.nan
    wall = np.fmin(ray, ball)
    taper = _tapers(scene, samples, m, ray, ball, state, s.min_mm)
    edge = ~np.isnan(taper)
    for values in (ray, ball, wall):
        values[edge] = np.nan
    wall[state == BROKEN] = 0.0
    return Seen(ray, ball, wall, state, m.square | (state == BROKEN), taper, m.ball_mm)


def _rests_on_a_rim(scene: Scene, samples: Samples, m: Measures, ball: Floats, min_mm: float) -> Ints:
    """Samples whose ball is narrow and rests on the rim of an opening: nothing is across from there."""
    mesh = scene.mesh
    rows = np.flatnonzero((ball < min_mm) & (m.rest >= 0))
    rows = rows[(mesh.topology.opposite.reshape(-1, 3)[m.rest[rows]] == OPEN).any(axis=1)]
    middle = samples.points[rows] - 0.5 * ball[rows, None] * scene.outward(samples.face[rows])
    contact = mesh.tree.closest_points(middle, m.rest[rows])
    beside = np.full(len(rows), np.inf)
    for k in range(3):
        half = 3 * m.rest[rows].astype(np.int64) + k
        a, b = (mesh.vertices[end] for end in mesh.edge_ends(half))
        t = np.einsum("ij,ij->i", contact - a, b - a) / np.maximum(np.einsum("ij,ij->i", b - a, b - a), 1e-300)
        gap = np.linalg.norm(contact - a - np.clip(t, 0, 1)[:, None] * (b - a), axis=1)
        beside = np.where(mesh.topology.opposite[half] == OPEN, np.minimum(beside, gap), beside)
    return np.asarray(rows[beside <= scene.beside_mm])


def _judged(scene: Scene, samples: Samples, m: Measures, s: WallSettings) -> tuple[Floats, Floats, Ints8]:
    """Ray and ball (nan: no wall) and what each sample is, after a second look where the plain answer may lie.

    The second look counts every surface along the ray: the material is left where as many surfaces were
    left as entered. Where none is left at all, there was no material to begin with: two shells have gone
    through each other. Where more than one is, the sample lies inside other material.
    """
    ray, ball = m.ray.copy(), m.ball.copy()
    state = np.full(len(ray), PLAIN, np.int8)
    lost = ~np.isfinite(m.ray_mm)
    # where edges are open, crowded or disagree, counting surfaces proves nothing
    state[lost] = BROKEN if scene.whole and scene.several else UNDEFINED
    state[scene.skin[samples.face]] = UNDEFINED
    again = (state == PLAIN) & ((m.facing < 0) | (np.fmin(ray, ball) < s.min_mm))
    if not scene.several and scene.whole:  # one closed shell cannot hide in another: only what looks wrong
        again &= m.facing < 0
    rows = np.flatnonzero(again)
    for at in range(0, len(rows), MOST_RAYS):
        some = rows[at : at + MOST_RAYS]
        inward = -scene.outward(samples.face[some])
        distance, step = surfaces_along(scene.mesh, samples.points[some], inward, scene.sign)
        depth = step.sum(axis=1)
        left = np.cumsum(step, axis=1) >= np.maximum(depth, 1)[:, None]
        out = np.argmax(left, axis=1)
        simple = (depth == 1) & (step[:, 0] > 0)
        through = distance[np.arange(len(some)), out]
        merged = (depth == 1) & ~simple
        ray[some[merged]] = through[merged]
        for mask, kind in ((depth > 1, HIDDEN), (depth < 1, BROKEN if scene.whole else UNDEFINED)):
            state[some[mask]] = kind
        ball[some[~simple]] = np.nan
    gone = state != PLAIN
    ray[gone] = ball[gone] = np.nan
    return ray, ball, state


def _without_buried(
    scene: Scene, samples: Samples, m: Measures, s: WallSettings, ray: Floats, ball: Floats, state: Ints8
) -> None:
    """Among several shells: a thin sample with material before it is hidden, and a ball that rests on a face with
    material behind it rests on nothing."""
    beside = scene.beside_mm
    rows = np.flatnonzero((state == PLAIN) & (np.fmin(ray, ball) < s.min_mm))
    face = samples.face[rows]
    hidden = rows[scene.in_material(samples.points[rows] + beside * scene.outward(face))]
    state[hidden] = HIDDEN
    ray[hidden] = ball[hidden] = np.nan
    rows = np.flatnonzero((ball < s.min_mm) & (m.rest >= 0))
    middle = samples.points[rows] - 0.5 * ball[rows, None] * scene.outward(samples.face[rows])
    contact = scene.mesh.tree.closest_points(middle, m.rest[rows])
    onward = contact - middle  # on an edge no face's normal tells what lies behind
    onward /= np.maximum(np.linalg.norm(onward, axis=1), 1e-300)[:, None]
    ball[rows[scene.in_material(contact + beside * onward)]] = np.nan


def ends_at_an_edge(mesh: Mesh, points: Floats, face: Ints, min_mm: float) -> Bools:
    """Places (Q, 3) on faces (Q,) of a sound mesh, thinner than a minimum, where the material runs out to an edge."""
    if not len(points):
        return np.zeros(0, bool)
    m = measure(mesh, points, face, np.ones(len(mesh.faces)), widest_ball_mm=_EDGE_REACH * min_mm)
    samples, plain = Samples(points, np.ones(len(points)), face, 0.0), np.full(len(points), PLAIN, np.int8)
    return ~np.isnan(_tapers(Scene.sound(mesh), samples, m, m.ray, m.ball, plain, min_mm))


def _tapers(
    scene: Scene, samples: Samples, m: Measures, ray: Floats, ball: Floats, state: Ints8, min_mm: float
) -> Floats:
    """The angle (Q,) between the two sides where they are nearer than the minimum and run together to an edge.

    The planes of the two sides meet in a line. Where the material goes on beyond it, the sides part again: that is a
    thin spot. Where there is none, it tapers to an edge there. Farther from that line than a few minima surfaces are
    no planes any more: there, it tapers if it does so where the line is expected. nan where neither.
    """
    taper = np.full(len(ray), np.nan)
    least, most = np.cos(np.radians(TAPER_DEG[::-1]))
    leaning = (m.facing >= least) & (m.ray_mm < min_mm) & (m.hit >= 0)
    by_ball = (ball < min_mm) & ~(ray <= ball) & (m.rest >= 0)
    rows = np.flatnonzero((state == PLAIN) & (leaning | by_ball | (np.fmin(ray, ball) < min_mm)))
    if not len(rows):
        return taper
    p, n_p = samples.points[rows], scene.outward(samples.face[rows])
    q = p - np.where(np.isfinite(m.ray_mm[rows]), m.ray_mm[rows], 0.0)[:, None] * n_p
    n_q = scene.outward(np.maximum(m.hit[rows], 0))
    some = np.flatnonzero(by_ball[rows])
    if len(some):
        middle = p[some] - 0.5 * ball[rows[some], None] * n_p[some]
        q[some] = scene.mesh.tree.closest_points(middle, m.rest[rows[some]])
        n_q[some] = scene.outward(m.rest[rows[some]])
    opposed = -np.einsum("ij,ij->i", n_p, n_q)
    fine = (opposed >= least) & (opposed <= most)
    rows, p, q, n_p, n_q, opposed = (x[fine] for x in (rows, p, q, n_p, n_q, opposed))
    thick = np.linalg.norm(p - q, axis=1)
    onward = n_p + n_q
    beyond = np.zeros((len(_PAST), len(rows)), bool)
    lines = []
    for at, n_at, other, n_other in ((p, n_p, q, n_q), (q, n_q, p, n_p)):
        along = onward - np.einsum("ij,ij->i", onward, n_at)[:, None] * n_at
        along /= np.maximum(np.linalg.norm(along, axis=1), 1e-300)[:, None]
        # where the other side's plane cuts this one
        run = np.einsum("ij,ij->i", other - at, n_other) / np.einsum("ij,ij->i", along, n_other)
        lines.append((run, at + run[:, None] * along))
        for k, times in enumerate(_PAST):
            past = at + (times * run + 0.1 * thick)[:, None] * along
            for depth in _DEPTHS:
                beyond[k] |= scene.in_material(past - depth * thick[:, None] * n_at)
    run, line = lines[0]
    near = run <= _NEAR_RUN * min_mm
    edge = near & ~beyond.all(axis=0)
    far = np.flatnonzero(~near)
    if edge.any() and len(far):
        gap, _ = PointTree(p[edge]).nearest(line[far])
        edge[far] = gap <= np.maximum(0.5 * run[far], _NEAR_RUN * min_mm)
    some = np.flatnonzero(edge)
    edge[some] = ~_widens(scene, 0.5 * (p[some] + q[some]), line[some])
    taper[rows[edge]] = np.degrees(np.arccos(np.clip(opposed[edge], -1, 1)))
    return taper


_ON_THE_WAY = np.array([0.0, 0.2, 0.4, 0.6, 0.8, 1.0, 1.25, 1.5])


def _widens(scene: Scene, middle: Floats, line: Floats) -> Bools:
    """Whether the material gets wider again on the way (N,) from midway between two sides to where they would meet and
    on: a waist."""
    if not scene.whole or (scene.sign < 0).any() or not len(middle):
        return np.zeros(len(middle), bool)
    way = middle[:, None, :] + _ON_THE_WAY[:, None] * (line - middle)[:, None, :]
    inside = -scene.mesh.signed_distance.at(way.reshape(-1, 3)).reshape(len(middle), -1)
    return np.asarray(inside[:, 1:].max(axis=1) > _WIDER * inside[:, 0])
