"""Building blocks of the demo's models: distance-like fields on a lattice, and their surface.

A field is negative inside. Blends are polynomial smooth minima, so joints are rounded like clay.
"""

from collections.abc import Callable

import numpy as np
from scipy import ndimage

from bolvek.arrays import Bools, Floats
from bolvek.mesh import Mesh
from bolvek.operations.slim import slim
from bolvek.spatial.isosurface import dense_surface
from bolvek.spatial.parallel import run_ranges

_STRIDE = 4
_NEAR = 1.5  # coarse cells from zero within which a field is evaluated finely


def blend(a: Floats, b: Floats, width: float) -> Floats:
    """Union of two fields with a rounded joint of about `width` mm."""
    h = np.clip(0.5 + 0.5 * (b - a) / width, 0, 1)
    return np.asarray(b + (a - b) * h - width * h * (1 - h))


def carve(a: Floats, b: Floats, width: float) -> Floats:
    """The field a without b, the edge rounded."""
    return -blend(-a, b, width)


def ellipsoid(p: Floats, centre: Floats, axes: Floats, radii: Floats) -> Floats:
    """Ellipsoid with unit axes (3, 3) as rows; close to a distance near its surface."""
    q = (p - centre) @ axes.T
    k0 = np.linalg.norm(q / radii, axis=1)
    k1 = np.linalg.norm(q / (radii * radii), axis=1)
    return np.asarray(k0 * (k0 - 1) / np.maximum(k1, 1e-9))


def capsule(p: Floats, a: Floats, b: Floats, ra: float, rb: float) -> Floats:
    """A rounded stick from a to b, its radius running from ra to rb."""
    d = b - a
    t = np.clip((p - a) @ d / (d @ d), 0, 1)
    return np.asarray(np.linalg.norm(p - a - t[:, None] * d, axis=1) - (ra + (rb - ra) * t))


def smoothstep(x: Floats, low: float, high: float) -> Floats:
    """0 below low, 1 above high, smooth between."""
    t = np.clip((x - low) / (high - low), 0, 1)
    return np.asarray(t * t * (3 - 2 * t))


def _fill(
    field: Callable[[Floats], Floats],
    axes: list[Floats],
    values: Floats,
    todo: Bools | None,
    begin: int,
    end: int,
    stride: int,
) -> None:
    """Evaluate the field on slices begin..end of a lattice (all of it, or where todo says)."""
    y, z = np.meshgrid(axes[1][::stride], axes[2][::stride], indexing="ij")
    for i in range(begin, end):
        mask = todo[i] if todo is not None else np.ones(y.shape, bool)
        if mask.any():
            x = np.full(int(mask.sum()), axes[0][::stride][i])
            values[i][mask] = field(np.stack([x, y[mask], z[mask]], axis=1))


def field_mesh(field: Callable[[Floats], Floats], low: Floats, high: Floats, cell: float, *, within_mm: float) -> Mesh:
    """Surface of a field in a box as one sound shell of float32 coordinates, slimmed within a deviation (0: not).

    The field is evaluated on a coarse lattice first and finely only near its zero; it must not change
    faster than a few millimetres a millimetre. Only the largest shell is kept.
    """
    counts = _STRIDE * np.ceil((high - low) / (_STRIDE * cell)).astype(int) + 1
    axes = [low[k] + cell * np.arange(counts[k]) for k in range(3)]
    coarse = np.empty(tuple(len(a[::_STRIDE]) for a in axes))
    run_ranges(lambda b, e: _fill(field, axes, coarse, None, b, e, _STRIDE), coarse.shape[0], grain=1)
    near = ndimage.minimum_filter(np.abs(coarse), 3) < _NEAR * _STRIDE * cell
    values = np.repeat(np.repeat(np.repeat(coarse, _STRIDE, 0), _STRIDE, 1), _STRIDE, 2)
    todo = np.repeat(np.repeat(np.repeat(near, _STRIDE, 0), _STRIDE, 1), _STRIDE, 2)
    half = _STRIDE // 2
    part = tuple(slice(half, half + n) for n in counts)
    values, todo = np.ascontiguousarray(values[part]), todo[part]
    run_ranges(lambda b, e: _fill(field, axes, values, todo, b, e, 1), values.shape[0], grain=1)
    for k in range(3):
        edge = np.moveaxis(values, k, 0)
        edge[0] = np.maximum(edge[0], cell)
        edge[-1] = np.maximum(edge[-1], cell)
    surface = dense_surface(values, low, cell)
    mesh = Mesh(surface.vertices, surface.faces)
    mesh = mesh.picked(mesh.topology.shell == int(np.argmax(mesh.shell_volumes)))
    return (slim(mesh, within_mm)[0] if within_mm else mesh).as_stored()
