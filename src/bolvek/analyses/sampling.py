"""Samples on surfaces, and the tolerance a measured wall is judged by."""

import numpy as np
from numpy.typing import NDArray

from bolvek.mesh import Mesh

Floats = NDArray[np.float64]


def wall_tolerance_mm(wall: float) -> float:
    """How far a measured wall may fall short of the one asked for: 0.5% or 0.01 mm, the larger."""
    return max(0.005 * wall, 0.01)


def surface_samples(mesh: Mesh, faces: NDArray[np.int64], spacing: float) -> tuple[Floats, NDArray[np.int64]]:
    """Points (P, 3) on some faces (N,) of a mesh, about `spacing` apart or less, and the face of each (P,).

    Each face is divided evenly, its edges into as many pieces as its longest edge needs, at least two
    and at most 64. A point on an edge or a corner is given once, with the face that divides it finest.
    """
    corners = mesh.vertices[mesh.faces[faces]]
    longest = np.linalg.norm(corners - np.roll(corners, -1, axis=1), axis=2).max(axis=1)
    pieces = np.zeros(len(mesh.faces), np.int64)
    pieces[faces] = np.clip(np.ceil(longest / spacing), 2, 64)
    rank = pieces * len(mesh.faces) - np.arange(len(mesh.faces))  # finest first, then lowest number
    twin = mesh.topology.twin.reshape(-1, 3)[faces]
    across = np.where(twin >= 0, twin // 3, faces[:, None])
    owns_edge = rank[across] <= rank[faces][:, None]
    best = np.full(len(mesh.vertices), np.iinfo(np.int64).min)
    for k in range(3):
        np.maximum.at(best, mesh.faces[faces, k], rank[faces])
    owns_corner = best[mesh.faces[faces]] == rank[faces][:, None]
    points, owner = [], []
    for n in np.unique(pieces[faces]):
        chosen = np.flatnonzero(pieces[faces] == n)
        i, j = np.meshgrid(np.arange(n + 1), np.arange(n + 1), indexing="ij")
        fit = i + j <= n
        step = np.stack([i[fit], j[fit], n - i[fit] - j[fit]], axis=1)
        wanted = np.ones((len(chosen), len(step)), bool)
        for k in range(3):
            on_edge = (step[:, (k + 2) % 3] == 0) & (step[:, k] > 0) & (step[:, (k + 1) % 3] > 0)
            wanted[:, on_edge] &= owns_edge[chosen, k][:, None]
            wanted[:, step[:, k] == n] &= owns_corner[chosen, k][:, None]
        row, column = np.nonzero(wanted)
        weight = step[column] / n
        c = corners[chosen[row]]
        points.append(weight[:, :1] * c[:, 0] + weight[:, 1:2] * c[:, 1] + weight[:, 2:] * c[:, 2])
        owner.append(faces[chosen[row]])
    if not points:
        return np.zeros((0, 3)), np.zeros(0, np.int64)
    return np.concatenate(points), np.concatenate(owner)
