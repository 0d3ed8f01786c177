"""Sharp edges and corners brought back into a surface from a lattice, which cuts them off.

Where two neighbouring vertices lie on faces of the original that are folded against each other, the edge between them
crosses a crease: it is split where the planes of both faces meet, nearest to its middle. A face that three creases meet
in gets the corner, where three planes meet, as its middle. So creases become chains of edges, and no edge has to be
turned (after Kobbelt, Botsch, Schwanecke and Seidel 2001, "Feature Sensitive Surface Extraction from Volume Data").
"""

from dataclasses import dataclass

import numpy as np

from bolvek.arrays import Bools, Floats, Ints
from bolvek.mesh import Mesh

CREASE_DEG = 25.0
"""Faces folded by more than this make a crease."""

_MOST_REACH = 1.2  # cells that a split may lie off the edge it splits
_SNAP = 0.2  # of an edge: creases nearer to a vertex than that go through it


@dataclass(frozen=True)
class Edged:
    """The surface with its edges split: as it was (`plain`, points on the old faces), and where they should be."""

    plain: Mesh
    wanted: Floats


def with_edges(mesh: Mesh, anchors: Floats, normals: Floats, known: Bools, cell: float) -> Edged:
    """Split what crosses creases. anchors, normals (V, 3): place and normal on the original's face that each vertex is
    to lie on; known (V,): those that are to lie on one at all."""
    points = np.where(known[:, None], anchors, mesh.vertices)
    p, q = _ends(mesh)
    crossing = known[p] & known[q] & _folded(normals[p], normals[q])
    feature, fits = _crease_points(points, normals, p, q, cell)
    crossing &= fits
    # a crease right beside a vertex goes through it
    length = np.maximum(np.linalg.norm(points[q] - points[p], axis=1), 1e-300)
    wanted, taken = points.copy(), np.zeros(len(points), bool)
    for end in (p, q):
        near = crossing & (np.linalg.norm(feature - points[end], axis=1) < _SNAP * length)
        near &= ~_corner_vertices(mesh, normals, known)[end]
        wanted[end[near]] = feature[near]
        taken[end[near]] = True
    crossing &= ~(taken[p] | taken[q])
    number = np.full(len(p), -1)
    number[crossing] = len(points) + np.arange(int(crossing.sum()))
    middle = 0.5 * (mesh.vertices[p] + mesh.vertices[q])
    side = _of_faces(mesh, p, q, number)
    corners = (side >= 0).all(axis=1)
    tip, sits = _corner_points(points[mesh.faces[corners]], normals[mesh.faces[corners]], cell)
    centre = np.full(len(mesh.faces), -1)
    first = len(points) + int(crossing.sum())
    centre[corners] = first + np.arange(int(corners.sum()))
    flat = mesh.vertices[mesh.faces[corners]].mean(axis=1)
    plain = np.concatenate([mesh.vertices, middle[crossing], flat])
    wanted = np.concatenate([wanted, feature[crossing], np.where(sits[:, None], tip, flat)])
    return Edged(Mesh(plain, _split(mesh.faces.astype(np.int64), side, centre)), wanted)


def _ends(mesh: Mesh) -> tuple[Ints, Ints]:
    """Both ends (E,) of every edge, once."""
    half = np.flatnonzero(mesh.topology.opposite > np.arange(len(mesh.topology.opposite)))
    a, b = mesh.edge_ends(half)
    return a.astype(np.int64), b.astype(np.int64)


def _of_faces(mesh: Mesh, p: Ints, q: Ints, number: Ints) -> Ints:
    """For each side (F, 3) of the faces the number of its edge's new point, -1 for none."""
    half = np.flatnonzero(mesh.topology.opposite > np.arange(len(mesh.topology.opposite)))
    side = np.full(3 * len(mesh.faces), -1)
    side[half] = number
    side[mesh.topology.opposite[half]] = number
    return side.reshape(-1, 3)


def _folded(a: Floats, b: Floats) -> Bools:
    return np.asarray(np.einsum("ij,ij->i", a, b) < np.cos(np.radians(CREASE_DEG)))


def _corner_vertices(mesh: Mesh, normals: Floats, known: Bools) -> Bools:
    """Vertices (V,) of faces whose corners lie on three planes."""
    a, b, c = mesh.faces.T
    three = known[mesh.faces].all(axis=1)
    three &= _folded(normals[a], normals[b]) & _folded(normals[b], normals[c]) & _folded(normals[c], normals[a])
    found = np.zeros(len(mesh.vertices), bool)
    found[mesh.faces[three]] = True
    return found


def _crease_points(points: Floats, normals: Floats, p: Ints, q: Ints, cell: float) -> tuple[Floats, Bools]:
    """Where the planes at both ends of edges meet, nearest to their middles (E, 3); and whether that is near enough."""
    n, m = normals[p], normals[q]
    middle = 0.5 * (points[p] + points[q])
    dot = np.einsum("ij,ij->i", n, m)
    r = np.einsum("ij,ij->i", n, points[p] - middle)
    s = np.einsum("ij,ij->i", m, points[q] - middle)
    det = np.maximum(1.0 - dot * dot, 1e-9)
    a, b = (r - dot * s) / det, (s - dot * r) / det
    found = middle + a[:, None] * n + b[:, None] * m
    return found, np.linalg.norm(found - middle, axis=1) <= _MOST_REACH * cell


def _corner_points(points: Floats, matrix: Floats, cell: float) -> tuple[Floats, Bools]:
    """Where the planes through three points (N, 3, 3) with normals (N, 3, 3) meet; and whether that is near enough."""
    if not len(points):
        return np.zeros((0, 3)), np.zeros(0, bool)
    right = np.einsum("nkj,nkj->nk", matrix, points)
    det = np.linalg.det(matrix)
    fine = np.abs(det) > 0.05
    found = points.mean(axis=1)
    if fine.any():
        found[fine] = np.linalg.solve(matrix[fine], right[fine][:, :, None])[:, :, 0]
    return found, fine & (np.linalg.norm(found - points.mean(axis=1), axis=1) <= 1.5 * _MOST_REACH * cell)


def _split(faces: Ints, side: Ints, centre: Ints) -> Ints:
    """Faces (F, 3) split at new points on their sides, and in their middles where all three have one."""
    count = (side >= 0).sum(axis=1)
    first = np.where(count == 1, np.argmax(side >= 0, axis=1), (np.argmax(side < 0, axis=1) + 1) % 3)
    turn = (first[:, None] + np.arange(3)) % 3
    rows = np.arange(len(faces))[:, None]
    (a, b, c), (m, n, o) = faces[rows, turn].T, side[rows, turn].T
    done = [faces[count == 0]]
    for number, triangles in (
        (1, ((a, m, c), (m, b, c))),
        (2, ((a, m, n), (a, n, c), (m, b, n))),
        (3, tuple((centre, x, y) for x, y in ((a, m), (m, b), (b, n), (n, c), (c, o), (o, a)))),
    ):
        own = count == number
        done += [np.stack([corner[own] for corner in three], axis=1) for three in triangles]
    return np.concatenate(done)
