"""Edge collapse by quadric error, in passes of a growing error limit.

Garland and Heckbert 1997 with unweighted plane quadrics (so the root of the error bounds the
distance to each plane), a link condition, and guards against turned faces and bad shapes. Passes
instead of one priority queue: linear, and nearly as good since the cheap edges still go first.
"""

import numpy as np

from bolvek.kernels import helper, kernel

_MIN_COSINE2 = 0.7**2  # a face may turn by 45 degrees in one collapse
_MIN_HEIGHT2 = 0.06**2  # least height over longest side
_MAX_VALENCE = 28


@kernel("f8[:,:] i4[:,:] f8[:,:]!")
def face_quadrics(vertices, faces, quadric):
    """Add each face's plane quadric to its corners: quadric (V, 10)."""
    for f in range(faces.shape[0]):
        a, b, c = faces[f, 0], faces[f, 1], faces[f, 2]
        ux = vertices[b, 0] - vertices[a, 0]
        uy = vertices[b, 1] - vertices[a, 1]
        uz = vertices[b, 2] - vertices[a, 2]
        wx = vertices[c, 0] - vertices[a, 0]
        wy = vertices[c, 1] - vertices[a, 1]
        wz = vertices[c, 2] - vertices[a, 2]
        nx = uy * wz - uz * wy
        ny = uz * wx - ux * wz
        nz = ux * wy - uy * wx
        length = np.sqrt(nx * nx + ny * ny + nz * nz)
        if not length > 0.0:
            continue
        nx /= length
        ny /= length
        nz /= length
        d = -(nx * vertices[a, 0] + ny * vertices[a, 1] + nz * vertices[a, 2])
        for k in range(3):
            v = faces[f, k]
            quadric[v, 0] += nx * nx
            quadric[v, 1] += nx * ny
            quadric[v, 2] += nx * nz
            quadric[v, 3] += nx * d
            quadric[v, 4] += ny * ny
            quadric[v, 5] += ny * nz
            quadric[v, 6] += ny * d
            quadric[v, 7] += nz * nz
            quadric[v, 8] += nz * d
            quadric[v, 9] += d * d


@helper
def _error(q, x, y, z):
    """The summed quadric at a point."""
    e = (
        q[0] * x * x
        + q[4] * y * y
        + q[7] * z * z
        + 2.0 * (q[1] * x * y + q[2] * x * z + q[5] * y * z)
        + 2.0 * (q[3] * x + q[6] * y + q[8] * z)
        + q[9]
    )
    return max(e, 0.0)


@helper
def _best_point(q, vertices, i, j, limit, out):
    """Minimiser of the summed quadric near the edge, the middle where it lies far off; the better end where that errs
    by more than the limit (mm2). Its error."""
    a00, a01, a02, a11, a12, a22 = q[0], q[1], q[2], q[4], q[5], q[7]
    mx = 0.5 * (vertices[i, 0] + vertices[j, 0])
    my = 0.5 * (vertices[i, 1] + vertices[j, 1])
    mz = 0.5 * (vertices[i, 2] + vertices[j, 2])
    # a little pull to the middle keeps flat neighbourhoods well posed
    pull = 1e-3 * (a00 + a11 + a22)
    a00 += pull
    a11 += pull
    a22 += pull
    bx = -q[3] + pull * mx
    by = -q[6] + pull * my
    bz = -q[8] + pull * mz
    c00 = a11 * a22 - a12 * a12
    c01 = a02 * a12 - a01 * a22
    c02 = a01 * a12 - a02 * a11
    det = a00 * c00 + a01 * c01 + a02 * c02
    x, y, z = mx, my, mz
    if det != 0.0:
        x = (c00 * bx + c01 * by + c02 * bz) / det
        y = (c01 * bx + (a00 * a22 - a02 * a02) * by + (a01 * a02 - a00 * a12) * bz) / det
        z = (c02 * bx + (a01 * a02 - a00 * a12) * by + (a00 * a11 - a01 * a01) * bz) / det
        span = 0.0
        off = 0.0
        for k in range(3):
            span += (vertices[i, k] - vertices[j, k]) ** 2
        off = (x - mx) ** 2 + (y - my) ** 2 + (z - mz) ** 2
        if not off <= 0.25 * span:
            x, y, z = mx, my, mz
    e = _error(q, x, y, z)
    if e > limit:
        for v in (i, j):
            there = _error(q, vertices[v, 0], vertices[v, 1], vertices[v, 2])
            if there < e:
                x, y, z, e = vertices[v, 0], vertices[v, 1], vertices[v, 2], there
    out[0], out[1], out[2] = x, y, z
    return e


