"""Proof in blocks that every room of the air opens. It shows of a smooth model that it has no chamber, without a
lattice of cells; of one with grooves it shows nothing.

From a place of the air the distance to the surface can grow along a way until one of its critical points is reached.
In a block in which one direction leads away from all that may be nearest there is none (`spatial.slopes`). So where
every block does so, or is so wide and joined to others so wide that a ball of the least drain passes to the outside, or
is narrower than any room that counts, there is a way out from everywhere that nowhere gets narrower than it begins, or
than the least drain. Blocks that show nothing are halved a few times; what stays is left to the lattice.
"""

import itertools

import numpy as np

from bolvek.arrays import Bools, Ints
from bolvek.kernels.grid.watershed import join_blocks
from bolvek.spatial.air import AirLattice
from bolvek.spatial.frames import HALF_DIAGONAL
from bolvek.spatial.slopes import Slopes

_HALVINGS = 4  # of a block
_AT_ONCE, _MOST_DOUBTFUL = 5000, 1000  # blocks; those among them that show nothing: more are not followed
_CORNERS = np.array(list(itertools.product((-0.5, 0.5), repeat=3)))


def every_room_opens(lattice: AirLattice, radius: float, narrowest: float) -> bool:
    """Whether a ball of a radius (mm) surely leaves the air from wherever it fits, and from all other places where a
    ball as wide as `narrowest` fits one as wide as fits there. False proves nothing."""
    linked = _linked(lattice, radius)
    if linked is None:
        return False
    half = HALF_DIAGONAL * 2 * lattice.cell
    # a straight way from anywhere in such a block to its middle gets no narrower than it begins, or than the ball
    passed = linked & (lattice.middle_mm >= np.hypot(radius, half))
    rows = np.flatnonzero((lattice.middle_mm + half >= narrowest) & ~passed)
    slopes = Slopes(lattice.distance)
    # blocks from all over at a time, so that the first of them tell of most models that this does not prove
    turns = -(-len(rows) // _AT_ONCE)
    return all(_grows_throughout(lattice, slopes, rows[k::turns], narrowest) for k in range(turns))


def _grows_throughout(lattice: AirLattice, slopes: Slopes, rows: Ints, narrowest: float) -> bool:
    """Whether the distance surely grows in one direction in each of some blocks (N,), or in each part of it."""
    size = 2 * lattice.cell
    middle, found = lattice.origin + size * (lattice.place[rows] + 0.5), lattice.middle_mm[rows]
    for turn in range(_HALVINGS + 1):
        middle = middle[~slopes.surely_grow(middle, found, HALF_DIAGONAL * size)]
        if not len(middle) or len(middle) > _MOST_DOUBTFUL or turn == _HALVINGS:
            break
        size *= 0.5
        middle = (middle[:, None, :] + size * _CORNERS).reshape(-1, 3)
        found = lattice.distance.at(middle, together=8)
        wide = found + HALF_DIAGONAL * size >= narrowest
        middle, found = middle[wide], found[wide]
    return not len(middle)


def _linked(lattice: AirLattice, radius: float) -> Bools | None:
    """Blocks (B,) from whose middles a ball of a radius surely gets to the outside, from one middle straight to the
    next; None where it does not so from all deep air."""
    blocks = len(lattice.place)
    group = np.arange(blocks + lattice.regions)
    deep_mm = lattice.cut_off + 2 * lattice.half_diagonal
    join_blocks(lattice.block, lattice.place, lattice.middle_mm, deep_mm, 2 * lattice.cell, radius, group)
    outside = group[lattice.outside - 7 * blocks]
    return np.asarray(group[:blocks] == outside) if (group[blocks:] == outside).all() else None
