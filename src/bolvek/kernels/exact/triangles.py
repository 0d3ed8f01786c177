"""Do two triangles meet beyond what they share? Exact answers for every sharing case.

All decisions are signs of `orient3d` and `orient2d`, so they are the same whatever the order of the
triangles. Touching counts as meeting. Both triangles have an area: one without is a defect of its own.
"""

from bolvek.kernels import helper, kernel
from bolvek.kernels.exact.predicates import filtered_turn, filtered_volume, orient2d, orient3d


@helper
def flat_axes(v, a, b, c):
    """Two columns in which the triangle keeps an area, or (-1, -1) when it has none."""
    ux = v[b, 0] - v[a, 0]
    uy = v[b, 1] - v[a, 1]
    uz = v[b, 2] - v[a, 2]
    wx = v[c, 0] - v[a, 0]
    wy = v[c, 1] - v[a, 1]
    wz = v[c, 2] - v[a, 2]
    nx = abs(uy * wz - uz * wy)
    ny = abs(uz * wx - ux * wz)
    nz = abs(ux * wy - uy * wx)
    first = 2
    if nx >= ny and nx >= nz:
        first = 0
    elif ny >= nz:
        first = 1
    for step in range(3):
        drop = (first + step) % 3
        i = (drop + 1) % 3
        j = (drop + 2) % 3
        if orient2d(v, i, j, a, b, c) != 0:
            return i, j
    return -1, -1


@kernel("f8[:,:] i4[:,:] i8 i8 b1[:]!")
def mark_flat(v, faces, begin, end, flat):
    """flat[f] is set where the corners of face f lie exactly on a line."""
    for f in range(begin, end):
        flat[f] = flat_axes(v, faces[f, 0], faces[f, 1], faces[f, 2])[0] < 0


@kernel("f8[:,:] i4[:,:] i8 i8 f8[:,:]!")
def area_vectors(v, faces, begin, end, out):
    """Normals (F, 3) as long as the face's area."""
    for f in range(begin, end):
        a, b, c = faces[f, 0], faces[f, 1], faces[f, 2]
        ux, uy, uz = v[b, 0] - v[a, 0], v[b, 1] - v[a, 1], v[b, 2] - v[a, 2]
        wx, wy, wz = v[c, 0] - v[a, 0], v[c, 1] - v[a, 1], v[c, 2] - v[a, 2]
        out[f, 0] = 0.5 * (uy * wz - uz * wy)
        out[f, 1] = 0.5 * (uz * wx - ux * wz)
        out[f, 2] = 0.5 * (ux * wy - uy * wx)


@helper
def _point_in_flat(v, i, j, p, a, b, c):
    s = orient2d(v, i, j, a, b, p)
    t = orient2d(v, i, j, b, c, p)
    u = orient2d(v, i, j, c, a, p)
    return (s >= 0 and t >= 0 and u >= 0) or (s <= 0 and t <= 0 and u <= 0)


@helper
def _within(v, i, p, q, r):
    low = min(v[p, i], v[q, i])
    high = max(v[p, i], v[q, i])
    return low <= v[r, i] <= high


@helper
def _segments_meet_flat(v, i, j, p, q, r, s):
    a = orient2d(v, i, j, p, q, r)
    b = orient2d(v, i, j, p, q, s)
    c = orient2d(v, i, j, r, s, p)
    d = orient2d(v, i, j, r, s, q)
    if a * b < 0 and c * d < 0:
        return True
    if a == 0 and _within(v, i, p, q, r) and _within(v, j, p, q, r):
        return True
    if b == 0 and _within(v, i, p, q, s) and _within(v, j, p, q, s):
        return True
    if c == 0 and _within(v, i, r, s, p) and _within(v, j, r, s, p):
        return True
    return d == 0 and _within(v, i, r, s, q) and _within(v, j, r, s, q)


