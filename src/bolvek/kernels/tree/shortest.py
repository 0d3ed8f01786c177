"""Segments through material that are locally shortest at both ends.

An end is locally shortest when no direction along the surface leads towards the other end: at a vertex none of its
edges, on an edge neither side nor the edge itself, in a face nothing (the segment stands square on it). So only
vertices and edges with material on more than half of the way around have such segments beyond their faces' normals.
Coordinates of points are relative to the tree's origin. The surface is closed and consistently oriented.
"""

import numpy as np

from bolvek.kernels import helper, kernel
from bolvek.kernels.tree.arrays import STACK
from bolvek.kernels.tree.distance import closest_on_triangle
from bolvek.kernels.tree.lanes import child_slabs
from bolvek.kernels.tree.rays import ray_triangle

_MOST_AROUND = 256  # edges of a vertex that are looked at: beyond it (tips of cones) every so manieth


@helper
def _next_around(opposite, h):
    """The next half-edge that starts at the vertex half-edge h starts at."""
    before = h - h % 3 + (h % 3 + 2) % 3
    return np.int64(opposite[before])


@helper
def _rises(v, faces, h, dx, dy, dz):
    """Cosine between a unit direction and half-edge h."""
    f = h // 3
    a, b = faces[f, h % 3], faces[f, (h % 3 + 1) % 3]
    ex, ey, ez = v[b, 0] - v[a, 0], v[b, 1] - v[a, 1], v[b, 2] - v[a, 2]
    return (dx * ex + dy * ey + dz * ez) / np.sqrt(ex * ex + ey * ey + ez * ez)


@helper
def _into_face(v, faces, h):
    """The unit direction from half-edge h into its face, square to it."""
    f = h // 3
    a, b, c = faces[f, h % 3], faces[f, (h % 3 + 1) % 3], faces[f, (h % 3 + 2) % 3]
    ex, ey, ez = v[b, 0] - v[a, 0], v[b, 1] - v[a, 1], v[b, 2] - v[a, 2]
    ux, uy, uz = v[c, 0] - v[a, 0], v[c, 1] - v[a, 1], v[c, 2] - v[a, 2]
    along = (ux * ex + uy * ey + uz * ez) / (ex * ex + ey * ey + ez * ez)
    ux, uy, uz = ux - along * ex, uy - along * ey, uz - along * ez
    size = np.sqrt(ux * ux + uy * uy + uz * uz)
    return ux / size, uy / size, uz / size


@helper
def _least_at_vertex(v, faces, opposite, h, dx, dy, dz, slack):
    """Whether no edge of the vertex at the start of h leads along the unit direction d, by more than a cosine."""
    at = np.int64(h)
    while True:
        if _rises(v, faces, at, dx, dy, dz) > slack:
            return False
        at = _next_around(opposite, at)
        if at == h or at < 0:
            return True


@helper
def _least_on_edge(v, faces, opposite, h, dx, dy, dz, slack):
    """Whether neither side of half-edge h leads along the unit direction d."""
    tx, ty, tz = _into_face(v, faces, h)
    if dx * tx + dy * ty + dz * tz > slack:
        return False
    tx, ty, tz = _into_face(v, faces, np.int64(opposite[h]))
    return dx * tx + dy * ty + dz * tz <= slack


