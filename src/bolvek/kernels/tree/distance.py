"""The point of a surface nearest to a place.

Each kernel answers a range of queries, so that threads can share the work; a query's answer never depends on the
range it stands in. Coordinates are relative to the tree's origin.
"""

import numpy as np

from bolvek.kernels import helper, kernel
from bolvek.kernels.tree.arrays import STACK
from bolvek.kernels.tree.lanes import child_bounds

_SHRINK = np.float32(1.0 - 4e-6)  # float32 bounds may come out a few ulp too far


@helper
def triangle_distance2(tri, f, px, py, pz):
    """Squared distance of a point to row f of tri (F, 9); Ericson 2004, section 5.1.5."""
    ax, ay, az = tri[f, 0], tri[f, 1], tri[f, 2]
    bx, by, bz = tri[f, 3], tri[f, 4], tri[f, 5]
    cx, cy, cz = tri[f, 6], tri[f, 7], tri[f, 8]
    qx, qy, qz = closest_on_triangle(ax, ay, az, bx, by, bz, cx, cy, cz, px, py, pz)
    dx, dy, dz = px - qx, py - qy, pz - qz
    return dx * dx + dy * dy + dz * dz


@helper
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


@helper
def nearest_one(tree, px, py, pz, best, hit, stack_node, stack_low, low):
    """Squared distance and triangle (tree order) nearest to one point, if nearer than `best`, which `hit` has.

    stack_node (S,) int32, stack_low (S,) and low (8,) float32 are scratch.
    """
    tri, box, disc = tree.triangles, tree.box, tree.disc
    child, first, count = tree.child, tree.first, tree.count
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


@helper
def nearest_after(tree, last, limit, px, py, pz, stack_node, stack_low, low):
    """`nearest_one` up to `limit`, starting from the answer of the query before, `last` (-1: there was none)."""
    best = limit * limit
    hit = np.int64(-1)
    if last >= 0:
        d = triangle_distance2(tree.triangles, last, px, py, pz)
        if d <= best:
            best = d
            hit = last
    return nearest_one(tree, px, py, pz, best, hit, stack_node, stack_low, low)


@kernel("tree f8[:,:] f8 i8 i8 f8[:]! i4[:]!")
def nearest(tree, points, limit, begin, end, dist2, face):
    """Nearest triangle (tree order) and squared distance of each point, looking up to `limit`.

    A query starts from the answer of the one before it: sort the points along a curve first.
    Nothing within the limit gives face -1 and an infinite distance.
    """
    stack_node = np.empty(STACK, np.int32)
    stack_low = np.empty(STACK, np.float32)
    low = np.empty(8, np.float32)
    last = np.int64(-1)
    for q in range(begin, end):
        px, py, pz = points[q, 0], points[q, 1], points[q, 2]
        best, hit = nearest_after(tree, last, limit, px, py, pz, stack_node, stack_low, low)
        if hit >= 0:
            last = hit
            dist2[q] = best
        else:
            dist2[q] = np.inf
        face[q] = hit


@kernel("f8[:,:] i4[:,:] f8[:,:] i4[:] i8 i8 f8[:,:]!")
def closest_on_faces(vertices, faces, points, face, begin, end, out):
    """The place (P, 3) nearest to each point (P, 3) on the face (P,) named for it."""
    for q in range(begin, end):
        a, b, c = faces[face[q], 0], faces[face[q], 1], faces[face[q], 2]
        out[q, 0], out[q, 1], out[q, 2] = closest_on_triangle(
            vertices[a, 0], vertices[a, 1], vertices[a, 2], vertices[b, 0], vertices[b, 1], vertices[b, 2],
            vertices[c, 0], vertices[c, 1], vertices[c, 2], points[q, 0], points[q, 1], points[q, 2],
        )  # fmt: skip


@kernel("tree f4[:,:] f4[:] f4[:] i4[:]!")
def faces_in_box(tree, boxes, low, high, found):
    """Faces (places in the tree) whose boxes (F, 6) meet the box low..high; how many, as far as found (F,) reaches."""
    box, child, first, count = tree.box, tree.child, tree.first, tree.count
    stack = np.empty(STACK, np.int32)
    n = 0
    top = 1
    stack[0] = 0
    while top > 0:
        top -= 1
        node = np.int64(stack[top])
        for k in range(8):
            c = child[node, k]
            if c == -2:
                continue
            apart = False
            for a in range(3):
                apart = apart or box[node, a, k] > high[a] or box[node, a + 3, k] < low[a]
            if apart:
                continue
            if c >= 0:
                stack[top] = c
                top += 1
                continue
            s = first[node, k]
            for f in range(s, s + count[node, k]):
                apart = False
                for a in range(3):
                    apart = apart or boxes[f, a] > high[a] or boxes[f, a + 3] < low[a]
                if not apart:
                    if n < found.shape[0]:
                        found[n] = f
                    n += 1
    return n


@helper
def faces_within(tree, px, py, pz, reach2, found, gap, stack_node, low):
    """Triangles (tree order) whose squared distance from a point is `reach2` at most, into found (M,) int32 and gap
    (M,), nearest first; how many, -1 where they are more than fit."""
    tri, box, disc = tree.triangles, tree.box, tree.disc
    child, first, count = tree.child, tree.first, tree.count
    x, y, z = np.float32(px), np.float32(py), np.float32(pz)
    n = 0
    top = 1
    stack_node[0] = 0
    while top > 0:
        top -= 1
        node = stack_node[top]
        child_bounds(box, disc, node, x, y, z, low)
        for k in range(8):
            c = child[node, k]
            if c == -2 or low[k] * _SHRINK > reach2:
                continue
            if c >= 0:
                stack_node[top] = c
                top += 1
                continue
            s = first[node, k]
            for f in range(s, s + count[node, k]):
                d = triangle_distance2(tri, f, px, py, pz)
                if d > reach2:
                    continue
                if n == len(found):
                    return -1
                m = n
                while m > 0 and gap[m - 1] > d:
                    gap[m], found[m] = gap[m - 1], found[m - 1]
                    m -= 1
                gap[m], found[m] = d, f
                n += 1
    return n
