"""Samples on surfaces, and the tolerance a measured wall is judged by."""

import numpy as np
from numpy.typing import NDArray


def wall_tolerance_mm(wall: float) -> float:
    """How far a measured wall may fall short of the one asked for: 0.5% or 0.01 mm, the larger."""
    return max(0.005 * wall, 0.01)


def surface_samples(corners: NDArray[np.float64], spacing: float) -> tuple[NDArray[np.float64], NDArray[np.int64]]:
    """Points (P, 3) on faces (F, 3, 3), no farther than about `spacing` apart, and their faces (P,).

    Corners are included; each face is divided evenly, its edges into as many pieces as the longest
    needs, at least two and at most 64.
    """
    longest = np.linalg.norm(corners - np.roll(corners, -1, axis=1), axis=2).max(axis=1)
    pieces = np.clip(np.ceil(longest / spacing), 2, 64).astype(np.int64)
    points, owner = [], []
    for n in np.unique(pieces):
        chosen = np.flatnonzero(pieces == n)
        i, j = np.meshgrid(np.arange(n + 1), np.arange(n + 1), indexing="ij")
        fit = i + j <= n
        weight = np.stack([i[fit], j[fit], n - i[fit] - j[fit]], axis=1) / n
        points.append(np.einsum("pk,fkx->fpx", weight, corners[chosen]).reshape(-1, 3))
        owner.append(np.repeat(chosen, len(weight)))
    if not points:
        return np.zeros((0, 3)), np.zeros(0, np.int64)
    return np.concatenate(points), np.concatenate(owner)
