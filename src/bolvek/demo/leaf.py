"""The maple leaf of the autumn lantern: one skin, as a scanner leaves it, to be made thick."""

import numpy as np

from bolvek.demo.pieces import sheet
from bolvek.mesh import Mesh

WIDTH_MM = 70.0
_STEP = 0.6
_LOBES = ((90.0, 1.0), (38.0, 0.92), (142.0, 0.92), (-15.0, 0.62), (195.0, 0.62))
"""Direction (degrees) and reach of each lobe."""


def maple_leaf() -> Mesh:
    """A leaf curled along its veins, 70 mm wide, its rim ragged: cells that hang by a corner, teeth of one cell."""
    n = int(WIDTH_MM / _STEP) + 1
    at = (np.arange(n) - 0.5 * (n - 1)) * _STEP
    x, y = np.meshgrid(at, at, indexing="ij")
    rng = np.random.default_rng(29)
    z = _height(x, y) + rng.normal(0, 0.015, x.shape)
    middle = 0.5 * (at[1:] + at[:-1])
    cx, cy = np.meshgrid(middle, middle, indexing="ij")
    inside = np.hypot(cx, cy) < _outline(np.degrees(np.arctan2(cy, cx))) + rng.normal(0, 0.35, cx.shape)
    return _largest(sheet(np.stack([x, y, z], axis=-1), inside))


def _outline(angle: np.ndarray) -> np.ndarray:
    """How far (mm) the leaf reaches in a direction (degrees)."""
    reach = np.full(np.shape(angle), 0.44)
    for direction, length in _LOBES:
        off = (angle - direction + 180.0) % 360.0 - 180.0
        teeth = 1.0 + 0.10 * np.cos(np.radians(9.0 * off))
        reach = np.maximum(reach, length * teeth * np.exp(-((off / 30.0) ** 2)))
    return np.asarray(0.46 * WIDTH_MM * reach)


def _height(x: np.ndarray, y: np.ndarray) -> np.ndarray:
    """The leaf's relief: curled up at the tips, a furrow along each vein."""
    r = np.hypot(x, y)
    z = 0.004 * r**2 + 0.8 * np.sin(0.12 * x) * np.cos(0.09 * y)
    for direction, length in _LOBES:
        a = np.radians(direction)
        along, across = x * np.cos(a) + y * np.sin(a), -x * np.sin(a) + y * np.cos(a)
        on = (along > 0) & (along < 0.46 * WIDTH_MM * length)
        z = z - np.where(on, 0.9 * np.exp(-((across / 0.9) ** 2)) * np.minimum(1.0, along / 3.0), 0.0)
    return np.asarray(z)


def _largest(mesh: Mesh) -> Mesh:
    """The largest shell alone: scanners' specks are another story."""
    area = np.bincount(mesh.topology.shell, mesh.face_areas)
    return mesh.picked(mesh.topology.shell == int(area.argmax()))
