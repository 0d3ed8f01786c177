"""Wall thickness at points of a surface: the largest ball that fits; and samples to ask at."""

import numpy as np

from bolvek.kernels import kernel
from bolvek.kernels.tree_query import closest_on_triangle, nearest_one

_STACK = 512
_MOST_STEPS = 100


@kernel
def shrink_balls(
    tri,
    box,
    disc,
    child,
    first,
    count,
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
    until nothing is nearer to its middle than (1 - tolerance) radii (Ma, Bae, Choi 2012).
    """
    stack_node = np.empty(_STACK, np.int32)
    stack_low = np.empty(_STACK, np.float32)
    low = np.empty(8, np.float32)
    for q in range(begin, end):
        px, py, pz = points[q, 0], points[q, 1], points[q, 2]
        dx, dy, dz = directions[q, 0], directions[q, 1], directions[q, 2]
        r = 0.5 * min(ray[q], widest)
        rests = ray[q] <= widest
        touch = -1
        beside = 1.0
        for _ in range(_MOST_STEPS):
            cx, cy, cz = px + r * dx, py + r * dy, pz + r * dz
            limit = r * (1.0 - tolerance)
            _, g = nearest_one(
                tri, box, disc, child, first, count, cx, cy, cz, limit * limit, -1, stack_node, stack_low, low
            )
            if g < 0:
                break
            qx, qy, qz = closest_on_triangle(
                tri[g, 0], tri[g, 1], tri[g, 2], tri[g, 3], tri[g, 4], tri[g, 5], tri[g, 6], tri[g, 7], tri[g, 8],
                cx, cy, cz,
            )  # fmt: skip
            ex, ey, ez = qx - px, qy - py, qz - pz
            along = ex * dx + ey * dy + ez * dz
            away = ex * ex + ey * ey + ez * ez
            if along <= 0.0:  # rounding only: a point inside the ball lies before the surface
                break
            smaller = 0.5 * away / along
            if not smaller < r:
                break
            r = smaller
            touch = g
            rests = True
            # the angle at the middle between the two radii, from the chord
            beside = 0.5 * away / (r * r) - 1.0 if r > 0.0 else 0.0
        ball[q] = 2.0 * r if rests else np.inf
        facing[q] = beside
        contact[q] = touch


@kernel
def sample_faces(v, faces, order, spacing, begin, end, start, fill, points, weight, owner):
    """Samples of faces, about a spacing apart; one at least a face that has an area.

    A face is cut into columns along its longest edge and each column into cells; a sample stands in the
    middle of each cell and weighs its area. start (F + 1,) int64 gets the samples of each place of the
    order when fill is False; when True it says where they go in points (Q, 3), weight (Q,), owner (Q,).
    """
    for place in range(begin, end):
        f = order[place]
        # a, b: the longest edge; c: the corner across
        k = 0
        longest = -1.0
        for j in range(3):
            p, o = faces[f, j], faces[f, (j + 1) % 3]
            d = (v[o, 0] - v[p, 0]) ** 2 + (v[o, 1] - v[p, 1]) ** 2 + (v[o, 2] - v[p, 2]) ** 2
            if d > longest:
                longest = d
                k = j
        a, b, c = faces[f, k], faces[f, (k + 1) % 3], faces[f, (k + 2) % 3]
        length = np.sqrt(longest)
        if not length > 0.0:
            if not fill:
                start[place + 1] = 0
            continue
        ux, uy, uz = (v[b, 0] - v[a, 0]) / length, (v[b, 1] - v[a, 1]) / length, (v[b, 2] - v[a, 2]) / length
        wx, wy, wz = v[c, 0] - v[a, 0], v[c, 1] - v[a, 1], v[c, 2] - v[a, 2]
        foot = wx * ux + wy * uy + wz * uz
        hx, hy, hz = wx - foot * ux, wy - foot * uy, wz - foot * uz
        height = np.sqrt(hx * hx + hy * hy + hz * hz)
        if not height > 0.0:
            if not fill:
                start[place + 1] = 0
            continue
        foot = min(max(foot / length, 0.0), 1.0)
        columns = max(1, np.int64(np.ceil(length / spacing)))
        if columns == 1:
            if fill:
                at = start[place]
                for j in range(3):
                    points[at, j] = (v[a, j] + v[b, j] + v[c, j]) / 3.0
                weight[at] = 0.5 * length * height
                owner[at] = f
            else:
                start[place + 1] = 1
            continue
        at = start[place] if fill else 0
        for i in range(columns):
            left, right = i / columns, (i + 1) / columns
            # area and middle of the column, from the heights at its ends and at the foot
            area = 0.0
            moment = 0.0
            for half in range(2):
                s = left if half == 0 else max(left, foot)
                e = min(right, foot) if half == 0 else right
                if e <= s:
                    continue
                if half == 0:
                    hs, he = s / foot, e / foot
                else:
                    hs, he = (1.0 - s) / (1.0 - foot), (1.0 - e) / (1.0 - foot)
                piece = 0.5 * (hs + he) * (e - s)
                area += piece
                if hs + he > 0.0:
                    moment += piece * (s + (e - s) * (hs + 2.0 * he) / (3.0 * (hs + he)))
            if not area > 0.0:
                continue
            u = moment / area
            tall = min(u / foot if u < foot else 2.0, (1.0 - u) / (1.0 - foot) if u > foot else 2.0, 1.0)
            rows = max(1, np.int64(np.ceil(tall * height / spacing)))
            if fill:
                for j in range(rows):
                    w = tall * (j + 0.5) / rows
                    for axis in range(3):
                        rise = hx if axis == 0 else (hy if axis == 1 else hz)
                        along = ux if axis == 0 else (uy if axis == 1 else uz)
                        points[at + j, axis] = v[a, axis] + u * length * along + w * rise
                    weight[at + j] = area * length * height / rows
                    owner[at + j] = f
            at += rows
        if not fill:
            start[place + 1] = at