@helper
def _segment_meets_triangle(v, p, q, sp, sq, a, b, c):
    """Segment p q against triangle a b c; sp, sq are the sides of p and q of its plane."""
    if sp * sq > 0:
        return False
    if sp == 0 and sq == 0:
        i, j = flat_axes(v, a, b, c)
        if i < 0:
            return False
        # an edge that lies inside touches no side: one of its ends is then in the triangle
        if _point_in_flat(v, i, j, p, a, b, c):
            return True
        for _ in range(3):
            if _segments_meet_flat(v, i, j, p, q, a, b):
                return True
            a, b, c = b, c, a
        return False
    s = orient3d(v, p, q, a, b)
    t = orient3d(v, p, q, b, c)
    if s * t < 0:
        return False
    u = orient3d(v, p, q, c, a)
    return s * u >= 0 and t * u >= 0


@helper
def _apart(v, a, b, c, d, e, f):
    """Triangles that share no corner."""
    sd = orient3d(v, a, b, c, d)
    se = orient3d(v, a, b, c, e)
    sf = orient3d(v, a, b, c, f)
    if (sd > 0 and se > 0 and sf > 0) or (sd < 0 and se < 0 and sf < 0):
        return False
    sa = orient3d(v, d, e, f, a)
    sb = orient3d(v, d, e, f, b)
    sc = orient3d(v, d, e, f, c)
    if (sa > 0 and sb > 0 and sc > 0) or (sa < 0 and sb < 0 and sc < 0):
        return False
    for _ in range(2):
        for _ in range(3):
            if _segment_meets_triangle(v, a, b, sa, sb, d, e, f):
                return True
            a, b, c = b, c, a
            sa, sb, sc = sb, sc, sa
        a, b, c, d, e, f = d, e, f, a, b, c
        sa, sb, sc, sd, se, sf = sd, se, sf, sa, sb, sc
    return False


@helper
def _surely_one_side(v, o, a, b, c, d):
    """Whether a and b are surely strictly on one side of the plane o c d (float filter only)."""
    cx, cy, cz = v[c, 0] - v[o, 0], v[c, 1] - v[o, 1], v[c, 2] - v[o, 2]
    dx, dy, dz = v[d, 0] - v[o, 0], v[d, 1] - v[o, 1], v[d, 2] - v[o, 2]
    p, q = cy * dz, cz * dy
    nx, sx = p - q, abs(p) + abs(q)
    p, q = cz * dx, cx * dz
    ny, sy = p - q, abs(p) + abs(q)
    p, q = cx * dy, cy * dx
    nz, sz = p - q, abs(p) + abs(q)
    s = filtered_volume(v[a, 0] - v[o, 0], v[a, 1] - v[o, 1], v[a, 2] - v[o, 2], nx, ny, nz, sx, sy, sz)
    t = filtered_volume(v[b, 0] - v[o, 0], v[b, 1] - v[o, 1], v[b, 2] - v[o, 2], nx, ny, nz, sx, sy, sz)
    return s == t and s != 2


@helper
def _share_corner(v, o, a, b, c, d):
    """Triangles o a b and o c d: they meet beyond o iff an opposite edge meets the other."""
    # a triangle wholly on one side of the other's plane touches it in o only: nearly always enough
    if _surely_one_side(v, o, a, b, c, d) or _surely_one_side(v, o, c, d, a, b):
        return False
    for _ in range(2):
        sa = orient3d(v, o, c, d, a)
        sb = orient3d(v, o, c, d, b)
        if _segment_meets_triangle(v, a, b, sa, sb, o, c, d):
            return True
        a, b, c, d = c, d, a, b
    return False


@helper
def _share_edge(v, p, q, c, d):
    """Triangles p q c and p q d: they meet beyond p q only when folded onto the same plane."""
    if orient3d(v, p, q, c, d) != 0:
        return False
    i, j = flat_axes(v, p, q, c)
    if i < 0:
        return False
    return orient2d(v, i, j, p, q, c) == orient2d(v, i, j, p, q, d)


_PLANE_BOUND = 32.0 * 2.0**-53


