"""How many pieces of material lie on spheres, told by the curves in which a closed surface crosses them.

On each face a sphere leaves arcs, which end where it crosses the face's edges. Which arcs follow each other is told by
which way the edges lead, so that the curves close whatever is rounded. What a curve has to its left (the material, seen
from outside the sphere) has an area by the theorem of Gauss and Bonnet: a full turn less what the curve turns. Of c
curves with areas A on m pieces of material, A / 4 pi is c - m and the share of the sphere that is material.
"""

import numpy as np

from bolvek.kernels import helper, kernel
from bolvek.kernels.roots import root_of
from bolvek.kernels.tree.arrays import STACK
from bolvek.kernels.tree.distance import closest_on_triangle
from bolvek.kernels.tree.lanes import child_overlaps

_MOST = 512
"""Crossings of edges at one sphere: beyond, nothing is told."""
_TURN = 2.0 * np.pi
_SAME = 1e-6  # radians: arcs that are so near to none or a full turn are one or the other


@helper
def _node(key, known, parent, n):
    """The number of the crossing with a key, of known[:n]; n where it is new, -1 where there is no room."""
    for i in range(n):
        if known[i] == key:
            return i
    if n >= known.shape[0]:
        return np.int64(-1)
    known[n], parent[n] = key, n
    return n


@helper
def _crossings(p, q, square, at):
    """How often the sphere of squared radius around zero crosses the line from p to q (3,); its shares in at (2,)."""
    dx, dy, dz = q[0] - p[0], q[1] - p[1], q[2] - p[2]
    low = p[0] * p[0] + p[1] * p[1] + p[2] * p[2] - square
    p_in, q_in = low < 0.0, q[0] * q[0] + q[1] * q[1] + q[2] * q[2] - square < 0.0
    long, slope = dx * dx + dy * dy + dz * dz, p[0] * dx + p[1] * dy + p[2] * dz
    root = slope * slope - long * low
    if p_in != q_in:
        root = np.sqrt(max(root, 0.0))
        at[0] = (-slope + root) / long if p_in else (-slope - root) / long
        return 1
    if p_in or root <= 0.0 or slope >= 0.0 or -slope >= long:
        return 0
    root = np.sqrt(root)
    at[0], at[1] = (-slope - root) / long, (-slope + root) / long
    return 2


@helper
def _turns(normal, f, g, x, y, z, radius):
    """By how much (radians) a curve turns to the left where it goes from face f to g at a place on the sphere."""
    ax, ay, az = normal[f, 0], normal[f, 1], normal[f, 2]
    bx, by, bz = normal[g, 0], normal[g, 1], normal[g, 2]
    x, y, z = x / radius, y / radius, z / radius
    across = x * (ay * bz - az * by) + y * (az * bx - ax * bz) + z * (ax * by - ay * bx)
    along = ax * bx + ay * by + az * bz - (x * ax + y * ay + z * az) * (x * bx + y * by + z * bz)
    return np.arctan2(across, along)


@helper
def _within(corner, n, x, y, z):
    """Whether a place on the plane of a face lies in it."""
    for k in range(3):
        a, b = corner[k], corner[(k + 1) % 3]
        ex, ey, ez = b[0] - a[0], b[1] - a[1], b[2] - a[2]
        px, py, pz = x - a[0], y - a[1], z - a[2]
        if n[0] * (ey * pz - ez * py) + n[1] * (ez * px - ex * pz) + n[2] * (ex * py - ey * px) < 0.0:
            return False
    return True


