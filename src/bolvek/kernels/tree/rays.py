"""The first hits of rays."""

import numpy as np

from bolvek.kernels import helper, kernel
from bolvek.kernels.tree.arrays import STACK
from bolvek.kernels.tree.lanes import child_slabs


@helper
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


@kernel("tree f8[:,:] f8[:,:] f8 f8 i8 i8 f8[:,:]! i4[:,:]! i4[:]!")
def ray_hits(tree, origins, directions, near, far, begin, end, hits, faces, found):
    """The first hits of each ray with near < t < far, sorted; as many as `hits` has columns.

    hits (R, H) float64 and faces (R, H) int32 (tree order) are filled, found (R,) counts all hits
    up to H. With one column it is the plain first-hit query.
    """
    tri, box, child, first, count = tree.triangles, tree.box, tree.child, tree.first, tree.count
    width = hits.shape[1]
    stack_node = np.empty(STACK, np.int32)
    stack_low = np.empty(STACK, np.float32)
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
