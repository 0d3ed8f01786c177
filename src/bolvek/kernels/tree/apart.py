"""How far triangles get from a surface at most: bounds that are divided until they are sharp enough."""

import numpy as np

from bolvek.kernels import helper, kernel
from bolvek.kernels.tree.arrays import STACK
from bolvek.kernels.tree.distance import nearest_after, triangle_distance2

_LEVELS, _MOST, _ROOM = 40, 50_000, 256
_CLOSE = 1.02  # a bound so near to a distance that was found is sharp enough
_LARGE = 3.0  # times as large as the face nearest to its middle
_ON_PLANE = 1e-9  # of a triangle's extent


@helper
def _to_face(tri, f, t):
    """The largest distance of the corners of t (9,) to a face."""
    most = 0.0
    for k in range(3):
        most = max(most, triangle_distance2(tri, f, t[3 * k], t[3 * k + 1], t[3 * k + 2]))
    return np.sqrt(most)


@helper
def _extent(t):
    most = 0.0
    for k in range(3):
        low = min(t[k], t[3 + k], t[6 + k])
        high = max(t[k], t[3 + k], t[6 + k])
        most = max(most, high - low)
    return most


@helper
def _extent_of_face(tri, f):
    most = 0.0
    for k in range(3):
        low = min(tri[f, k], tri[f, 3 + k], tri[f, 6 + k])
        high = max(tri[f, k], tri[f, 3 + k], tri[f, 6 + k])
        most = max(most, high - low)
    return most


@helper
def _put(stack, row, a, b, c):
    for k in range(3):
        stack[row, k] = a[k]
        stack[row, 3 + k] = b[k]
        stack[row, 6 + k] = c[k]


@helper
def _divide(tri, outward, f, t, stack, top):
    """Triangle t (9,) onto the stack in three, along an edge of the face its middle is nearest to, or in four, where
    it is large beside that face or none of its edges cuts it; rows used."""
    extent = _extent(t)
    corner = t.reshape(3, 3)
    if extent <= _LARGE * _extent_of_face(tri, f):
        value = np.empty(3)
        for k in range(3):
            above = 0
            below = 0
            for i in range(3):
                value[i] = 0.0
                for j in range(3):
                    value[i] += (corner[i, j] - tri[f, 3 * k + j]) * outward[3 * f + k, j]
                if value[i] > _ON_PLANE * extent:
                    above += 1
                elif value[i] < -_ON_PLANE * extent:
                    below += 1
            if above == 0 or below == 0:
                continue
            # a corner that lies alone on its side comes first
            i = 0
            while (value[i] if above == 1 else -value[i]) <= _ON_PLANE * extent:
                i += 1
            a, b, c = corner[i], corner[(i + 1) % 3], corner[(i + 2) % 3]
            va, vb, vc = value[i], value[(i + 1) % 3], value[(i + 2) % 3]
            ab, ac = np.empty(3), np.empty(3)
            for j in range(3):
                ab[j] = a[j] + min(max(va / (va - vb), 0.0), 1.0) * (b[j] - a[j]) if va * vb < 0.0 else b[j]
                ac[j] = a[j] + min(max(va / (va - vc), 0.0), 1.0) * (c[j] - a[j]) if va * vc < 0.0 else c[j]
            _put(stack, top, a, ab, ac)
            _put(stack, top + 1, ab, b, c)
            _put(stack, top + 2, ab, c, ac)
            return 3
    a, b, c = corner[0], corner[1], corner[2]
    ab, bc, ca = 0.5 * (a + b), 0.5 * (b + c), 0.5 * (c + a)
    _put(stack, top, a, ab, ca)
    _put(stack, top + 1, ab, b, bc)
    _put(stack, top + 2, ca, bc, c)
    _put(stack, top + 3, ab, bc, ca)
    return 4


@kernel("tree f8[:,:] f8[:,:] i4[:,:] f8 i8 i8 f8[:,:]!")
def farthest(tree, outward, corners, near, enough, begin, end, out):
    """How far triangles (N, 9) get from the surface of a tree at most.

    outward (3F, 3): for each edge of its faces, in tree order, the normal of the plane that halves the angle there;
    near (N, 3): faces near each triangle's corners; enough: bounds up to it are sharp enough. out (N, 5): the
    largest distance found, the bound, the place of the largest bound.
    """
    tri = tree.triangles
    stack_node = np.empty(STACK, np.int32)
    stack_low = np.empty(STACK, np.float32)
    low = np.empty(8, np.float32)
    stack = np.empty((_ROOM, 9))
    depth = np.empty(_ROOM, np.int64)
    t = np.empty(9)
    last = np.int64(-1)
    for n in range(begin, end):
        found, most = 0.0, 0.0
        bound = np.inf
        t[:] = corners[n]
        for k in range(3):
            bound = min(bound, _to_face(tri, np.int64(near[n, k]), t))
        x = (corners[n, 0] + corners[n, 3] + corners[n, 6]) / 3
        y = (corners[n, 1] + corners[n, 4] + corners[n, 7]) / 3
        z = (corners[n, 2] + corners[n, 5] + corners[n, 8]) / 3
        out[n, 2], out[n, 3], out[n, 4] = x, y, z
        top = 0
        if bound <= enough:
            most = bound
        else:
            stack[0] = t
            depth[0] = 0
            top = 1
        made = 1
        while top > 0:
            top -= 1
            t[:] = stack[top]
            level = depth[top]
            x, y, z = (t[0] + t[3] + t[6]) / 3, (t[1] + t[4] + t[7]) / 3, (t[2] + t[5] + t[8]) / 3
            best, f = nearest_after(tree, last, np.inf, x, y, z, stack_node, stack_low, low)
            last = f
            best = np.sqrt(best)
            found = max(found, best)
            around = 0.0
            for k in range(3):
                around = max(around, (t[3 * k] - x) ** 2 + (t[3 * k + 1] - y) ** 2 + (t[3 * k + 2] - z) ** 2)
            here = min(best + np.sqrt(around), _to_face(tri, f, t))
            if level == 0:
                here = min(here, bound)
            if here <= max(enough, _CLOSE * found) or level >= _LEVELS or made >= _MOST or top + 4 > _ROOM:
                if here > most:
                    most = here
                    out[n, 2], out[n, 3], out[n, 4] = x, y, z
                continue
            more = _divide(tri, outward, f, t, stack, top)
            for k in range(more):
                depth[top + k] = level + 1
            top += more
            made += more
        out[n, 0], out[n, 1] = found, most
