"""The cells of a coarse grid that faces take, and the faces that take some of them."""

import numpy as np

from bolvek.kernels import helper, kernel


@helper
def _cell(x, origin, cell, n):
    return min(max(np.floor((x - origin) / cell), 0.0), n - 1.0)


@kernel("f8[:,:] i4[:,:] f8[:] f8 i8 i8 i8 i2[:,:]!")
def cells_of_faces(v, faces, origin, cell, n, begin, end, taken):
    """taken (F, 6): the cells, n a side, that the box of each face takes: the first along each axis, then the one after
    the last."""
    for f in range(begin, end):
        for k in range(3):
            a, b, c = v[faces[f, 0], k], v[faces[f, 1], k], v[faces[f, 2], k]
            taken[f, k] = np.int16(_cell(min(a, b, c), origin[k], cell, n))
            taken[f, 3 + k] = np.int16(_cell(max(a, b, c), origin[k], cell, n)) + 1


@kernel("i2[:,:] i4[:,:,:] i8 i8 b1[:]!")
def faces_in_cells(taken, summed, begin, end, wanted):
    """wanted (F,): whether a face takes a cell that is marked; summed (N + 1, N + 1, N + 1): marks before each corner
    of the grid (Crow 1984)."""
    for f in range(begin, end):
        x0, y0, z0, x1, y1, z1 = taken[f, 0], taken[f, 1], taken[f, 2], taken[f, 3], taken[f, 4], taken[f, 5]
        far = summed[x1, y1, z1] - summed[x0, y1, z1] - summed[x1, y0, z1] + summed[x0, y0, z1]
        near = summed[x1, y1, z0] - summed[x0, y1, z0] - summed[x1, y0, z0] + summed[x0, y0, z0]
        wanted[f] = far > near
