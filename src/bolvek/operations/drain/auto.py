"""Drains by themselves: hole after hole where most stays, cut and flooded again, until what stays is no more than may.

What stays is found by flooding columns (`analyses.columns`): first of the model as it is, then of the model with the
holes cut, so nothing is predicted that is not measured afterwards. Of what stays, the largest pool gets the next hole,
low enough that what it leaves is within the residue, and among those places where it is least seen and goes squarely
through little wall. The same upside down for air: a vent where most of it stays.
"""

from collections import Counter
from dataclasses import dataclass, replace

import numpy as np

from bolvek.analyses.cavities import Cavities, find_cavities
from bolvek.analyses.columns import Columns, Still, let_stand, make_columns, pixel_for
from bolvek.analyses.columns.still import ends_of
from bolvek.analyses.proof.liquid import allowed_mm3, liquid_pixel
from bolvek.analyses.shells import nest_exactly
from bolvek.arrays import Bools, Floats, Ints
from bolvek.errors import WorkError
from bolvek.mesh import Mesh
from bolvek.operations.drain.beside import wall_after
from bolvek.operations.drain.cut import cut_and_trace
from bolvek.operations.drain.place import GivenUp, Placed, aside_cost, best_bore, candidates_on, narrower
from bolvek.operations.drain.record import AutoRecord, RoomDrained
from bolvek.settings.shape import AutoSettings, Ball, DrainSettings, PlaceSettings
from bolvek.spatial.parallel import side_by_side
from bolvek.units import Triple, as_triple

MOST_HOLES = 6
"""Holes a room, where no number is asked for."""
_AIM = 0.4
"""A hole is low enough when what lies below it is this share of what may stay."""
_AIR_SHARE = 0.02
"""Air that stays in a room, as a share of it, without a vent being wanted; the first vent comes in any case."""
_COARSE = 160_000
_INSIDE = 1.2
"""Pixels off the surface: where a place of it is in the air."""
_MOST_ROOMS = 200
_MOST_SPOILED, _ASIDE = 8, 0.3
_NEAR = 3.0
"""Diameters above the lowest height that would do, in which places are looked for first."""


class _Rooms:
    """The rooms of a model before any hole: which a place in the air belongs to, and how large each is."""

    def __init__(self, mesh: Mesh, still: Still, closed_only: bool) -> None:
        self.still = still
        self.cavities: Cavities | None = None
        nested = nest_exactly(mesh)
        self.shell: list[int] = []
        self.volume: list[float] = []
        self.where: list[Triple] = []
        self._of_pool = np.full(still.pools + 1, -1)
        self.unseen: list[int] = []
        low, high = mesh.shell_boxes
        for shell, volume in zip(*nested.voids, strict=True):
            pool = self._pool_of(mesh, int(shell))
            if pool < 0:
                self.unseen.append(int(shell))
                continue
            self._of_pool[pool] = len(self.volume)
            self.shell.append(int(shell))
            self.volume.append(float(volume))
            self.where.append(as_triple(0.5 * (low[shell] + high[shell])))
        self._of_label = np.zeros(0, np.int64)
        if not closed_only:
            self.cavities = find_cavities(mesh, nested=nested)
            self._of_label = np.full(len(self.cavities.found) + 2, -1)  # the last two for the outside and walls
            for k, c in enumerate(self.cavities.found):
                if not c.closed and not c.pocket:
                    self._of_label[k] = len(self.volume)
                    self.shell.append(-1)
                    self.volume.append(c.volume_mm3)
                    self.where.append(c.where_mm)
        self.allowed = np.array([allowed_mm3(v) for v in self.volume])
        self.closed = np.array(self.shell, np.int64) >= 0

    def _pool_of(self, mesh: Mesh, shell: int) -> int:
        """The pool without a way out that fills a void, -1 where the columns do not see it."""
        faces = np.flatnonzero(mesh.topology.shell == shell)
        faces = faces[np.argsort(-mesh.face_areas[faces], kind="stable")][:400]
        for reach in (0.5, _INSIDE, 3.0):
            off = reach * self.still.columns.pixel_mm * mesh.normals_of(faces)
            node = self.still.node_at(mesh.vertices[mesh.faces[faces]].mean(axis=1) + off)
            pool = self.still.pool[node[node >= 0]]
            pool = pool[pool >= self.still.leaving]
            if len(pool):
                return int(np.bincount(pool).argmax())
        return -1

    def at(self, points: Floats) -> Ints:
        """The room (Q,) that places (Q, 3) in the air belong to, else -1."""
        node = self.still.node_at(points)
        pool = np.where(node >= 0, self.still.pool[np.maximum(node, 0)], -1)
        room = np.where(pool >= 0, self._of_pool[pool], -1)
        if self.cavities is not None:
            room = np.where(room < 0, self._of_label[self.cavities.label_at(points)], room)
        return room

    def held(self, still: Still) -> tuple[Ints, Ints, Floats]:
        """Stretches (K,) that hold something in a room, the room (K,) of each; what stays in each room (R,), mm3."""
        nodes = np.flatnonzero(still.held_mm > 0)
        bottom, top = ends_of(still, nodes)
        room = self.at(still.columns.middle(still.column[nodes].astype(np.int64), 0.5 * (bottom + top)))
        nodes, room = nodes[room >= 0], room[room >= 0]
        held = np.bincount(room, still.held_mm[nodes], len(self.volume)) * still.columns.pixel_mm2
        return nodes, room, np.asarray(held, np.float64)


