"""Samples on surfaces, and the tolerance a measured wall is judged by.

One sampler for everything: cells in the faces, no farther apart than asked however coarse the mesh. Where a wall
can be least at an edge or a corner, those are sampled too.
"""

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from bolvek.arrays import Bools, Floats, Ints
from bolvek.errors import WorkError
from bolvek.kernels.surface import samples as kernels
from bolvek.mesh import Mesh
from bolvek.spatial.parallel import run_ranges

MOST_SAMPLES = 40_000_000
"""Samples that fit into the memory of a small machine; more are refused beforehand."""

SAMPLES_A_WALL = 6
"""A wall that is asked for is sampled so many times across."""

_STEP = 1.4
"""Where what is measured around a corner differs by more than so many times, it is a step and not a slope."""

CREASE_DEG = 20.0
"""An edge folded outward (into the material) by more than this is a crease: the foot of a pit or a groove."""


@dataclass(frozen=True)
class Samples:
    """Points (Q, 3) of a surface, the area in mm2 each stands for (Q,), its face (Q,), and how far apart."""

    points: Floats
    area: Floats
    face: Ints
    spacing_mm: float


def sample_surface(mesh: Mesh, spacing_mm: float, only: Bools | None = None) -> Samples:
    """Samples about a spacing apart or nearer, one at least a face with an area, in the tree's order of faces.

    only (F,) bool picks faces. Raises WorkError, with the spacing that would fit, when there would be too many.
    """
    order, v, f = mesh.tree.order, mesh.vertices, mesh.faces
    area = mesh.area
    if only is not None:
        order = order[only[order]]
        area = float(mesh.face_areas[only].sum())
    needed = area / spacing_mm**2 + len(order)
    if needed > MOST_SAMPLES:
        fits = float(np.sqrt(area / max(MOST_SAMPLES - len(order), 1)))
        raise WorkError(
            f"samples {spacing_mm:.3g} mm apart on {area:.3g} mm2 would be {needed:.3g}, {MOST_SAMPLES:,} are the "
            f"limit: {fits:.2g} mm apart would fit"
        )
    start = np.zeros(len(order) + 1, np.int64)
    nothing = np.zeros((0, 3)), np.zeros(0), np.zeros(0, np.int64)
    run_ranges(lambda b, e: kernels.sample_faces(v, f, order, spacing_mm, b, e, start, False, *nothing), len(order))
    start = np.cumsum(start)
    n = int(start[-1])
    points, weight, face = np.empty((n, 3)), np.empty(n), np.empty(n, np.int64)
    run_ranges(
        lambda b, e: kernels.sample_faces(v, f, order, spacing_mm, b, e, start, True, points, weight, face),
        len(order),
    )
    return Samples(points, weight, face, spacing_mm)


def carried(mesh: Mesh, samples: Samples, values: Floats, points: Floats, face: NDArray[np.integer]) -> Floats:
    """What was measured at samples of a mesh (Q,), at any points (P, 3) of its faces (P,): nan where it is at the
    nearest sample, and on faces without one."""
    count = np.bincount(samples.face, minlength=len(mesh.faces))
    first = np.zeros(len(mesh.faces), np.int64)
    begins = np.flatnonzero(np.diff(samples.face, prepend=-1))
    first[samples.face[begins]] = begins
    sums, known = np.zeros(len(mesh.vertices)), np.zeros(len(mesh.vertices))
    least, most = np.full(len(mesh.vertices), np.inf), np.full(len(mesh.vertices), -np.inf)
    good = np.flatnonzero(~np.isnan(values))
    for k in range(3):
        corner = mesh.faces[samples.face[good], k]
        sums += np.bincount(corner, values[good], minlength=len(sums))
        known += np.bincount(corner, minlength=len(sums))
        np.minimum.at(least, corner, values[good])
        np.maximum.at(most, corner, values[good])
    at_corners = np.where(most <= _STEP * least, sums / np.maximum(known, 1), np.nan)
    row, found = np.asarray(face, np.int64), np.empty(len(points))
    measured = samples.points, values, first, count, at_corners
    run_ranges(
        lambda b, e: kernels.carry_to_places(mesh.vertices, mesh.faces, *measured, row, points, b, e, found),
        len(points),
    )
    return found


def edges_of(mesh: Mesh, faces: NDArray[np.integer]) -> Ints:
    """Half-edges (E,) of faces (N,), of each edge one."""
    half = (3 * np.asarray(faces, np.int64)[:, None] + np.arange(3)).ravel()
    chosen = np.zeros(3 * len(mesh.faces), bool)
    chosen[half] = True
    opposite = mesh.topology.opposite[half]
    return half[(opposite < 0) | (half < opposite) | ~chosen[np.maximum(opposite, 0)]]


