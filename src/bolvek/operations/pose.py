"""Posing: mirror, lay on a face, turn, tilt, centre, drop to the bed; exact for quarter turns."""

from dataclasses import dataclass

import numpy as np

from bolvek.analyses.shells import counted_once, for_all_faces, outward_signs
from bolvek.arrays import Floats, extent
from bolvek.errors import WorkError
from bolvek.mesh import Mesh
from bolvek.settings.parts import PoseSettings
from bolvek.spatial.hull import hull_sides
from bolvek.units import Triple, as_triple, length_text, point_text

_DOWN = np.array([0.0, 0.0, -1.0])
_PLANES = 24  # largest facets of the hull that may be the flat one to lie on
FLAT_SHARE = 1e-4
"""Faces within this share of the longest side of a plane lie in it."""


@dataclass(frozen=True, kw_only=True)
class PoseRecord:
    """The whole transform, point = turn @ point + shift (mm); sizes before and after; the lowest z after.

    bed_mm2: area of the faces that lie on the bed plane (z = lowest, within flat_mm) after it; laid_above_mm: how far
    above it the middle of the face is that was laid (None: none was).
    """

    turn: tuple[Triple, Triple, Triple]
    shift_mm: Triple
    before_mm: Triple
    after_mm: Triple
    lowest_mm: float
    bed_mm2: float
    flat_mm: float
    laid_above_mm: float | None = None


