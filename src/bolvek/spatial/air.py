"""The air around and inside a closed surface on a sparse lattice of exact distances.

Distance changes by at most one millimetre per millimetre, so a brick of cells whose middle is deeper in
material than its half diagonal holds no air, and one that is farther out than that and the cut-off is deep
air throughout; only the rest is divided. Cost follows the area of the surface, not the volume.
"""

from dataclasses import dataclass
from functools import cached_property
from typing import Protocol

import numpy as np

from bolvek.arrays import Floats, Floats32, Ints, Ints32
from bolvek.errors import WorkError
from bolvek.kernels.grid import watershed as kernels
from bolvek.spatial.frames import HALF_DIAGONAL
from bolvek.spatial.signed import SignedDistance
from bolvek.spatial.voxels import label_regions

_CORNERS = np.array([[k & 1, k >> 1 & 1, k >> 2 & 1] for k in range(8)])
_COARSEST = 32
_WIDTH_STEP = 1 / 256  # cells: widths of ways are rounded up to it
MOST_BLOCKS = 120_000_000
"""Blocks of the box around a model: more are refused."""


@dataclass(frozen=True)
class Rooms:
    """Rooms of the air by how they end, widest first flooded (see `kernels.grid.watershed`).

    node (M,): widest node of a room; radius_mm (M,): the distance to the surface there, at most the cut-off;
    saddle_mm (M,): the distance where it meets a wider room, 0 where no cell leads on; volume_mm3 (M,): all
    behind that place.
    """

    node: Ints
    radius_mm: Floats
    saddle_mm: Floats
    volume_mm3: Floats


