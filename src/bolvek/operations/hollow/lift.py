"""Facets of the inner shell cut corners: where one comes nearer to the outside than the wall, it is lifted."""

import numpy as np

from bolvek.analyses.thickness import SAMPLES_A_WALL, Ways, edges_of, sample_surface
from bolvek.arrays import Floats, Ints, Ints32
from bolvek.mesh import Mesh
from bolvek.settings.measures import wall_tolerance_mm
from bolvek.spatial.air import least_between

_ROUNDS = 8


def lift_to_wall(mesh: Mesh, inner: Mesh, wall: float) -> tuple[Mesh, float]:
    """Move corners of facets that come nearer than the wall away from the surface; and the least wall.

    Measured at samples a sixth of the wall apart, a few rounds. A corner is moved in the mean
    direction in which the samples that fall short would have to go.
    """
    aim = wall - 0.4 * wall_tolerance_mm(wall)
    todo = np.arange(len(inner.faces))
    least = np.full(len(inner.faces), np.inf)
    for _ in range(_ROUNDS):
        points, owner, distance, face = places_near(mesh, inner, todo, wall / SAMPLES_A_WALL, aim)
        least[todo] = np.inf
        np.minimum.at(least, owner, distance)
        short = np.flatnonzero(distance < aim)
        if not len(short):
            break
        need = wall - distance[short]
        away = points[short] - mesh.tree.closest_points(points[short], face[short])
        away *= (need / np.maximum(distance[short], 1e-12))[:, None]
        inner, moved = _pushed(mesh, inner, owner[short], away, need, aim)
        touched = np.zeros(len(inner.vertices), bool)
        touched[moved] = True
        todo = np.flatnonzero(touched[inner.faces].any(axis=1))
    else:
        _, owner, distance, _ = places_near(mesh, inner, todo, wall / SAMPLES_A_WALL, aim)
        least[todo] = np.inf
        np.minimum.at(least, owner, distance)
    return inner, float(least.min())


def lift_along(mesh: Mesh, inner: Mesh, short: Ways, wall: float) -> Mesh:
    """The inner shell with the corners of faces moved to which ways from the outside are shorter than the wall."""
    need = wall - short.length
    aim = wall - 0.4 * wall_tolerance_mm(wall)
    return _pushed(mesh, inner, short.far_face, need[:, None] * short.direction, need, aim)[0]


def _pushed(mesh: Mesh, inner: Mesh, faces: Ints, away: Floats, need: Floats, aim: float) -> tuple[Mesh, Ints]:
    """The corners of faces (N,) moved in the mean of directions (N, 3), as far as the most of them need (N,); and which
    were."""
    push = np.zeros((len(inner.vertices), 3))
    most = np.zeros(len(inner.vertices))
    for k in range(3):
        corner = inner.faces[faces, k]
        np.add.at(push, corner, away)
        np.maximum.at(most, corner, need)
    moved = np.flatnonzero(most)
    push = push[moved] / np.maximum(np.linalg.norm(push[moved], axis=1), 1e-300)[:, None]
    vertices = inner.vertices.copy()
    vertices[moved] = _kept_off(mesh, vertices[moved], vertices[moved] + 1.1 * most[moved, None] * push, aim)
    return inner.moved(vertices), moved


def places_near(
    mesh: Mesh, inner: Mesh, faces: Ints, spacing: float, enough: float
) -> tuple[Floats, Ints, Floats, Ints32]:
    """Points (P, 3) all over some faces (N,) of an inner shell: the face (P,) and distance (P,) of each, and the face
    (P,) of the outer mesh nearest to it.

    Within, on corners, and twice as dense on edges: where an edge of the other side crosses one of this between two
    points, the wall is a thousandth less at most. Stretches of edges that are surely `enough` away are left out.
    """
    only = np.zeros(len(inner.faces), bool)
    only[faces] = True
    within = sample_surface(inner, spacing, only)
    half = edges_of(inner, faces)
    start, end = inner.edge_ends(half)
    used, corner = np.unique(np.concatenate([start, end]), return_inverse=True)
    points = [np.concatenate([within.points, inner.vertices[used]])]
    known = mesh.tree.nearest(points[0])
    beside = np.empty(len(used), np.int64)  # a face at each corner
    beside[corner] = np.tile(half // 3, 2)
    owner, distance, face = [np.concatenate([within.face, beside])], [known[0]], [known[1]]
    a, b = inner.vertices[start], inner.vertices[end]
    length = np.linalg.norm(b - a, axis=1)
    pieces = np.maximum(np.ceil(length / (0.5 * spacing)), 2).astype(np.int64)
    at_start, at_end = known[0][len(within.face) :][corner].reshape(2, -1)
    # stretches of edges, from one place to another: halved where the distances at their ends do not decide
    row, low, high = np.arange(len(half)), np.zeros(len(half), np.int64), pieces
    while True:
        gap = length[row] * (high - low) / pieces[row]
        open_ = (high - low > 1) & (least_between(at_start, at_end, gap) < enough)
        row, low, high, at_start, at_end = (x[open_] for x in (row, low, high, at_start, at_end))
        if not len(row):
            break
        middle = (low + high) // 2
        places = a[row] + (middle / pieces[row])[:, None] * (b[row] - a[row])
        found = mesh.tree.nearest(places)
        points.append(places)
        owner.append(half[row] // 3)
        distance.append(found[0])
        face.append(found[1])
        row, low, high = np.tile(row, 2), np.concatenate([low, middle]), np.concatenate([middle, high])
        at_start, at_end = np.concatenate([at_start, found[0]]), np.concatenate([found[0], at_end])
    return np.concatenate(points), np.concatenate(owner), np.concatenate(distance), np.concatenate(face)


def _kept_off(mesh: Mesh, old: Floats, new: Floats, aim: float) -> Floats:
    """The new places, those nearer than `aim` pushed off once, and given up where that fails."""
    for last in (False, True):
        distance, face = mesh.tree.nearest(new)
        short = np.flatnonzero(distance < aim)
        if not len(short):
            break
        if last:
            new[short] = old[short]
        else:
            away = new[short] - mesh.tree.closest_points(new[short], face[short])
            new[short] += away * ((aim - distance[short]) / np.maximum(distance[short], 1e-12) * 1.05)[:, None]
    return new
