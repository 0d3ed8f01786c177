"""Directions square to an axis."""

import numpy as np
from numpy.typing import NDArray

Floats = NDArray[np.float64]


def across(axis: Floats) -> tuple[Floats, Floats]:
    """Two unit directions (3,) square to a unit axis and to each other; the same axis gives the same ones."""
    u = np.cross(axis, np.eye(3)[int(np.argmin(np.abs(axis)))])
    u /= np.linalg.norm(u)
    return u, np.cross(axis, u)
