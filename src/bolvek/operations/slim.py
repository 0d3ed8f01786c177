"""Fewer triangles within a stated deviation, or as few as asked."""

from dataclasses import dataclass

import numpy as np

from bolvek.analyses.apart import farthest
from bolvek.arrays import Bools, Floats
from bolvek.errors import WorkError
from bolvek.kernels.surface import collapse as kernels
from bolvek.mesh import Mesh
from bolvek.settings.repairs import SlimSettings

_GROWTH = 4.0
_PASSES = 7
_WIDE_PASSES, _MOST_PASSES = 2, 60
_TRIES = 8
_FIRST_SHARE, _HALVINGS = 1e-4, 4  # of the longest side: deviations tried to reach a count


@dataclass(frozen=True, kw_only=True)
class SlimRecord:
    """What slimming did. deviation_mm: how far the surfaces are apart at most, both ways: of the verb a bound on all
    of their faces, else measured at vertices and the coarser one's face middles."""

    triangles_before: int
    triangles_after: int
    allowed_mm: float
    deviation_mm: float


def slim(
    mesh: Mesh, allowed_mm: float, fixed: Bools | None = None, *, bounded: bool = False
) -> tuple[Mesh, SlimRecord]:
    """Collapse edges while the surface stays within `allowed_mm` of where it was and does not cross.

    The quadric error bounds the distance to planes, not to faces, and no collapse looks at faces far
    away: deviation and crossings are measured on the result, and where either is found, the vertices
    around are kept and the work is done again. What cannot be met returns the mesh unchanged. fixed (V,): vertices
    that stay; bounded: collapse until nothing more goes, and hold a bound on whole faces against what is allowed.
    """
    before, known = len(mesh.faces), mesh.meeting[1]
    keep = _kept(mesh, fixed)
    for _ in range(_TRIES):
        result = _collapse(mesh, allowed_mm**2, keep, least=0 if bounded else None)
        if bounded:
            deviation, places = _apart(mesh, result, allowed_mm)
        else:
            there, back = deviations(mesh, result)
            deviation = float(max(there.max(initial=0.0), back.max(initial=0.0)))
            keep |= there > allowed_mm
            places = coarse_points(result)[back > allowed_mm]
        pairs, crossings = result.tree.meeting_pairs()
        if deviation <= allowed_mm and crossings <= known:
            return result, SlimRecord(
                triangles_before=before,
                triangles_after=len(result.faces),
                allowed_mm=allowed_mm,
                deviation_mm=deviation,
            )
        _keep_around(mesh, keep, places, result.vertices[result.faces[np.unique(pairs)[:200]]])
    return mesh, SlimRecord(triangles_before=before, triangles_after=before, allowed_mm=allowed_mm, deviation_mm=0.0)


def _kept(mesh: Mesh, fixed: Bools | None) -> Bools:
    """Vertices (V,) that stay: those asked for, and borders."""
    keep = np.zeros(len(mesh.vertices), bool) if fixed is None else fixed.copy()
    for end in mesh.edge_ends(np.flatnonzero(mesh.topology.opposite < 0)):
        keep[end] = True
    return keep


def _apart(one: Mesh, other: Mesh, allowed_mm: float) -> tuple[float, Floats]:
    """A bound on how far two surfaces are apart, both ways, and places (P, 3) where that may be more than allowed."""
    found = [farthest(a, b, allowed_mm) for a, b in ((one, other), (other, one))]
    return max(f.most for f in found), np.concatenate([f.places for f in found])


def slim_to(mesh: Mesh, settings: SlimSettings) -> tuple[Mesh, SlimRecord]:
    """Slim within a deviation, or with the least error found that comes down to the triangles wanted: to just so many,
    or raise WorkError with as few as the shape lets go. Raises UsageError."""
    settings.check()
    if settings.within_mm is not None:
        return slim(mesh, settings.within_mm, bounded=True)
    wanted, longest = settings.wanted(len(mesh.faces)), float(mesh.size.max())
    best = mesh
    low, high = 0.0, _FIRST_SHARE * longest
    while len(best.faces) > wanted and low < longest:
        tried = _reduced(mesh, high, wanted)
        if len(tried.faces) < len(best.faces):
            best = tried
        if len(best.faces) <= wanted:
            break
        # the count falls about as the error grows
        low, high = high, high * max(2.0, 0.7 * len(tried.faces) / wanted)
    for _ in range(_HALVINGS if len(best.faces) <= wanted and low else 0):
        middle = 0.5 * (low + high)
        tried = _reduced(mesh, middle, wanted)
        if len(tried.faces) <= wanted:
            best, high = tried, middle
        else:
            low = middle
    if len(best.faces) > wanted:
        text = f"{wanted:,} triangles cannot be reached with the shape kept"
        raise WorkError(f"{text}; {len(best.faces):,} can")
    deviation = _apart(mesh, best, 0.0)[0] if best is not mesh else 0.0
    record = SlimRecord(
        triangles_before=len(mesh.faces),
        triangles_after=len(best.faces),
        allowed_mm=deviation,
        deviation_mm=deviation,
    )
    return best, record


def _reduced(mesh: Mesh, error_mm: float, wanted: int) -> Mesh:
    """Collapsed to a count while the quadric error allows, without a crossing; the mesh itself where that fails."""
    known, keep = mesh.meeting[1], _kept(mesh, None)
    for _ in range(_TRIES):
        result = _collapse(mesh, error_mm**2, keep, least=wanted)
        pairs, crossings = result.tree.meeting_pairs()
        if crossings <= known:
            return result
        _keep_around(mesh, keep, np.zeros((0, 3)), result.vertices[result.faces[np.unique(pairs)[:200]]])
    return mesh


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


def _collapse(mesh: Mesh, limit_mm2: float, keep: Bools, least: int | None) -> Mesh:
    """least: go on until so few faces are left or nothing more goes; None: a few passes, which take most of it."""
    vertices = mesh.vertices.copy()
    faces = mesh.faces.copy()
    quadric = np.zeros((len(vertices), 10))
    origin = vertices.mean(axis=0) if len(vertices) else np.zeros(3)
    vertices -= origin
    centred = vertices.copy()
    kernels.face_quadrics(vertices, faces, quadric)
    for step in range(_PASSES if least is None else _MOST_PASSES):
        limit = limit_mm2 * _GROWTH ** min(step - _PASSES + _WIDE_PASSES, 0)
        most = len(faces) if least is None else (len(faces) - least + 1) // 2
        if most <= 0:
            break
        head, tail = np.full((2, len(vertices)), -1, np.int32)
        following = np.empty(3 * len(faces), np.int32)
        mark = np.full(len(vertices), -1, np.int32)
        kernels.corner_lists(faces, head, tail, following)
        done, _ = kernels.collapse_pass(vertices, faces, quadric, keep, head, tail, following, limit, mark, 0, most)
        if not done and limit == limit_mm2:
            break
        faces = faces[faces[:, 0] >= 0]
    # what did not move stays bit for bit: what only just does not touch would cross
    placed = np.where(vertices == centred, mesh.vertices, vertices + origin)
    return Mesh(placed, faces).picked(slice(None))


def coarse_points(mesh: Mesh) -> Floats:
    """Vertices and face middles: where a coarse mesh is compared with a fine one."""
    return np.concatenate([mesh.vertices, mesh.middles])


def deviations(fine: Mesh, coarse: Mesh) -> tuple[Floats, Floats]:
    """Distance (mm) of the fine mesh's vertices to the coarse one, and of `coarse_points` back."""
    return coarse.tree.nearest(fine.vertices)[0], fine.tree.nearest(coarse_points(coarse))[0]
