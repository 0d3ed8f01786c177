"""How near triangles come to a surface, exactly: face against face, not sample against face.

One walk a triangle. A node or a face is left out where a plane holds it so far apart from the triangle: the one square
to the shortest way from the triangle to its middle. Two triangles that do not cross are nearest at a corner of one and
the other's face, or at an edge of each (Ericson 2004, section 5.1.10).
"""

import numpy as np

from bolvek.kernels import helper, kernel
from bolvek.kernels.tree.arrays import STACK
from bolvek.kernels.tree.distance import closest_on_triangle
from bolvek.kernels.tree.lanes import child_overlaps

_ROUNDED = 1.0 + 1e-6  # nodes hold float32


@helper
def _between_edges(s, i, t, j, found):
    """Where edge i of triangle s (9,) and edge j of t (9,) are nearest to each other: found (6,); squared distance."""
    a, b, c, d = 3 * i, 3 * ((i + 1) % 3), 3 * j, 3 * ((j + 1) % 3)
    ex, ey, ez = s[b] - s[a], s[b + 1] - s[a + 1], s[b + 2] - s[a + 2]
    fx, fy, fz = t[d] - t[c], t[d + 1] - t[c + 1], t[d + 2] - t[c + 2]
    rx, ry, rz = s[a] - t[c], s[a + 1] - t[c + 1], s[a + 2] - t[c + 2]
    ee, ff, ef = ex * ex + ey * ey + ez * ez, fx * fx + fy * fy + fz * fz, ex * fx + ey * fy + ez * fz
    er, fr = ex * rx + ey * ry + ez * rz, fx * rx + fy * ry + fz * rz
    if ee <= 0.0 or ff <= 0.0:
        return np.inf  # a corner: told by the other edges
    u, det = 0.0, ee * ff - ef * ef
    if det > 1e-14 * ee * ff:
        u = min(max((ef * fr - er * ff) / det, 0.0), 1.0)
    w = (ef * u + fr) / ff
    if w < 0.0:
        w = 0.0
        u = min(max(-er / ee, 0.0), 1.0)
    elif w > 1.0:
        w = 1.0
        u = min(max((ef - er) / ee, 0.0), 1.0)
    found[0], found[1], found[2] = s[a] + u * ex, s[a + 1] + u * ey, s[a + 2] + u * ez
    found[3], found[4], found[5] = t[c] + w * fx, t[c + 1] + w * fy, t[c + 2] + w * fz
    dx, dy, dz = found[0] - found[3], found[1] - found[4], found[2] - found[5]
    return dx * dx + dy * dy + dz * dz


@helper
def _between(s, t, best, place, found):
    """Squared distance of triangles s and t (9,), if less than best; then place (6,) is where they are so near."""
    for k in range(3):
        x, y, z = s[3 * k], s[3 * k + 1], s[3 * k + 2]
        qx, qy, qz = closest_on_triangle(t[0], t[1], t[2], t[3], t[4], t[5], t[6], t[7], t[8], x, y, z)
        gap = (x - qx) ** 2 + (y - qy) ** 2 + (z - qz) ** 2
        if gap < best:
            best = gap
            place[0], place[1], place[2], place[3], place[4], place[5] = x, y, z, qx, qy, qz
        x, y, z = t[3 * k], t[3 * k + 1], t[3 * k + 2]
        qx, qy, qz = closest_on_triangle(s[0], s[1], s[2], s[3], s[4], s[5], s[6], s[7], s[8], x, y, z)
        gap = (x - qx) ** 2 + (y - qy) ** 2 + (z - qz) ** 2
        if gap < best:
            best = gap
            place[0], place[1], place[2], place[3], place[4], place[5] = qx, qy, qz, x, y, z
    for i in range(3):
        for j in range(3):
            gap = _between_edges(s, i, t, j, found)
            if gap < best:
                best = gap
                for k in range(6):
                    place[k] = found[k]
    return best


@kernel("tree f8[:,:] f8[:] i8 i8 f8[:]! i4[:]! f8[:,:]!")
def nearest_faces(tree, triangles, limit, begin, end, dist2, face, places):
    """The face (N,) of a tree (in its order) nearest to each triangle (N, 9), if nearer than its limit (N,), else -1.

    dist2 (N,): its squared distance, the squared limit where there is none; places (N, 6): where on the triangle, and
    where on the face. Triangles that cross a face have the distance of their rims.
    """
    tri, box, child, first, count = tree.triangles, tree.box, tree.child, tree.first, tree.count
    stack = np.empty(STACK, np.int32)
    s, t, found = np.empty(9), np.empty(9), np.empty(6)
    low, high = np.empty(3), np.empty(3)
    for n in range(begin, end):
        s[:] = triangles[n]
        best = limit[n] * limit[n]
        hit = np.int64(-1)
        for axis in range(3):
            low[axis] = min(s[axis], s[axis + 3], s[axis + 6])
            high[axis] = max(s[axis], s[axis + 3], s[axis + 6])
        top = 1
        stack[0] = 0
        while top > 0:
            top -= 1
            up = stack[top]
            wide = np.sqrt(best)
            near = child_overlaps(
                box, up, np.float32(low[0] - wide), np.float32(low[1] - wide), np.float32(low[2] - wide),
                np.float32(high[0] + wide), np.float32(high[1] + wide), np.float32(high[2] + wide),
            )  # fmt: skip
            for k in range(8):
                c = child[up, k]
                if not (near >> k) & 1 or c == -2:
                    continue
                bx, by, bz = np.float64(box[up, 0, k]), np.float64(box[up, 1, k]), np.float64(box[up, 2, k])
                ex, ey, ez = 0.5 * (box[up, 3, k] - bx), 0.5 * (box[up, 4, k] - by), 0.5 * (box[up, 5, k] - bz)
                x, y, z = bx + ex, by + ey, bz + ez
                px, py, pz = closest_on_triangle(s[0], s[1], s[2], s[3], s[4], s[5], s[6], s[7], s[8], x, y, z)
                ux, uy, uz = x - px, y - py, z - pz
                away = np.sqrt(ux * ux + uy * uy + uz * uz)
                # all of the triangle lies behind the plane through p square to u, and the box so far before it
                if away - (ex * abs(ux) + ey * abs(uy) + ez * abs(uz)) / max(away, 1e-300) > wide * _ROUNDED:
                    continue
                if c >= 0:
                    stack[top] = c
                    top += 1
                    continue
                for g in range(first[up, k], first[up, k] + count[up, k]):
                    t[:] = tri[g]
                    x, y, z = (t[0] + t[3] + t[6]) / 3, (t[1] + t[4] + t[7]) / 3, (t[2] + t[5] + t[8]) / 3
                    px, py, pz = closest_on_triangle(s[0], s[1], s[2], s[3], s[4], s[5], s[6], s[7], s[8], x, y, z)
                    ux, uy, uz = x - px, y - py, z - pz
                    away = np.inf
                    for i in range(0, 9, 3):
                        away = min(away, ux * (t[i] - px) + uy * (t[i + 1] - py) + uz * (t[i + 2] - pz))
                    if away > 0.0 and away * away >= best * (ux * ux + uy * uy + uz * uz):
                        continue
                    gap = _between(s, t, best, places[n], found)
                    if gap < best:
                        best = gap
                        hit = g
        dist2[n] = best
        face[n] = hit
