"""Facets of the inner shell cut corners: where one comes nearer to the outside than the wall, it is lifted."""

import numpy as np

from bolvek.arrays import Floats, Ints
from bolvek.mesh import Mesh
from bolvek.settings.measures import wall_tolerance_mm

_ROUNDS = 12


def lift_to_wall(mesh: Mesh, inner: Mesh, wall: float) -> tuple[Mesh, float]:
    """Move corners of facets that come nearer than the wall away from the surface; and the least wall, or the wall
    where none falls short of it.

    Measured face against face, exactly, a few rounds. A corner is moved in the mean direction in which its faces that
    fall short would have to go.
    """
    aim = wall - 0.4 * wall_tolerance_mm(wall)
    todo = np.arange(len(inner.faces))
    least = np.full(len(inner.faces), wall)
    for _ in range(_ROUNDS):
        distance, _, places = mesh.tree.nearest_to_triangles(inner.corners[todo], wall)
        least[todo] = distance
        short = np.flatnonzero(distance < aim)
        if not len(short):
            break
        need = wall - distance[short]
        away = places[short, 0] - places[short, 1]
        away *= (need / np.maximum(distance[short], 1e-12))[:, None]
        inner, moved = _pushed(mesh, inner, todo[short], away, need, aim)
        touched = np.zeros(len(inner.vertices), bool)
        touched[moved] = True
        todo = np.flatnonzero(touched[inner.faces].any(axis=1))
    else:
        least[todo] = mesh.tree.nearest_to_triangles(inner.corners[todo], wall)[0]
    return inner, float(least.min())


def least_between(mesh: Mesh, inner: Mesh, most: float) -> float:
    """The least distance (mm) of an inner shell from the outer surface, exact; at most so much."""
    return float(mesh.tree.nearest_to_triangles(inner.corners, most)[0].min())


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
