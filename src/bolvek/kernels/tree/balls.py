"""The largest ball that touches a surface from one side."""

import numpy as np

from bolvek.kernels import helper, kernel
from bolvek.kernels.tree.arrays import STACK
from bolvek.kernels.tree.distance import closest_on_triangle, nearest_one

_MOST_STEPS, _ON_ONE = 100, 8


@helper
def _shrunk(tri, g, px, py, pz, dx, dy, dz, r, tolerance):
    """The radius and the facing of a ball that touches p from the side of d, no wider than r, made so small that row g
    of tri does not come into it by more than the tolerance; the facing is 2 where it does not in the first place."""
    beside = 2.0
    for _ in range(_ON_ONE):
        cx, cy, cz = px + r * dx, py + r * dy, pz + r * dz
        qx, qy, qz = closest_on_triangle(
            tri[g, 0], tri[g, 1], tri[g, 2], tri[g, 3], tri[g, 4], tri[g, 5], tri[g, 6], tri[g, 7], tri[g, 8],
            cx, cy, cz,
        )  # fmt: skip
        gap = (qx - cx) ** 2 + (qy - cy) ** 2 + (qz - cz) ** 2
        if gap >= (r * (1.0 - tolerance)) ** 2:
            break
        ex, ey, ez = qx - px, qy - py, qz - pz
        along = ex * dx + ey * dy + ez * dz
        away = ex * ex + ey * ey + ez * ez
        if along <= 0.0:  # rounding only: a point inside the ball lies before the surface
            break
        smaller = 0.5 * away / along
        if not smaller < r:
            break
        r = smaller
        # the angle at the middle between the two radii, from the chord
        beside = 0.5 * away / (r * r) - 1.0 if r > 0.0 else 0.0
    return r, beside


@kernel("tree f8[:,:] f8[:,:] f8[:] f8 f8 i8 i8 f8[:]! f4[:]! i4[:]!")
def shrink_balls(
    tree,
    points,
    directions,
    ray,
    widest,
    tolerance,
    begin,
    end,
    ball,
    facing,
    contact,
):
    """Diameter of the largest ball that touches each point from the side a unit direction (Q, 3) shows.

    ball (Q,) float64, inf where it would be wider than `widest`; facing (Q,) float32: cosine between the
    radius to the point and that away from what the ball rests on, 1 when that lies square across; contact
    (Q,) int32: the triangle it rests on (tree order, -1: none). A ball shrinks from the length of the ray
    until nothing is nearer to its middle than (1 - tolerance) radii (Ma, Bae, Choi 2012). Points that follow each other
    lie near each other: what the ball before rests on is looked at first.
    """
    tri = tree.triangles
    stack_node = np.empty(STACK, np.int32)
    stack_low = np.empty(STACK, np.float32)
    low = np.empty(8, np.float32)
    last = np.int64(-1)
    for q in range(begin, end):
        px, py, pz = points[q, 0], points[q, 1], points[q, 2]
        dx, dy, dz = directions[q, 0], directions[q, 1], directions[q, 2]
        r = 0.5 * min(ray[q], widest)
        rests = ray[q] <= widest
        touch = np.int64(-1)
        beside = 1.0
        g = last
        for step in range(_MOST_STEPS):
            if g >= 0:
                r, cosine = _shrunk(tri, g, px, py, pz, dx, dy, dz, r, tolerance)
                if cosine < 2.0:
                    beside, touch, rests = cosine, g, True
                elif step > 0:
                    break
            limit = r * (1.0 - tolerance)
            _, g = nearest_one(
                tree, px + r * dx, py + r * dy, pz + r * dz, limit * limit, np.int64(-1), stack_node, stack_low, low
            )
            if g < 0:
                break
        last = touch
        ball[q] = 2.0 * r if rests else np.inf
        facing[q] = beside
        contact[q] = touch
