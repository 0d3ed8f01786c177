"""Building the bounding-volume tree over triangles.

Nodes are eight wide and stored as structure of arrays, so that one visit tests eight children with
vector code. A node is filled by splitting its range again and again at the best of sixteen bins
(eight where few are left) along the longest axis of the box centres (surface area heuristic; MacDonald and Booth 1990).

Per child the tree keeps, all in float32 and relative to the tree's origin:
box    (N, 6, 8)  lower and upper corner, inflated by `slack`
disc   (N, 8, 8)  centroid xyz, unit normal xyz, radius along the plane, half height along the
                  normal: flat patches are bounded far better by a flat cylinder than by a box
moment (N, 4, 8)  area vector xyz (mm2) and bounding radius, for winding numbers
child  (N, 8)     node index, -1 for a leaf, -2 for no child
first, count (N, 8)  range of the child in the tree's triangle order
"""

import numpy as np

from bolvek.kernels import helper, kernel

LEAF = 4
_BINS = 16
_COUNT, _COST = 6, 7  # columns of a bin after its box


@kernel("f8[:,:] i4[:,:] f8[:] i8 i8 f4[:,:]!")
def pack_boxes(vertices, faces, origin, begin, end, rec):
    """Boxes (lower, upper corner) of faces relative to the origin, float32 rec (F, 6)."""
    for f in range(begin, end):
        for k in range(3):
            a = vertices[faces[f, 0], k] - origin[k]
            b = vertices[faces[f, 1], k] - origin[k]
            c = vertices[faces[f, 2], k] - origin[k]
            rec[f, k] = min(a, b, c)
            rec[f, k + 3] = max(a, b, c)


@kernel("f8[:,:] i4[:,:] f8[:] i4[:] i8 i8 f8[:,:]!")
def pack_corners(vertices, faces, origin, order, begin, end, tri):
    """Corners relative to the origin in tree order, tri (F, 9)."""
    for place in range(begin, end):
        f = order[place]
        for c in range(3):
            for k in range(3):
                tri[place, 3 * c + k] = vertices[faces[f, c], k] - origin[k]


@helper
def _swap(rec, order, i, j):
    for k in range(6):
        t = rec[i, k]
        rec[i, k] = rec[j, k]
        rec[j, k] = t
    o = order[i]
    order[i] = order[j]
    order[j] = o


@helper
def _split(rec, order, s, e, scratch):
    """Partition rows s..e of rec (lower, upper corner) in two; returns the border.

    scratch (20, 8) float64 is work space: sixteen bins (box, count, cost) and three rows.
    """
    bins = _BINS if e - s > 64 else _BINS // 2
    low = scratch[_BINS]
    high = scratch[_BINS + 1]
    run = scratch[_BINS + 2]
    for k in range(3):
        low[k] = np.inf
        high[k] = -np.inf
    for i in range(s, e):
        for k in range(3):
            c = np.float64(rec[i, k]) + np.float64(rec[i, k + 3])
            low[k] = min(low[k], c)
            high[k] = max(high[k], c)
    axis = 0
    for k in range(1, 3):
        if high[k] - low[k] > high[axis] - low[axis]:
            axis = k
    extent = high[axis] - low[axis]
    if not extent > 0.0:
        return (s + e) // 2
    scale = bins * (1.0 - 1e-9) / extent
    base = low[axis]
    for b in range(bins):
        for k in range(3):
            scratch[b, k] = np.inf
            scratch[b, k + 3] = -np.inf
        scratch[b, _COUNT] = 0.0
    for i in range(s, e):
        b = int((np.float64(rec[i, axis]) + np.float64(rec[i, axis + 3]) - base) * scale)
        scratch[b, _COUNT] += 1.0
        for k in range(3):
            scratch[b, k] = min(scratch[b, k], np.float64(rec[i, k]))
            scratch[b, k + 3] = max(scratch[b, k + 3], np.float64(rec[i, k + 3]))
    for sweep in range(2):
        for k in range(3):
            run[k] = np.inf
            run[k + 3] = -np.inf
        n = 0.0
        best = np.inf
        border = -1
        for step in range(bins - 1):
            b = step if sweep == 1 else bins - 1 - step
            n += scratch[b, _COUNT]
            for k in range(3):
                run[k] = min(run[k], scratch[b, k])
                run[k + 3] = max(run[k + 3], scratch[b, k + 3])
            area = 0.0
            if n > 0.0:
                x = run[3] - run[0]
                y = run[4] - run[1]
                z = run[5] - run[2]
                area = x * y + y * z + z * x
            if sweep == 0:
                scratch[b - 1, _COST] = area * n if n > 0.0 else np.inf
            else:
                cost = area * n + scratch[b, _COST] if n > 0.0 else np.inf
                if cost < best:
                    best = cost
                    border = b
    i = s
    j = e - 1
    while i <= j:
        b = int((np.float64(rec[i, axis]) + np.float64(rec[i, axis + 3]) - base) * scale)
        if b <= border:
            i += 1
        else:
            _swap(rec, order, i, j)
            j -= 1
    if i == s or i == e:
        return (s + e) // 2
    return i


