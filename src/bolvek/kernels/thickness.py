"""Wall thickness at points of a surface: how far a ray gets, and the largest ball that fits; samples to ask at."""

import numpy as np

from bolvek.kernels import kernel
from bolvek.kernels.simd import child_slabs
from bolvek.kernels.tree_query import closest_on_triangle, nearest_one, ray_triangle

_STACK = 512
_MOST_STEPS = 100


@kernel
def first_hit(tri, box, child, first, count, ox, oy, oz, dx, dy, dz, near, stack_node, stack_low, t_in, t_out):
    """Parameter and triangle (tree order) of a ray's first hit beyond `near`; inf and -1 when there is none."""
    x, y, z = np.float32(ox), np.float32(oy), np.float32(oz)
    ix = np.float32(1.0 / (dx if abs(dx) > 1e-18 else 1e-18))
    iy = np.float32(1.0 / (dy if abs(dy) > 1e-18 else 1e-18))
    iz = np.float32(1.0 / (dz if abs(dz) > 1e-18 else 1e-18))
    t0 = np.float32(near) - np.float32(1e-5) * (np.float32(1.0) + abs(np.float32(near)))
    best = np.inf
    hit = -1
    top = 1
    stack_node[0] = 0
    stack_low[0] = t0
    while top > 0:
        top -= 1
        if stack_low[top] > best:
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
            if low > high or low > best:
                continue
            if c == -1:
                s = first[node, k]
                for f in range(s, s + count[node, k]):
                    t = ray_triangle(tri, f, ox, oy, oz, dx, dy, dz)
                    if t > near and (t < best or (t == best and f < hit)):
                        best = t
                        hit = f
            else:
                m = top
                while m > base and stack_low[m - 1] < low:
                    stack_low[m] = stack_low[m - 1]
                    stack_node[m] = stack_node[m - 1]
                    m -= 1
                stack_low[m] = low
                stack_node[m] = c
                top += 1
    return best, hit


@kernel
def find_walls(
    tri,
    box,
    disc,
    child,
    first,
    count,
    points,
    directions,
    near,
    widest,
    tolerance,
    begin,
    end,
    ray,
    ray_facing,
    ray_face,
    ball,
    ball_facing,
    contact,
):
    """Ray length and ball diameter from surface points into the side that unit directions (Q, 3) show.

    ray, ball (Q,) float64 (inf: nothing there); ray_facing, ball_facing (Q,) float32: cosine between the
    direction and the normal of the face hit, and between the radii to the point and away from the contact,
    1 when the other side lies square across; ray_face, contact (Q,) int32: triangle (tree order, -1: none)
    that was hit, that the ball rests on. The ball shrinks from the ray's hit until nothing is nearer to
    its middle than (1 - tolerance) radii (Ma, Bae, Choi 2012). No ball where `ball` is empty; none wider
    than `widest`.
    """
    stack_node = np.empty(_STACK, np.int32)
    stack_low = np.empty(_STACK, np.float32)
    low = np.empty(8, np.float32)
    t_in = np.empty(8, np.float32)
    t_out = np.empty(8, np.float32)
    for q in range(begin, end):
        px, py, pz = points[q, 0], points[q, 1], points[q, 2]
        dx, dy, dz = directions[q, 0], directions[q, 1], directions[q, 2]
        t, f = first_hit(
            tri, box, child, first, count, px, py, pz, dx, dy, dz, near, stack_node, stack_low, t_in, t_out
        )
        ray[q] = t
        facing = 0.0
        if f >= 0:
            ux, uy, uz = tri[f, 3] - tri[f, 0], tri[f, 4] - tri[f, 1], tri[f, 5] - tri[f, 2]
            wx, wy, wz = tri[f, 6] - tri[f, 0], tri[f, 7] - tri[f, 1], tri[f, 8] - tri[f, 2]
            nx, ny, nz = uy * wz - uz * wy, uz * wx - ux * wz, ux * wy - uy * wx
            size = np.sqrt(nx * nx + ny * ny + nz * nz)
            facing = (dx * nx + dy * ny + dz * nz) / size if size > 0.0 else 0.0
        ray_facing[q] = facing
        ray_face[q] = f
        if ball.shape[0] == 0:
            continue
        r = min(0.5 * t, 0.5 * widest)
        touch = f if 0.5 * t <= r else -1
        beside = 1.0 if touch >= 0 else 0.0
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
            # the angle at the middle between the two radii, from the chord
            beside = 0.5 * away / (r * r) - 1.0 if r > 0.0 else 0.0
        ball[q] = 2.0 * r if touch >= 0 else np.inf
        ball_facing[q] = beside
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
