"""Questions to the bounding-volume tree: nearest point, rays, winding number, meeting pairs.

Each kernel answers a range of queries, so that threads can share the work; a query's answer never
depends on the range it stands in. Coordinates are relative to the tree's origin, except in
`meeting_pairs`, whose exact tests need the vertices as they are.
"""

import numpy as np

from bolvek.kernels import kernel
from bolvek.kernels.simd import child_bounds, child_overlaps, child_slabs
from bolvek.kernels.triangles import surely_beside, triangles_meet

_STACK = 512
_SHRINK = np.float32(1.0 - 4e-6)  # float32 bounds may come out a few ulp too far
_FOUR_PI = 4.0 * np.pi


@kernel
def triangle_distance2(tri, f, px, py, pz):
    """Squared distance of a point to row f of tri (F, 9); Ericson 2004, section 5.1.5."""
    ax, ay, az = tri[f, 0], tri[f, 1], tri[f, 2]
    bx, by, bz = tri[f, 3], tri[f, 4], tri[f, 5]
    cx, cy, cz = tri[f, 6], tri[f, 7], tri[f, 8]
    qx, qy, qz = closest_on_triangle(ax, ay, az, bx, by, bz, cx, cy, cz, px, py, pz)
    dx, dy, dz = px - qx, py - qy, pz - qz
    return dx * dx + dy * dy + dz * dz


@kernel
def closest_on_triangle(ax, ay, az, bx, by, bz, cx, cy, cz, px, py, pz):
    """The point of triangle a b c nearest to p."""
    abx, aby, abz = bx - ax, by - ay, bz - az
    acx, acy, acz = cx - ax, cy - ay, cz - az
    apx, apy, apz = px - ax, py - ay, pz - az
    d1 = abx * apx + aby * apy + abz * apz
    d2 = acx * apx + acy * apy + acz * apz
    if d1 <= 0.0 and d2 <= 0.0:
        return ax, ay, az
    bpx, bpy, bpz = px - bx, py - by, pz - bz
    d3 = abx * bpx + aby * bpy + abz * bpz
    d4 = acx * bpx + acy * bpy + acz * bpz
    if d3 >= 0.0 and d4 <= d3:
        return bx, by, bz
    vc = d1 * d4 - d3 * d2
    if vc <= 0.0 and d1 >= 0.0 and d3 <= 0.0:
        t = d1 / (d1 - d3) if d1 != d3 else 0.0
        return ax + t * abx, ay + t * aby, az + t * abz
    cpx, cpy, cpz = px - cx, py - cy, pz - cz
    d5 = abx * cpx + aby * cpy + abz * cpz
    d6 = acx * cpx + acy * cpy + acz * cpz
    if d6 >= 0.0 and d5 <= d6:
        return cx, cy, cz
    vb = d5 * d2 - d1 * d6
    if vb <= 0.0 and d2 >= 0.0 and d6 <= 0.0:
        t = d2 / (d2 - d6) if d2 != d6 else 0.0
        return ax + t * acx, ay + t * acy, az + t * acz
    va = d3 * d6 - d5 * d4
    if va <= 0.0 and d4 - d3 >= 0.0 and d5 - d6 >= 0.0:
        w = (d4 - d3) + (d5 - d6)
        t = (d4 - d3) / w if w != 0.0 else 0.0
        return bx + t * (cx - bx), by + t * (cy - by), bz + t * (cz - bz)
    w = va + vb + vc
    s = vb / w
    t = vc / w
    return ax + s * abx + t * acx, ay + s * aby + t * acy, az + s * abz + t * acz


@kernel
def nearest_one(tri, box, disc, child, first, count, px, py, pz, best, hit, stack_node, stack_low, low):
    """Squared distance and triangle (tree order) nearest to one point, if nearer than `best`, which `hit` has.

    stack_node (S,) int32, stack_low (S,) and low (8,) float32 are scratch.
    """
    x, y, z = np.float32(px), np.float32(py), np.float32(pz)
    top = 1
    stack_node[0] = 0
    stack_low[0] = np.float32(0.0)
    while top > 0:
        top -= 1
        if stack_low[top] > best:
            continue
        node = stack_node[top]
        child_bounds(box, disc, node, x, y, z, low)
        base = top
        for k in range(8):
            b = low[k] * _SHRINK
            c = child[node, k]
            if c == -2 or b > best:
                continue
            if c == -1:
                s = first[node, k]
                for f in range(s, s + count[node, k]):
                    d = triangle_distance2(tri, f, px, py, pz)
                    if d < best or (d == best and (hit < 0 or f < hit)):
                        best = d
                        hit = f
            else:
                # insertion keeps the nearest child on top
                m = top
                while m > base and stack_low[m - 1] < b:
                    stack_low[m] = stack_low[m - 1]
                    stack_node[m] = stack_node[m - 1]
                    m -= 1
                stack_low[m] = b
                stack_node[m] = c
                top += 1
    return best, hit


