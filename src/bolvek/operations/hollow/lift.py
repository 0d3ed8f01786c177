"""Facets of the inner shell cut corners: where one comes nearer to the outside than the wall, it is lifted."""

import numpy as np

from bolvek.analyses.thickness import SAMPLES_A_WALL, edge_points, sample_surface
from bolvek.arrays import Floats, Ints
from bolvek.mesh import Mesh
from bolvek.settings.measures import wall_tolerance_mm

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
        points, owner = points_of(inner, todo, wall / SAMPLES_A_WALL)
        distance, face = mesh.tree.nearest(points)
        least[todo] = np.inf
        np.minimum.at(least, owner, distance)
        short = np.flatnonzero(distance < aim)
        if not len(short):
            break
        need = wall - distance[short]
        away = points[short] - mesh.tree.closest_points(points[short], face[short])
        away *= (need / np.maximum(distance[short], 1e-12))[:, None]
        push = np.zeros((len(inner.vertices), 3))
        most = np.zeros(len(inner.vertices))
        for k in range(3):
            corner = inner.faces[owner[short], k]
            np.add.at(push, corner, away)
            np.maximum.at(most, corner, need)
        moved = np.flatnonzero(most)
        push = push[moved] / np.maximum(np.linalg.norm(push[moved], axis=1), 1e-300)[:, None]
        vertices = inner.vertices.copy()
        vertices[moved] = _kept_off(mesh, vertices[moved], vertices[moved] + 1.1 * most[moved, None] * push, aim)
        inner = inner.moved(vertices)
        touched = np.zeros(len(vertices), bool)
        touched[moved] = True
        todo = np.flatnonzero(touched[inner.faces].any(axis=1))
    else:
        points, owner = points_of(inner, todo, wall / SAMPLES_A_WALL)
        least[todo] = np.inf
        np.minimum.at(least, owner, mesh.tree.nearest(points)[0])
    return inner, float(least.min())


def points_of(mesh: Mesh, faces: Ints, spacing: float) -> tuple[Floats, Ints]:
    """Points (P, 3) all over some faces (N,), within, on edges and corners, and the face (P,) of each."""
    only = np.zeros(len(mesh.faces), bool)
    only[faces] = True
    within = sample_surface(mesh, spacing, only)
    # where an edge of the other side crosses one of this between two points, the wall is a thousandth less at most
    points, face = edge_points(mesh, faces, 0.5 * spacing)
    return np.concatenate([within.points, points]), np.concatenate([within.face, face])


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
