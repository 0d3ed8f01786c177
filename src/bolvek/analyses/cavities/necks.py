"""How wide the way out of every room is: chambers behind necks, and gaps that are narrow all along.

Air is put on a lattice with exact distances. Flooded from its widest places down, every room is met once by
a wider one, at its neck (a maximum spanning tree of widths). A ball of the least drain either gets from a
room to the outside or it does not: what lattice values leave open, because a cell's distance says what is in it
only to half its diagonal, is settled by dividing the cells along the widest way until the answer is sure.
"""

from dataclasses import dataclass, replace

import numpy as np

from bolvek.analyses.cavities.openness import every_room_opens
from bolvek.arrays import Bools, Floats, Floats32, Ints, Ints8
from bolvek.mesh import Mesh
from bolvek.spatial.air import MOST_BLOCKS, AirLattice, least_between, narrowest_along
from bolvek.units import Triple, as_triple

PASSES_SHARE = 0.98
"""A way as wide as this share of the least drain passes: a hole of 16 sides is so much narrower inside."""
ROOM_SHARE = 1.25
"""A room is wider than its neck by this factor; else it is a gap as wide as its neck."""
NARROW_ROOM_SHARE = 1.5
"""A room narrower than the least drain counts from this factor on, ..."""
NARROW_ROOM_MM3 = 20.0
"""... from this volume on, and from half the least drain on."""
_NARROWEST = 0.5  # radii of the least drain: narrower rooms do not count
_CELLS = 4  # along the least drain
_CUT_OFF = 1.5  # radii of the least drain: farther out all air is one
_MOST_CELLS = 12_000_000
_ROUNDS, _ENOUGH, _FINEST = 8, 3, 2
_NOISE = 0.1  # cells


@dataclass(frozen=True)
class Chamber:
    """A room that no ball of the least drain gets out of.

    width_mm: across its widest place (a lower bound). neck_mm: across the narrowest place of its widest way
    out, found on the surface; 0 when none was found, then neck_most_mm bounds it. neck_where_mm: there. pocket: a small
    one of the skin, told but not judged.
    """

    volume_mm3: float
    width_mm: float
    where_mm: Triple
    neck_mm: float
    neck_most_mm: float
    neck_where_mm: Triple | None
    pocket: bool = False


@dataclass(frozen=True)
class NeckWays:
    """What was found: chambers, largest first, and with what. least_mm: the least drain; cell_mm: the lattice.

    narrowest_room_mm: a room narrower than this was not looked for.
    """

    least_mm: float
    cell_mm: float
    chambers: tuple[Chamber, ...]
    narrowest_room_mm: float

    @property
    def judged(self) -> bool:
        """Whether the lattice is fine enough to see every room that a ball of the least drain fits into."""
        return self.narrowest_room_mm <= self.least_mm


def find_ways(mesh: Mesh, least_mm: float) -> NeckWays:
    """Chambers of a sound mesh: rooms the air of which reaches the outside only through less than `least_mm`.

    Raises WorkError when the lattice would not fit into memory.
    """
    radius = 0.5 * PASSES_SHARE * least_mm
    if not len(mesh.faces):
        return NeckWays(least_mm, least_mm / _CELLS, (), 2 * radius)
    wide = mesh.size + 2 * _CUT_OFF * radius
    cell = max(
        least_mm / _CELLS,
        # cells in the layer along the surface, and blocks of two cells a side in the whole box
        float(np.cbrt(mesh.area * _CUT_OFF * radius / _MOST_CELLS)),
        float(np.cbrt(np.prod(wide) / (4 * MOST_BLOCKS))),
    )
    lattice = AirLattice(mesh.signed_distance, mesh.bounds[0], mesh.bounds[1], cell, _CUT_OFF * radius)
    half = lattice.half_diagonal
    if every_room_opens(lattice, radius, _NARROWEST * radius):
        return NeckWays(least_mm, cell, (), max(2 * radius, 2 * half))
    rooms = lattice.rooms()
    large = (rooms.radius_mm >= radius - half) & (rooms.radius_mm > rooms.saddle_mm + _NOISE * cell)
    suspect = large & (rooms.saddle_mm < radius + half)
    narrow = (rooms.radius_mm >= _NARROWEST * radius) & (rooms.volume_mm3 >= NARROW_ROOM_MM3)
    suspect |= narrow & (rooms.radius_mm > NARROW_ROOM_SHARE * rooms.saddle_mm)
    suspects = []
    for k in np.flatnonzero(suspect):
        node, volume = int(rooms.node[k]), float(rooms.volume_mm3[k])
        place, widest = _climbed(lattice, node)
        least = max(0.0, float(rooms.saddle_mm[k]) - half)
        if (widest >= radius or volume >= NARROW_ROOM_MM3) and _is_chamber(widest, least, radius):
            suspects.append(_Suspect(node, volume, widest, place))
    _settle(lattice, suspects, radius)
    found = [
        Chamber(
            s.volume,
            2 * s.widest,
            as_triple(s.place),
            2 * s.low,
            2 * s.high,
            as_triple(s.neck) if s.neck is not None else None,
        )
        for s in suspects
        # a room as wide as the least drain must be shown to open, a narrower one not to
        if _is_chamber(s.widest, s.low if s.widest >= radius else s.high, radius)
    ]
    return NeckWays(least_mm, cell, _told_once(found), max(2 * radius, 2 * half))