def rotation(axis: Triple | Floats, degrees: float) -> Floats:
    """Turn (3, 3) about an axis by the right hand; exact for quarter turns about x, y, z (Rodrigues 1840)."""
    a = np.asarray(axis, np.float64)
    a = a / np.linalg.norm(a)
    quarter = float(degrees) % 360.0
    if quarter % 90.0 == 0.0:
        c, s = ((1.0, 0.0), (0.0, 1.0), (-1.0, 0.0), (0.0, -1.0))[int(quarter // 90) % 4]
    else:
        c, s = float(np.cos(np.radians(degrees))), float(np.sin(np.radians(degrees)))
    cross = np.array([[0, -a[2], a[1]], [a[2], 0, -a[0]], [-a[1], a[0], 0]])
    return np.asarray(c * np.eye(3) + s * cross + (1 - c) * np.outer(a, a))


def turn_onto(start: Floats, end: Floats) -> Floats:
    """The shortest turn (3, 3) that takes one direction onto another; exact between coordinate axes."""
    a, b = start / np.linalg.norm(start), end / np.linalg.norm(end)
    axis = np.cross(a, b)
    size = float(np.linalg.norm(axis))
    if size < 1e-12:
        if a @ b > 0:
            return np.eye(3)
        other = np.eye(3)[int(np.argmin(np.abs(a)))]
        return rotation(np.cross(a, other), 180.0)
    if np.count_nonzero(a) == 1 and np.count_nonzero(b) == 1:
        return rotation(axis, 90.0)
    return rotation(axis / size, float(np.degrees(np.arctan2(size, a @ b))))


def pose(mesh: Mesh, settings: PoseSettings) -> tuple[Mesh, PoseRecord]:
    """The mesh in its new pose. Raises UsageError, or WorkError where there is no flat side to lie on."""
    settings.check()
    s = settings
    turn = np.eye(3)
    if s.mirror is not None:
        turn["xyz".index(s.mirror), "xyz".index(s.mirror)] = -1.0
    flipped, face = s.mirror is not None, -1
    if s.lay is not None:
        face, normal = _face_at(mesh, s.lay)
        turn = turn_onto(turn @ normal, _DOWN) @ turn
    elif s.lay_largest:
        turn = turn_onto(turn @ largest_flat(mesh), _DOWN) @ turn
    elif s.up is not None:
        turn = turn_onto(turn @ np.array(s.up), -_DOWN) @ turn
    for axis, degrees in s.turns:
        turn = rotation(axis, degrees) @ turn
    if s.tilt is not None:
        lean = np.radians(s.tilt[1])
        turn = rotation((-float(np.sin(lean)), float(np.cos(lean)), 0.0), s.tilt[0]) @ turn
    # a product by 0 and 1 is exact, so quarter turns and mirrors are
    vertices = mesh.vertices @ turn.T
    faces = mesh.faces[:, ::-1] if flipped else mesh.faces
    used = vertices[np.unique(faces)]
    low, high = extent(used)
    shift = np.zeros(3)
    if s.centre:
        shift[:2] = -0.5 * (low + high)[:2]
    if s.drop or s.lay is not None or s.lay_largest:
        shift[2] = -low[2]
    result = Mesh(vertices + shift, faces)
    rows = tuple(as_triple(r) for r in turn)
    lowest = float(result.bounds[0, 2])
    record = PoseRecord(
        turn=(rows[0], rows[1], rows[2]),
        shift_mm=as_triple(shift),
        before_mm=as_triple(mesh.size),
        after_mm=as_triple(result.size),
        lowest_mm=lowest,
        bed_mm2=_on_bed(result),
        flat_mm=FLAT_SHARE * float(result.size.max()),
        laid_above_mm=None if face < 0 else float(result.vertices[result.faces[face], 2].mean()) - lowest,
    )
    return result, record


FAR_SHARE = 0.1
"""A point farther from the model than this share of its longest side names no face of it."""


def _face_at(mesh: Mesh, point: Triple) -> tuple[int, Floats]:
    """The face nearest to a point, and its normal (3,) out of the material. Raises WorkError where that is none."""
    distance, faces = mesh.tree.nearest(np.array([point]))
    face, most = int(faces[0]), FAR_SHARE * float(mesh.size.max())
    if not distance[0] <= most:
        nearest = mesh.tree.closest_points(np.array([point]), faces)[0]
        raise WorkError(
            f"{point_text(point)} is {length_text(float(distance[0]))} from the model, farther than "
            f"{length_text(most)}: the nearest point of its surface is {point_text(nearest)}"
        )
    once, keep = counted_once(mesh)
    sign = for_all_faces(outward_signs(once), keep, mesh)[face]
    normal = sign * mesh.area_vectors[face]
    if not np.linalg.norm(normal) > 0:
        raise WorkError(f"the face nearest to {point_text(point)} has no area: it faces nowhere")
    return face, normal


def _on_bed(mesh: Mesh) -> float:
    """Area (mm2) of faces that look down and lie within a tolerance of the lowest z."""
    z = mesh.vertices[mesh.faces, 2]
    near = (z <= mesh.bounds[0, 2] + FLAT_SHARE * mesh.size.max()).all(axis=1) & (mesh.area_vectors[:, 2] < 0)
    return float(mesh.face_areas[near].sum())


def largest_flat(mesh: Mesh) -> Floats:
    """Outward normal (3,) of the side of the convex hull on which most of the model's own surface lies.

    Where the model touches its hull in points only, that of the hull's largest side. Raises WorkError for
    a model that is flat itself.
    """
    sides = hull_sides(mesh.vertices[np.unique(mesh.faces)], _PLANES)
    if sides is None:
        raise WorkError("the model is flat or has too few points: it has no side to stand on")
    tolerance = FLAT_SHARE * float(mesh.size.max())
    best, chosen = (-1.0, -1.0), sides[0][0, :3]
    for facet, total in zip(*sides, strict=True):
        near = np.abs(mesh.vertices @ facet[:3] + facet[3]) <= tolerance
        inside = near[mesh.faces].all(axis=1)
        own = float(mesh.face_areas[inside].sum())
        if (own, float(total)) > best:
            best = (own, float(total))
            mean = mesh.area_vectors[inside].sum(axis=0)
            chosen = mean if own > 0 and float(mean @ facet[:3]) > 0 else facet[:3]
    return np.asarray(chosen)
