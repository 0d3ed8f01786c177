"""How often a surface winds around a place."""

import numpy as np

from bolvek.kernels import kernel
from bolvek.kernels.tree.arrays import STACK

_FOUR_PI = 4.0 * np.pi


@kernel("tree f8[:,:] f8 i8 i8 f8[:]!")
def winding(tree, points, accuracy, begin, end, out):
    """Generalized winding number of each point: 1 inside a closed outward surface, 0 outside.

    Far children count as one dipole at their area centroid (Barill et al. 2018), far meaning more
    than `accuracy` bounding radii away; near leaves by solid angles (Van Oosterom, Strackee 1983).
    """
    tri, disc, moment = tree.triangles, tree.disc, tree.moment
    child, first, count = tree.child, tree.first, tree.count
    stack_node = np.empty(STACK, np.int32)
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
