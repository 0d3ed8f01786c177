"""Signed distance to a closed surface: negative in its material.

The side is told by the normal at the nearest point: that of the face, the sum of both faces' at an edge,
the sum weighted by angles at a corner (Baerentzen and Aanaes 2005, "Signed Distance Computation Using the
Angle Weighted Pseudonormal").
"""

import numpy as np

from bolvek.kernels import helper, kernel
from bolvek.kernels.tree.arrays import STACK
from bolvek.kernels.tree.distance import faces_within, nearest_after, triangle_distance2

_MOST_SHARED = 48  # triangles that a group of points is held against one by one
_SHARE_AGAIN = 16  # groups after one that had more
_ROUNDED = 1.0 + 1e-12


@kernel("f8[:,:] i4[:,:] f8[:,:] f8[:,:]!")
def corner_normals(v, faces, normal, out):
    """out (V, 3): normals (F, 3) of the faces around each vertex, weighted by their angles there."""
    for f in range(faces.shape[0]):
        for k in range(3):
            a, b, c = faces[f, k], faces[f, (k + 1) % 3], faces[f, (k + 2) % 3]
            ux, uy, uz = v[b, 0] - v[a, 0], v[b, 1] - v[a, 1], v[b, 2] - v[a, 2]
            wx, wy, wz = v[c, 0] - v[a, 0], v[c, 1] - v[a, 1], v[c, 2] - v[a, 2]
            nx, ny, nz = uy * wz - uz * wy, uz * wx - ux * wz, ux * wy - uy * wx
            angle = np.arctan2(np.sqrt(nx * nx + ny * ny + nz * nz), ux * wx + uy * wy + uz * wz)
            for j in range(3):
                out[a, j] += angle * normal[f, j]


@helper
def _along(tri, f, k, px, py, pz):
    """Place of p's foot on side k of a triangle, as a share of its length (not clamped)."""
    m = (k + 1) % 3
    ax, ay, az = tri[f, 3 * k], tri[f, 3 * k + 1], tri[f, 3 * k + 2]
    ex, ey, ez = tri[f, 3 * m] - ax, tri[f, 3 * m + 1] - ay, tri[f, 3 * m + 2] - az
    size = ex * ex + ey * ey + ez * ez
    return ((px - ax) * ex + (py - ay) * ey + (pz - az) * ez) / size if size > 0.0 else 0.0


@helper
def _feature(tri, f, px, py, pz):
    """Where on a triangle the nearest point to p lies: -1 inside, 0 to 2 on the side after that corner,
    3 to 5 on a corner."""
    ax, ay, az = tri[f, 0], tri[f, 1], tri[f, 2]
    e1x, e1y, e1z = tri[f, 3] - ax, tri[f, 4] - ay, tri[f, 5] - az
    e2x, e2y, e2z = tri[f, 6] - ax, tri[f, 7] - ay, tri[f, 8] - az
    nx, ny, nz = e1y * e2z - e1z * e2y, e1z * e2x - e1x * e2z, e1x * e2y - e1y * e2x
    best = np.inf
    side = -1
    share = 0.0
    inside = True
    for k in range(3):
        m = (k + 1) % 3
        qx, qy, qz = tri[f, 3 * k], tri[f, 3 * k + 1], tri[f, 3 * k + 2]
        ex, ey, ez = tri[f, 3 * m] - qx, tri[f, 3 * m + 1] - qy, tri[f, 3 * m + 2] - qz
        dx, dy, dz = px - qx, py - qy, pz - qz
        if (ey * dz - ez * dy) * nx + (ez * dx - ex * dz) * ny + (ex * dy - ey * dx) * nz < 0.0:
            inside = False
        t = min(max(_along(tri, f, k, px, py, pz), 0.0), 1.0)
        gx, gy, gz = dx - t * ex, dy - t * ey, dz - t * ez
        gap = gx * gx + gy * gy + gz * gz
        if gap < best:
            best = gap
            side = k
            share = t
    if inside:
        return -1
    if share <= 0.0:
        return 3 + side
    if share >= 1.0:
        return 3 + (side + 1) % 3
    return side


