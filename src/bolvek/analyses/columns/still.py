"""Where liquid stays, and air: every stretch of air of the columns flooded at once.

What a stretch holds leaves over the lowest sill on any way to the outside (Barnes 2014); what is below that sill
stays: a pool. The same upside down is trapped air. And while a print is built layer by layer, what a pool will fill
is cut off from the outside until its sill is reached: a suction cup.
"""

from dataclasses import dataclass
from functools import cached_property

import numpy as np

from bolvek.analyses.columns.columns import Columns
from bolvek.analyses.layering import layers_between
from bolvek.arrays import Floats, Ints, Ints32
from bolvek.kernels.grid import flood as kernels
from bolvek.units import Triple, as_triple

LEAST_POOL_MM3 = 0.05
"""Pools smaller than this are counted, not listed."""
_MOST_LISTED = 200
_INTO_MM = 1e-3
_LEVEL_PIXELS = 0.2
"""Floors that differ by less than this share of a pixel are level."""


@dataclass(frozen=True, kw_only=True)
class Pool:
    """What stays in one place. lowest_mm: its lowest point; level_mm: how high it stands, along up in the model's
    coordinates; sill_mm: where it would flow over, None for one without any way out (enclosed).

    depth_mm: at its deepest; area_mm2: its widest section; covered_share: of its volume, how much has material above.
    """

    volume_mm3: float
    level_mm: float
    depth_mm: float
    lowest_mm: Triple
    sill_mm: Triple | None
    enclosed: bool
    area_mm2: float
    covered_share: float


@dataclass(frozen=True, kw_only=True)
class Cup:
    """A void that the part built so far closes: at its widest so large at a height, closed from one height to another
    (mm above the lowest point, and layers counted from 0); enclosed: it never opens."""

    volume_mm3: float
    area_mm2: float
    where_mm: Triple
    from_mm: float
    to_mm: float
    widest_at_mm: float
    from_layer: int
    to_layer: int
    enclosed: bool


@dataclass(frozen=True)
class Still:
    """What stays in each stretch of air. columns; down: flooded as it stands, else upside down (trapped air).

    start (P + 1,), column (N,), floor, ceiling (N,): stretches of air, infinite where open; level (N,): to what height
    they stay full (upside down: down to what height), infinite without a way out; pool (N,) a number, -1 for
    none; sill (N,) the node over which it leaves.
    """

    columns: Columns
    down: bool
    start: Ints
    column: Ints32
    floor: Floats
    ceiling: Floats
    level: Floats
    sill: Ints32
    pool: Ints32
    leaving: int
    pools: int

    @cached_property
    def held_mm(self) -> Floats:
        """How much (N,) of each stretch stays full, mm of height."""
        if self.down:
            top = np.minimum(self.level, self.ceiling)
            return np.where(self.pool >= 0, np.maximum(top - self.floor, 0.0), 0.0)
        bottom = np.maximum(self.level, self.floor)
        return np.where(self.pool >= 0, np.maximum(self.ceiling - bottom, 0.0), 0.0)

    @property
    def volume_mm3(self) -> float:
        """All that stays."""
        return float(self.held_mm.sum()) * self.columns.pixel_mm2

    @cached_property
    def volumes(self) -> Floats:
        """What stays in each pool (K,), mm3."""
        held = self.pool >= 0
        volume = np.bincount(self.pool[held], self.held_mm[held], self.pools) * self.columns.pixel_mm2
        return np.asarray(volume, np.float64)

    def node_at(self, points: Floats) -> Ints:
        """The stretch of air (N,) that points (N, 3) are in, -1 for none."""
        column, height = self.columns.at(points)
        found = np.full(len(column), -1)
        rows = np.flatnonzero(column >= 0)
        first, end = self.start[column[rows]], self.start[column[rows] + 1]
        for k in range(int((end - first).max(initial=0))):
            node = np.minimum(first + k, end - 1)
            inside = (self.floor[node] <= height[rows]) & (height[rows] <= self.ceiling[node])
            found[rows[inside]] = node[inside]
        return found


