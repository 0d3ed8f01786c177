"""In how many curves a closed surface crosses spheres.

On each face a sphere leaves arcs, which end where it crosses the face's edges. What a crossing is told by is the same
for both faces of an edge, so that the curves close whatever is rounded.
"""

import numpy as np

from bolvek.kernels import helper, kernel
from bolvek.kernels.tree.arrays import STACK
from bolvek.kernels.tree.distance import closest_on_triangle
from bolvek.kernels.tree.lanes import child_overlaps

_MOST = 512
"""Crossings of edges at one sphere: beyond, nothing is told."""


@helper
def _top(parent, i):
    """The representative of i."""
    while parent[i] != i:
        parent[i] = parent[parent[i]]
        i = parent[i]
    return i


@helper
def _node(key, known, parent, n):
    """The number of the crossing with a key, of known[:n]; n where it is new, -1 where there is no room."""
    for i in range(n):
        if known[i] == key:
            return i
    if n >= known.shape[0]:
        return -1
    known[n], parent[n] = key, n
    return n


@helper
def _crossings(ax, ay, az, bx, by, bz, square, at):
    """How often the sphere of squared radius around zero crosses the line from a to b; the shares of it in at (2,)."""
    dx, dy, dz = bx - ax, by - ay, bz - az
    a_in = ax * ax + ay * ay + az * az < square
    b_in = bx * bx + by * by + bz * bz < square
    long, slope = dx * dx + dy * dy + dz * dz, ax * dx + ay * dy + az * dz
    low = ax * ax + ay * ay + az * az - square
    root = slope * slope - long * low
    if a_in != b_in:
        root = np.sqrt(max(root, 0.0))
        at[0] = (-slope + root) / long if a_in else (-slope - root) / long
        return 1
    if a_in or root <= 0.0 or slope >= 0.0 or -slope >= long:
        return 0
    root = np.sqrt(root)
    at[0], at[1] = (-slope - root) / long, (-slope + root) / long
    return 2


@helper
def _arcs(corner, point, node, n, parent):
    """Join the crossings (n, 4 or 6 of one face) that arcs of the sphere within it join."""
    ux, uy, uz = corner[1, 0] - corner[0, 0], corner[1, 1] - corner[0, 1], corner[1, 2] - corner[0, 2]
    wx, wy, wz = corner[2, 0] - corner[0, 0], corner[2, 1] - corner[0, 1], corner[2, 2] - corner[0, 2]
    nx, ny, nz = uy * wz - uz * wy, uz * wx - ux * wz, ux * wy - uy * wx
    size = np.sqrt(nx * nx + ny * ny + nz * nz)
    nx, ny, nz = nx / size, ny / size, nz / size
    size = np.sqrt(ux * ux + uy * uy + uz * uz)
    ux, uy, uz = ux / size, uy / size, uz / size
    wx, wy, wz = ny * uz - nz * uy, nz * ux - nx * uz, nx * uy - ny * ux
    angle = np.empty(6)
    for i in range(n):
        angle[i] = np.arctan2(
            point[i, 0] * wx + point[i, 1] * wy + point[i, 2] * wz,
            point[i, 0] * ux + point[i, 1] * uy + point[i, 2] * uz,
        )
    order = np.argsort(angle[:n])
    first, second = order[0], order[1]
    # the middle of the first arc, on the circle that the face's plane cuts out
    off = corner[0, 0] * nx + corner[0, 1] * ny + corner[0, 2] * nz
    radius = 0.0
    for j in range(3):
        away = point[first, j] - off * (nx if j == 0 else (ny if j == 1 else nz))
        radius += away * away
    radius = np.sqrt(radius)
    middle = 0.5 * (angle[first] + angle[second])
    c, s = radius * np.cos(middle), radius * np.sin(middle)
    mx, my, mz = off * nx + c * ux + s * wx, off * ny + c * uy + s * wy, off * nz + c * uz + s * wz
    within = True
    for k in range(3):
        a, b = corner[k], corner[(k + 1) % 3]
        ex, ey, ez = b[0] - a[0], b[1] - a[1], b[2] - a[2]
        px, py, pz = mx - a[0], my - a[1], mz - a[2]
        if nx * (ey * pz - ez * py) + ny * (ez * px - ex * pz) + nz * (ex * py - ey * px) < 0.0:
            within = False
    shift = 0 if within else 1
    for i in range(0, n, 2):
        one, other = node[order[(i + shift) % n]], node[order[(i + shift + 1) % n]]
        parent[_top(parent, one)] = _top(parent, other)


