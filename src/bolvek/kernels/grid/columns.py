"""Columns: a mesh sampled along upright lines through the middles of pixels, every crossing at its height.

A line that goes through an edge or a corner is moved by an infinitesimal (e, e squared), as in `tree.stab`. On which
side of an edge the middle of a pixel lies is computed once from the edge alone, its lower end first: both its faces
get the same answer, whatever rounding does, and so a shared edge is hit by exactly one of them and the turns of a
closed mesh add up to zero in every column.

xy (V, 2) float64 are vertices in pixels: pixel (i, j) has its middle at (i + 0.5, j + 0.5); column = i * ny + j.
"""

import numpy as np

from bolvek.kernels import helper, kernel


@helper
def _across(xy, height, a, b, y, nx):
    """The first pixel of a row not left of an edge, from 0 to nx; where the edge meets the row; its height there."""
    if xy[a, 1] > y:
        a, b = b, a
    t = (y - xy[a, 1]) / (xy[b, 1] - xy[a, 1])
    x = xy[a, 0] + t * (xy[b, 0] - xy[a, 0])
    z = height[a] + t * (height[b] - height[a])
    k = np.int64(min(max(np.ceil(x - 0.5), 0.0), np.float64(nx)))
    return k, x, z


@helper
def _row(xy, height, a, b, c, y, nx):
    """Where the edges of a face that cross a row meet it: the one that goes up, then the one that goes down."""
    below_a, below_b, below_c = xy[a, 1] <= y, xy[b, 1] <= y, xy[c, 1] <= y
    if below_a == below_b:
        c, a, b = b, c, a  # b and c differ, c and a differ: begin with c
        below_a, below_b, below_c = below_c, below_a, below_b
    elif below_b != below_c:
        a, b, c = b, c, a  # a b and b c differ: the pair around b
        below_a, below_b, below_c = below_b, below_c, below_a
    # now a alone lies on one side: its edges are a b and c a
    k0, x0, z0 = _across(xy, height, a, b, y, nx)
    k1, x1, z1 = _across(xy, height, c, a, y, nx)
    if below_a:
        return k0, x0, z0, k1, x1, z1
    return k1, x1, z1, k0, x0, z0


@helper
def _rows(xy, a, b, c, ny):
    low = min(xy[a, 1], xy[b, 1], xy[c, 1])
    high = max(xy[a, 1], xy[b, 1], xy[c, 1])
    first = np.int64(min(max(np.ceil(low - 0.5), 0.0), np.float64(ny)))
    last = np.int64(min(max(np.ceil(high - 0.5), 0.0), np.float64(ny)))
    return first, last


@kernel("f8[:,:] f8[:] i4[:,:] i8 i8 i8 i8 i8[:]!")
def count_crossings(xy, height, faces, nx, ny, begin, end, count):
    """How many pixels each of the faces begin..end covers."""
    for f in range(begin, end):
        a, b, c = faces[f, 0], faces[f, 1], faces[f, 2]
        first, last = _rows(xy, a, b, c, ny)
        n = 0
        for j in range(first, last):
            k0, x0, z0, k1, x1, z1 = _row(xy, height, a, b, c, j + 0.5, nx)
            n += abs(k0 - k1)
        count[f] = n


@kernel("f8[:,:] f8[:] i4[:,:] i8 i8 i8[:] i8 i8 i4[:]! f8[:]! i1[:]!")
def find_crossings(xy, height, faces, nx, ny, at, begin, end, column, z, turn):
    """What the faces begin..end cross: column, height, and 1 where a line upward enters material, -1 where it leaves;
    those of face f are written from at[f] on."""
    for f in range(begin, end):
        a, b, c = faces[f, 0], faces[f, 1], faces[f, 2]
        first, last = _rows(xy, a, b, c, ny)
        n = at[f]
        for j in range(first, last):
            k0, x0, z0, k1, x1, z1 = _row(xy, height, a, b, c, j + 0.5, nx)
            way = 1
            if k0 > k1:
                k0, x0, z0, k1, x1, z1 = k1, x1, z1, k0, x0, z0
                way = -1
            wide = x1 - x0
            for i in range(k0, k1):
                t = min(max((i + 0.5 - x0) / wide, 0.0), 1.0) if wide > 0.0 else 0.5
                column[n] = i * ny + j
                z[n] = z0 + t * (z1 - z0)
                turn[n] = way
                n += 1


@kernel("i4[:] f8[:] i1[:] i8[:]! f8[:]! i1[:]!")
def gather_columns(column, z, turn, place, z_out, turn_out):
    """Bring crossings into compressed rows; place (P,) comes with the beginning of each column, and is moved on."""
    for n in range(column.shape[0]):
        p = place[column[n]]
        place[column[n]] = p + 1
        z_out[p] = z[n]
        turn_out[p] = turn[n]


@kernel("i8[:] i8 i8 f8[:]! i1[:]! i8[:]!")
def sort_columns(start, begin, end, z, turn, material):
    """Sort the crossings of columns begin..end upward, entries first where heights are equal.

    material (P,): how many stretches of material each column has, -1 where it does not close.
    """
    for p in range(begin, end):
        for n in range(start[p] + 1, start[p + 1]):
            height, way = z[n], turn[n]
            m = n
            while m > start[p] and (z[m - 1] > height or (z[m - 1] == height and turn[m - 1] < way)):
                z[m], turn[m] = z[m - 1], turn[m - 1]
                m -= 1
            z[m], turn[m] = height, way
        winding = 0
        stretches = 0
        top = -np.inf
        for n in range(start[p], start[p + 1]):
            before = winding
            winding += turn[n]
            if before <= 0 and winding > 0:
                if z[n] > top:
                    stretches += 1
            elif before > 0 and winding <= 0:
                top = z[n]
        material[p] = stretches if winding == 0 else -1


@kernel("i8[:] f8[:] i1[:] i8[:] i8 i8 f8[:]! f8[:]!")
def fill_material(start, z, turn, material_start, begin, end, low, high):
    """The stretches of material (winding above zero) of columns begin..end, touching ones as one."""
    for p in range(begin, end):
        n = material_start[p] - 1
        if material_start[p + 1] == material_start[p]:
            continue
        winding = 0
        top = -np.inf
        for k in range(start[p], start[p + 1]):
            before = winding
            winding += turn[k]
            if before <= 0 and winding > 0:
                if z[k] > top:
                    n += 1
                    low[n] = z[k]
            elif before > 0 and winding <= 0:
                top = z[k]
                high[n] = top


@kernel("i8[:] f8[:] i1[:] b1[:] f8[:]! i8[:]! f8 f8")
def rules_apart(start, z, turn, unclosed, length, layers, floor, layer):
    """Where winding above zero and even-odd disagree, in columns that close: lengths (P,), and pixels of each layer.

    layers (L + 1,) int64 gets differences, to be summed up; layer k is cut at floor + (k + 0.5) * layer.
    """
    for p in range(start.shape[0] - 1):
        if unclosed[p]:
            continue
        winding = 0
        total = 0.0
        for n in range(start[p], start[p + 1] - 1):
            winding += turn[n]
            if (winding > 0) != (winding % 2 != 0) and z[n + 1] > z[n]:
                total += z[n + 1] - z[n]
                first = np.int64(max(np.ceil((z[n] - floor) / layer - 0.5), 0.0))
                last = np.int64(max(np.ceil((z[n + 1] - floor) / layer - 0.5), 0.0))
                layers[min(first, layers.shape[0] - 1)] += 1
                layers[min(last, layers.shape[0] - 1)] -= 1
        length[p] = total