def air_between(columns: Columns, plate: float | None = None) -> tuple[Ints, Ints32, Floats, Floats]:
    """The stretches of air between the material of columns: start (P + 1,), column, floor and ceiling (N,).

    plate: a height at which a plate closes what is open downward beneath the material.
    """
    c = columns
    p = len(c.unclosed)
    start = c.material_start + np.arange(p + 1)
    total = int(start[-1])
    column = np.repeat(np.arange(p, dtype=np.int32), np.diff(start))
    floor, ceiling = np.full(total, -np.inf), np.full(total, np.inf)
    below = np.arange(len(c.low)) + c.column_of  # the stretch of air beneath each stretch of material
    ceiling[below] = c.low
    floor[below + 1] = c.high
    if plate is not None:
        first = start[:-1][np.diff(c.material_start) > 0]
        floor[first] = plate
    return start, column, floor, ceiling


def let_stand(columns: Columns, *, down: bool = True, plate: float | None = None, outlets: Ints | None = None) -> Still:
    """What stays in a model full of liquid (down=False: what air stays in one that is immersed).

    outlets: stretches (K,) at whose floor (upside down: ceiling) a hole leads out.
    """
    start, column, floor, ceiling = air_between(columns, plate)
    if down:
        found = _flooded(start, column, floor, ceiling, columns.shape[1], outlets)
    else:  # everything backward: the last column first, and heights turned round
        n, p = len(floor), len(start) - 1
        back = np.ascontiguousarray(n - start[::-1])
        level, sill, pool, leaving, pools = _flooded(
            back,
            (p - 1 - column[::-1]).astype(np.int32),
            -ceiling[::-1],
            -floor[::-1],
            columns.shape[1],
            None if outlets is None else n - 1 - outlets,
        )
        sill = np.where(sill[::-1] >= 0, n - 1 - sill[::-1], -1).astype(np.int32)
        found = -level[::-1], sill, np.ascontiguousarray(pool[::-1]), leaving, pools
    return Still(columns, down, start, column, floor, ceiling, *found)


def _flooded(
    start: Ints, column: Ints32, floor: Floats, ceiling: Floats, ny: int, outlets: Ints | None
) -> tuple[Floats, Ints32, Ints32, int, int]:
    n = len(floor)
    floor, ceiling = np.ascontiguousarray(floor), np.ascontiguousarray(ceiling)
    counts = np.diff(start)
    base = np.isneginf(floor)
    base |= (counts == 1)[column] & np.isposinf(ceiling)
    inner = np.flatnonzero(~base)
    order = inner[np.argsort(floor[inner], kind="stable")].astype(np.int32)
    parent = np.arange(n, dtype=np.int32)
    parent[base] = 0
    opens = base.astype(np.int8)
    if outlets is not None:
        opens[outlets] = np.where(base[outlets], 1, 2)
    level = np.full(n, np.inf)
    sill, pool = np.full(n, -1, np.int32), np.full(n, -1, np.int32)
    leaving, pools = kernels.flood(start, ny, floor, ceiling, column, order, opens, parent, level, sill, pool)
    return level, sill, pool, leaving, pools


def list_pools(still: Still) -> list[Pool]:
    """The pools that hold at least `LEAST_POOL_MM3`, largest first, two hundred at most."""
    volume = still.volumes
    chosen = np.flatnonzero(volume >= LEAST_POOL_MM3)
    chosen = chosen[np.argsort(-volume[chosen], kind="stable")][:_MOST_LISTED]
    return [pool_of(still, nodes) for nodes, _ in _nodes_of(still, chosen)]


def _ground(columns: Columns) -> float:
    return float(columns.low.min()) if len(columns.low) else 0.0


def _nodes_of(still: Still, chosen: Ints) -> list[tuple[Ints, int]]:
    """The nodes of chosen pools that hold anything."""
    mine = np.flatnonzero(np.isin(still.pool, chosen) & (still.held_mm > 0))
    order = mine[np.argsort(still.pool[mine], kind="stable")]
    ends = np.searchsorted(still.pool[order], np.sort(chosen), side="right")
    split = dict(zip(np.sort(chosen).tolist(), np.split(order, ends[:-1]), strict=True)) if len(chosen) else {}
    return [(split[int(k)], int(k)) for k in chosen]


def ends_of(still: Still, nodes: Ints) -> tuple[Floats, Floats]:
    """From what height to what height (K,) stretches stay full."""
    if still.down:
        return still.floor[nodes], np.minimum(still.level[nodes], still.ceiling[nodes])
    return np.maximum(still.level[nodes], still.floor[nodes]), still.ceiling[nodes]


