"""The flat sides of a convex hull."""

import numpy as np

from bolvek.arrays import Floats


def hull_sides(points: Floats) -> tuple[Floats, Floats] | None:
    """Sides of the convex hull of points (P, 3), the largest first: outward planes (N, 4), so that n . x + d = 0, and
    areas (N,).

    Facets in one plane are one side. None where the points lie in a plane, or are too few.
    """
    from scipy.spatial import ConvexHull, QhullError

    try:
        hull = ConvexHull(points)
    except QhullError:
        return None
    corners = points[hull.simplices]
    area = 0.5 * np.linalg.norm(np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0]), axis=1)
    rounded, first, at = np.unique(np.round(hull.equations, 6), axis=0, return_index=True, return_inverse=True)
    total = np.bincount(at.ravel(), area).astype(np.float64)
    order = np.argsort(-total, kind="stable")
    return hull.equations[first][order], total[order]
