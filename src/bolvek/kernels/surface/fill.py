"""Triangles across an opening: the best triangulation of its rim, refined to the density of the rim.

Half-edges are numbered as in `topology`. The triangulation is the dynamic programming of Barequet and Sharir 1995 with
the weights of Liepa 2003 (least largest bend, then least area); refining is Liepa's, with edges flipped towards
Delaunay.
"""

import numpy as np

from bolvek.kernels import helper, kernel
from bolvek.kernels.surface.topology import OPEN

_FLAT = 1e-10  # of a triangle: double area over the longest side squared, below which it is no use
_SPLIT = np.sqrt(2.0)


@helper
def _normal(p, i, j, k, out):
    """Unit normal of a triangle into out (3,); its double area, or 0 for one that is flat."""
    ux, uy, uz = p[j, 0] - p[i, 0], p[j, 1] - p[i, 1], p[j, 2] - p[i, 2]
    wx, wy, wz = p[k, 0] - p[i, 0], p[k, 1] - p[i, 1], p[k, 2] - p[i, 2]
    x, y, z = uy * wz - uz * wy, uz * wx - ux * wz, ux * wy - uy * wx
    sx, sy, sz = wx - ux, wy - uy, wz - uz
    longest = max(ux * ux + uy * uy + uz * uz, wx * wx + wy * wy + wz * wz, sx * sx + sy * sy + sz * sz)
    size = np.sqrt(x * x + y * y + z * z)
    if not size > _FLAT * longest:
        return 0.0
    out[0], out[1], out[2] = x / size, y / size, z / size
    return size


@helper
def _bend(n, m):
    """0 for two normals that agree, 2 for a fold."""
    return 1.0 - (n[0] * m[0] + n[1] * m[1] + n[2] * m[2])


@helper
def _is_bad(bad, code):
    low, high = 0, bad.shape[0]
    while low < high:
        middle = (low + high) // 2
        if bad[middle] < code:
            low = middle + 1
        else:
            high = middle
    return low < bad.shape[0] and bad[low] == code


@kernel("f8[:,:] f8[:,:] b1[:,:] i8[:] b1 i4[:,:]!")
def triangulate_rim(p, beside, blocked, bad, by_bend, triangles):
    """The best triangles of a closed rim p (N, 3), each (i, j, k) with i < j < k; returns how many, or -1.

    beside (N, 3) are unit normals of the faces beyond the edges from i to i + 1 (zero where there is none); blocked
    (N, N) are chords that must not be; bad (B,) sorted codes (i N + j) N + k of triangles that must not be. by_bend
    asks for the least largest bend first, else for the least area only.
    """
    n = p.shape[0]
    bend = np.full((n, n), np.inf)
    area = np.full((n, n), np.inf)
    apex = np.full((n, n), -1, np.int32)
    normal = np.zeros(3)
    other = np.zeros(3)
    for i in range(n):
        j = (i + 1) % n
        bend[min(i, j), max(i, j)] = 0.0
        area[min(i, j), max(i, j)] = 0.0
    bend[0, n - 1] = np.inf
    area[0, n - 1] = np.inf
    for span in range(2, n):
        for i in range(n - span):
            j = i + span
            closing = i == 0 and j == n - 1
            if blocked[i, j] and not closing:
                continue
            best_bend = np.inf
            best_area = np.inf
            best = -1
            for k in range(i + 1, j):
                if area[i, k] == np.inf or area[k, j] == np.inf:
                    continue
                if bad.shape[0] > 0 and _is_bad(bad, (i * n + k) * n + j):
                    continue
                around = area[i, k] + area[k, j]
                worst = max(bend[i, k], bend[k, j])
                if by_bend and (worst > best_bend or (worst == best_bend and around >= best_area)):
                    continue
                size = _normal(p, i, k, j, normal)
                if size == 0.0:
                    continue
                around += size
                if by_bend:
                    if k == i + 1:
                        other[0], other[1], other[2] = beside[i, 0], beside[i, 1], beside[i, 2]
                    else:
                        _normal(p, i, np.int64(apex[i, k]), k, other)
                    if other[0] != 0.0 or other[1] != 0.0 or other[2] != 0.0:
                        worst = max(worst, _bend(normal, other))
                    if j == k + 1:
                        other[0], other[1], other[2] = beside[k, 0], beside[k, 1], beside[k, 2]
                    else:
                        _normal(p, k, np.int64(apex[k, j]), j, other)
                    if other[0] != 0.0 or other[1] != 0.0 or other[2] != 0.0:
                        worst = max(worst, _bend(normal, other))
                    if closing and (beside[j, 0] != 0.0 or beside[j, 1] != 0.0 or beside[j, 2] != 0.0):
                        other[0], other[1], other[2] = beside[j, 0], beside[j, 1], beside[j, 2]
                        worst = max(worst, _bend(normal, other))
                else:
                    worst = 0.0
                if worst < best_bend or (worst == best_bend and around < best_area):
                    best_bend = worst
                    best_area = around
                    best = k
            if best >= 0:
                bend[i, j] = best_bend
                area[i, j] = best_area
                apex[i, j] = best
    if apex[0, n - 1] < 0:
        return -1
    stack = np.empty((n + 2, 2), np.int32)
    stack[0, 0], stack[0, 1] = 0, n - 1
    top = 1
    count = 0
    while top > 0:
        top -= 1
        i, j = stack[top, 0], stack[top, 1]
        if j - i < 2:
            continue
        k = apex[i, j]
        triangles[count, 0], triangles[count, 1], triangles[count, 2] = i, k, j
        count += 1
        stack[top, 0], stack[top, 1] = i, k
        stack[top + 1, 0], stack[top + 1, 1] = k, j
        top += 2
    return count