@helper
def _keeps_shape(vertices, faces, head, following, moved, other, x, y, z):
    """Whether faces around `moved` (without `other`) keep their side and a decent shape."""
    corner = head[moved]
    while corner >= 0:
        f = corner // 3
        k = corner % 3
        corner = following[corner]
        b, c = faces[f, (k + 1) % 3], faces[f, (k + 2) % 3]
        if b < 0 or b == other or c == other:
            continue
        ex = vertices[c, 0] - vertices[b, 0]
        ey = vertices[c, 1] - vertices[b, 1]
        ez = vertices[c, 2] - vertices[b, 2]
        px = vertices[moved, 0] - vertices[b, 0]
        py = vertices[moved, 1] - vertices[b, 1]
        pz = vertices[moved, 2] - vertices[b, 2]
        ox, oy, oz = ey * pz - ez * py, ez * px - ex * pz, ex * py - ey * px
        px, py, pz = x - vertices[b, 0], y - vertices[b, 1], z - vertices[b, 2]
        nx, ny, nz = ey * pz - ez * py, ez * px - ex * pz, ex * py - ey * px
        old2 = ox * ox + oy * oy + oz * oz
        new2 = nx * nx + ny * ny + nz * nz
        along = ox * nx + oy * ny + oz * nz
        if along < 0.0 or along * along < _MIN_COSINE2 * old2 * new2:
            return False
        # height over the longest side: no needles
        qx, qy, qz = x - vertices[c, 0], y - vertices[c, 1], z - vertices[c, 2]
        longest = max(ex * ex + ey * ey + ez * ez, px * px + py * py + pz * pz, qx * qx + qy * qy + qz * qz)
        if new2 < _MIN_HEIGHT2 * longest * longest:
            return False
    return True


@kernel("f8[:,:]! i4[:,:]! f8[:,:]! b1[:] i4[:] i4[:]! i4[:]! f8 i4[:]! i8 i8")
def collapse_pass(vertices, faces, quadric, keep, head, tail, following, limit, mark, stamp, most):
    """Collapse every edge of error (mm2) up to `limit` that may go, `most` of them; returns (collapses, stamp).

    keep (V,) bool: vertices that stay. head, tail (V,) and following (3F,) int32 are lists of the
    corners around each vertex, from `corner_lists`. A removed face gets corners -1. mark (V,) int32
    is scratch, below stamp.
    """
    q = np.empty(10)
    point = np.empty(3)
    done = 0
    for f in range(faces.shape[0]):
        if done >= most:
            break
        for k in range(3):
            i, j = faces[f, k], faces[f, (k + 1) % 3]
            if i < 0:
                break
            if i >= j or keep[i] or keep[j]:
                continue
            for t in range(10):
                q[t] = quadric[i, t] + quadric[j, t]
            if _best_point(q, vertices, i, j, limit, point) > limit:
                continue
            # link condition: exactly two common neighbours
            stamp += 1
            valence = 0
            corner = head[i]
            while corner >= 0:
                g = corner // 3
                corner = following[corner]
                if faces[g, 0] >= 0:
                    valence += 1
                    for t in range(3):
                        mark[faces[g, t]] = stamp
            mark[i] = stamp - 1
            mark[j] = stamp - 1
            common = 0
            corner = head[j]
            while corner >= 0:
                g = corner // 3
                corner = following[corner]
                if faces[g, 0] >= 0:
                    valence += 1
                    for t in range(3):
                        v = faces[g, t]
                        if mark[v] == stamp:
                            mark[v] = stamp - 1
                            common += 1
            if common != 2 or valence > _MAX_VALENCE:
                continue
            x, y, z = point[0], point[1], point[2]
            if not _keeps_shape(vertices, faces, head, following, i, j, x, y, z):
                continue
            if not _keeps_shape(vertices, faces, head, following, j, i, x, y, z):
                continue
            corner = head[j]
            while corner >= 0:
                g = corner // 3
                if faces[g, 0] == i or faces[g, 1] == i or faces[g, 2] == i:
                    for t in range(3):
                        faces[g, t] = -1
                elif faces[g, 0] >= 0:
                    faces[g, corner % 3] = i
                corner = following[corner]
            following[tail[i]] = head[j]
            tail[i] = tail[j]
            vertices[i, 0], vertices[i, 1], vertices[i, 2] = x, y, z
            for t in range(10):
                quadric[i, t] = q[t]
            done += 1
            break
    return done, stamp


@kernel("i4[:,:] i4[:]! i4[:]! i4[:]!")
def corner_lists(faces, head, tail, following):
    """Linked lists of corners 3 f + k around each vertex; head and tail come filled with -1."""
    for f in range(faces.shape[0]):
        for k in range(3):
            v = faces[f, k]
            c = 3 * f + k
            following[c] = -1
            if head[v] < 0:
                head[v] = c
            else:
                following[tail[v]] = c
            tail[v] = c