@dataclass
class _State:
    """The cut mesh, which faces are sides of holes, its columns; holes so far, the rooms they were put for, why rooms
    get no more, and places where a hole of a room left too little wall beside it."""

    mesh: Mesh
    sides: Bools
    columns: Columns
    placed: list[Placed]
    room: list[int]
    given_up: dict[tuple[int, str], GivenUp]
    spoiled: list[tuple[int, Ball]]


def place_by_flood(mesh: Mesh, settings: AutoSettings) -> tuple[list[Placed], list[GivenUp], AutoRecord]:
    """Drains and vents for every room of a sound model, in the order they were found; closed voids that no hole
    reaches; and what the holes leave.

    Raises UsageError for impossible settings, WorkError when there is nothing to drain.
    """
    settings.check()
    up = settings.place.up
    pixel = liquid_pixel(mesh, up, settings.least_drain_mm, settings.wall_mm)
    pixel = max(pixel, min(pixel_for(mesh, up, _COARSE), settings.wall_mm / 1.5))
    state = _State(mesh, np.zeros(len(mesh.faces), bool), make_columns(mesh, up, pixel), [], [], {}, [])
    first = let_stand(state.columns)
    rooms = _Rooms(mesh, first, settings.closed_only)
    if not rooms.volume and not rooms.unseen:
        raise WorkError("the model has no room to drain: no closed void, and no cavity that holds anything")
    count = len(rooms.volume)
    at_first = rooms.held(first)[2]
    limit = settings.most or MOST_HOLES
    rounds = 0
    for role in ("drain", "vent"):
        while True:
            still = first if not state.placed and role == "drain" else let_stand(state.columns, down=role == "drain")
            nodes, of, amount = rooms.held(still)
            wanted = amount > (_enough_drained if role == "drain" else _enough_air)(rooms, state)
            full = np.bincount(state.room, minlength=count) >= limit
            todo = [r for r in np.flatnonzero(wanted & ~full).tolist() if (r, role) not in state.given_up]
            if not todo:
                break
            rounds += 1
            before = len(state.placed)
            for room in todo[:_MOST_ROOMS]:
                _place_one(mesh, rooms, still, nodes[of == room], room, role, settings.place, state)
            if len(state.placed) > before:
                _cut(mesh, state)
                _take_back(mesh, state, before, settings.place)
                state.columns = make_columns(state.mesh, up, pixel)
    down, upside_down = side_by_side(lambda: let_stand(state.columns), lambda: let_stand(state.columns, down=False))
    stays, air = rooms.held(down)[2], rooms.held(upside_down)[2]
    enough = _enough_drained(rooms, state)
    found = tuple(
        RoomDrained(
            where_mm=rooms.where[r],
            volume_mm3=rooms.volume[r],
            closed=bool(rooms.closed[r]),
            held_mm3=float(at_first[r]),
            stays_mm3=float(stays[r]),
            allowed_mm3=float(rooms.allowed[r]),
            air_mm3=float(air[r]),
            holes=tuple(k for k, room in enumerate(state.room) if room == r),
            given_up=_why(state, r) if stays[r] > enough[r] else "",
        )
        for r in range(count)
    )
    without = [
        replace(state.given_up[r, "drain"], shell=rooms.shell[r], volume_mm3=rooms.volume[r])
        for r in range(count)
        if rooms.closed[r] and r not in state.room and (r, "drain") in state.given_up
    ]
    without += [_unseen(mesh, shell, settings.place) for shell in rooms.unseen]
    without.sort(key=lambda g: g.shell)
    return state.placed, without, AutoRecord(up=up, pixel_mm=pixel, rounds=rounds, rooms=found)


