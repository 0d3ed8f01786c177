"""How far what was recast is from what it was made of, both ways; what was lost and what was added."""

from dataclasses import dataclass

import numpy as np

from bolvek.analyses.deviation import OneWay
from bolvek.analyses.thickness import sample_surface
from bolvek.analyses.zones import Zone, face_zones, zones
from bolvek.arrays import Floats
from bolvek.mesh import Mesh
from bolvek.spatial.groups import linked_groups
from bolvek.spatial.points import PointTree
from bolvek.units import as_triple

FAR_CELLS = 1.5
"""Places farther off than so many cells are lost, or added."""

_MOST_ZONES = 50


@dataclass(frozen=True)
class HeldAgainst:
    """Distances both ways, and what is farther off than `FAR_CELLS`: areas (mm2) and zones."""

    to_new: OneWay
    to_old: OneWay
    lost_mm2: float
    lost: list[Zone]
    added_mm2: float
    added: list[Zone]


def measure(pieces: Floats, soup: Mesh, solid: Mesh, cell: float) -> HeldAgainst:
    """Of the original, in pieces (N, 3, 3), those in the solid's material are not asked: they bound nothing."""
    off = solid.signed_distance.at(pieces.mean(axis=1))
    outer = off > -FAR_CELLS * cell
    area = piece_areas(pieces)
    gap = np.abs(off)
    to_new = _one_way(gap[outer], area[outer], pieces[outer].mean(axis=1))
    lost = np.flatnonzero(off > FAR_CELLS * cell)
    samples = sample_surface(solid, 2 * cell)
    back, _ = soup.tree.nearest(samples.points)
    to_old = _one_way(back, samples.area, samples.points)
    far = np.zeros(len(solid.faces))
    np.maximum.at(far, samples.face, back)
    added = np.flatnonzero(far > FAR_CELLS * cell)
    return HeldAgainst(
        to_new,
        to_old,
        float(area[lost].sum()),
        _piece_zones(pieces[lost], cell),
        float(solid.face_areas[added].sum()),
        face_zones(solid, added)[:_MOST_ZONES],
    )


def piece_areas(pieces: Floats) -> Floats:
    """Area (N,) in mm2 of triangles (N, 3, 3)."""
    cross = np.cross(pieces[:, 1] - pieces[:, 0], pieces[:, 2] - pieces[:, 0])
    return np.asarray(0.5 * np.linalg.norm(cross, axis=1))


def _one_way(gap: Floats, weight: Floats, points: Floats) -> OneWay:
    if not len(gap):
        return OneWay(0.0, 0.0, None)
    far = int(np.argmax(gap))
    mean = float((gap * weight).sum() / max(float(weight.sum()), 1e-300))
    return OneWay(float(gap[far]), mean, as_triple(points[far]))


def _piece_zones(pieces: Floats, cell: float) -> list[Zone]:
    """Pieces (N, 3, 3) that are near each other, gathered."""
    if not len(pieces):
        return []
    middles = pieces.mean(axis=1)
    pairs = PointTree(middles).pairs(4 * cell)
    group = linked_groups(len(pieces), pairs) if len(pairs) else np.arange(len(pieces), dtype=np.int32)
    return zones(pieces, np.asarray(np.unique(group, return_inverse=True)[1], np.int32), None, _MOST_ZONES)