@helper
def _distance(p, a, b):
    return np.sqrt((p[a, 0] - p[b, 0]) ** 2 + (p[a, 1] - p[b, 1]) ** 2 + (p[a, 2] - p[b, 2]) ** 2)


@helper
def _cosine_at(p, a, b, c):
    """Cosine of the angle at c in triangle a b c."""
    x = y = z = 0.0
    for k in range(3):
        u = p[a, k] - p[c, k]
        w = p[b, k] - p[c, k]
        x += u * w
        y += u * u
        z += w * w
    return x / np.sqrt(max(y * z, 1e-300))


@helper
def _joined(faces, opposite, h, goal):
    """Whether the first vertex of half-edge h has an edge to `goal`: both ways around, as far as the fan goes."""
    start = h
    while True:
        f, k = h // 3, h % 3
        if faces[f, (k + 1) % 3] == goal or faces[f, (k + 2) % 3] == goal:
            return True
        h = opposite[3 * f + (k + 2) % 3]  # the edge that comes in
        if h < 0 or h == start:
            break
    if h == start:
        return False
    h = opposite[start]
    while h >= 0:
        f, k = h // 3, h % 3
        h = 3 * f + (k + 1) % 3  # from the same vertex
        if faces[f, (h % 3 + 1) % 3] == goal or faces[f, (h % 3 + 2) % 3] == goal:
            return True
        h = opposite[h]
    return False


@helper
def _set(faces, opposite, f, a, b, c, x, y, z):
    faces[f, 0], faces[f, 1], faces[f, 2] = a, b, c
    for k in range(3):
        g = x if k == 0 else (y if k == 1 else z)
        opposite[3 * f + k] = g
        if g >= 0:
            opposite[g] = 3 * f + k


@helper
def _flip(p, faces, opposite, h):
    """Flip the edge of half-edge h when that makes the two triangles more Delaunay, and no edge twice."""
    g = np.int64(opposite[h])
    if g < 0:
        return False
    f, k = h // 3, h % 3
    o, m = g // 3, g % 3
    a, b, c = np.int64(faces[f, k]), np.int64(faces[f, (k + 1) % 3]), np.int64(faces[f, (k + 2) % 3])
    d = np.int64(faces[o, (m + 2) % 3])
    at_c = _cosine_at(p, a, b, c)
    at_d = _cosine_at(p, a, b, d)
    # the two angles add up to more than 180 degrees
    if at_c * np.sqrt(max(0.0, 1 - at_d * at_d)) + at_d * np.sqrt(max(0.0, 1 - at_c * at_c)) >= -1e-9:
        return False
    if c == d or _joined(faces, opposite, 3 * f + (k + 2) % 3, d):
        return False
    bc, ca = np.int64(opposite[3 * f + (k + 1) % 3]), np.int64(opposite[3 * f + (k + 2) % 3])
    ad, db = np.int64(opposite[3 * o + (m + 1) % 3]), np.int64(opposite[3 * o + (m + 2) % 3])
    _set(faces, opposite, f, a, d, c, ad, 3 * o + 2, ca)
    _set(faces, opposite, o, d, b, c, db, bc, 3 * f + 1)
    return True