@helper
def side_of(tree, faces, opposite, normal, corner, g, px, py, pz):
    """1 in air, -1 in material, for a point whose nearest triangle (tree order) is g."""
    tri = tree.triangles
    f = tree.order[g]
    at = _feature(tri, g, px, py, pz)
    k = at - 3 if at >= 3 else max(at, 0)
    dx, dy, dz = px - tri[g, 3 * k], py - tri[g, 3 * k + 1], pz - tri[g, 3 * k + 2]
    if at >= 3:
        i = faces[f, k]
        side = dx * corner[i, 0] + dy * corner[i, 1] + dz * corner[i, 2]
    else:
        nx, ny, nz = normal[f, 0], normal[f, 1], normal[f, 2]
        if at >= 0 and opposite[3 * f + at] >= 0:
            o = opposite[3 * f + at] // 3
            nx, ny, nz = nx + normal[o, 0], ny + normal[o, 1], nz + normal[o, 2]
        side = dx * nx + dy * ny + dz * nz
    return 1.0 if side >= 0.0 else -1.0


@kernel("tree i4[:,:] i4[:] f8[:,:] f8[:,:] f8[:,:] f8 i8 i8 f8[:]!")
def signed_distances(tree, faces, opposite, normal, corner, points, limit, begin, end, out):
    """Signed distance out (Q,) of points (Q, 3), relative to the tree's origin; beyond the limit `nan`.

    A query starts from the answer of the one before it: sort the points along a curve first.
    """
    stack_node = np.empty(STACK, np.int32)
    stack_low = np.empty(STACK, np.float32)
    low = np.empty(8, np.float32)
    last = np.int64(-1)
    for q in range(begin, end):
        px, py, pz = points[q, 0], points[q, 1], points[q, 2]
        best, hit = nearest_after(tree, last, limit, px, py, pz, stack_node, stack_low, low)
        if hit < 0:
            out[q] = np.nan
            continue
        last = hit
        out[q] = np.sqrt(best) * side_of(tree, faces, opposite, normal, corner, hit, px, py, pz)


@kernel("tree i4[:,:] i4[:] f8[:,:] f8[:,:] f8[:,:] f8 i8 i8 i8 f8[:]!")
def signed_distances_together(tree, faces, opposite, normal, corner, points, limit, group, begin, end, out):
    """`signed_distances` of groups begin..end of so many points that follow each other and lie close together.

    What is nearest to any of them is no farther from their middle than what is nearest to that, and twice their spread:
    where few triangles are, one walk finds them for the whole group.
    """
    stack_node = np.empty(STACK, np.int32)
    stack_low = np.empty(STACK, np.float32)
    low = np.empty(8, np.float32)
    found = np.empty(_MOST_SHARED, np.int32)
    gap = np.empty(_MOST_SHARED)
    last = np.int64(-1)
    pause = 0
    for g in range(begin, end):
        s, e = g * group, min((g + 1) * group, len(points))
        n = -1
        cx, cy, cz = 0.0, 0.0, 0.0
        if pause > 0:
            pause -= 1
        else:
            for q in range(s, e):
                cx, cy, cz = cx + points[q, 0], cy + points[q, 1], cz + points[q, 2]
            cx, cy, cz = cx / (e - s), cy / (e - s), cz / (e - s)
            spread = 0.0
            for q in range(s, e):
                dx, dy, dz = points[q, 0] - cx, points[q, 1] - cy, points[q, 2] - cz
                spread = max(spread, dx * dx + dy * dy + dz * dz)
            spread = np.sqrt(spread) * _ROUNDED
            best, hit = nearest_after(tree, last, limit + spread, cx, cy, cz, stack_node, stack_low, low)
            if hit < 0:
                out[s:e] = np.nan
                continue
            last = hit
            reach = (np.sqrt(best) + 2.0 * spread) * _ROUNDED
            n = faces_within(tree, cx, cy, cz, reach * reach, found, gap, stack_node, low)
            if n < 0:
                pause = _SHARE_AGAIN
            for m in range(n):
                gap[m] = np.sqrt(gap[m])
        for q in range(s, e):
            px, py, pz = points[q, 0], points[q, 1], points[q, 2]
            if n < 0:
                best, hit = nearest_after(tree, last, limit, px, py, pz, stack_node, stack_low, low)
            else:
                best, hit = limit * limit, np.int64(-1)
                off = np.sqrt((px - cx) ** 2 + (py - cy) ** 2 + (pz - cz) ** 2)
                most = np.inf
                for m in range(n):
                    if gap[m] > most:
                        break
                    f = np.int64(found[m])
                    d = triangle_distance2(tree.triangles, f, px, py, pz)
                    if d < best or (d == best and (hit < 0 or f < hit)):
                        best = d
                        hit = f
                        most = (np.sqrt(d) + off) * _ROUNDED
            if hit < 0:
                out[q] = np.nan
                continue
            last = hit
            out[q] = np.sqrt(best) * side_of(tree, faces, opposite, normal, corner, hit, px, py, pz)
