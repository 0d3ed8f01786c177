"""Calming noise without shrinking: bilateral normals, and vertices that follow them.

The normal of each face is averaged with those across its edges, the more alike they are the more they count; then
vertices move onto the planes of their faces (Sun, Rosin, Martin and Langbein 2007; Zheng, Fu, Au and Tai 2011). Creases
sharper than an angle stay, and measured on noisy boxes and balls it leaves half to a third of the error that the
signal-processing filter of Taubin 1995 leaves, at creases a sixth. No vertex goes farther than a limit from where it
was, so no point of the surface does, in either direction.
"""

import math
from dataclasses import dataclass

import numpy as np

from bolvek.analyses.finding import Finding, Worded
from bolvek.analyses.soundness.around import crossing_pairs
from bolvek.analyses.thickness import wall_at
from bolvek.arrays import Bools, Floats, Ints32, stored
from bolvek.errors import WorkError
from bolvek.kernels.surface.fairing import filter_normals, follow_normals
from bolvek.mesh import Mesh
from bolvek.mesh.topology import CROWDED, OPEN
from bolvek.operations.slim import deviations
from bolvek.settings import remedy
from bolvek.settings.measures import WallSettings
from bolvek.settings.repairs import Region, SmoothSettings
from bolvek.spatial.parallel import run_ranges
from bolvek.spatial.points import PointTree
from bolvek.units import count_text

_SIGMA = 0.6
"""Of the difference of two normals at the angle that is kept: the width of the Gaussian."""
_FOLLOW = 0.8  # of the passes over normals: so often vertices follow
_ROUNDS = 6
_THINNER_MM = 1e-4


@dataclass(frozen=True, kw_only=True)
class SmoothRecord(Worded):
    """What smoothing did. moved: vertices; at_limit: those that would have gone farther than most_mm; rough_before_mm,
    rough_mm: how far vertices stand off the mean of their neighbours along their normal, in the mean square, over what
    was smoothed; deviation_mm there and back, measured; volumes None for open models; put_back: vertices left where
    they were because faces would have crossed, thin_kept: because a wall would have become thinner than asked."""

    vertices: int
    moved: int
    at_limit: int
    rough_before_mm: float
    rough_mm: float
    deviation_mm: float
    deviation_back_mm: float
    volume_before_mm3: float | None
    volume_mm3: float | None
    put_back: int
    thin_kept: int
    findings: tuple[Finding, ...] = ()

    WORDS = ("done", "done")


def smooth(mesh: Mesh, settings: SmoothSettings) -> tuple[Mesh, SmoothRecord]:
    """The mesh with a calmer surface, its faces as they were. Rims, and vertices of edges with more than two faces,
    stay. Raises UsageError, WorkError where nothing lies within what is asked."""
    settings.check()
    free = _free(mesh, settings.within)
    if not free.any():
        raise WorkError("nothing to smooth: no vertex lies in the regions named, rims aside")
    wanted, at_limit = _calmed(mesh, free, settings)
    result, put_back = _uncrossed(mesh, mesh.moved(_rounded(mesh, wanted)), free)
    result, thin_kept = _not_thinned(mesh, result, settings)
    there, back = deviations(mesh, result)
    closed = mesh.topology.open_edges == 0
    moved = (result.vertices != mesh.vertices).any(axis=1)
    found = []
    if at_limit > 0.05 * free.sum():
        text = f"{at_limit:,} of {int(free.sum()):,} vertices would have gone farther"
        ways = (remedy("", "calms more", SmoothSettings(most_mm=2 * settings.most_mm)),)
        found.append(Finding("at_limit", "note", at_limit, text, remedies=ways))
    if put_back:
        text = f"{count_text(put_back, 'vertex', 'vertices')} left as they were: their faces would have crossed others"
        found.append(Finding("put_back", "note", put_back, text))
    if thin_kept:
        text = f"{count_text(thin_kept, 'vertex', 'vertices')} left as they were: the wall would have become too thin"
        found.append(Finding("thin_kept", "note", thin_kept, text))
    record = SmoothRecord(
        vertices=len(mesh.vertices),
        moved=int(moved.sum()),
        at_limit=at_limit,
        rough_before_mm=_roughness(mesh, free),
        rough_mm=_roughness(result, free),
        deviation_mm=float(there.max(initial=0.0)),
        deviation_back_mm=float(back.max(initial=0.0)),
        volume_before_mm3=mesh.volume if closed else None,
        volume_mm3=result.volume if closed else None,
        put_back=put_back,
        thin_kept=thin_kept,
        findings=tuple(found),
    )
    return result, record


def _free(mesh: Mesh, within: tuple[Region, ...]) -> Bools:
    """Vertices (V,) that may move."""
    opposite = mesh.topology.opposite
    rim = np.unique(np.concatenate(mesh.edge_ends(np.flatnonzero(opposite == OPEN))))
    free = np.ones(len(mesh.vertices), bool)
    if within:
        free[:] = False
        for region in within:
            free |= _inside(mesh, region, rim)
    free[rim] = False
    free[np.concatenate(mesh.edge_ends(np.flatnonzero(opposite == CROWDED)))] = False
    return free


def _inside(mesh: Mesh, region: Region, rim: Ints32) -> Bools:
    points = mesh.vertices
    if region.ball is not None:
        middle, radius = region.ball
        return np.asarray(np.linalg.norm(points - np.array(middle), axis=1) <= radius)
    if region.box is not None:
        low, high = np.minimum(*region.box), np.maximum(*region.box)
        return np.asarray(((points >= low) & (points <= high)).all(axis=1))
    if not len(rim):
        raise WorkError("the model has no open rim: it is closed")
    gap, _ = PointTree(points[rim]).nearest(points, region.rim_mm or 0.0)
    return np.asarray(np.isfinite(gap))


