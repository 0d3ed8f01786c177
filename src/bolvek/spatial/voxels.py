"""Voxel grids of a surface and exact distances on them."""

from functools import partial

import numpy as np

from bolvek.arrays import Bools, Bytes, Floats, Floats32, Ints32
from bolvek.kernels.grid import voxels as kernels
from bolvek.spatial.parallel import run_ranges


def surface_voxels(
    vertices: Floats,
    faces: Ints32,
    origin: Floats,
    spacing: float,
    shape: tuple[int, int, int],
) -> Bytes:
    """Voxels (X, Y, Z) uint8, 1 where a triangle touches the cube around origin + spacing * index."""
    scaled = (vertices - origin) / spacing
    voxels = np.zeros(shape, np.uint8)
    # threads only ever write 1, so their order cannot change the outcome
    run_ranges(lambda b, e: kernels.mark_surface(scaled, faces, b, e, voxels), len(faces), grain=4096)
    return voxels


def distance_to(mask: Bools) -> Floats32:
    """Distance, in voxels, from each voxel centre to the nearest centre where the mask holds (else 1e9)."""
    squared = np.where(mask, np.float32(0), np.float32(1e18))
    nx, ny, nz = mask.shape
    for view in (squared.reshape(nx * ny, nz, 1), squared.reshape(nx, ny, nz), squared.reshape(1, nx, ny * nz)):
        lines = view.shape[0] * view.shape[2]
        run_ranges(partial(kernels.distance_lines, view), lines, grain=256)
    return np.sqrt(squared, out=squared)


def label_regions(mask: Bools, *, corners: bool = False) -> tuple[Ints32, int]:
    """Regions (X, Y, Z) int32 of a mask, numbered from 1 by first voxel, and how many.

    Voxels of a region share sides; with `corners` an edge or a corner is enough.
    """
    label = np.empty(mask.shape, np.int32)
    return label, int(kernels.label_regions(mask, corners, label))


def region_boxes(label: Ints32, count: int) -> list[tuple[slice, slice, slice]]:
    """The box around each region 1..count, as slices."""
    box = np.full((count + 1, 6), -1, np.int32)
    box[:, :3] = max(label.shape)
    kernels.region_boxes(label, box)
    return [(slice(a, d + 1), slice(b, e + 1), slice(c, f + 1)) for a, b, c, d, e, f in box[1:].tolist()]


def grown(mask: Bools) -> Bools:
    """The mask and all voxels that share a side with it."""
    wide = mask.copy()
    for axis in range(3):
        here, wider = np.moveaxis(mask, axis, 0), np.moveaxis(wide, axis, 0)
        wider[1:] |= here[:-1]
        wider[:-1] |= here[1:]
    return wide


def look_along(
    points: Floats,
    normal: Floats,
    steps: tuple[float, ...],
    label: Ints32,
    unknown: int,
    origin: Floats,
    spacing: float,
) -> Ints32:
    """The voxel label (Q,) each point (Q, 3) looks into: at the first of `steps` voxels along its normal (Q, 3)
    where the label is not `unknown`; `unknown` where there is none."""
    out = np.empty(len(points), np.int32)
    scaled = (points - origin) / spacing
    reach = np.array(steps)
    run_ranges(lambda b, e: kernels.look_along(scaled, normal, reach, label, unknown, b, e, out), len(points))
    return out
