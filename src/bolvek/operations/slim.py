"""Fewer triangles within a stated deviation (closed meshes)."""

from dataclasses import dataclass

import numpy as np

from bolvek.kernels import slim as kernels
from bolvek.mesh import Mesh

_GROWTH = 4.0
_PASSES = 7
_WIDE_PASSES = 2
_FIRST_TRY = 1.0
_TRIES = 4


@dataclass(frozen=True)
class SlimRecord:
    """What slimming did; the deviation is measured both ways at vertices and the coarser one's
    face middles."""

    triangles_before: int
    triangles_after: int
    allowed_mm: float
    deviation_mm: float


def slim(mesh: Mesh, allowed_mm: float) -> tuple[Mesh, SlimRecord]:
    """Collapse edges while the surface stays within `allowed_mm` of where it was.

    The quadric error bounds the distance to planes, not to faces: the deviation is measured on the
    result, and the work is done again with a smaller error limit until it holds. A limit that cannot be met returns the
    mesh unchanged.
    """
    before = len(mesh.faces)
    limit = _FIRST_TRY * allowed_mm
    for _ in range(_TRIES):
        result = _collapse(mesh, limit**2)
        deviation = deviation_mm(mesh, result)
        if deviation <= allowed_mm:
            return result, SlimRecord(before, len(result.faces), allowed_mm, deviation)
        limit *= max(0.2, 0.8 * allowed_mm / deviation)
    return mesh, SlimRecord(before, before, allowed_mm, 0.0)


def _collapse(mesh: Mesh, limit_mm2: float) -> Mesh:
    vertices = mesh.vertices.copy()
    faces = mesh.faces.copy()
    quadric = np.zeros((len(vertices), 10))
    origin = vertices.mean(axis=0) if len(vertices) else np.zeros(3)
    vertices -= origin
    kernels.face_quadrics(vertices, faces, quadric)
    for step in range(_PASSES):
        limit = limit_mm2 * _GROWTH ** min(step - _PASSES + _WIDE_PASSES, 0)
        head, tail = np.full((2, len(vertices)), -1, np.int32)
        following = np.empty(3 * len(faces), np.int32)
        mark = np.full(len(vertices), -1, np.int32)
        kernels.corner_lists(faces, head, tail, following)
        done, _ = kernels.collapse_pass(vertices, faces, quadric, head, tail, following, limit, mark, 0)
        if not done and limit == limit_mm2:
            break
        faces = faces[faces[:, 0] >= 0]
    return Mesh(vertices + origin, faces).picked(slice(None))


def deviation_mm(one: Mesh, other: Mesh) -> float:
    """Largest distance between two surfaces, both ways, at vertices and the coarser one's face middles."""
    worst = 0.0
    for source, target in ((one, other), (other, one)):
        points = source.vertices
        if len(source.faces) < len(target.faces):  # the coarser one is seen through its middles too
            points = np.concatenate([points, source.corners.mean(axis=1)])
        distance, _ = target.tree.nearest(points)
        worst = max(worst, float(distance.max(initial=0.0)))
    return worst