@kernel
def nearest(tri, box, disc, child, first, count, points, limit, begin, end, dist2, face):
    """Nearest triangle (tree order) and squared distance of each point, looking up to `limit`.

    A query starts from the answer of the one before it: sort the points along a curve first.
    Nothing within the limit gives face -1 and an infinite distance.
    """
    stack_node = np.empty(_STACK, np.int32)
    stack_low = np.empty(_STACK, np.float32)
    low = np.empty(8, np.float32)
    last = -1
    for q in range(begin, end):
        px, py, pz = points[q, 0], points[q, 1], points[q, 2]
        best = limit * limit
        hit = -1
        if last >= 0:
            d = triangle_distance2(tri, last, px, py, pz)
            if d <= best:
                best = d
                hit = last
        best, hit = nearest_one(tri, box, disc, child, first, count, px, py, pz, best, hit, stack_node, stack_low, low)
        if hit >= 0:
            last = hit
            dist2[q] = best
        else:
            dist2[q] = np.inf
        face[q] = hit


@kernel
def ray_triangle(tri, f, ox, oy, oz, dx, dy, dz):
    """Parameter of the hit of a ray with row f of tri, or inf (Moeller and Trumbore 1997)."""
    ax, ay, az = tri[f, 0], tri[f, 1], tri[f, 2]
    e1x, e1y, e1z = tri[f, 3] - ax, tri[f, 4] - ay, tri[f, 5] - az
    e2x, e2y, e2z = tri[f, 6] - ax, tri[f, 7] - ay, tri[f, 8] - az
    hx = dy * e2z - dz * e2y
    hy = dz * e2x - dx * e2z
    hz = dx * e2y - dy * e2x
    det = e1x * hx + e1y * hy + e1z * hz
    if det == 0.0:
        return np.inf
    sx, sy, sz = ox - ax, oy - ay, oz - az
    u = (sx * hx + sy * hy + sz * hz) / det
    if u < -1e-12 or u > 1.0 + 1e-12:
        return np.inf
    qx = sy * e1z - sz * e1y
    qy = sz * e1x - sx * e1z
    qz = sx * e1y - sy * e1x
    w = (dx * qx + dy * qy + dz * qz) / det
    if w < -1e-12 or u + w > 1.0 + 1e-12:
        return np.inf
    return (e2x * qx + e2y * qy + e2z * qz) / det


@kernel
def ray_hits(tri, box, child, first, count, origins, directions, near, far, begin, end, hits, faces, found):
    """The first hits of each ray with near < t < far, sorted; as many as `hits` has columns.

    hits (R, H) float64 and faces (R, H) int32 (tree order) are filled, found (R,) counts all hits
    up to H. With one column it is the plain first-hit query.
    """
    width = hits.shape[1]
    stack_node = np.empty(_STACK, np.int32)
    stack_low = np.empty(_STACK, np.float32)
    t_in = np.empty(8, np.float32)
    t_out = np.empty(8, np.float32)
    for q in range(begin, end):
        ox, oy, oz = origins[q, 0], origins[q, 1], origins[q, 2]
        dx, dy, dz = directions[q, 0], directions[q, 1], directions[q, 2]
        x, y, z = np.float32(ox), np.float32(oy), np.float32(oz)
        ix = np.float32(1.0 / (dx if abs(dx) > 1e-18 else 1e-18))
        iy = np.float32(1.0 / (dy if abs(dy) > 1e-18 else 1e-18))
        iz = np.float32(1.0 / (dz if abs(dz) > 1e-18 else 1e-18))
        t0 = np.float32(near) - np.float32(1e-5) * (np.float32(1.0) + abs(np.float32(near)))
        n = 0
        reach = far
        top = 1
        stack_node[0] = 0
        stack_low[0] = t0
        while top > 0:
            top -= 1
            if stack_low[top] > reach:
                continue
            node = stack_node[top]
            child_slabs(box, node, x, y, z, ix, iy, iz, t_in, t_out)
            base = top
            for k in range(8):
                c = child[node, k]
                if c == -2:
                    continue
                # a flat box may lose its last bits to rounding: widen by a few ulp
                low = max(t_in[k] - np.float32(2e-6) * abs(t_in[k]), t0)
                high = t_out[k] + np.float32(2e-6) * abs(t_out[k])
                if low > high or low > reach:
                    continue
                if c == -1:
                    s = first[node, k]
                    for f in range(s, s + count[node, k]):
                        t = ray_triangle(tri, f, ox, oy, oz, dx, dy, dz)
                        if near < t < reach:
                            m = n if n < width else width - 1
                            if n < width:
                                n += 1
                            while m > 0 and hits[q, m - 1] > t:
                                hits[q, m] = hits[q, m - 1]
                                faces[q, m] = faces[q, m - 1]
                                m -= 1
                            hits[q, m] = t
                            faces[q, m] = f
                            if n == width:
                                reach = hits[q, width - 1]
                else:
                    m = top
                    while m > base and stack_low[m - 1] < low:
                        stack_low[m] = stack_low[m - 1]
                        stack_node[m] = stack_node[m - 1]
                        m -= 1
                    stack_low[m] = low
                    stack_node[m] = c
                    top += 1
        found[q] = n
        for m in range(n, width):
            hits[q, m] = np.inf
            faces[q, m] = -1


