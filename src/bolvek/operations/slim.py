"""Fewer triangles within a stated deviation (closed meshes)."""

from dataclasses import dataclass

import numpy as np

from bolvek.arrays import Bools, Floats
from bolvek.kernels.surface import collapse as kernels
from bolvek.mesh import Mesh

_GROWTH = 4.0
_PASSES = 7
_WIDE_PASSES = 2
_TRIES = 8


@dataclass(frozen=True, kw_only=True)
class SlimRecord:
    """What slimming did; the deviation is measured both ways, at vertices and the coarser one's
    face middles."""

    triangles_before: int
    triangles_after: int
    allowed_mm: float
    deviation_mm: float


def slim(mesh: Mesh, allowed_mm: float) -> tuple[Mesh, SlimRecord]:
    """Collapse edges while the surface stays within `allowed_mm` of where it was and does not cross.

    The quadric error bounds the distance to planes, not to faces, and no collapse looks at faces far
    away: deviation and crossings are measured on the result, and where either is found, the vertices
    around are kept and the work is done again. What cannot be met returns the mesh unchanged.
    """
    before = len(mesh.faces)
    keep = np.zeros(len(mesh.vertices), bool)
    for _ in range(_TRIES):
        result = _collapse(mesh, allowed_mm**2, keep)
        there, back = deviations(mesh, result)
        deviation = float(max(there.max(initial=0.0), back.max(initial=0.0)))
        pairs, crossings = result.tree.meeting_pairs()
        if deviation <= allowed_mm and not crossings:
            return result, SlimRecord(
                triangles_before=before,
                triangles_after=len(result.faces),
                allowed_mm=allowed_mm,
                deviation_mm=deviation,
            )
        keep |= there > allowed_mm
        places = coarse_points(result)[back > allowed_mm]
        trouble = np.unique(pairs)
        _keep_around(mesh, keep, places, result.vertices[result.faces[trouble[:200]]])
    return mesh, SlimRecord(triangles_before=before, triangles_after=before, allowed_mm=allowed_mm, deviation_mm=0.0)


def _keep_around(mesh: Mesh, keep: Bools, places: Floats, faces: Floats) -> None:
    """Keep the vertices nearest to places (P, 3), those around faces (N, 3, 3), and their neighbours."""
    if len(places):
        _, near = mesh.tree.nearest(places)
        keep[mesh.faces[near].ravel()] = True
    for corners in faces:
        low, high = corners.min(axis=0), corners.max(axis=0)
        margin = 0.5 * (high - low).max()
        keep |= ((mesh.vertices >= low - margin) & (mesh.vertices <= high + margin)).all(axis=1)
    keep[mesh.faces[keep[mesh.faces].any(axis=1)].ravel()] = True


def _collapse(mesh: Mesh, limit_mm2: float, keep: Bools) -> Mesh:
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
        done, _ = kernels.collapse_pass(vertices, faces, quadric, keep, head, tail, following, limit, mark, 0)
        if not done and limit == limit_mm2:
            break
        faces = faces[faces[:, 0] >= 0]
    return Mesh(vertices + origin, faces).picked(slice(None))


def coarse_points(mesh: Mesh) -> Floats:
    """Vertices and face middles: where a coarse mesh is compared with a fine one."""
    return np.concatenate([mesh.vertices, mesh.vertices[mesh.faces].mean(axis=1)])


def deviations(fine: Mesh, coarse: Mesh) -> tuple[Floats, Floats]:
    """Distance (mm) of the fine mesh's vertices to the coarse one, and of `coarse_points` back."""
    return coarse.tree.nearest(fine.vertices)[0], fine.tree.nearest(coarse_points(coarse))[0]