def _why(state: _State, room: int) -> str:
    """Why a room gets no further drain."""
    given_up = state.given_up.get((room, "drain"))
    if given_up is None:
        return "as many holes as may be"
    return f"{given_up.tried:,} places tried: {given_up.text}" if given_up.tried else "no place of its surface is free"


def _unseen(mesh: Mesh, shell: int, place: PlaceSettings) -> GivenUp:
    low, high = mesh.shell_boxes
    where = as_triple(0.5 * (low[shell] + high[shell]))
    volume = -float(mesh.shell_volumes[shell])
    return GivenUp(shell, volume, where, place.least_mm or place.diameter_mm, 0, {"small": 1})


def _enough_drained(rooms: _Rooms, state: _State) -> Floats:
    """What may stay in each room (R,): nothing in a void that has no hole yet, however small it is."""
    holes = np.bincount(state.room, minlength=len(rooms.volume))
    return np.where(rooms.closed & (holes == 0), 0.0, rooms.allowed)


def _enough_air(rooms: _Rooms, state: _State) -> Floats:
    """Air (R,) that may stay: none in a room with one hole, for without a second no air comes in."""
    holes = np.bincount(state.room, minlength=len(rooms.volume))
    share = np.maximum(_AIR_SHARE * np.array(rooms.volume), rooms.allowed)
    return np.where((holes == 0) & rooms.closed, np.inf, np.where((holes == 1) & rooms.closed, 0.0, share))


def _place_one(
    mesh: Mesh,
    rooms: _Rooms,
    still: Still,
    nodes: Ints,
    room: int,
    role: str,
    where: PlaceSettings,
    state: _State,
) -> None:
    """The next hole of a room, for the largest of its pools in stretches (K,); why there is none otherwise."""
    allowed = float(rooms.allowed[room])
    volume = np.bincount(still.pool[nodes], still.held_mm[nodes])
    mine = nodes[still.pool[nodes] == int(np.argmax(volume))]
    reasons: Counter[str] = Counter()
    tried = 0
    off = tuple(ball for r, ball in state.spoiled if r == room)
    place = replace(where, keep_off=where.keep_off + off)
    # near the lowest point first, which is where nearly every hole ends up
    for near in (True, False):
        for diameter in narrower(place):
            points, normal, cost, extreme = _places(mesh, still, mine, role, allowed, place, diameter, near=near)
            found, why, n = best_bore(mesh, (points, normal), cost, extreme, role, place, diameter, state.placed)
            reasons += why
            tried += n
            if found is not None:
                state.placed.append(found)
                state.room.append(room)
                return
    least = place.least_mm or place.diameter_mm
    state.given_up[room, role] = GivenUp(-1, 0.0, rooms.where[room], least, tried, dict(reasons))


