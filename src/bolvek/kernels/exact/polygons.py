"""Polygons in space into triangles on their own corners, many at a time.

Ear clipping (Meisters 1975) in the coordinate plane the polygon faces most, with exact turns there.
"""

import numpy as np

from bolvek.kernels import helper, kernel
from bolvek.kernels.exact.predicates import orient2d

CONCAVE, CROSSED = 1, 2
_BEST_EAR = 24  # corners up to which the best of all ears is taken
_BUDGET = 20_000_000  # corner tests a polygon may cost before ears are cut as they come


@helper
def _shape(v, a, b, c):
    """Twice the area over the longest side squared: 0 flat, 0.87 equilateral."""
    longest = 0.0
    for p, q in ((a, b), (b, c), (c, a)):
        d = 0.0
        for k in range(3):
            d += (v[q, k] - v[p, k]) ** 2
        longest = max(longest, d)
    ux, uy, uz = v[b, 0] - v[a, 0], v[b, 1] - v[a, 1], v[b, 2] - v[a, 2]
    wx, wy, wz = v[c, 0] - v[a, 0], v[c, 1] - v[a, 1], v[c, 2] - v[a, 2]
    x, y, z = uy * wz - uz * wy, uz * wx - ux * wz, ux * wy - uy * wx
    return np.sqrt(x * x + y * y + z * z) / longest if longest > 0.0 else 0.0


@helper
def _is_ear(v, i, j, corner, before, after, reflex, next_reflex, b):
    """Whether the corner b can be cut off: it turns left and no reflex corner lies in its triangle."""
    p, q, r = corner[before[b]], corner[b], corner[after[b]]
    if orient2d(v, i, j, p, q, r) <= 0:
        return False
    o = next_reflex[0]
    while o > 0:
        x = o - 1
        c = corner[x]
        if (
            reflex[x]
            and c != p
            and c != q
            and c != r
            and orient2d(v, i, j, p, q, c) >= 0
            and orient2d(v, i, j, q, r, c) >= 0
            and orient2d(v, i, j, r, p, c) >= 0
        ):
            return False
        o = next_reflex[o]
    return True


@kernel("f8[:,:] i8[:] i8[:] i8 i8 i4[:,:]! u1[:]! f8[:]!")
def cut_polygons(v, start, corners, begin, end, triangles, kind, bent):
    """Triangles of polygons begin..end; polygon p has corners[start[p]:start[p + 1]], three at least.

    triangles (C - 2 P, 3) int32 are filled from start[p] - 2 p on. kind (P,) uint8: CONCAVE,
    CROSSED. bent (P,) float64: how far the corners lie off the mean plane.
    """
    for p in range(begin, end):
        s = start[p]
        n = start[p + 1] - s
        out = s - 2 * p
        if n == 3:
            for k in range(3):
                triangles[out, k] = corners[s + k]
            continue
        corner = np.empty(n, np.int32)
        for k in range(n):
            corner[k] = corners[s + k]
        # Newell's normal
        nx = ny = nz = 0.0
        mx = my = mz = 0.0
        for k in range(n):
            a, b = corner[k], corner[(k + 1) % n]
            nx += (v[a, 1] - v[b, 1]) * (v[a, 2] + v[b, 2] - 2 * v[corner[0], 2])
            ny += (v[a, 2] - v[b, 2]) * (v[a, 0] + v[b, 0] - 2 * v[corner[0], 0])
            nz += (v[a, 0] - v[b, 0]) * (v[a, 1] + v[b, 1] - 2 * v[corner[0], 1])
            mx += v[a, 0] / n
            my += v[a, 1] / n
            mz += v[a, 2] / n
        size = np.sqrt(nx * nx + ny * ny + nz * nz)
        if size > 0.0:
            for k in range(n):
                a = corner[k]
                off = abs((v[a, 0] - mx) * nx + (v[a, 1] - my) * ny + (v[a, 2] - mz) * nz) / size
                bent[p] = max(bent[p], off)
        if abs(nx) >= abs(ny) and abs(nx) >= abs(nz):
            i, j, facing = 1, 2, nx
        elif abs(ny) >= abs(nz):
            i, j, facing = 2, 0, ny
        else:
            i, j, facing = 0, 1, nz
        if facing < 0.0:
            i, j = j, i
        before = np.empty(n, np.int64)
        after = np.empty(n, np.int64)
        reflex = np.zeros(n, np.bool_)
        next_reflex = np.zeros(n + 1, np.int64)
        last = 0
        reflexes = 0
        for k in range(n):
            before[k] = (k + n - 1) % n
            after[k] = (k + 1) % n
            turn = orient2d(v, i, j, corner[before[k]], corner[k], corner[after[k]])
            if turn <= 0:
                reflex[k] = True
                next_reflex[last] = k + 1
                last = k + 1
                reflexes += 1
                if turn < 0:
                    kind[p] |= CONCAVE
        left = n
        at = np.int64(0)
        spent = 0
        while left > 3:
            best = -1
            quality = -1.0
            b = at
            for _ in range(left):
                spent += 1 + reflexes
                if spent > _BUDGET:
                    break
                if _is_ear(v, i, j, corner, before, after, reflex, next_reflex, b):
                    if left > _BEST_EAR:
                        best = b
                        break
                    shape = _shape(v, corner[before[b]], corner[b], corner[after[b]])
                    if left == 4:
                        rest = after[after[b]]
                        shape = min(shape, _shape(v, corner[before[b]], corner[after[b]], corner[rest]))
                    if shape > quality:
                        quality = shape
                        best = b
                b = after[b]
            if best < 0:  # a boundary that crosses itself, or lies on a line
                kind[p] |= CROSSED
                best = at
            a, c = before[best], after[best]
            triangles[out, 0], triangles[out, 1], triangles[out, 2] = corner[a], corner[best], corner[c]
            out += 1
            left -= 1
            after[a], before[c] = c, a
            reflex[best] = False
            for k in (a, c):
                if reflex[k] and orient2d(v, i, j, corner[before[k]], corner[k], corner[after[k]]) > 0:
                    reflex[k] = False
            at = after[c] if left > _BEST_EAR else c  # every other corner first: better shapes
        triangles[out, 0], triangles[out, 1], triangles[out, 2] = corner[before[at]], corner[at], corner[after[at]]