class AirLattice:
    """Cells of `cell` mm with the signed distance at their middles, cut off at `cut_off` mm.

    They come in blocks of two a side. place (B, 3): the blocks near the surface, middle_mm (B,): the distance at their
    middles; deep (D, 3): those that lie deep in air throughout, in so many `regions` that hang together, region by
    region from `deep_start` (R + 1,) on. block: see `kernels.grid.watershed`.
    """

    def __init__(self, distance: SignedDistance, low: Floats, high: Floats, cell: float, cut_off: float) -> None:
        self.distance, self.cell, self.cut_off = distance, cell, cut_off
        pad = cut_off + 6 * cell
        self.origin = low - pad
        shape = np.ceil((high - low + 2 * pad) / (_COARSEST * cell)).astype(np.int64)
        self.shape = shape * (_COARSEST // 2)
        check_blocks(float(np.prod(self.shape.astype(float))), cell)
        self.block = np.full(tuple(self.shape), -1, np.int32)
        brick = np.stack(np.meshgrid(*(np.arange(n) for n in shape), indexing="ij"), -1).reshape(-1, 3) * _COARSEST
        size = _COARSEST
        while True:
            half = HALF_DIAGONAL * size * cell
            found = distance.at(self.origin + (brick + 0.5 * size) * cell, together=1 if size == _COARSEST else 8)
            deep = brick[found > cut_off + half] // 2
            steps = size // 2
            if len(deep):
                inner = np.stack(np.meshgrid(*(np.arange(steps),) * 3, indexing="ij"), -1).reshape(1, -1, 3)
                for some in np.array_split(deep, max(1, len(deep) * steps**3 // 4_000_000)):
                    x, y, z = (some[:, None, :] + inner).reshape(-1, 3).T
                    self.block[x, y, z] = -2
            near = (found >= -half) & (found <= cut_off + half)
            brick, middle = brick[near], found[near]
            if size == 2 or not len(brick):
                break
            size //= 2
            brick = (brick[:, None, :] + size * _CORNERS[None]).reshape(-1, 3)
        self.place, self.middle_mm = np.ascontiguousarray(brick // 2, np.int32), middle
        regions, self.regions = label_regions(self.block == -2)
        where = np.argwhere(self.block == -2)
        number = regions[tuple(where.T)] - 1
        self.block[tuple(where.T)] = -2 - number
        order = np.argsort(number, kind="stable")
        self.deep = np.ascontiguousarray(where[order], np.int32)
        self.deep_start = np.searchsorted(number[order], np.arange(self.regions + 1)).astype(np.int64)
        del regions
        self.block[tuple(self.place.T)] = np.arange(len(self.place), dtype=np.int32)
        self.outside = 8 * len(self.place) + int(-2 - self.block[0, 0, 0])

    @cached_property
    def value(self) -> Floats32:
        """The distance (B, 8) at the middles of the cells of each block of `place`, in mm; found when first asked."""
        # cells of a block whose middle is so far out are all cut off
        asked = np.flatnonzero(self.middle_mm < self.cut_off + self.half_diagonal)
        points = self.middles((8 * asked[:, None] + np.arange(8)).ravel())
        # a block that was not dropped has no cell deeper in material than three half diagonals
        found = self.distance.at(points, max(self.cut_off, 3.01 * self.half_diagonal), together=8)
        found[np.isnan(found)] = self.cut_off
        value = np.full((len(self.place), 8), self.cut_off, np.float32)
        value[asked] = np.clip(found, -np.inf, self.cut_off).reshape(-1, 8)
        return value

    @property
    def half_diagonal(self) -> float:
        """Of a cell, in mm: how much wider than its value a way through it can be."""
        return HALF_DIAGONAL * self.cell

    def middles(self, node: Ints) -> Floats:
        """Middles (N, 3) in mm of cells."""
        row, column = np.divmod(node, 8)
        return np.asarray(self.origin + (2 * self.place[row] + _CORNERS[column] + 0.5) * self.cell)

    def where(self, node: int) -> Floats:
        """A place (3,) in mm that stands for a node: a cell's middle, a deep region's most central block."""
        cells = 8 * len(self.place)
        if node < cells:
            return self.middles(np.array([node]))[0]
        blocks = self.deep[self.deep_start[node - cells] : self.deep_start[node - cells + 1]]
        central = int(np.argmin(((blocks - blocks.mean(axis=0)) ** 2).sum(axis=1)))
        return np.asarray(self.origin + (2 * blocks[central] + 1.0) * self.cell)

    def rooms(self) -> Rooms:
        """All rooms but the outside."""
        cells, nodes = self.value.size, self.value.size + self.regions
        peak = np.full(nodes, self.cut_off)
        peak[:cells] = self.value.ravel()
        deep_sizes = np.diff(self.deep_start)
        peak[cells:] += 1e-9 * self.cut_off * np.argsort(np.argsort(deep_sizes, kind="stable"), kind="stable")
        peak[self.outside] = np.inf
        order = np.flatnonzero(self.value.ravel() > 0).astype(np.int64)
        order = order[np.argsort(-self.value.ravel()[order], kind="stable")]
        parent, label = np.full((2, nodes), -1, np.int64)
        parent[cells:] = label[cells:] = np.arange(cells, nodes)
        died, into, at = np.empty((3, len(order) + self.regions), np.int64)
        saddle = np.empty(len(order) + self.regions)
        n = kernels.grow_rooms(self.block, self.place, self.value, order, peak, parent, label, died, into, saddle, at)
        volume = np.bincount(label[order], minlength=nodes) * self.cell**3
        volume[cells:] += deep_sizes * (2 * self.cell) ** 3
        # in the order in which they ended, so that what ended in a room ended before it
        for a, b in zip(died[:n].tolist(), into[:n].tolist(), strict=True):
            volume[b] += volume[a]
        roots = np.flatnonzero(parent == np.arange(nodes))
        apart = roots[roots != self.outside]
        node = np.concatenate([died[:n], apart])
        return Rooms(
            node,
            np.minimum(peak[node], self.cut_off),
            np.concatenate([saddle[:n], np.zeros(len(apart))]),
            volume[node],
        )

    def widest_ways(self, width: Floats32, wanted: Ints) -> "WidestWays":
        """The widest ways from the outside to the nodes wanted (N,), cells being as wide as `width` (B, 8) says (mm,
        radii)."""
        nodes = self.value.size + self.regions
        before, following = np.full((2, nodes), -2, np.int64)
        before[wanted] = -3
        before[self.outside] = -2
        level = np.zeros(nodes, np.int32)
        step = _WIDTH_STEP * self.cell
        kernels.widest_ways(
            self.block,
            self.place,
            width,
            self.deep,
            self.deep_start,
            max(self.cut_off + self.half_diagonal, float(width.max(initial=0.0))),
            self.outside,
            int((before == -3).sum()),
            step,
            before,
            level,
            following,
        )
        return WidestWays(self, before, level, step)


@dataclass(frozen=True)
class WidestWays:
    """Ways to the outside: for each node the next one (-1: it is the outside, less: none), and the narrowest width."""

    lattice: AirLattice
    before: Ints
    level: Ints32
    step_mm: float

    def narrowest_mm(self, node: int) -> float:
        """The narrowest width (radius) on the widest way out, rounded up; 0 without a way."""
        return float(self.level[node]) * self.step_mm

    def cells(self, node: int) -> Ints:
        """Cells of the way from a node to the outside, deep regions left out."""
        way = []
        while node >= 0:
            way.append(node)
            node = int(self.before[node])
        found = np.array(way, np.int64)
        return found[found < self.lattice.value.size]


def check_blocks(blocks: float, cell: float) -> None:
    """Raise WorkError when a lattice of so many blocks is more than fits."""
    if blocks > MOST_BLOCKS:
        raise WorkError(
            f"a lattice of {cell:.3g} mm around this model would need {blocks:.3g} blocks, "
            f"{MOST_BLOCKS:,} are the limit: {cell * (blocks / MOST_BLOCKS) ** (1 / 3):.3g} mm would fit"
        )


def least_between(at_start: Floats, at_end: Floats, gap: Floats | float) -> Floats:
    """The least that a distance (N,) from a surface can be on the straight way, so long (N,), between two places that
    are so far from it (N,), on the same side.

    Less the square of the place, the square of the distance is the least of many linear functions, and concave: it
    lies below a straight line between both ends by no more than t (1 - t) times the square of the gap.
    """
    a, b, g = np.square(at_start), np.square(at_end), np.maximum(np.square(gap), 1e-300)
    t = np.clip(0.5 + 0.5 * (a - b) / g, 0.0, 1.0)
    return np.sqrt(np.maximum(a + t * (b - a) - t * (1 - t) * g, 0.0))


class Distance(Protocol):
    """Signed distances (P,) at points (P, 3), positive where a ball may be."""

    def at(self, points: Floats, limit: float = np.inf) -> Floats:
        """The distances; nan farther from the surface than `limit`."""


_AROUND = np.stack(np.meshgrid(*(np.array([-1, 0, 1]),) * 3, indexing="ij"), -1).reshape(-1, 3)
_LEVELS = 5


def narrowest_along(
    distance: Distance, origin: Floats, cell: float, points: Floats, enough: float, levels: int = _LEVELS
) -> tuple[float, Floats | None]:
    """The narrowest distance on the widest way along coarse points (N, 3), from cells of `cell` mm around them halved
    `levels` times; and where.

    0 and None when nothing leads through. Divided no further once it is surely above `enough`.
    """
    size = cell
    cells = np.floor((points - origin) / size).astype(np.int64)
    width, where, sure = 0.0, None, 0.0
    keys, value, steps, low = np.zeros(0, np.int64), np.zeros(0), np.zeros(3, np.int64), np.zeros(3, np.int64)
    for level in range(levels):
        cells = np.unique((cells[:, None, :] + _AROUND[None]).reshape(-1, 3), axis=0)
        if level:
            # what a cell holds at most, against what surely passes
            row = np.minimum(np.searchsorted(keys, (cells - low) @ steps), len(keys) - 1)
            known = keys[row] == (cells - low) @ steps
            cells = cells[~known | (value[row] + HALF_DIAGONAL * size >= sure)]
        low = 2 * cells.min(axis=0) - 2
        spread = 2 * cells.max(axis=0) + 4 - low
        steps = np.array([spread[1] * spread[2], spread[2], 1], np.int64)
        keys = np.sort((((cells * 2 - low) @ steps)[:, None] + (_CORNERS @ steps)[None]).ravel())
        size *= 0.5
        whole = np.stack([keys // steps[0], keys // steps[1] % spread[1], keys % spread[2]], axis=1) + low
        middles = origin + (whole + 0.5) * size
        value = distance.at(middles)
        ends = np.floor((points[[0, -1]] - origin) / size).astype(np.int64)
        start, goal = np.searchsorted(keys, (ends - low) @ steps)
        way = widest_path(keys, value + HALF_DIAGONAL * size, steps, int(start), int(goal))
        if way is None:
            return 0.0, None
        on_way = value[way]
        k = int(np.argmin(on_way))
        width, where = float(on_way[k]), middles[way[k]]
        sure = float(least_between(on_way[[k]], on_way[[k]], size)[0]) if width > 0 else 0.0
        if sure >= enough:
            break
        cells = whole[way]
    return max(width, 0.0), where if width > 0 else None


def widest_path(keys: Ints, width: Floats, steps: Ints, start: int, goal: int) -> Ints | None:
    """Rows (W,) from goal to start of the widest path through cells with sorted keys (N,) and widths (N,); steps (3,):
    what a step along each axis adds to a key. None where nothing above 0 leads through."""
    before = np.full(len(keys), -1, np.int64)
    if not kernels.widest_among(keys, width, steps, start, goal, before):
        return None
    way = [goal]
    while way[-1] != start:
        way.append(int(before[way[-1]]))
    return np.array(way, np.int64)