def pool_of(still: Still, nodes: Ints) -> Pool:
    """The pool, or the part of it, that some stretches (K,) hold."""
    c = still.columns
    bottom, top = ends_of(still, nodes)
    sill = int(still.sill[nodes[0]])
    at = float(bottom.min()) if still.down else float(top.max())
    deepest = _in_the_middle(still, nodes[np.abs((bottom if still.down else top) - at) <= _LEVEL_PIXELS * c.pixel_mm])
    edge = still.floor if still.down else still.ceiling
    covered = np.isfinite(still.ceiling[nodes]) if still.down else np.isfinite(still.floor[nodes])
    area, _ = _widest(bottom, top)
    return Pool(
        volume_mm3=float((top - bottom).sum()) * c.pixel_mm2,
        level_mm=(float(top.max()) if still.down else float(bottom.min()))
        if sill < 0
        else float(still.level[nodes[0]]),
        depth_mm=float(top.max() - bottom.min()),
        lowest_mm=as_triple(c.middle(int(still.column[deepest]), at)),
        sill_mm=None if sill < 0 else as_triple(c.middle(int(still.column[sill]), float(edge[sill]))),
        enclosed=sill < 0,
        area_mm2=area * c.pixel_mm2,
        covered_share=float((top - bottom)[covered].sum() / max(float((top - bottom).sum()), 1e-300)),
    )


def _in_the_middle(still: Still, nodes: Ints) -> int:
    """Of some stretches the one nearest to the middle of all: a level floor has no single lowest point."""
    across = np.stack(np.divmod(still.column[nodes].astype(np.int64), still.columns.shape[1]))
    off = across - across.mean(axis=1, keepdims=True)
    return int(nodes[np.argmin((off * off).sum(axis=0))])


def _widest(bottom: Floats, top: Floats) -> tuple[int, float]:
    """The most stretches that are there at one height, and that height."""
    heights = np.concatenate([bottom, top])
    step = np.concatenate([np.ones(len(bottom), np.int64), -np.ones(len(top), np.int64)])
    order = np.lexsort((-step, heights))
    there = np.cumsum(step[order])
    k = int(np.argmax(there))
    return int(there[k]), float(heights[order[k]])


def list_cups(still: Still, least_mm2: float, least_mm: float, layer_mm: float) -> list[Cup]:
    """Voids that are closed against the vat while the part is built along up: those as wide and as deep as asked."""
    c = still.columns
    volume = still.volumes
    chosen = np.flatnonzero(volume >= least_mm2 * least_mm * 0.1)
    chosen = chosen[np.argsort(-volume[chosen], kind="stable")][:_MOST_LISTED]
    ground = _ground(c)
    found = []
    for nodes, number in _nodes_of(still, chosen):
        bottom, top = ends_of(still, nodes)
        count, at = _widest(bottom, top)
        area = count * c.pixel_mm2
        if area < least_mm2 or float(top.max() - bottom.min()) < least_mm:
            continue
        there = nodes[(bottom <= at) & (top >= at)]
        place = c.middle(still.column[there].astype(np.int64), np.full(len(there), at)).mean(axis=0)
        sill = int(still.sill[nodes[0]])
        first, last = layers_between(float(bottom.min()) - ground, float(top.max()) - ground, layer_mm)
        found.append(
            Cup(
                volume_mm3=float(volume[number]),
                area_mm2=area,
                where_mm=as_triple(place),
                from_mm=float(bottom.min()) - ground,
                to_mm=float(top.max()) - ground,
                widest_at_mm=at - ground,
                from_layer=first,
                to_layer=last,
                enclosed=sill < 0,
            )
        )
    return sorted(found, key=lambda cup: (-cup.area_mm2, cup.where_mm))


def hole_beneath(still: Still, pool: Pool) -> tuple[Triple | None, float]:
    """Where a hole straight down from a pool's lowest point would come out of the material, and what it would free
    (mm3); no place where it would come out in a room that is closed itself."""
    node = int(still.node_at(np.array([pool.lowest_mm]) + _INTO_MM * still.columns.frame[2])[0])
    if node < 0 or not still.down:
        return None, 0.0
    column = int(still.column[node])
    row = node - column - 1
    c = still.columns
    if row < c.material_start[column]:
        return None, 0.0
    freed = still.volume_mm3 - let_stand(c, outlets=np.array([node])).volume_mm3
    if np.isfinite(still.floor[node - 1]):
        return None, freed
    return as_triple(c.middle(column, float(c.low[row]))), freed
