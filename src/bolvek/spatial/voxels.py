"""Voxel grids of a surface and exact distances on them."""

from functools import partial

import numpy as np
from numpy.typing import NDArray

from bolvek.kernels import voxels as kernels
from bolvek.spatial.parallel import run_ranges


def surface_voxels(
    vertices: NDArray[np.float64],
    faces: NDArray[np.int32],
    origin: NDArray[np.float64],
    spacing: float,
    shape: tuple[int, int, int],
) -> NDArray[np.uint8]:
    """Voxels (X, Y, Z) uint8, 1 where a triangle touches the cube around origin + spacing * index."""
    scaled = (vertices - origin) / spacing
    voxels = np.zeros(shape, np.uint8)
    # threads only ever write 1, so their order cannot change the outcome
    run_ranges(lambda b, e: kernels.mark_surface(scaled, faces, b, e, voxels), len(faces), grain=4096)
    return voxels


def distance_to(mask: NDArray[np.bool_]) -> NDArray[np.float32]:
    """Distance, in voxels, from each voxel centre to the nearest centre where the mask holds (else 1e9)."""
    squared = np.where(mask, np.float32(0), np.float32(1e18))
    nx, ny, nz = mask.shape
    for view in (squared.reshape(nx * ny, nz, 1), squared.reshape(nx, ny, nz), squared.reshape(1, nx, ny * nz)):
        lines = view.shape[0] * view.shape[2]
        run_ranges(partial(kernels.distance_lines, view), lines, grain=256)
    return np.sqrt(squared, out=squared)
