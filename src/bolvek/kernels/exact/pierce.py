"""Where the edges of two faces go through each other's faces, exactly."""

from bolvek.kernels import helper, kernel
from bolvek.kernels.exact.predicates import orient3d

TOUCH = 2
"""An edge that only touches a face, or lies in its plane: no side can be told."""


@helper
def _pierce(v, p, q, a, b, c):
    """1 where the edge p q goes through the triangle a b c from the side of its normal, -1 the other way, 0 where it
    passes by, TOUCH where that is not decided."""
    sp = orient3d(v, a, b, c, p)
    sq = orient3d(v, a, b, c, q)
    if sp * sq > 0:
        return 0
    # the line against the three sides
    u0 = orient3d(v, p, q, a, b)
    u1 = orient3d(v, p, q, b, c)
    u2 = orient3d(v, p, q, c, a)
    if (u0 > 0 or u1 > 0 or u2 > 0) and (u0 < 0 or u1 < 0 or u2 < 0):
        return 0
    if sp == 0 or sq == 0 or u0 == 0 or u1 == 0 or u2 == 0:
        return TOUCH
    # orient3d is positive below the plane
    return 1 if sp < 0 else -1


@kernel("f8[:,:] i4[:,:] i8[:,:] i8 i8 i1[:,:]!")
def pierce_pairs(v, faces, pairs, begin, end, out):
    """out (P, 6): the three edges of the first face of each pair (P, 2) against the second, then the other way (see
    `_pierce`)."""
    for n in range(begin, end):
        for side in range(2):
            f, g = pairs[n, side], pairs[n, 1 - side]
            for k in range(3):
                out[n, 3 * side + k] = _pierce(
                    v, faces[f, k], faces[f, (k + 1) % 3], faces[g, 0], faces[g, 1], faces[g, 2]
                )
