"""Floors and roofs that are too thin, and slits that print shut."""

import numpy as np

from bolvek.analyses.columns import Columns
from bolvek.analyses.layering import layers_between
from bolvek.analyses.layers.record import Membrane, Slit
from bolvek.analyses.thickness import sample_surface
from bolvek.analyses.thickness.spots import gather_spots
from bolvek.arrays import Floats, Ints
from bolvek.kernels.grid import flood as kernels
from bolvek.mesh import Mesh
from bolvek.units import as_triple

_HELD_SHARE = 0.85
"""A membrane is held by thicker material along this share of its rim at least: what tapers to an edge is not."""
_LEAST_PIXELS = 9
_MOST_MEMBRANES = 200
_MOST_SAMPLES = 150_000
_FACING = -0.9
_UPRIGHT = 0.5


def find_membranes(
    columns: Columns, limit_mm: float, floor_mm: float, layer_mm: float, *, on_plate: bool
) -> list[Membrane]:
    """Stretches of material thinner than the limit, with air above and below, that thicker material holds all around.

    Largest first. on_plate: what begins on the plate has no air below.
    """
    c = columns
    thin = c.high - c.low < limit_mm
    if on_plate:
        thin &= c.low > floor_mm + 0.5 * layer_mm
    if not thin.any():
        return []
    n = len(thin)
    column, chosen = c.column_of.astype(np.int32), thin.astype(np.int8)
    parent = np.arange(n, dtype=np.int32)
    held, free = np.zeros((2, n), np.int64)
    grid = c.material_start, c.shape[1], c.low, c.high, column, chosen
    kernels.link_nodes(*grid, parent)
    kernels.rims_of(*grid, held, free)
    rows = np.flatnonzero(thin)
    zone = parent[rows]
    size = np.bincount(zone, minlength=n)
    around, open_rim = np.bincount(zone, held[rows], n), np.bincount(zone, free[rows], n)
    good = np.flatnonzero((size >= _LEAST_PIXELS) & (around >= _HELD_SHARE * np.maximum(around + open_rim, 1)))
    good = good[np.argsort(-size[good], kind="stable")][:_MOST_MEMBRANES]
    return [_membrane(c, rows[zone == z], floor_mm, layer_mm) for z in good]


def _membrane(c: Columns, rows: Ints, floor_mm: float, layer_mm: float) -> Membrane:
    thick = c.high[rows] - c.low[rows]
    worst = int(rows[np.argmin(thick)])
    column = c.column_of[rows]
    open_below = (rows == c.material_start[column]).mean() > 0.5
    open_above = (rows == c.material_start[column + 1] - 1).mean() > 0.5
    kind = "floor" if open_below else "roof" if open_above else "between"
    middle = 0.5 * (c.low[worst] + c.high[worst])
    low, high = float(c.low[rows].min()), float(c.high[rows].max())
    return Membrane(
        kind=kind,
        area_mm2=len(rows) * c.pixel_mm2,
        least_mm=float(thick.min()),
        where_mm=as_triple(c.middle(int(c.column_of[worst]), float(middle))),
        layers=layers_between(low - floor_mm, high - floor_mm, layer_mm),
    )


def find_slits(mesh: Mesh, up: Floats, width_mm: float) -> list[Slit]:
    """Gaps across air, level, between faces of a mesh that faces out which look at each other: narrower than the width.
    Narrowest first."""
    spacing = max(width_mm, float(np.sqrt(mesh.area / _MOST_SAMPLES)), 1e-5 * float(mesh.size.max()))
    outward = mesh.unit_normals
    upright = np.abs(outward @ up) < _UPRIGHT
    if not upright.any():
        return []
    samples = sample_surface(mesh, spacing, upright)
    direction = outward[samples.face]
    near = 1e-6 * float(mesh.size.max())
    hits = mesh.tree.rays(samples.points, direction, near=near, far=width_mm)
    face = hits.face[:, 0]
    met = np.flatnonzero(face >= 0)
    met = met[np.einsum("ij,ij->i", direction[met], outward[face[met]]) < _FACING]
    if not len(met):
        return []
    spots = gather_spots(samples.points[met], hits.distance[met, 0], samples.area[met], max(2 * spacing, width_mm))
    slits = [Slit(width_mm=s.least, area_mm2=s.area_mm2, where_mm=s.where_mm) for s in spots]
    return sorted(slits, key=lambda s: (s.width_mm, s.where_mm))