@kernel("tree f8[:,:] i4[:,:] i4[:] f8[:,:] f8 i8 i8 i4[:]!")
def curves_on_spheres(tree, v, faces, opposite, middle, radius, begin, end, found):
    """In how many closed curves the surface crosses the sphere of a radius around each place (N, 3); -1 where there
    are too many to tell. Fills found (N,)."""
    order, box, child, first, count, origin = tree.order, tree.box, tree.child, tree.first, tree.count, tree.origin
    stack = np.empty(STACK, np.int32)
    known, parent = np.empty(_MOST, np.int64), np.empty(_MOST, np.int64)
    corner, point, at = np.empty((3, 3)), np.empty((6, 3)), np.empty(2)
    node = np.empty(6, np.int64)
    square = radius * radius
    for row in range(begin, end):
        x, y, z = middle[row, 0], middle[row, 1], middle[row, 2]
        wide = np.float32(1.001 * radius)
        lx, ly, lz = np.float32(x - origin[0]), np.float32(y - origin[1]), np.float32(z - origin[2])
        n = np.int64(0)
        alone = 0
        full = False
        top = 1
        stack[0] = 0
        while top > 0 and not full:
            top -= 1
            up = stack[top]
            near = child_overlaps(box, up, lx - wide, ly - wide, lz - wide, lx + wide, ly + wide, lz + wide)
            for k in range(8):
                c = child[up, k]
                if not (near >> k) & 1 or c == -2:
                    continue
                if c >= 0:
                    stack[top] = c
                    top += 1
                    continue
                for g in range(first[up, k], first[up, k] + count[up, k]):
                    f = order[g]
                    inside = 0
                    for i in range(3):
                        a = faces[f, i]
                        corner[i, 0], corner[i, 1], corner[i, 2] = v[a, 0] - x, v[a, 1] - y, v[a, 2] - z
                        inside += corner[i, 0] ** 2 + corner[i, 1] ** 2 + corner[i, 2] ** 2 < square
                    if inside == 3:
                        continue
                    if inside == 0:
                        qx, qy, qz = closest_on_triangle(
                            corner[0, 0], corner[0, 1], corner[0, 2], corner[1, 0], corner[1, 1], corner[1, 2],
                            corner[2, 0], corner[2, 1], corner[2, 2], 0.0, 0.0, 0.0,
                        )  # fmt: skip
                        if qx * qx + qy * qy + qz * qz >= square:
                            continue
                    points = np.int64(0)
                    for i in range(3):
                        half = np.int64(3) * f + i
                        back = np.int64(opposite[half])
                        # both faces of an edge look along it the same way
                        if 0 <= back < half:
                            half = back
                            p, q = corner[(i + 1) % 3], corner[i]
                        else:
                            p, q = corner[i], corner[(i + 1) % 3]
                        times = _crossings(p[0], p[1], p[2], q[0], q[1], q[2], square, at)
                        for j in range(times):
                            number = _node(2 * half + j, known, parent, n)
                            if number < 0:
                                full = True
                                break
                            n = max(n, number + 1)
                            node[points] = number
                            for axis in range(3):
                                point[points, axis] = p[axis] + at[j] * (q[axis] - p[axis])
                            points += 1
                    if full:
                        break
                    if points == 0:
                        alone += 1
                    elif points == 2:
                        parent[_top(parent, node[0])] = _top(parent, node[1])
                    else:
                        _arcs(corner, point, node, points, parent)
        curves = alone
        for i in range(n):
            curves += parent[i] == i
        found[row] = -1 if full else curves