def _places(
    mesh: Mesh,
    still: Still,
    nodes: Ints,
    role: str,
    allowed: float,
    place: PlaceSettings,
    diameter: float,
    *,
    near: bool,
) -> tuple[Floats, Floats, Floats, float]:
    """Places on the surface of a pool (N, 3), directions into it (N, 3), what each costs (N,) mm, and its extreme.

    near: only those not far from the extreme.
    """
    c = still.columns
    bottom, top = ends_of(still, nodes)
    down = -c.frame[2] if role == "drain" else c.frame[2]
    depth = -bottom if role == "drain" else top
    extreme = float(depth.max())
    # so far above the lowest point a hole still leaves little enough
    fine = _height_holding(bottom, top, _AIM * allowed / c.pixel_mm2, role)
    whole = c.middle(still.column[nodes].astype(np.int64), 0.5 * (bottom + top))
    middle = 0.5 * (whole.min(axis=0) + whole.max(axis=0))
    band = fine + _NEAR * diameter if near else np.inf
    some = nodes[extreme - depth <= band]
    bottom, top = ends_of(still, some)
    if role == "drain":
        top = np.minimum(top, band - extreme)
    else:
        bottom = np.maximum(bottom, extreme - band)
    ends = np.concatenate([c.middle(still.column[some].astype(np.int64), h) for h in (bottom, top)])
    reach = 2 * c.pixel_mm
    faces = mesh.tree.faces_in_box(ends.min(axis=0) - reach, ends.max(axis=0) + reach)
    points, normal = candidates_on(mesh.picked(np.sort(faces)), 0.5 * diameter)
    mine = np.zeros(len(still.floor), bool)
    mine[nodes] = True
    inside = np.zeros(len(points), bool)
    for off in (0.5, _INSIDE):
        node = still.node_at(points + off * c.pixel_mm * normal)
        inside |= (node >= 0) & mine[np.maximum(node, 0)]
    height = extreme - points @ down
    inside &= height <= band
    points, normal, height = points[inside], normal[inside], height[inside]
    return points, normal, np.maximum(height - fine, 0.0) + aside_cost(points, middle, c.frame[2]), extreme


def _height_holding(bottom: Floats, top: Floats, amount: float, role: str) -> float:
    """How far above the lowest end (a vent: below the highest) stretches hold an amount (mm times pixels) in all."""
    a, b = (bottom, top) if role == "drain" else (-top, -bottom)
    base = float(a.min())
    low, high = 0.0, float(b.max()) - base
    for _ in range(40):
        middle = 0.5 * (low + high)
        if np.clip(base + middle - a, 0.0, b - a).sum() <= amount:
            low = middle
        else:
            high = middle
    return low


def _take_back(mesh: Mesh, state: _State, before: int, place: PlaceSettings) -> None:
    """Take back those of the newest holes that left too little wall beside them; another place will be found."""
    if place.wall_mm is None:
        return
    thin = [k for k in range(before, len(state.placed)) if _thin_beside(state, state.placed[k], place.wall_mm)]
    for k in reversed(thin):
        gone, room = state.placed.pop(k), state.room.pop(k)
        state.spoiled.append((room, (gone.bore.mouth, _ASIDE * gone.drain.diameter_mm)))
        if sum(r == room for r, _ in state.spoiled) >= _MOST_SPOILED:
            reasons = {"beside": _MOST_SPOILED}
            least = place.least_mm or place.diameter_mm
            state.given_up[room, gone.role] = GivenUp(-1, 0.0, gone.bore.mouth, least, _MOST_SPOILED, reasons)
    if thin:
        _cut(mesh, state)


def _thin_beside(state: _State, hole: Placed, wall: float) -> bool:
    return wall_after(state.mesh, state.sides, hole.bore, 0.5 * hole.drain.diameter_mm, wall) < wall


def _cut(mesh: Mesh, state: _State) -> None:
    """Cut all holes so far into the model; a hole that cannot be cut with the others is given up."""
    while state.placed:
        try:
            holes = DrainSettings(drains=tuple(p.drain for p in state.placed))
            state.mesh, _, source = cut_and_trace(mesh, holes, [p.bore for p in state.placed], check=False)
            state.sides = source < 0
            return
        except WorkError:
            gone, room = state.placed.pop(), state.room.pop()
            state.given_up[room, gone.role] = GivenUp(-1, 0.0, gone.bore.mouth, gone.drain.diameter_mm, 1, {"cut": 1})
    state.mesh, state.sides = mesh, np.zeros(len(mesh.faces), bool)
