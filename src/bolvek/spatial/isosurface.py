"""Level surfaces on a lattice: dense values, or the sparse offset of a surface.

Sparse offset: distance changes by at most one millimetre per millimetre, so a brick whose centre
distance differs from the level by more than its half diagonal cannot hold the surface. Bricks that
may hold it are split down to two cells a side; cost follows area over cell size squared.
"""

import math
from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from bolvek.arrays import Floats, Ints32
from bolvek.errors import WorkError
from bolvek.kernels.grid import isosurface as kernels
from bolvek.spatial.frames import HALF_DIAGONAL

_CORNERS = np.array([[k & 1, k >> 1 & 1, k >> 2 & 1] for k in range(8)])
THIN_SHEET = 0.2
"""Lattice points less than this share of a cell deeper than the level do not count as deep."""
DEEP = 0.5
"""Nor do those in no cell with a point that is this share of a cell deeper than the level.

Safe only because of the assertion below: a brick of two cells a side is dropped when its middle is more than sqrt(3)
+ THIN_SHEET cells deep. A cell kept beside it has the middle of the edge (or face) they share as a corner, no farther
than sqrt(2) cells from there: that corner must count as deep, or the surface would be torn where bricks end.
"""
assert math.sqrt(3) + THIN_SHEET - math.sqrt(2) > DEEP

MOST_BRICKS = 16_000_000
"""Bricks that fit into the memory of a small machine."""
_MANY, _HOPELESS = 4096, 1e4  # bricks that tell how large a surface is; what is beyond that number by so much


@dataclass(frozen=True)
class Surface:
    """Triangles of a level surface: vertices (V, 3) float64, faces (F, 3) int32."""

    vertices: Floats
    faces: Ints32


def level_surface(corner: Ints32, value: Floats, place: Floats) -> Surface:
    """Zero surface of lattice values, facing the positive side.

    corner (C, 8) int32: lattice points of each cell, bit 0 x, bit 1 y, bit 2 z; value (M,) float64;
    place (M, 3) float64. Closed wherever all cells that hold a change of sign are given.
    """
    corner = np.ascontiguousarray(corner, np.int32)
    n_faces, centres = kernels.count_parts(corner, value, kernels.LOOP_SIZES)
    on_edge = np.full((len(value), 3), -1, np.int32)
    # every crossed edge has at most four cells; three faces a cell is a safe bound for vertices
    vertices = np.empty((12 * len(corner) + centres if len(corner) < 1000 else 4 * len(corner) + centres, 3))
    faces = np.empty((n_faces, 3), np.int32)
    used = kernels.extract(
        corner, value, place, kernels.EDGE_LOW, kernels.LOOP_SIZES, kernels.LOOP_EDGES, on_edge, vertices, faces
    )
    return Surface(vertices[:used].copy(), faces)


def dense_surface(values: Floats, origin: Floats, cell: float) -> Surface:
    """Zero surface of values (X, Y, Z) at origin + cell * index, facing the positive side."""
    inside = values < 0
    low = np.ones(tuple(n - 1 for n in values.shape), bool)
    high = np.zeros_like(low)
    for x, y, z in _CORNERS:
        part = inside[x : x + low.shape[0], y : y + low.shape[1], z : z + low.shape[2]]
        low &= part
        high |= part
    cells = np.argwhere(high & ~low)
    points = (cells[:, None, :] + _CORNERS[None]).reshape(-1, 3)
    unique, index = np.unique(np.ravel_multi_index(tuple(points.T), values.shape), return_inverse=True)
    place = np.stack(np.unravel_index(unique, values.shape), axis=1) * cell + origin
    return level_surface(index.reshape(-1, 8).astype(np.int32), values.ravel()[unique], place)


def lipschitz_surface(
    value: Callable[[Floats], Floats],
    low: Floats,
    high: Floats,
    cell: float,
    *,
    thin_sheets: bool = False,
    bound: Callable[[Floats], Floats] | None = None,
) -> Surface:
    """Zero surface of a function within a box, facing the positive side. Empty when it is nowhere negative.

    value gives (P,) mm at points (P, 3) and changes by at most a millimetre a millimetre; positive on the box
    and beyond. From one root brick only those are divided that may hold the surface, so the size of the box costs
    nothing. Sheets of the negative side thinner than about `THIN_SHEET` cells are passed by, unless thin_sheets.
    bound: for a function that jumps, at least how far (P,) a change of its sign is off.
    """
    size = 2
    while size * cell < float((high - low).max()) + 2 * cell:
        size *= 2
    brick = np.zeros((1, 3), np.int64)
    while True:
        reach = (HALF_DIAGONAL * size + THIN_SHEET) * cell * (1 + 1e-9)
        middle = low + (brick + 0.5 * size) * cell
        brick = brick[(np.abs(value(middle)) if bound is None else bound(middle)) <= reach]
        if size == 2 or not len(brick):
            break
        # a surface takes four times the bricks at half their size: what is beyond all bounds is known early
        hopeless = len(brick) >= _MANY and len(brick) * (size / 2) ** 2 > _HOPELESS * MOST_BRICKS
        size //= 2
        brick = (brick[:, None, :] + size * _CORNERS[None]).reshape(-1, 3)
        if hopeless or len(brick) > MOST_BRICKS:
            fits = cell * float(np.sqrt(len(brick) / MOST_BRICKS)) * size / 2
            raise WorkError(
                f"a grid of {cell:.3g} mm is too fine for a surface of this size: "
                f"more than {MOST_BRICKS:,} bricks; {fits:.2g} mm would fit"
            )
    if not len(brick):
        return Surface(np.zeros((0, 3)), np.zeros((0, 3), np.int32))
    grid = np.stack(np.meshgrid(*(np.arange(3),) * 3, indexing="ij"), -1).reshape(-1, 3)
    first = brick.min(axis=0)
    dims = brick.max(axis=0) - first + 3
    if float(np.prod(dims.astype(float))) > 2.0**62:
        raise WorkError(f"parts of the model lie too far apart for a grid of {cell:.3g} mm")
    keys = np.ravel_multi_index(tuple((brick[:, None, :] - first + grid[None]).reshape(-1, 3).T), tuple(dims))
    unique, index = np.unique(keys, return_inverse=True)
    place = low + (np.stack(np.unravel_index(unique, tuple(dims)), axis=1) + first) * cell
    found = value(place)
    index = index.reshape(len(brick), 3, 3, 3).astype(np.int32)
    corner = np.concatenate(
        [np.stack([index[:, x + i, y + j, z + k] for i, j, k in _CORNERS], axis=1) for x, y, z in _CORNERS]
    )
    if not thin_sheets:
        # thin sheets of void cannot be kept clean and are of no use: let the surface pass them by
        near_deep = np.zeros(len(found), bool)
        near_deep[corner[(found < -DEEP * cell)[corner].any(axis=1)]] = True
        found[(found < 0) & ((found > -THIN_SHEET * cell) | ~near_deep)] = 1e-9 * cell
    inside = (found < 0)[corner]
    mixed = inside.any(axis=1) & ~inside.all(axis=1)
    return level_surface(corner[mixed], found, place)