@kernel("f8[:,:]! f8[:]! i4[:,:]! i4[:]! i8 i8 f8")
def refine_fill(p, spacing, faces, opposite, points, count, alpha):
    """Split faces whose corners are far apart and flip edges, until the fill is as dense as its rim.

    p (P, 3), spacing (P,), faces (F, 3) and opposite (3F,) have room beyond the first points and `count` faces. The
    edges of the rim are OPEN and stay. Returns (points, faces) after; it stops when the room is used up.
    """
    while True:
        before = points
        for f in range(count):
            if points >= p.shape[0] or count + 2 > faces.shape[0]:
                break
            a, b, c = np.int64(faces[f, 0]), np.int64(faces[f, 1]), np.int64(faces[f, 2])
            x = (p[a, 0] + p[b, 0] + p[c, 0]) / 3
            y = (p[a, 1] + p[b, 1] + p[c, 1]) / 3
            z = (p[a, 2] + p[b, 2] + p[c, 2]) / 3
            wanted = (spacing[a] + spacing[b] + spacing[c]) / 3
            p[points, 0], p[points, 1], p[points, 2] = x, y, z
            far = True
            for k in range(3):
                v = np.int64(faces[f, k])
                apart = alpha * _SPLIT * _distance(p, v, points)
                far &= apart > wanted and apart > spacing[v]
            if not far:
                continue
            spacing[points] = wanted
            ab, bc, ca = (
                np.int64(opposite[3 * f]),
                np.int64(opposite[3 * f + 1]),
                np.int64(opposite[3 * f + 2]),
            )
            g, o = count, count + 1
            _set(faces, opposite, f, a, b, points, ab, 3 * g + 2, 3 * o + 1)
            _set(faces, opposite, g, b, c, points, bc, 3 * o + 2, 3 * f + 1)
            _set(faces, opposite, o, c, a, points, ca, 3 * f + 2, 3 * g + 1)
            points += 1
            count += 2
            _flip(p, faces, opposite, np.int64(3 * f))
            for t in (g, o):
                _flip(p, faces, opposite, np.int64(3 * t))
        for _ in range(20):
            flipped = 0
            for h in range(3 * count):
                if opposite[h] > h:
                    flipped += _flip(p, faces, opposite, np.int64(h))
            if flipped == 0:
                break
        if points == before:
            return points, count


@kernel("i4[:] i8[:] i8 i4[:]! i4[:]!")
def trace_loops(following, starts, most, order, ends):
    """Cycles of half-edges: following[h] is the next of h. starts (N,) are walked in turn, none twice.

    order (N,) int32 lists them loop by loop, ends (N,) int32 where each ends. Returns the number of loops.
    """
    seen = np.zeros(most, np.bool_)
    n = 0
    loops = 0
    for s in starts:
        h = s
        if seen[h]:
            continue
        while h >= 0 and not seen[h]:
            seen[h] = True
            order[n] = h
            n += 1
            h = following[h]
        ends[loops] = n
        loops += 1
    return loops


@kernel("i4[:] i8[:] i4[:]!")
def next_on_rim(opposite, rim, following):
    """following[h] of open half-edges rim (N,): the open half-edge that begins in the same fan where h ends; -1 where
    the fan does not come to one."""
    for h in rim:
        f, k = h // 3, h % 3
        g = 3 * f + (k + 1) % 3
        spent = 0
        while opposite[g] >= 0 and spent < opposite.shape[0]:
            g = opposite[g]
            g = g // 3 * 3 + (g % 3 + 1) % 3
            spent += 1
        following[h] = g if opposite[g] == OPEN else -1