@kernel("f8[:,:] i4[:,:] i4[:] i8 i8 f8[:,:]!")
def planes(v, faces, order, begin, end, plane):
    """For places begin..end of the order: normal of the face (not unit) and the error bound of `surely_beside`.

    plane (F, 4) float64. The bound covers the rounding of the normal, of the differences and of the dot
    product, each component of the normal being a difference of two products.
    """
    for place in range(begin, end):
        f = order[place]
        a, b, c = faces[f, 0], faces[f, 1], faces[f, 2]
        ux, uy, uz = v[b, 0] - v[a, 0], v[b, 1] - v[a, 1], v[b, 2] - v[a, 2]
        wx, wy, wz = v[c, 0] - v[a, 0], v[c, 1] - v[a, 1], v[c, 2] - v[a, 2]
        p, q = uy * wz, uz * wy
        plane[place, 0] = p - q
        size = abs(p) + abs(q)
        p, q = uz * wx, ux * wz
        plane[place, 1] = p - q
        size = max(size, abs(p) + abs(q))
        p, q = ux * wy, uy * wx
        plane[place, 2] = p - q
        plane[place, 3] = _PLANE_BOUND * max(size, abs(p) + abs(q))


@helper
def surely_beside(v, faces, f, g, plane, place):
    """Whether the corners of face f that g does not have are surely strictly on one side of g's plane.

    Then the faces meet in nothing but what they share. `place` is g's row of `plane`. A float filter:
    False says nothing.
    """
    o, e, h = faces[g, 0], faces[g, 1], faces[g, 2]
    ox, oy, oz = v[o, 0], v[o, 1], v[o, 2]
    nx, ny, nz, bound = plane[place, 0], plane[place, 1], plane[place, 2], plane[place, 3]
    side = 0
    for k in range(3):
        c = faces[f, k]
        if c == o or c == e or c == h:
            continue
        dx, dy, dz = v[c, 0] - ox, v[c, 1] - oy, v[c, 2] - oz
        s = dx * nx + dy * ny + dz * nz
        limit = bound * (abs(dx) + abs(dy) + abs(dz))
        if s > limit:
            if side < 0:
                return False
            side = 1
        elif s < -limit:
            if side > 0:
                return False
            side = -1
        else:
            return False
    return side != 0


@helper
def surely_aside(v, faces, f, g, plane, place):
    """Whether an edge of one of two faces, seen along g's normal, surely parts them: all corners of the one that the
    edge's face does not have lie strictly beyond it.

    Then the faces meet in nothing but what they share, however they lie in space. A float filter that settles what is
    nearly in one plane: False says nothing.
    """
    nx, ny, nz = abs(plane[place, 0]), abs(plane[place, 1]), abs(plane[place, 2])
    i, j = 0, 1
    if nx >= ny and nx >= nz:
        i, j = 1, 2
    elif ny >= nz:
        i, j = 2, 0
    for turn in range(2):
        one, other = (f, g) if turn == 0 else (g, f)
        for k in range(3):
            p, q, r = faces[one, k], faces[one, (k + 1) % 3], faces[one, (k + 2) % 3]
            side = filtered_turn(v, i, j, p, q, r)
            if abs(side) != 1:
                continue
            parted = True
            for m in range(3):
                c = faces[other, m]
                if c == p or c == q:
                    continue
                if c == r or filtered_turn(v, i, j, p, q, c) != -side:
                    parted = False
                    break
            if parted:
                return True
    return False


@helper
def triangles_meet(v, faces, f, g):
    """True when faces f and g meet beyond the corners or the edge they share."""
    a, b, c = faces[f, 0], faces[f, 1], faces[f, 2]
    d, e, h = faces[g, 0], faces[g, 1], faces[g, 2]
    # rotate both so that shared corners come first
    shared = 0
    fa = a == d or a == e or a == h
    fb = b == d or b == e or b == h
    fc = c == d or c == e or c == h
    shared = int(fa) + int(fb) + int(fc)
    if shared == 0:
        return _apart(v, a, b, c, d, e, h)
    if shared == 3:
        return True
    if shared == 1:
        if fb:
            a, b, c = b, c, a
        elif fc:
            a, b, c = c, a, b
        if e == a:
            d, e, h = e, h, d
        elif h == a:
            d, e, h = h, d, e
        return _share_corner(v, a, b, c, e, h)
    if not fa:
        a, b, c = b, c, a
    elif not fb:
        a, b, c = c, a, b
    other = d
    if e != a and e != b:
        other = e
    elif h != a and h != b:
        other = h
    return _share_edge(v, a, b, c, other)