@kernel
def winding(tri, disc, moment, child, first, count, points, accuracy, begin, end, out):
    """Generalized winding number of each point: 1 inside a closed outward surface, 0 outside.

    Far children count as one dipole at their area centroid (Barill et al. 2018), far meaning more
    than `accuracy` bounding radii away; near leaves by solid angles (Van Oosterom, Strackee 1983).
    """
    stack_node = np.empty(_STACK, np.int32)
    for q in range(begin, end):
        px, py, pz = points[q, 0], points[q, 1], points[q, 2]
        total = 0.0
        top = 1
        stack_node[0] = 0
        while top > 0:
            top -= 1
            node = stack_node[top]
            for k in range(8):
                c = child[node, k]
                if c == -2:
                    continue
                x = np.float64(disc[node, 0, k]) - px
                y = np.float64(disc[node, 1, k]) - py
                z = np.float64(disc[node, 2, k]) - pz
                d2 = x * x + y * y + z * z
                reach = accuracy * np.float64(moment[node, 3, k])
                if d2 > reach * reach:
                    total += (
                        np.float64(moment[node, 0, k]) * x
                        + np.float64(moment[node, 1, k]) * y
                        + np.float64(moment[node, 2, k]) * z
                    ) / (d2 * np.sqrt(d2))
                elif c >= 0:
                    stack_node[top] = c
                    top += 1
                else:
                    s = first[node, k]
                    for f in range(s, s + count[node, k]):
                        ax, ay, az = tri[f, 0] - px, tri[f, 1] - py, tri[f, 2] - pz
                        bx, by, bz = tri[f, 3] - px, tri[f, 4] - py, tri[f, 5] - pz
                        cx, cy, cz = tri[f, 6] - px, tri[f, 7] - py, tri[f, 8] - pz
                        la = np.sqrt(ax * ax + ay * ay + az * az)
                        lb = np.sqrt(bx * bx + by * by + bz * bz)
                        lc = np.sqrt(cx * cx + cy * cy + cz * cz)
                        det = ax * (by * cz - bz * cy) + ay * (bz * cx - bx * cz) + az * (bx * cy - by * cx)
                        below = (
                            la * lb * lc
                            + (ax * bx + ay * by + az * bz) * lc
                            + (bx * cx + by * cy + bz * cz) * la
                            + (cx * ax + cy * ay + cz * az) * lb
                        )
                        if det != 0.0 or below != 0.0:
                            total += 2.0 * np.arctan2(det, below)
        out[q] = total / _FOUR_PI


@kernel
def meeting_pairs(vertices, faces, rec, plane, order, box, child, first, count, begin, end, pairs):
    """Pairs of faces that meet beyond what they share, each once, for the leaves of nodes begin..end.

    rec (F, 6) float32 holds the faces' boxes, inflated, and plane (F, 4) their planes, in tree order. One
    walk a leaf finds all leaves that may touch it. Fills pairs (P, 2) int32 as far as it reaches, returns how many.
    """
    stack_node = np.empty(_STACK, np.int32)
    n = 0
    for home in range(begin, end):
        for slot in range(8):
            if child[home, slot] != -1:
                continue
            s0 = first[home, slot]
            e0 = s0 + count[home, slot]
            top = 1
            stack_node[0] = 0
            while top > 0:
                top -= 1
                node = stack_node[top]
                near = child_overlaps(
                    box,
                    node,
                    box[home, 0, slot],
                    box[home, 1, slot],
                    box[home, 2, slot],
                    box[home, 3, slot],
                    box[home, 4, slot],
                    box[home, 5, slot],
                )
                for k in range(8):
                    if not (near >> k) & 1:
                        continue
                    c = child[node, k]
                    # every pair is found from its earlier place, so ranges before it are skipped
                    if c == -2 or first[node, k] + count[node, k] <= s0:
                        continue
                    if c >= 0:
                        stack_node[top] = c
                        top += 1
                        continue
                    s = first[node, k]
                    e = s + count[node, k]
                    for place in range(s0, e0):
                        f = order[place]
                        for other in range(max(s, place + 1), e):
                            if (
                                rec[other, 0] <= rec[place, 3]
                                and rec[other, 3] >= rec[place, 0]
                                and rec[other, 1] <= rec[place, 4]
                                and rec[other, 4] >= rec[place, 1]
                                and rec[other, 2] <= rec[place, 5]
                                and rec[other, 5] >= rec[place, 2]
                            ):
                                g = order[other]
                                if surely_beside(vertices, faces, f, g, plane, other) or surely_beside(
                                    vertices, faces, g, f, plane, place
                                ):
                                    continue
                                if triangles_meet(vertices, faces, min(f, g), max(f, g)):
                                    if n < pairs.shape[0]:
                                        pairs[n, 0] = min(f, g)
                                        pairs[n, 1] = max(f, g)
                                    n += 1
    return n
