"""Exact orientation predicates: a float64 filter first, expansion arithmetic where it fails.

Method: J. R. Shewchuk, "Adaptive Precision Floating-Point Arithmetic and Fast Robust Geometric
Predicates", Discrete & Computational Geometry 18 (1997), doi:10.1007/PL00009321. The exact stage
here is the plain one: every product is split into exact float64 terms that are added one by one to
a non-overlapping expansion; its largest component carries the sign.

Exact as long as no product under- or overflows (coordinates between 1e-90 and 1e90 in size).
Never compile these with fastmath: the error terms are what a fast compiler would drop.
"""

import numpy as np

from bolvek.kernels import helper

_EPS = 2.0**-53
_BOUND_2D = (3.0 + 16.0 * _EPS) * _EPS
_BOUND_3D = (7.0 + 56.0 * _EPS) * _EPS
_SPLITTER = 134217729.0  # 2**27 + 1


@helper
def _two_difference(a, b):
    x = a - b
    bv = a - x
    av = x + bv
    return x, (a - av) + (bv - b)


@helper
def _two_product(a, b):
    x = a * b
    c = _SPLITTER * a
    ah = c - (c - a)
    al = a - ah
    c = _SPLITTER * b
    bh = c - (c - b)
    bl = b - bh
    return x, al * bl - (((x - ah * bh) - al * bh) - ah * bl)


@helper
def _grow(e, n, b):
    """Add the float b to the expansion e[:n]; zeros are dropped. Returns the new length."""
    q = b
    m = 0
    for i in range(n):
        s = q + e[i]
        bv = s - q
        low = (q - (s - bv)) + (e[i] - bv)
        q = s
        if low != 0.0:
            e[m] = low
            m += 1
    if q != 0.0:
        e[m] = q
        m += 1
    return m


@helper
def _add_triple(e, n, a, b, c, sign):
    """Add sign * a * b * c, exactly, to the expansion e[:n]."""
    if a == 0.0 or b == 0.0 or c == 0.0:
        return n
    high, low = _two_product(a, b)
    x, y = _two_product(high, c)
    n = _grow(e, n, sign * y)
    n = _grow(e, n, sign * x)
    if low != 0.0:
        x, y = _two_product(low, c)
        n = _grow(e, n, sign * y)
        n = _grow(e, n, sign * x)
    return n


@helper
def _orient3d_exact(v, a, b, c, d):
    t = np.empty((3, 3, 2))
    for k in range(3):
        t[0, k, 0], t[0, k, 1] = _two_difference(v[a, k], v[d, k])
        t[1, k, 0], t[1, k, 1] = _two_difference(v[b, k], v[d, k])
        t[2, k, 0], t[2, k, 1] = _two_difference(v[c, k], v[d, k])
    e = np.empty(200)
    n = np.int64(0)  # a literal would make a variant of every helper below
    for p in range(6):
        # the six permutations of the Leibniz formula, even ones first
        i = p % 3
        if p < 3:
            j, k, sign = (i + 1) % 3, (i + 2) % 3, 1.0
        else:
            j, k, sign = (i + 2) % 3, (i + 1) % 3, -1.0
        for x in range(2):
            for y in range(2):
                for z in range(2):
                    n = _add_triple(e, n, t[0, i, x], t[1, j, y], t[2, k, z], sign)
    if n == 0:
        return 0
    return 1 if e[n - 1] > 0.0 else -1


@helper
def orient3d(v, a, b, c, d):
    """Sign of det(a-d, b-d, c-d) for rows a, b, c, d of v (V, 3) float64: 1, 0 or -1.

    Positive when d lies below the plane through a, b, c, seen so that a, b, c turn counterclockwise
    from above.
    """
    adx = v[a, 0] - v[d, 0]
    ady = v[a, 1] - v[d, 1]
    adz = v[a, 2] - v[d, 2]
    bdx = v[b, 0] - v[d, 0]
    bdy = v[b, 1] - v[d, 1]
    bdz = v[b, 2] - v[d, 2]
    cdx = v[c, 0] - v[d, 0]
    cdy = v[c, 1] - v[d, 1]
    cdz = v[c, 2] - v[d, 2]
    bxcy = bdx * cdy
    cxby = cdx * bdy
    cxay = cdx * ady
    axcy = adx * cdy
    axby = adx * bdy
    bxay = bdx * ady
    det = adz * (bxcy - cxby) + bdz * (cxay - axcy) + cdz * (axby - bxay)
    size = (abs(bxcy) + abs(cxby)) * abs(adz) + (abs(cxay) + abs(axcy)) * abs(bdz) + (abs(axby) + abs(bxay)) * abs(cdz)
    bound = _BOUND_3D * size
    if det > bound:
        return 1
    if det < -bound:
        return -1
    if size == 0.0:
        return 0
    return _orient3d_exact(v, a, b, c, d)


@helper
def filtered_volume(ax, ay, az, nx, ny, nz, sx, sy, sz):
    """Sign of a . n for n = c x d computed in float64 with |c| x |d| bounded by s: 2 when unsure."""
    det = ax * nx + ay * ny + az * nz
    bound = _BOUND_3D * (abs(ax) * sx + abs(ay) * sy + abs(az) * sz)
    if det > bound:
        return 1
    if det < -bound:
        return -1
    return 2


@helper
def _orient2d_exact(v, i, j, a, b, c):
    t = np.empty((4, 2))
    t[0, 0], t[0, 1] = _two_difference(v[a, i], v[c, i])
    t[1, 0], t[1, 1] = _two_difference(v[b, j], v[c, j])
    t[2, 0], t[2, 1] = _two_difference(v[a, j], v[c, j])
    t[3, 0], t[3, 1] = _two_difference(v[b, i], v[c, i])
    e = np.empty(40)
    n = np.int64(0)
    for x in range(2):
        for y in range(2):
            n = _add_triple(e, n, t[0, x], t[1, y], 1.0, 1.0)
            n = _add_triple(e, n, t[2, x], t[3, y], 1.0, -1.0)
    if n == 0:
        return 0
    return 1 if e[n - 1] > 0.0 else -1


@helper
def filtered_turn(v, i, j, a, b, c):
    """`orient2d` by its float filter alone: 2 when unsure."""
    left = (v[a, i] - v[c, i]) * (v[b, j] - v[c, j])
    right = (v[a, j] - v[c, j]) * (v[b, i] - v[c, i])
    det = left - right
    bound = _BOUND_2D * (abs(left) + abs(right))
    if det > bound:
        return 1
    if det < -bound:
        return -1
    return 0 if left == 0.0 and right == 0.0 else 2


@helper
def orient2d(v, i, j, a, b, c):
    """Turn of the rows a, b, c of v in the plane of columns i, j: 1 left, -1 right, 0 straight."""
    side = filtered_turn(v, i, j, a, b, c)
    return side if side != 2 else _orient2d_exact(v, i, j, a, b, c)
