"""Fewer triangles within a stated deviation, or as few as asked."""

from dataclasses import dataclass

import numpy as np

from bolvek.arrays import Bools, Floats
from bolvek.errors import UsageError
from bolvek.kernels.surface import collapse as kernels
from bolvek.mesh import Mesh

_GROWTH = 4.0
_PASSES = 7
_WIDE_PASSES = 2
_TRIES = 8
_FIRST_SHARE, _LAST_SHARE, _HALVINGS = 1e-4, 0.05, 2  # of the longest side: deviations tried to reach a count


@dataclass(frozen=True, kw_only=True)
class SlimRecord:
    """What slimming did; the deviation is measured both ways, at vertices and the coarser one's
    face middles."""

    triangles_before: int
    triangles_after: int
    allowed_mm: float
    deviation_mm: float


def slim(mesh: Mesh, allowed_mm: float, fixed: Bools | None = None) -> tuple[Mesh, SlimRecord]:
    """Collapse edges while the surface stays within `allowed_mm` of where it was and does not cross.

    The quadric error bounds the distance to planes, not to faces, and no collapse looks at faces far
    away: deviation and crossings are measured on the result, and where either is found, the vertices
    around are kept and the work is done again. What cannot be met returns the mesh unchanged. fixed (V,): vertices
    that stay.
    """
    before, known = len(mesh.faces), mesh.meeting[1]
    keep = np.zeros(len(mesh.vertices), bool) if fixed is None else fixed.copy()
    for end in mesh.edge_ends(np.flatnonzero(mesh.topology.opposite < 0)):
        keep[end] = True  # borders stay as they are
    for _ in range(_TRIES):
        result = _collapse(mesh, allowed_mm**2, keep)
        there, back = deviations(mesh, result)
        deviation = float(max(there.max(initial=0.0), back.max(initial=0.0)))
        pairs, crossings = result.tree.meeting_pairs()
        if deviation <= allowed_mm and crossings <= known:
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


@dataclass(frozen=True, kw_only=True)
class SlimSettings:
    """One of: the deviation allowed (mm), the triangles wanted, their share of those there are, the megabytes of a
    binary STL."""

    within_mm: float | None = None
    triangles: int | None = None
    ratio: float | None = None
    megabytes: float | None = None

    def check(self) -> None:
        """Raise UsageError unless exactly one is given, and makes sense."""
        given = [v for v in (self.within_mm, self.triangles, self.ratio, self.megabytes) if v is not None]
        if len(given) != 1:
            raise UsageError("give one of --within, --triangles, --ratio and --megabytes")
        if not given[0] > 0 or not np.isfinite(given[0]) or (self.ratio is not None and self.ratio > 1):
            raise UsageError(f"{given[0]:g} makes no sense: more than 0 is needed, and a ratio of at most 1")

    def wanted(self, triangles: int) -> int:
        """The triangles wanted of so many."""
        if self.triangles is not None:
            return self.triangles
        if self.ratio is not None:
            return max(4, int(triangles * self.ratio))
        return max(4, int((1e6 * (self.megabytes or 0.0) - 84) / 50))


def slim_to(mesh: Mesh, settings: SlimSettings) -> tuple[Mesh, SlimRecord]:
    """Slim within a deviation, or with the least deviation found that comes down to the triangles wanted. What a step
    of the search cannot reach without a fault is told by the record. Raises UsageError."""
    settings.check()
    if settings.within_mm is not None:
        return slim(mesh, settings.within_mm)
    wanted, longest = settings.wanted(len(mesh.faces)), float(mesh.size.max())
    best = (
        mesh,
        SlimRecord(triangles_before=len(mesh.faces), triangles_after=len(mesh.faces), allowed_mm=0.0, deviation_mm=0.0),
    )
    low, high = 0.0, _FIRST_SHARE * longest
    while len(best[0].faces) > wanted and high <= _LAST_SHARE * longest:
        tried = slim(mesh, high)
        if len(tried[0].faces) <= wanted:
            best = tried
            break
        if len(tried[0].faces) < len(best[0].faces):
            best = tried
        # the count falls about as the deviation grows
        low, high = high, high * max(2.0, 0.7 * len(tried[0].faces) / wanted)
    for _ in range(_HALVINGS if len(best[0].faces) <= wanted and low else 0):
        middle = 0.5 * (low + high)
        tried = slim(mesh, middle)
        if len(tried[0].faces) <= wanted:
            best, high = tried, middle
        else:
            low = middle
    return best


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
