"""How a model stands: contact with the bed in the first half layer, centre of mass, and whether it falls."""

import numpy as np

from bolvek.analyses.overhangs.clip import clip_below
from bolvek.analyses.shells import EITHER, standing
from bolvek.analyses.shells.openings import lids
from bolvek.arrays import Floats
from bolvek.kernels.surface import sweep as kernels
from bolvek.mesh import Mesh
from bolvek.spatial.frames import across
from bolvek.units import Triple, as_triple

UPRIGHT = 1e-3
"""A face that looks down less than this (the cosine) stands upright: rounding must not make a foot of it."""


def bed_contact(mesh: Mesh, sign: Floats, up: Floats, height: Floats, limit: float) -> tuple[float, Floats]:
    """Area (mm2) of what looks down at or below a height, faces cut there, and its corners (N, 3)."""
    low = height <= limit
    a, b, c = mesh.faces.T
    near = np.flatnonzero(low[a] | low[b] | low[c])
    near = near[mesh.normals_of(near) @ up * sign[near] < -UPRIGHT]
    pieces, _ = clip_below(mesh.vertices[mesh.faces[near]], height[mesh.faces[near]], np.full(len(near), limit))
    area = 0.5 * np.linalg.norm(np.cross(pieces[:, 1] - pieces[:, 0], pieces[:, 2] - pieces[:, 0]), axis=1)
    return float(area.sum()), pieces[area > 0].reshape(-1, 3)


def centre_of_mass(mesh: Mesh, sign: Floats) -> Triple | None:
    """Of the enclosed volume, small openings closed in thought; None where a shell is an open skin, or may be one."""
    openings = standing(mesh).openings
    if any(o.kind in ("rim", EITHER) for o in openings.found):
        return None
    middle = mesh.bounds.mean(axis=0)
    moment = np.zeros(4)
    kernels.volume_moment(mesh.vertices, mesh.faces, sign, middle, moment)
    corners, _, beside = lids(mesh, openings)
    if len(corners):
        faces = np.arange(3 * len(corners), dtype=np.int32).reshape(-1, 3)
        kernels.volume_moment(np.ascontiguousarray(corners.reshape(-1, 3)), faces, sign[beside], middle, moment)
    return as_triple(middle + moment[:3] / moment[3]) if moment[3] > 0 else None


def foot(points: Floats, centre: Triple | None, up: Floats) -> tuple[float, float | None]:
    """Least width (mm) of the outline of the contact (N, 3), and how far inside it the centre of mass stands.

    Negative is outside; of a contact without a width, the distance to it, as outside. None without a centre.
    """
    from scipy.spatial import ConvexHull, QhullError

    plan = np.stack(across(up))
    flat = points @ plan.T
    at = None if centre is None else plan @ np.array(centre)
    try:
        hull = ConvexHull(flat)
    except (QhullError, ValueError):
        apart = None if at is None or not len(flat) else -float(np.linalg.norm(flat - at, axis=1).min())
        return 0.0, apart
    sides = hull.equations
    width = float((-(flat[hull.vertices] @ sides[:, :2].T + sides[:, 2]).min(axis=0)).min())
    return width, None if at is None else float(-(sides[:, :2] @ at + sides[:, 2]).max())
