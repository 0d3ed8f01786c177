"""Where a recast solid is thinner than prints, and what makes it as thick, before it is extracted for good.

At the middle of every face of what the lattice holds, and of every piece of the original that it loses, the wall is the
smaller of a ray and an inscribed ball. Where its two sides face each other squarely (within 20 degrees), so that no
convex edge and no taper counts, the face moved inward by half the wall lies on the ridge of the inner distance. All
that is nearer to these ridge faces than half the least wall becomes material, so curves and sheets alike are as thick
as that, to their rims.
"""

import numpy as np

from bolvek.analyses.shells import outward_signs
from bolvek.analyses.thickness import measure
from bolvek.arrays import Floats, Ints
from bolvek.mesh import Mesh


def ridge_faces(solid: Mesh, corners: Floats, face: Ints, least_mm: float) -> Floats:
    """Pieces (N, 3, 3) of faces (N,) of a mesh moved to the middle of its material, those between opposite sides nearer
    to each other than the least wall."""
    m = measure(
        solid,
        corners.mean(axis=1),
        face,
        outward_signs(solid),
        widest_ball_mm=1.25 * least_mm,
        far_mm=1.25 * least_mm,
    )
    inward = -outward_signs(solid)[face, None] * solid.normals_of(face)
    thin = np.flatnonzero(m.square & (m.wall < least_mm) & (solid.face_areas[face] > 0))
    return np.asarray(corners[thin] + (0.5 * m.wall[thin, None] * inward[thin])[:, None])


def half_wall(least_mm: float, cell_mm: float, slim_mm: float) -> float:
    """How far from the ridge material goes: half the least wall, and what facets on a lattice cut off a rod as thick,
    and slimming takes."""
    half = 0.5 * least_mm
    return half + cell_mm**2 / (8 * half) + slim_mm