@kernel("f8[:,:] i4[:,:] i4[:] f8[:,:] i8[:] f8 i8 i8 f8[:,:]! f8[:]!")
def vertex_cones(v, faces, opposite, outward, corners, slack, begin, end, axis, cosine):
    """Directions into material in which each vertex (N,), named by a corner, is locally shortest: a cone around them.

    outward (V, 3): normals weighted by angles. axis (N, 3) and the cosine (N,) of the half angle; 2 where there is
    none. The extreme directions stand square on two edges of the vertex.
    """
    edge = np.empty((_MOST_AROUND, 3))
    ray = np.empty((2 * _MOST_AROUND, 3))
    for row in range(begin, end):
        h = corners[row]
        a = faces[h // 3, h % 3]
        around = 0
        at = np.int64(h)
        while True:
            around += 1
            at = _next_around(opposite, at)
            if at == h or at < 0:
                break
        step = (around + _MOST_AROUND - 1) // _MOST_AROUND
        n = 0
        count = 0
        at = np.int64(h)
        while True:
            if count % step == 0 and n < _MOST_AROUND:
                b = faces[at // 3, (at % 3 + 1) % 3]
                x, y, z = v[b, 0] - v[a, 0], v[b, 1] - v[a, 1], v[b, 2] - v[a, 2]
                size = np.sqrt(x * x + y * y + z * z)
                if size > 0.0:
                    edge[n, 0], edge[n, 1], edge[n, 2] = x / size, y / size, z / size
                    n += 1
            count += 1
            at = _next_around(opposite, at)
            if at == h or at < 0:
                break
        found = 0
        sx, sy, sz = 0.0, 0.0, 0.0
        for i in range(n):
            for j in range(i + 1, n):
                x = edge[i, 1] * edge[j, 2] - edge[i, 2] * edge[j, 1]
                y = edge[i, 2] * edge[j, 0] - edge[i, 0] * edge[j, 2]
                z = edge[i, 0] * edge[j, 1] - edge[i, 1] * edge[j, 0]
                size = np.sqrt(x * x + y * y + z * z)
                if size < 1e-3:
                    continue
                if x * outward[a, 0] + y * outward[a, 1] + z * outward[a, 2] > 0.0:
                    size = -size
                x, y, z = x / size, y / size, z / size
                fine = True
                for k in range(n):
                    if x * edge[k, 0] + y * edge[k, 1] + z * edge[k, 2] > slack:
                        fine = False
                        break
                if fine and found < 2 * _MOST_AROUND:
                    ray[found, 0], ray[found, 1], ray[found, 2] = x, y, z
                    sx, sy, sz = sx + x, sy + y, sz + z
                    found += 1
        size = np.sqrt(sx * sx + sy * sy + sz * sz)
        cosine[row] = 2.0
        if found == 0 or size < 1e-9:
            continue
        axis[row, 0], axis[row, 1], axis[row, 2] = sx / size, sy / size, sz / size
        least = 1.0
        for k in range(found):
            least = min(least, (ray[k, 0] * sx + ray[k, 1] * sy + ray[k, 2] * sz) / size)
        cosine[row] = least


@helper
def _blocked(tree, px, py, pz, dx, dy, dz, near, far, stack_node, t_in, t_out):
    """Whether a triangle crosses p + t d between near and far."""
    tri, box, child, first, count = tree.triangles, tree.box, tree.child, tree.first, tree.count
    x, y, z = np.float32(px), np.float32(py), np.float32(pz)
    ix = np.float32(1.0 / (dx if abs(dx) > 1e-18 else 1e-18))
    iy = np.float32(1.0 / (dy if abs(dy) > 1e-18 else 1e-18))
    iz = np.float32(1.0 / (dz if abs(dz) > 1e-18 else 1e-18))
    t0, t1 = np.float32(near - 1e-5), np.float32(far + 1e-5)
    top = 1
    stack_node[0] = 0
    while top > 0:
        top -= 1
        node = stack_node[top]
        child_slabs(box, node, x, y, z, ix, iy, iz, t_in, t_out)
        for k in range(8):
            c = child[node, k]
            if c == -2:
                continue
            low = t_in[k] - np.float32(2e-6) * abs(t_in[k])
            high = t_out[k] + np.float32(2e-6) * abs(t_out[k])
            if low > high or low > t1 or high < t0:
                continue
            if c == -1:
                s = first[node, k]
                for f in range(s, s + count[node, k]):
                    t = ray_triangle(tri, f, px, py, pz, dx, dy, dz)
                    if near < t < far:
                        return True
            else:
                stack_node[top] = c
                top += 1
    return False


@helper
def _side_of(tri, f, x, y, z):
    """Where on row f of tri a point of it lies: -1 inside, 0 to 2 on the side after that corner, 3 to 5 on a corner."""
    size = 0.0
    for k in range(3):
        m = (k + 1) % 3
        for j in range(3):
            size = max(size, abs(tri[f, 3 * m + j] - tri[f, 3 * k + j]))
    near = (1e-9 * size) ** 2
    for k in range(3):
        gx, gy, gz = x - tri[f, 3 * k], y - tri[f, 3 * k + 1], z - tri[f, 3 * k + 2]
        if gx * gx + gy * gy + gz * gz <= near:
            return 3 + k
    for k in range(3):
        m = (k + 1) % 3
        ax, ay, az = tri[f, 3 * k], tri[f, 3 * k + 1], tri[f, 3 * k + 2]
        ex, ey, ez = tri[f, 3 * m] - ax, tri[f, 3 * m + 1] - ay, tri[f, 3 * m + 2] - az
        gx, gy, gz = x - ax, y - ay, z - az
        t = (gx * ex + gy * ey + gz * ez) / (ex * ex + ey * ey + ez * ez)
        gx, gy, gz = gx - t * ex, gy - t * ey, gz - t * ez
        if gx * gx + gy * gy + gz * gz <= near:
            return k
    return -1


@helper
def _meets_cone(box, node, k, px, py, pz, ax, ay, az, cosine, sine, limit):
    """Whether the ball around a child's box reaches into the cone from p around unit axis a, no longer than limit."""
    cx = 0.5 * (np.float64(box[node, 0, k]) + np.float64(box[node, 3, k])) - px
    cy = 0.5 * (np.float64(box[node, 1, k]) + np.float64(box[node, 4, k])) - py
    cz = 0.5 * (np.float64(box[node, 2, k]) + np.float64(box[node, 5, k])) - pz
    hx = 0.5 * (np.float64(box[node, 3, k]) - np.float64(box[node, 0, k]))
    hy = 0.5 * (np.float64(box[node, 4, k]) - np.float64(box[node, 1, k]))
    hz = 0.5 * (np.float64(box[node, 5, k]) - np.float64(box[node, 2, k]))
    gx, gy, gz = max(abs(cx) - hx, 0.0), max(abs(cy) - hy, 0.0), max(abs(cz) - hz, 0.0)
    if gx * gx + gy * gy + gz * gz > limit * limit:
        return False
    radius = np.sqrt(hx * hx + hy * hy + hz * hz)
    whole = cx * cx + cy * cy + cz * cz
    if whole <= radius * radius:
        return True
    along = cx * ax + cy * ay + cz * az
    beside = np.sqrt(max(whole - along * along, 0.0))
    return beside * cosine - along * sine <= radius


@kernel("tree f8[:,:] i4[:,:] i4[:] f8[:,:] f8[:,:] f8[:,:] i8[:] b1 f8[:,:] f8[:] f8 f8 f8 f8 i8 i8 i4[:,:]! f8[:,:]!")
def ways_from_points(
    tree, v, faces, opposite, normal, outward, points, home, on_edge, axis, cosine, limit, near_slack, far_slack,
    skin, begin, end, pair, way,
):  # fmt: skip
    """Segments from points (P, 3) of the surface to it, no longer than `limit`, shortest at both ends.

    home (P,): the half-edges that points lie on (on_edge) or start at; axis, cosine (P,): the cone of directions.
    near_slack, far_slack: cosines by which an end may fail, on an edge's own line always the latter. Fills pair (N, 2),
    point and face (tree order), and way (N, 4), the other end and the length, as far as they reach; returns how many.
    """
    tri, box, child, first, count, order = tree.triangles, tree.box, tree.child, tree.first, tree.count, tree.order
    stack_node, other_stack = np.empty(STACK, np.int32), np.empty(STACK, np.int32)
    t_in, t_out = np.empty(8, np.float32), np.empty(8, np.float32)
    n = 0
    for row in range(begin, end):
        if cosine[row] > 1.0:
            continue
        px, py, pz = points[row, 0], points[row, 1], points[row, 2]
        ax, ay, az = axis[row, 0], axis[row, 1], axis[row, 2]
        cos_cone = cosine[row]
        sin_cone = np.sqrt(max(1.0 - cos_cone * cos_cone, 0.0))
        h = home[row]
        top = 1
        stack_node[0] = 0
        while top > 0:
            top -= 1
            node = stack_node[top]
            for k in range(8):
                c = child[node, k]
                if c == -2 or not _meets_cone(box, node, k, px, py, pz, ax, ay, az, cos_cone, sin_cone, limit):
                    continue
                if c >= 0:
                    stack_node[top] = c
                    top += 1
                    continue
                s = first[node, k]
                for f in range(s, s + count[node, k]):
                    qx, qy, qz = closest_on_triangle(
                        tri[f, 0], tri[f, 1], tri[f, 2], tri[f, 3], tri[f, 4], tri[f, 5], tri[f, 6], tri[f, 7],
                        tri[f, 8], px, py, pz,
                    )  # fmt: skip
                    dx, dy, dz = qx - px, qy - py, qz - pz
                    length = np.sqrt(dx * dx + dy * dy + dz * dz)
                    if length > limit or length <= skin:
                        continue
                    ux, uy, uz = dx / length, dy / length, dz / length
                    if ux * ax + uy * ay + uz * az < cos_cone - 1e-9:
                        continue
                    # the near end
                    if on_edge:
                        if abs(_rises(v, faces, h, ux, uy, uz)) > far_slack:
                            continue
                        if not _least_on_edge(v, faces, opposite, h, ux, uy, uz, near_slack):
                            continue
                    elif not _least_at_vertex(v, faces, opposite, h, ux, uy, uz, near_slack):
                        continue
                    # the far end
                    g = np.int64(order[f])
                    side = _side_of(tri, f, qx, qy, qz)
                    if side < 0:
                        if ux * normal[g, 0] + uy * normal[g, 1] + uz * normal[g, 2] <= 0.0:
                            continue
                    elif side < 3:
                        other = np.int64(opposite[3 * g + side]) // 3
                        nx, ny = normal[g, 0] + normal[other, 0], normal[g, 1] + normal[other, 1]
                        nz = normal[g, 2] + normal[other, 2]
                        if ux * nx + uy * ny + uz * nz <= 0.0:
                            continue
                        if not _least_on_edge(v, faces, opposite, 3 * g + side, -ux, -uy, -uz, far_slack):
                            continue
                    else:
                        b = faces[g, side - 3]
                        if ux * outward[b, 0] + uy * outward[b, 1] + uz * outward[b, 2] <= 0.0:
                            continue
                        if not _least_at_vertex(v, faces, opposite, 3 * g + side - 3, -ux, -uy, -uz, far_slack):
                            continue
                    share = skin / length
                    if _blocked(tree, px, py, pz, dx, dy, dz, share, 1.0 - share, other_stack, t_in, t_out):
                        continue
                    if n < pair.shape[0]:
                        pair[n, 0], pair[n, 1] = row, f
                        way[n, 0], way[n, 1], way[n, 2], way[n, 3] = qx, qy, qz, length
                    n += 1
    return n


@kernel("tree f8[:,:] i4[:,:] i4[:] f8[:,:] b1[:] i8[:] f8 f8 f8 i8 i8 i8[:,:]! f8[:,:]!")
def ways_between_edges(
    tree, v, faces, opposite, normal, bends_in, edges, limit, slack, skin, begin, end, pair, way
):  # fmt: skip
    """Segments between edges that cross at a distance of at most `limit`, from edges (E,), shortest at both ends.

    bends_in (3F,): edges with material on at least half of the way around, the lower half-edge of each. Fills pair
    (N, 2), both half-edges, and way (N, 7), both ends and the length, as far as they reach; returns how many.
    """
    tri, box, child, first, count, order = tree.triangles, tree.box, tree.child, tree.first, tree.count, tree.order
    stack_node, other_stack = np.empty(STACK, np.int32), np.empty(STACK, np.int32)
    t_in, t_out = np.empty(8, np.float32), np.empty(8, np.float32)
    ox, oy, oz = tree.origin[0], tree.origin[1], tree.origin[2]
    n = 0
    for row in range(begin, end):
        h = edges[row]
        f1, f2 = h // 3, np.int64(opposite[h]) // 3
        a, b = faces[f1, h % 3], faces[f1, (h % 3 + 1) % 3]
        px, py, pz = v[a, 0] - ox, v[a, 1] - oy, v[a, 2] - oz
        ex, ey, ez = v[b, 0] - v[a, 0], v[b, 1] - v[a, 1], v[b, 2] - v[a, 2]
        long = np.sqrt(ex * ex + ey * ey + ez * ez)
        wx, wy, wz = ex / long, ey / long, ez / long
        ax, ay, az = -normal[f1, 0] - normal[f2, 0], -normal[f1, 1] - normal[f2, 1], -normal[f1, 2] - normal[f2, 2]
        size = np.sqrt(ax * ax + ay * ay + az * az)
        if size < 1e-6:
            cos_cone, sin_cone = 0.0, 1.0  # a slit: both ways square to it
            ax, ay, az = 0.0, 0.0, 0.0
        else:
            ax, ay, az = ax / size, ay / size, az / size
            cos_cone = max(0.5 * size - slack, 0.0)
            sin_cone = np.sqrt(1.0 - cos_cone * cos_cone)
        top = 1
        stack_node[0] = 0
        while top > 0:
            top -= 1
            node = stack_node[top]
            for k in range(8):
                c = child[node, k]
                if c == -2:
                    continue
                cx = 0.5 * (np.float64(box[node, 0, k]) + np.float64(box[node, 3, k])) - px
                cy = 0.5 * (np.float64(box[node, 1, k]) + np.float64(box[node, 4, k])) - py
                cz = 0.5 * (np.float64(box[node, 2, k]) + np.float64(box[node, 5, k])) - pz
                hx = 0.5 * (np.float64(box[node, 3, k]) - np.float64(box[node, 0, k]))
                hy = 0.5 * (np.float64(box[node, 4, k]) - np.float64(box[node, 1, k]))
                hz = 0.5 * (np.float64(box[node, 5, k]) - np.float64(box[node, 2, k]))
                radius = np.sqrt(hx * hx + hy * hy + hz * hz)
                t = cx * wx + cy * wy + cz * wz
                if t < -radius or t > long + radius:
                    continue
                cx, cy, cz = cx - t * wx, cy - t * wy, cz - t * wz
                across = cx * cx + cy * cy + cz * cz
                if across > (limit + radius) ** 2:
                    continue
                along = cx * ax + cy * ay + cz * az
                if across > radius * radius:
                    if np.sqrt(max(across - along * along, 0.0)) * cos_cone - along * sin_cone > radius:
                        continue
                if c >= 0:
                    stack_node[top] = c
                    top += 1
                    continue
                s = first[node, k]
                for f in range(s, s + count[node, k]):
                    g = np.int64(order[f])
                    for side in range(3):
                        other = 3 * g + side
                        if other == h or not bends_in[other]:
                            continue
                        m = (side + 1) % 3
                        qx, qy, qz = tri[f, 3 * side], tri[f, 3 * side + 1], tri[f, 3 * side + 2]
                        rx, ry, rz = tri[f, 3 * m] - qx, tri[f, 3 * m + 1] - qy, tri[f, 3 * m + 2] - qz
                        gx, gy, gz = qx - px, qy - py, qz - pz
                        ee, er, rr = long * long, ex * rx + ey * ry + ez * rz, rx * rx + ry * ry + rz * rz
                        det = ee * rr - er * er
                        if det <= 1e-12 * ee * rr:  # parallel: points along the edge tell it
                            continue
                        ge, gr = gx * ex + gy * ey + gz * ez, gx * rx + gy * ry + gz * rz
                        i, j = (ge * rr - gr * er) / det, (ge * er - gr * ee) / det
                        if i < 0.0 or i > 1.0 or j < 0.0 or j > 1.0:
                            continue
                        dx, dy, dz = gx + j * rx - i * ex, gy + j * ry - i * ey, gz + j * rz - i * ez
                        length = np.sqrt(dx * dx + dy * dy + dz * dz)
                        if length > limit or length <= skin:
                            continue
                        ux, uy, uz = dx / length, dy / length, dz / length
                        if size >= 1e-6 and ux * ax + uy * ay + uz * az <= 0.0:
                            continue
                        o = np.int64(opposite[other]) // 3
                        nx, ny = normal[g, 0] + normal[o, 0], normal[g, 1] + normal[o, 1]
                        nz = normal[g, 2] + normal[o, 2]
                        if ux * nx + uy * ny + uz * nz < 0.0:
                            continue
                        if not _least_on_edge(v, faces, opposite, h, ux, uy, uz, slack):
                            continue
                        if not _least_on_edge(v, faces, opposite, other, -ux, -uy, -uz, slack):
                            continue
                        sx, sy, sz = px + i * ex, py + i * ey, pz + i * ez
                        share = skin / length
                        if _blocked(tree, sx, sy, sz, dx, dy, dz, share, 1.0 - share, other_stack, t_in, t_out):
                            continue
                        if n < pair.shape[0]:
                            pair[n, 0], pair[n, 1] = h, other
                            way[n, 0], way[n, 1], way[n, 2] = sx, sy, sz
                            way[n, 3], way[n, 4], way[n, 5] = sx + dx, sy + dy, sz + dz
                            way[n, 6] = length
                        n += 1
    return n


@helper
def _reaches(v, faces, f, x, y, z, radius):
    """Whether the box of face f comes within a cube of half side `radius` around a place."""
    for j in range(3):
        m = x if j == 0 else (y if j == 1 else z)
        a, b, c = v[faces[f, 0], j], v[faces[f, 1], j], v[faces[f, 2], j]
        if min(a, min(b, c)) > m + radius or max(a, max(b, c)) < m - radius:
            return False
    return True


@kernel("f8[:,:] i4[:,:] i4[:] i8[:,:] f8[:,:] f8 i8 i8 b1[:]!")
def joined_nearby(v, faces, opposite, ends, middle, radius, begin, end, joined):
    """Whether the two faces of each row of ends (N, 2) hang together within a cube of `radius` around middle (N, 3)."""
    queue = np.empty(4096, np.int64)
    for row in range(begin, end):
        x, y, z = middle[row, 0], middle[row, 1], middle[row, 2]
        queue[0] = ends[row, 0]
        n = 1
        at = 0
        joined[row] = ends[row, 0] == ends[row, 1]
        while at < n and not joined[row]:
            f = queue[at]
            at += 1
            for k in range(3):
                g = np.int64(opposite[3 * f + k])
                if g < 0:
                    continue
                g //= 3
                known = False
                for i in range(n):
                    if queue[i] == g:
                        known = True
                        break
                if known or n >= queue.shape[0] or not _reaches(v, faces, g, x, y, z, radius):
                    continue
                queue[n] = g
                n += 1
                if g == ends[row, 1]:
                    joined[row] = True