def points_along(mesh: Mesh, half: Ints, spacing_mm: float) -> tuple[Floats, Ints]:
    """Points within half-edges (H,), ends left out, one at least, and the row (P,) of each one's half-edge."""
    a, b = (mesh.vertices[end] for end in mesh.edge_ends(half))
    pieces = np.maximum(np.ceil(np.linalg.norm(b - a, axis=1) / spacing_mm), 2).astype(np.int64)
    row = np.repeat(np.arange(len(half)), pieces - 1)
    step = np.arange(len(row)) - np.repeat(np.cumsum(pieces - 1) - (pieces - 1), pieces - 1) + 1
    t = (step / pieces[row])[:, None]
    return a[row] + t * (b[row] - a[row]), row


def crease_samples(mesh: Mesh, spacing_mm: float, only: Bools | None = None) -> tuple[Floats, Ints, Floats]:
    """Points (P, 3) along creases and at their ends, a face (P,) and the outward mean normal (P, 3) of each.

    The feet of pits and grooves, down to a needle's point: there a wall from the other side is least, and no
    sample within a face may look that way. Of a closed, consistently oriented mesh.
    """
    opposite, normal = mesh.topology.opposite, mesh.unit_normals
    half = np.flatnonzero(opposite > np.arange(len(opposite)))
    if only is not None:
        half = half[only[half // 3]]
    face, k = np.divmod(half, 3)
    other = opposite[half] // 3
    bend = np.einsum("ij,ij->i", normal[face], normal[other])
    folded = bend < np.cos(np.radians(CREASE_DEG))
    half, face, k, other = half[folded], face[folded], k[folded], other[folded]
    # across the edge lies the other face's third corner: above this face's plane where the air is narrow
    across = mesh.vertices[mesh.faces[other, (opposite[half] % 3 + 2) % 3]] - mesh.vertices[mesh.faces[face, k]]
    reflex = np.einsum("ij,ij->i", normal[face], across) > 0
    half, face, k, other = half[reflex], face[reflex], k[reflex], other[reflex]
    points, row = points_along(mesh, half, spacing_mm)
    at_crease = np.zeros(len(mesh.vertices), bool)
    at_crease[mesh.faces[face, k]] = at_crease[mesh.faces[face, (k + 1) % 3]] = True
    tips, beside, upward = tip_samples(mesh, only, at_crease)
    towards = (normal[face] + normal[other])[row]
    length = np.linalg.norm(towards, axis=1)
    good = length > 1e-9
    return (
        np.concatenate([points[good], tips]),
        np.concatenate([face[row[good]], beside]),
        np.concatenate([towards[good] / length[good, None], upward]),
    )


def tip_samples(mesh: Mesh, only: Bools | None = None, also: Bools | None = None) -> tuple[Floats, Ints, Floats]:
    """The tips (P, 3) of pits, a face (P,) and the outward mean normal (P, 3) of each, of a closed mesh.

    A tip is a vertex from which every edge rises steeply along the normal; of vertices `also` (V,), one from which
    none falls.
    """
    normals = mesh.signed_distance.corners
    size = np.sqrt(np.einsum("ij,ij->i", normals, normals))
    # normals weighed by their angles sum to 2 pi sin2 of the half angle of a cone's tip
    steep = np.sin(np.radians(CREASE_DEG))
    asked = size < 1.01 * 2 * np.pi * (1 - steep**2)
    rise = _least_rise(mesh, normals, size, asked if also is None else asked | also)
    wanted = rise >= steep
    if also is not None:
        wanted |= also & (rise >= -1e-6)
    corner = np.flatnonzero(wanted[mesh.faces.ravel()])
    if only is not None:
        corner = corner[only[corner // 3]]
    tips, first = np.unique(mesh.faces.ravel()[corner], return_index=True)
    good = size[tips] > 1e-9
    tips = tips[good]
    return mesh.vertices[tips], corner[first[good]] // 3, normals[tips] / size[tips, None]


def _least_rise(mesh: Mesh, normals: Floats, size: Floats, asked: Bools) -> Floats:
    """Per vertex (V,) asked for, the least sine by which an edge rises along the normal (V, 3) of that size there:
    above 0 in a pit, -1 where not asked.

    Of a closed mesh: every edge runs away from either of its ends in one of its faces.
    """
    least = np.where(asked, 1.0, -1.0)
    for k in range(3):
        rows = np.flatnonzero(asked[mesh.faces[:, k]])
        a = mesh.faces[rows, k]
        edge = mesh.vertices[mesh.faces[rows, (k + 1) % 3]] - mesh.vertices[a]
        length = np.sqrt(np.einsum("ij,ij->i", edge, edge)) * size[a]
        np.minimum.at(least, a, np.einsum("ij,ij->i", edge, normals[a]) / np.maximum(length, 1e-300))
    return least
