"""The arrays of a tree as kernels see them: one bundle, all of it read-only."""

from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from bolvek.kernels import bundle


class TreeArrays(NamedTuple):
    """A bounding-volume tree over F triangles with N nodes of eight children; see `tree.build` for what they hold.

    triangles (F, 9) float64: corners in tree order, relative to the origin (3,); box (N, 6, 8), disc (N, 8, 8), moment
    (N, 4, 8) float32; child, first, count (N, 8) int32; order (F,) int32: the face of each place.
    """

    triangles: NDArray[np.float64]
    box: NDArray[np.float32]
    disc: NDArray[np.float32]
    moment: NDArray[np.float32]
    child: NDArray[np.int32]
    first: NDArray[np.int32]
    count: NDArray[np.int32]
    order: NDArray[np.int32]
    origin: NDArray[np.float64]


bundle("tree", TreeArrays, "f8[:,:] f4[:,:,:] f4[:,:,:] f4[:,:,:] i4[:,:] i4[:,:] i4[:,:] i4[:] f8[:]")

STACK = 512
"""Nodes a walk may have waiting: eight a level of the deepest tree that int32 can number."""