@helper
def _arcs(corner, n, radius, point, node, begins, count, parent, bend):
    """Join the crossings (count,) of one face that arcs within it join, and add to bend (N,) what these turn; n (3,) is
    its normal. An arc begins where the edge leads into the sphere, and runs clockwise around the normal."""
    ux, uy, uz = corner[1, 0] - corner[0, 0], corner[1, 1] - corner[0, 1], corner[1, 2] - corner[0, 2]
    size = np.sqrt(ux * ux + uy * uy + uz * uz)
    ux, uy, uz = ux / size, uy / size, uz / size
    wx, wy, wz = n[1] * uz - n[2] * uy, n[2] * ux - n[0] * uz, n[0] * uy - n[1] * ux
    off = corner[0, 0] * n[0] + corner[0, 1] * n[1] + corner[0, 2] * n[2]
    angle = np.empty(6)
    for i in range(count):
        angle[i] = np.arctan2(
            point[i, 0] * wx + point[i, 1] * wy + point[i, 2] * wz,
            point[i, 0] * ux + point[i, 1] * uy + point[i, 2] * uz,
        )
    for i in range(count):
        if not begins[i]:
            continue
        least, other = np.inf, i
        for j in range(count):
            arc = (angle[i] - angle[j]) % _TURN
            if not begins[j] and arc < least:
                least, other = arc, j
        if least < _SAME or least > _TURN - _SAME:
            # the far side of the circle tells whether it is hardly an arc, or hardly none
            x, y, z = 2 * off * n[0] - point[i, 0], 2 * off * n[1] - point[i, 1], 2 * off * n[2] - point[i, 2]
            least = _TURN if _within(corner, n, x, y, z) else 0.0
        bend[node[i]] -= least * off / radius
        parent[root_of(parent, node[i])] = root_of(parent, node[other])


@kernel("tree f8[:,:] i4[:,:] i4[:] f8[:,:] f8[:,:] f8 f8 i8 i8 i4[:]!")
def pieces_on_spheres(tree, v, faces, opposite, normal, middle, radius, least, begin, end, found):
    """How many pieces of material lie on the sphere of a radius around each place (N, 3), those aside that a curve with
    less than so much of it (of 4 pi) bounds; 1 where the surface does not cross it, -1 where that was not to be told.

    normal (F, 3): of unit length. Fills found (N,).
    """
    order, box, child, first, count, origin = tree.order, tree.box, tree.child, tree.first, tree.count, tree.origin
    stack = np.empty(STACK, np.int32)
    known, parent, bend = np.empty(_MOST, np.int64), np.empty(_MOST, np.int64), np.empty(_MOST)
    corner, point, at = np.empty((3, 3)), np.empty((6, 3)), np.empty(2)
    node, begins = np.empty(6, np.int64), np.empty(6, np.bool_)
    square = radius * radius
    for row in range(begin, end):
        x, y, z = middle[row, 0], middle[row, 1], middle[row, 2]
        wide = np.float32(1.001 * radius)
        lx, ly, lz = np.float32(x - origin[0]), np.float32(y - origin[1]), np.float32(z - origin[2])
        n = np.int64(0)
        curves = 0
        small = 0
        area = 0.0
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
                for place in range(first[up, k], first[up, k] + count[up, k]):
                    f = np.int64(order[place])
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
                        half = 3 * f + i
                        back = np.int64(opposite[half])
                        # both faces of an edge look along it the same way
                        mine = back < 0 or half < back
                        p, q = corner[i if mine else (i + 1) % 3], corner[(i + 1) % 3 if mine else i]
                        times = _crossings(p, q, square, at)
                        for j in range(times):
                            number = _node(2 * (half if mine else back) + j, known, parent, n)
                            if number < 0:
                                full = True
                                break
                            if number == n:
                                bend[n] = 0.0
                                n += 1
                            node[points] = number
                            slope = 0.0
                            for axis in range(3):
                                point[points, axis] = p[axis] + at[j] * (q[axis] - p[axis])
                                slope += point[points, axis] * (q[axis] - p[axis])
                            begins[points] = slope < 0.0 if mine else slope > 0.0
                            if mine and back >= 0:
                                g = back // 3
                                one, other = (g, f) if begins[points] else (f, g)
                                bend[number] += _turns(
                                    normal, one, other, point[points, 0], point[points, 1], point[points, 2], radius
                                )
                            points += 1
                    if full:
                        break
                    if points == 0:
                        off = (
                            corner[0, 0] * normal[f, 0] + corner[0, 1] * normal[f, 1] + corner[0, 2] * normal[f, 2]
                        ) / radius
                        curves += 1
                        area += 0.5 * (1.0 + off)
                        small += 0.5 * (1.0 + off) < least
                    else:
                        _arcs(corner, normal[f], radius, point, node, begins, points, parent, bend)
        if full:
            found[row] = -1
            continue
        for i in range(n):
            home = root_of(parent, i)
            if home != i:
                bend[home] += bend[i]
        for i in range(n):
            if parent[i] == i:
                share = (0.5 - bend[i] / (2.0 * _TURN)) % 1.0
                curves += 1
                area += share
                small += share < least
        found[row] = curves - np.int64(np.floor(area)) - small if curves > 0 else 1