@helper
def _fill_node(rec, order, node, s, e, first, count, child, scratch):
    """Split range s..e into up to eight ranges and store them as the children of a node."""
    first[node, 0] = s
    count[node, 0] = e - s
    n = 1
    while n < 8:
        widest = -1
        for k in range(n):
            if count[node, k] > LEAF and (widest < 0 or count[node, k] > count[node, widest]):
                widest = k
        if widest < 0:
            break
        s0 = np.int64(first[node, widest])
        e0 = s0 + count[node, widest]
        m = _split(rec, order, s0, e0, scratch)
        count[node, widest] = m - s0
        first[node, n] = m
        count[node, n] = e0 - m
        n += 1
    for k in range(8):
        child[node, k] = -1 if k < n else -2


@kernel("f4[:,:]! i4[:]! i8 i8 b1 i4[:,:]! i4[:,:]! i4[:,:]!")
def build_nodes(rec, order, start, end, single, first, count, child):
    """Fill nodes 0.. for the range; returns how many. `single` fills only the root node."""
    scratch = np.empty((_BINS + 4, 8))
    _fill_node(rec, order, np.int64(0), start, end, first, count, child, scratch)
    used = np.int64(1)
    if single:
        return used
    node = 0
    while node < used:
        for k in range(8):
            if child[node, k] == -1 and count[node, k] > LEAF:
                child[node, k] = used
                s = np.int64(first[node, k])
                _fill_node(rec, order, used, s, s + count[node, k], first, count, child, scratch)
                used += 1
        node += 1
    return used


@kernel("f8[:,:] i4[:,:] i4[:,:] i4[:,:] i8 i8 f8 f4[:,:,:]! f4[:,:,:]! f4[:,:,:]!")
def bound_children(tri, first, count, child, begin, end, slack, box, disc, moment):
    """Bounds of the children of nodes begin..end from tri (F, 9) float64 in tree order."""
    for node in range(begin, end):
        for k in range(8):
            if child[node, k] == -2:
                for a in range(3):
                    box[node, a, k] = np.inf
                    box[node, a + 3, k] = -np.inf
                continue
            s = first[node, k]
            e = s + count[node, k]
            lx, ly, lz = np.inf, np.inf, np.inf
            hx, hy, hz = -np.inf, -np.inf, -np.inf
            ax, ay, az = 0.0, 0.0, 0.0
            cx, cy, cz = 0.0, 0.0, 0.0
            total = 0.0
            for f in range(s, e):
                x0, y0, z0 = tri[f, 0], tri[f, 1], tri[f, 2]
                x1, y1, z1 = tri[f, 3], tri[f, 4], tri[f, 5]
                x2, y2, z2 = tri[f, 6], tri[f, 7], tri[f, 8]
                lx = min(lx, x0, x1, x2)
                ly = min(ly, y0, y1, y2)
                lz = min(lz, z0, z1, z2)
                hx = max(hx, x0, x1, x2)
                hy = max(hy, y0, y1, y2)
                hz = max(hz, z0, z1, z2)
                ux, uy, uz = x1 - x0, y1 - y0, z1 - z0
                wx, wy, wz = x2 - x0, y2 - y0, z2 - z0
                nx = 0.5 * (uy * wz - uz * wy)
                ny = 0.5 * (uz * wx - ux * wz)
                nz = 0.5 * (ux * wy - uy * wx)
                area = np.sqrt(nx * nx + ny * ny + nz * nz)
                ax += nx
                ay += ny
                az += nz
                third = area / 3.0
                cx += third * (x0 + x1 + x2)
                cy += third * (y0 + y1 + y2)
                cz += third * (z0 + z1 + z2)
                total += area
            if total > 0.0:
                cx /= total
                cy /= total
                cz /= total
            else:
                cx, cy, cz = 0.5 * (lx + hx), 0.5 * (ly + hy), 0.5 * (lz + hz)
            length = np.sqrt(ax * ax + ay * ay + az * az)
            if length > 0.0:
                nx, ny, nz = ax / length, ay / length, az / length
            else:
                nx, ny, nz = 0.0, 0.0, 1.0
            # the bounds are measured against what float32 will hold
            cx, cy, cz = np.float64(np.float32(cx)), np.float64(np.float32(cy)), np.float64(np.float32(cz))
            nx, ny, nz = np.float64(np.float32(nx)), np.float64(np.float32(ny)), np.float64(np.float32(nz))
            radius = 0.0
            height = 0.0
            reach = 0.0
            for f in range(s, e):
                for c in range(0, 9, 3):
                    dx, dy, dz = tri[f, c] - cx, tri[f, c + 1] - cy, tri[f, c + 2] - cz
                    along = dx * nx + dy * ny + dz * nz
                    whole = dx * dx + dy * dy + dz * dz
                    height = max(height, abs(along))
                    radius = max(radius, whole - along * along)
                    reach = max(reach, whole)
            box[node, 0, k] = lx - slack
            box[node, 1, k] = ly - slack
            box[node, 2, k] = lz - slack
            box[node, 3, k] = hx + slack
            box[node, 4, k] = hy + slack
            box[node, 5, k] = hz + slack
            disc[node, 0, k] = cx
            disc[node, 1, k] = cy
            disc[node, 2, k] = cz
            disc[node, 3, k] = nx
            disc[node, 4, k] = ny
            disc[node, 5, k] = nz
            disc[node, 6, k] = np.sqrt(radius) + slack
            disc[node, 7, k] = height + slack
            moment[node, 0, k] = ax
            moment[node, 1, k] = ay
            moment[node, 2, k] = az
            moment[node, 3, k] = np.sqrt(reach)