def _is_chamber(widest: float, neck: float, radius: float) -> bool:
    """Whether a room of this radius behind a neck of that one holds what cannot get out."""
    if widest >= radius:
        return neck < radius and widest >= ROOM_SHARE * neck
    return widest >= NARROW_ROOM_SHARE * neck


def _told_once(chambers: list[Chamber]) -> tuple[Chamber, ...]:
    """Largest first; of two that share a neck, the smaller lies in the larger one."""
    told: list[Chamber] = []
    for c in sorted(chambers, key=lambda c: (-c.volume_mm3, c.where_mm)):
        shared = [
            t
            for t in told
            if c.neck_where_mm
            and t.neck_where_mm
            and np.linalg.norm(np.subtract(c.neck_where_mm, t.neck_where_mm)) < 0.25 * max(c.neck_mm, 0.1)
        ]
        if shared:
            k = told.index(shared[0])
            told[k] = replace(told[k], width_mm=max(told[k].width_mm, c.width_mm))
        else:
            told.append(c)
    return tuple(told)


def _climbed(lattice: AirLattice, node: int) -> tuple[Floats, float]:
    """The widest place near a node, and the distance there (at least the node's, exact)."""
    best = lattice.where(node)
    value = float(lattice.distance.at(best[None])[0])
    steps = np.stack(np.meshgrid(*(np.array([-1.0, 0.0, 1.0]),) * 3, indexing="ij"), -1).reshape(-1, 3)
    step = 0.5 * lattice.cell
    while step > 0.02 * lattice.cell and value < 2 * lattice.cut_off:
        around = best + step * steps
        found = lattice.distance.at(around)
        k = int(np.argmax(found))
        if found[k] > value + 1e-12:
            best, value = around[k], float(found[k])
        else:
            step *= 0.5
    return best, value


@dataclass
class _Suspect:
    """A room that may be a chamber, and bounds (mm, radii) of the narrowest place on its widest way out."""

    node: int
    volume: float
    widest: float
    place: Floats
    low: float = 0.0
    high: float = np.inf
    neck: Floats | None = None

    def sure(self, radius: float, turn: int) -> bool:
        """Whether the bounds leave no doubt; a chamber's neck is looked at a few turns longer, to tell its width."""
        if _is_chamber(self.widest, self.low, radius) != _is_chamber(self.widest, self.high, radius):
            return False
        return turn >= _ENOUGH or not _is_chamber(self.widest, self.low, radius) or self.high <= 1.1 * self.low


def _settle(lattice: AirLattice, suspects: list[_Suspect], radius: float) -> None:
    """Narrow the bounds of all suspects together: look closer along their widest ways, a few rounds."""
    if not suspects:
        return
    width = lattice.value + np.float32(lattice.half_diagonal)
    finer = np.zeros(lattice.value.size, np.int8)
    followed: dict[bytes, tuple[float, Floats | None]] = {}
    open_ones = suspects
    for turn in range(_ROUNDS):
        ways = lattice.widest_ways(width, np.array([s.node for s in open_ones], np.int64))
        for s in open_ones:
            s.high = max(s.low, min(s.high, ways.narrowest_mm(s.node)))
        open_ones = [s for s in open_ones if not s.sure(radius, turn) and s.high > 0]
        if not open_ones:
            break
        looked: list[Ints] = []
        for s in open_ones:
            cells = ways.cells(s.node)
            value = lattice.value.ravel()[cells].astype(np.float64)
            # between two such cells a way is surely as wide as this
            wide = least_between(value, value, lattice.cell)
            narrow = wide < min(s.high, radius)
            points = np.concatenate([lattice.where(s.node)[None], lattice.middles(cells)])
            through, where = float(wide[~narrow].min(initial=np.inf)), None
            for run in _runs(narrow):
                key = cells[run].tobytes()
                if key not in followed:
                    some = points[run[0] : min(run[-1] + 2, len(cells)) + 1]
                    followed[key] = narrowest_along(lattice.distance, lattice.origin, lattice.cell, some, radius)
                if followed[key][0] < through:
                    through, where = followed[key]
            if through > s.low:
                s.low, s.neck = min(through, s.widest), where
            looked.append(cells[narrow & (width.ravel()[cells] < 1.1 * s.high)])
        _tighten(lattice, width, finer, np.unique(np.concatenate(looked)))


def _tighten(lattice: AirLattice, width: Floats32, finer: Ints8, cells: Ints) -> None:
    """Lower what cells may hold at most, from the distances at the middles of 4, then 8 parts a side."""
    flat = width.ravel()
    finer[cells] = np.minimum(finer[cells] + 1, _FINEST)
    for level in np.unique(finer[cells]):
        some = cells[finer[cells] == level]
        n = 2 << int(level)
        row = np.arange(n)
        parts = (np.stack(np.meshgrid(row, row, row, indexing="ij"), -1).reshape(-1, 3) + 0.5) / n - 0.5
        for few in np.array_split(some, max(1, len(some) * n**3 // 1_000_000)):
            points = lattice.middles(few)[:, None, :] + lattice.cell * parts[None]
            most = lattice.distance.at(points.reshape(-1, 3)).reshape(len(few), -1).max(axis=1)
            most += lattice.half_diagonal / n
            flat[few] = np.minimum(flat[few], np.nextafter(most.astype(np.float32), np.float32(np.inf)))


def _runs(mask: Bools) -> list[Ints]:
    where = np.flatnonzero(mask)
    return np.split(where, np.flatnonzero(np.diff(where) > 1) + 1) if len(where) else []
