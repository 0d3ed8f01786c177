"""Samples gathered into spots: what lies near each other is one."""

from dataclasses import dataclass

import numpy as np

from bolvek.arrays import Floats, Ints
from bolvek.spatial.groups import linked_groups
from bolvek.units import Triple, as_triple


@dataclass(frozen=True, kw_only=True)
class Spot:
    """Samples that lie together: their rows, least and mean value, area, place of the least, middle and extent."""

    rows: Ints
    least: float
    mean: float
    area_mm2: float
    where_mm: Triple
    centre_mm: Triple
    size_mm: Triple


def gather_spots(points: Floats, value: Floats, area: Floats, reach_mm: float) -> list[Spot]:
    """Spots of points (N, 3): those in the same or in neighbouring cells of `reach_mm` belong together."""
    if not len(points):
        return []
    cell = np.floor((points - points.min(axis=0)) / reach_mm).astype(np.int64) + 1
    shape = cell.max(axis=0) + 2
    key = (cell[:, 0] * shape[1] + cell[:, 1]) * shape[2] + cell[:, 2]
    cells, at = np.unique(key, return_inverse=True)
    links = []
    for dx, dy, dz in np.ndindex(3, 3, 3):
        step = ((dx - 1) * shape[1] + dy - 1) * shape[2] + dz - 1
        if step <= 0:
            continue
        place = np.minimum(np.searchsorted(cells, cells + step), len(cells) - 1)
        here = np.flatnonzero(cells[place] == cells + step)
        links.append(np.stack([here, place[here]], axis=1))
    group = linked_groups(len(cells), np.concatenate(links))[at.ravel()]
    order = np.argsort(group, kind="stable")
    spots = []
    for rows in np.split(order, np.flatnonzero(np.diff(group[order])) + 1):
        p, v, a = points[rows], value[rows], area[rows]
        least = int(np.lexsort((*p.T[::-1], v))[0])
        low, high = p.min(axis=0), p.max(axis=0)
        whole = float(a.sum())
        spots.append(
            Spot(
                rows=rows,
                least=float(v[least]),
                mean=float((v * a).sum() / whole) if whole > 0 else float(v.mean()),
                area_mm2=whole,
                where_mm=as_triple(p[least]),
                centre_mm=as_triple(0.5 * (low + high)),
                size_mm=as_triple(high - low),
            )
        )
    return spots
