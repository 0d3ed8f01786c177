"""What a hole would leave of the wall beside it, measured before it is cut; and what it has left."""

import numpy as np

from bolvek.analyses.thickness import (
    SAMPLES_A_WALL,
    SQUARE_DEG,
    Measures,
    crease_samples,
    ends_at_an_edge,
    find_waists,
    least_wall,
    measure,
    sample_surface,
    shortest_ways,
)
from bolvek.arrays import Bools, Floats, Ints
from bolvek.mesh import Mesh
from bolvek.mesh.surroundings import Farther, in_box, surroundings
from bolvek.operations.drain.bore import Bore
from bolvek.spatial.frames import across

_ROUND = 48  # places around the hole
_REACH = 1.25  # walls: what lies farther decides nothing
_LOOK_AGAIN = 1.03  # walls: what is as thin at a sample may be thinner beside it
_AROUND = 4.0  # walls: what the surroundings hold beyond the faces looked from
_TOUCHES = 0.6  # of a waist's width from the hole to its middle


def wall_left(mesh: Mesh, bore: Bore, radius: float, wall: float) -> float:
    """The least material (mm) left square beside a hole, from its sides and from the faces around; inf above `wall`.

    What the proof will measure after the cut: rays and balls from the sides of the hole into the material, and rays
    from the faces around that would come out in the hole.
    """
    axis = bore.end - bore.start
    length = float(np.linalg.norm(axis))
    axis = axis / length
    u, w = across(axis)
    angle = 2 * np.pi * (np.arange(_ROUND) + 0.5) / _ROUND
    ring = np.cos(angle)[:, None] * u + np.sin(angle)[:, None] * w
    along = np.linspace(0.0, length, max(8, int(SAMPLES_A_WALL * length / wall)))
    points = (bore.start + along[:, None, None] * axis + radius * ring).reshape(-1, 3)
    outward = np.tile(ring, (len(along), 1))
    inside = np.flatnonzero(mesh.signed_distance.at(points) < -0.01 * wall)
    if not len(inside):
        return np.inf
    ones, no_face = np.ones(len(mesh.faces)), np.zeros(len(inside), np.int64)
    reach = _REACH * wall
    m = measure(mesh, points[inside], no_face, ones, widest_ball_mm=reach, normals=-outward[inside], far_mm=reach)
    least = float(m.wall[m.square & (m.wall < wall)].min(initial=np.inf))
    if least < wall:  # too little already
        return least
    return _from_faces(mesh, bore.start, axis, length, radius, wall)


def _from_faces(mesh: Mesh, start: Floats, axis: Floats, length: float, radius: float, wall: float) -> float:
    """The least distance at which rays into the material, from faces outside the hole, meet its side squarely."""
    ends = np.stack([start, start + length * axis])
    room = radius + wall
    near_by = mesh.tree.faces_in_box(ends.min(axis=0) - room, ends.max(axis=0) + room)
    if not len(near_by):
        return np.inf
    around = mesh.picked(np.sort(near_by))
    spacing = wall / SAMPLES_A_WALL
    samples = sample_surface(around, spacing)
    feet, _, out = crease_samples(around, spacing)  # of pits and grooves, which no face looks along
    points = np.concatenate([samples.points, feet])
    direction = -np.concatenate([around.normals_of(samples.face), out])
    off = points - start
    off -= (off @ axis)[:, None] * axis
    lean = direction - (direction @ axis)[:, None] * axis
    # |off + t lean| = radius
    a = np.einsum("ij,ij->i", lean, lean)
    b = np.einsum("ij,ij->i", off, lean)
    c = np.einsum("ij,ij->i", off, off) - radius * radius
    root = b * b - a * c
    near = np.flatnonzero((c > 0) & (b < 0) & (root > 0) & (a > 0))
    t = (-b[near] - np.sqrt(root[near])) / a[near]
    squarely = -(b[near] + t * a[near]) / radius > np.cos(np.radians(SQUARE_DEG))
    place = (points[near] - start) @ axis + t * (direction[near] @ axis)
    good = squarely & (t < wall) & (place > 0) & (place < length)
    near, t = near[good], t[good]
    if not len(near):
        return np.inf
    hits = mesh.tree.rays(points[near], direction[near], near=1e-6 * float(mesh.size.max()), far=wall)
    return float(t[t < hits.distance[:, 0]].min(initial=np.inf))


