"""The flat sides of a convex hull."""

import numpy as np

from bolvek.arrays import Floats

SAME_SIDE_COSINE = float(np.cos(2e-4))
"""Facets whose normals lean less than this (radians, 0.01 degrees) are one side: float32 bends a flat side by less."""


def hull_sides(points: Floats, most: int) -> tuple[Floats, Floats] | None:
    """Sides of the convex hull of points (P, 3), the largest first, at most so many: outward planes (N, 4), so that
    n . x + d = 0 on its largest facet, and areas (N,).

    None where the points lie in a plane, or are too few.
    """
    from scipy.spatial import ConvexHull, QhullError

    try:
        hull = ConvexHull(points)
    except QhullError:
        return None
    corners = points[hull.simplices]
    area = 0.5 * np.linalg.norm(np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0]), axis=1)
    # rounding gathers facets quickly, but a side may fall on both sides of where it rounds
    rough, at = np.unique(np.round(hull.equations[:, :3], 4), axis=0, return_inverse=True)
    at, rough = at.ravel(), rough / np.linalg.norm(rough, axis=1)[:, None]
    total, free = np.bincount(at, area), np.ones(len(rough), bool)
    planes: list[Floats] = []
    areas: list[float] = []
    for k in np.argsort(-total, kind="stable"):
        if len(planes) == most:
            break
        if free[k]:
            side = free & (rough @ rough[k] > SAME_SIDE_COSINE)
            free &= ~side
            planes.append(hull.equations[np.argmax(np.where(side[at], area, -1.0))])
            areas.append(float(total[side].sum()))
    order = np.argsort(-np.array(areas), kind="stable")
    return np.array(planes)[order], np.array(areas)[order]
