"""What a build direction does to a surface: areas that look down, and where material begins."""

import numpy as np

from bolvek.kernels import kernel


@kernel("i4[:,:] i8[:]!")
def neighbour_starts(faces, start):
    """start (V + 1,) int64 gets where each vertex's neighbours go; each face gives its corners two each."""
    for i in range(start.shape[0]):
        start[i] = 0
    for f in range(faces.shape[0]):
        for k in range(3):
            start[faces[f, k] + 1] += 2
    for i in range(start.shape[0] - 1):
        start[i + 1] += start[i]


@kernel("i4[:,:] i8[:]! i4[:]!")
def fill_neighbours(faces, start, neighbour):
    """neighbour (6F,) int32: the vertices around each vertex, most of them twice."""
    used = np.zeros(start.shape[0] - 1, np.int32)
    for f in range(faces.shape[0]):
        for k in range(3):
            v = faces[f, k]
            at = start[v] + used[v]
            neighbour[at] = faces[f, (k + 1) % 3]
            neighbour[at + 1] = faces[f, (k + 2) % 3]
            used[v] += 2


@kernel("f8[:,:] f8 f8 f8 f8[:]!")
def heights(v, ux, uy, uz, out):
    """Height (V,) of each vertex along a unit direction; returns the lowest and the highest."""
    low, high = np.inf, -np.inf
    for i in range(v.shape[0]):
        h = v[i, 0] * ux + v[i, 1] * uy + v[i, 2] * uz
        out[i] = h
        low = min(low, h)
        high = max(high, h)
    return low, high


@kernel("f8[:] i8[:] i4[:] i4[:]!")
def find_minima(height, start, neighbour, lowest):
    """lowest (V,) int32 gets the vertices none of whose neighbours is lower; returns how many."""
    n = 0
    for v in range(height.shape[0]):
        h = height[v]
        fine = start[v + 1] > start[v]
        for i in range(start[v], start[v + 1]):
            if height[neighbour[i]] < h:
                fine = False
                break
        if fine:
            lowest[n] = v
            n += 1
    return n


@kernel("f8[:] i8[:] i4[:] i4[:] f8[:] i4[:]! i4[:]! b1[:]!")
def grow_minima(height, start, neighbour, minima, limit, owner, stack, kept):
    """Which minima (M,) int32, lowest first, stand alone up to a height each, limit (M,) float64: kept (M,) bool.

    Each grows over the surface up to its limit; one that comes to something lower, or to
    what an earlier one has taken, is only a ripple of that. owner (V,) int32 is filled with -1, stack
    (V,) int32 is scratch. Returns how many are kept.
    """
    count = 0
    for m in range(minima.shape[0]):
        seed = minima[m]
        kept[m] = False
        if owner[seed] >= 0:
            continue
        base = height[seed]
        top_height = limit[m]
        owner[seed] = m
        stack[0] = seed
        top = 1
        alone = True
        while top > 0 and alone:
            top -= 1
            v = stack[top]
            for i in range(start[v], start[v + 1]):
                w = neighbour[i]
                if owner[w] == m or height[w] > top_height:
                    continue
                if owner[w] >= 0 or height[w] < base:
                    alone = False
                    break
                owner[w] = m
                stack[top] = w
                top += 1
        kept[m] = alone
        count += alone
    return count


@kernel("i4[:,:] f8[:,:] f8[:] f8 f8 f8 f8 f8 f8")
def overhang_area(faces, area, height, ux, uy, uz, cosine, lowest, contact):
    """Area of faces that look down flatter than a limit and do not lie on the bed.

    area (F, 3) are area vectors; a face overhangs when its unit normal has less than -cosine along up; it
    is on the bed when its corners are within `contact` of the lowest height.
    """
    over = 0.0
    for f in range(faces.shape[0]):
        x, y, z = area[f, 0], area[f, 1], area[f, 2]
        down = -(x * ux + y * uy + z * uz)
        if down <= 0.0:
            continue
        size = np.sqrt(x * x + y * y + z * z)
        if down <= cosine * size:
            continue
        top = max(height[faces[f, 0]], height[faces[f, 1]], height[faces[f, 2]])
        if top > lowest + contact:
            over += size
    return over


@kernel("f8[:,:] i4[:,:] f8[:] f8[:] f8[:]!")
def volume_moment(v, faces, sign, middle, out):
    """out (4,): volume times centroid relative to `middle` (3,), and volume, of tetrahedra under the faces."""
    for f in range(faces.shape[0]):
        a, b, c = faces[f, 0], faces[f, 1], faces[f, 2]
        ax, ay, az = v[a, 0] - middle[0], v[a, 1] - middle[1], v[a, 2] - middle[2]
        bx, by, bz = v[b, 0] - middle[0], v[b, 1] - middle[1], v[b, 2] - middle[2]
        cx, cy, cz = v[c, 0] - middle[0], v[c, 1] - middle[1], v[c, 2] - middle[2]
        six = ax * (by * cz - bz * cy) + ay * (bz * cx - bx * cz) + az * (bx * cy - by * cx)
        w = sign[f] * six / 6.0
        out[0] += w * (ax + bx + cx) / 4.0
        out[1] += w * (ay + by + cy) / 4.0
        out[2] += w * (az + bz + cz) / 4.0
        out[3] += w