def wall_after(mesh: Mesh, sides: Bools, bore: Bore, radius: float, wall: float) -> float:
    """The least material (mm), square across, that the sides (F,) of a hole cut into a mesh bound; inf above `wall`.

    Measured as the wall of a proof is, between faces and between creases: where a hole comes out beside a ridge of the
    inner surface it can leave a fin that no look before the cut meets.
    """
    low, high = np.minimum(bore.start, bore.end), np.maximum(bore.start, bore.end)
    room = radius + wall
    part, number = surroundings(mesh, low - room - _AROUND * wall, high + room + _AROUND * wall)
    near = in_box(part, low - room, high + room)
    if not len(near):
        return np.inf
    corners = part.vertices[part.faces[near]]
    if (corners >= low - room - wall).all() and (corners <= high + room + wall).all():
        try:
            return _wall_beside(part, near, sides[number], bore, radius, wall)
        except Farther:
            pass  # it is wide somewhere around
    return _wall_beside(mesh, number[near], sides, bore, radius, wall)


def _wall_beside(mesh: Mesh, near: Ints, sides: Bools, bore: Bore, radius: float, wall: float) -> float:
    """The same, looked for from some faces (N,)."""
    only = np.zeros(len(mesh.faces), bool)
    only[near] = True
    axis = (bore.end - bore.start) / np.linalg.norm(bore.end - bore.start)
    reach = _REACH * wall

    def off(places: Floats) -> Floats:
        """How far places (N, 3) lie from the hole."""
        along = np.clip((places - bore.start) @ axis, 0.0, np.linalg.norm(bore.end - bore.start))
        return np.asarray(np.linalg.norm(places - bore.start - along[:, None] * axis, axis=1) - radius)

    spacing = wall / SAMPLES_A_WALL
    samples = sample_surface(mesh, spacing, only)
    points, face = samples.points, samples.face
    m = measure(mesh, points, face, np.ones(len(mesh.faces)), widest_ball_mm=reach, far_mm=reach)
    thin = m.square & (m.wall < wall)
    thin[thin] = ~ends_at_an_edge(mesh, points[thin], face[thin], wall)

    def bounds(_: Floats, face: Ints, m: Measures) -> Bools:
        """Whether the wall is one of the hole's."""
        return np.asarray(sides[face] | sides[np.maximum(m.hit, 0)] & (m.hit >= 0))

    # between samples it may be a little less
    mine = np.flatnonzero(m.square & (m.wall < _LOOK_AGAIN * wall) & bounds(points, face, m))
    mine = mine[~ends_at_an_edge(mesh, points[mine], face[mine], wall)]
    least, _ = least_wall(mesh, points[mine], m.wall[mine], spacing, wall, bounds)
    ways = shortest_ways(mesh, wall, wall, spacing, only)
    ours = sides[ways.face] | sides[ways.far_face]
    waists = find_waists(
        mesh,
        points,
        -mesh.normals_of(face),
        face,
        m.ball_mm,
        wall,
        lean=~(m.square & ~np.isnan(m.wall)),
        edge=m.square & (m.wall < wall) & ~thin,
        near=lambda places: off(places) < 0.5 * wall,
    )
    # the ball that passes there touches the hole
    touched = off(0.5 * (waists.start + waists.end)) < _TOUCHES * waists.length
    found = (ways.length[ours], waists.length[touched])
    return min(least if least < wall else np.inf, *(float(x.min(initial=np.inf)) for x in found))
