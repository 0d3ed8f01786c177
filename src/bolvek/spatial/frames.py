"""Directions: square to an axis, and spread evenly over the sphere."""

import numpy as np

from bolvek.arrays import Floats

HALF_DIAGONAL = 0.5 * 3.0**0.5
"""Of a cube of side one."""


def across(axis: Floats) -> tuple[Floats, Floats]:
    """Two unit directions (.., 3) square to each unit axis and to each other; the same axis gives the same ones."""
    u = np.cross(axis, np.eye(3)[np.argmin(np.abs(axis), axis=-1)])
    u /= np.linalg.norm(u, axis=-1, keepdims=True)
    return u, np.cross(axis, u)


def fibonacci_sphere(count: int) -> Floats:
    """Unit directions (count, 3), evenly spread (a Fibonacci lattice; Gonzalez 2010)."""
    k = np.arange(count) + 0.5
    z = 1 - 2 * k / count
    angle = np.pi * (1 + 5**0.5) * k
    rim = np.sqrt(1 - z * z)
    return np.stack([rim * np.cos(angle), rim * np.sin(angle), z], axis=1)