def _calmed(mesh: Mesh, free: Bools, s: SmoothSettings) -> tuple[Floats, int]:
    """Where vertices (V, 3) go, and how many were held back by the limit."""
    faces, vertices = mesh.faces, mesh.vertices
    order = np.argsort(faces.ravel(), kind="stable")
    around = (order // 3).astype(np.int32)
    start = np.concatenate([[0], np.cumsum(np.bincount(faces.ravel(), minlength=len(vertices)))]).astype(np.int64)
    sigma = _SIGMA * 2 * math.sin(math.radians(s.keep_edges_deg) / 2)
    normal, area = mesh.unit_normals.copy(), mesh.face_areas
    other = np.empty_like(normal)
    for _ in range(s.passes):
        source, into = normal, other
        run_ranges(
            lambda b, e, source=source, into=into: filter_normals(  # type: ignore[misc]
                source, area, mesh.topology.opposite, sigma, b, e, into
            ),
            len(faces),
        )
        normal, other = into, source
    now, following = vertices.copy(), np.empty_like(vertices)
    for _ in range(max(1, round(_FOLLOW * s.passes))):
        source, into = now, following
        run_ranges(
            lambda b, e, source=source, into=into: follow_normals(  # type: ignore[misc]
                source, faces, normal, start, around, free, vertices, s.most_mm, b, e, into
            ),
            len(vertices),
        )
        now, following = into, source
    far = np.linalg.norm(now - vertices, axis=1)
    return now, int((far >= 0.999 * s.most_mm).sum())


def _rounded(mesh: Mesh, wanted: Floats) -> Floats:
    """What moved as a file will hold it, what did not bit for bit as it was."""
    moved = (wanted != mesh.vertices).any(axis=1)
    return np.where(moved[:, None], stored(wanted), mesh.vertices)


def _uncrossed(mesh: Mesh, wanted: Mesh, free: Bools) -> tuple[Mesh, int]:
    """`wanted` with vertices put back where faces cross that did not, or would have no area; how many were."""
    known = {tuple(pair) for pair in mesh.meeting[0].tolist()}
    moved = free.copy()
    result, pairs = wanted, wanted.meeting[0].astype(np.int64)
    for _ in range(_ROUNDS):
        pairs = np.sort(pairs, axis=1)
        fresh = [pair for pair in pairs.tolist() if tuple(pair) not in known]
        if not fresh:
            return result, int((free & ~moved).sum())
        hit = np.zeros(len(mesh.vertices), bool)
        hit[mesh.faces[np.unique(fresh)].ravel()] = True
        hit[mesh.faces[hit[mesh.faces].any(axis=1)].ravel()] = True
        back = hit & moved
        if not back.any():
            break
        moved &= ~hit
        result = mesh.moved(np.where(moved[:, None], wanted.vertices, mesh.vertices))
        # only what was put back can cross anything anew
        pairs = crossing_pairs(result, np.flatnonzero(back[mesh.faces].any(axis=1)))
    return mesh, int(free.sum())


def _not_thinned(mesh: Mesh, result: Mesh, s: SmoothSettings) -> tuple[Mesh, int]:
    """The result with vertices put back where a wall became thinner than asked; how many were."""
    if s.least_mm is None or mesh.topology.open_edges:
        return result, 0
    kept = np.zeros(len(mesh.vertices), bool)
    asked = WallSettings(min_mm=s.least_mm)
    for _ in range(_ROUNDS):
        changed = np.flatnonzero((result.vertices != mesh.vertices)[mesh.faces].any(axis=(1, 2)))
        if not len(changed):
            break
        wall = wall_at(result, result.vertices[mesh.faces[changed]].mean(axis=1), changed, asked)
        thin = changed[wall < s.least_mm]
        if not len(thin):
            break
        before = wall_at(mesh, mesh.vertices[mesh.faces[thin]].mean(axis=1), thin, asked)
        after = wall[wall < s.least_mm]
        thin = thin[after < before - _THINNER_MM]
        if not len(thin):
            break
        hit = np.zeros(len(mesh.vertices), bool)
        hit[mesh.faces[thin].ravel()] = True
        # and what stands across the wall
        middle = result.vertices[mesh.faces[thin]].mean(axis=1)
        across = result.tree.rays(middle, -result.normals_of(thin), near=1e-6)
        facing = across.face[:, 0][across.face[:, 0] >= 0]
        hit[mesh.faces[facing].ravel()] = True
        kept |= hit
        result = mesh.moved(np.where(kept[:, None], mesh.vertices, result.vertices))
    return result, int(kept.sum())


def _roughness(mesh: Mesh, chosen: Bools) -> float:
    """How far chosen vertices stand off the mean of their neighbours, along their normal: in the mean square, mm."""
    a, b = mesh.faces.ravel(), np.roll(mesh.faces, -1, axis=1).ravel()
    n = len(mesh.vertices)
    count = np.bincount(a, minlength=n) + np.bincount(b, minlength=n)
    mean = np.zeros((n, 3))
    for axis in range(3):
        x = mesh.vertices[:, axis]
        mean[:, axis] = np.bincount(a, x[b], n) + np.bincount(b, x[a], n)
    mean /= np.maximum(count, 1)[:, None]
    off = np.einsum("ij,ij->i", mesh.vertices - mean, mesh.vertex_normals)[chosen]
    return float(np.sqrt((off**2).mean()))
