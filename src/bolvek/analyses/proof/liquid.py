"""Nothing liquid left: what stays in each room when the model is held so that it drains.

By flooding columns (`analyses.columns`). Only rooms are judged, what stays in open bowls and basins is told: it is
poured out or wiped off. Ways narrower than a pixel are not seen, which is on the safe side; walls thinner than a pixel
could be missed, so without columns finer than the thinnest wall nothing is judged.
"""

from dataclasses import dataclass, replace

import numpy as np

from bolvek.analyses.cavities import Cavities
from bolvek.analyses.columns import Pool, Still, hole_beneath, let_stand, make_columns, pixel_for
from bolvek.analyses.columns.still import ends_of, pool_of
from bolvek.analyses.finding import Finding
from bolvek.analyses.proof.record import Clause, Liquid, Residue
from bolvek.arrays import Floats, Ints32
from bolvek.mesh import Mesh
from bolvek.settings import remedy
from bolvek.units import Triple, as_triple, length_text, point_text, volume_text

RESIDUE_SHARE, RESIDUE_MM3 = 0.005, 50.0
"""What may stay: this share of its room, or this volume where that is more."""
_DRAIN_PIXELS = 6
"""Pixels across the least drain."""
_WALL_PIXELS = 1.5
_SIZE_PIXELS = 400
_MOST_PIXELS = 1_500_000
_COARSE_PIXELS = 60_000
_MOST_TILTS, _MOST_FLOORS, _BINS = 3, 8, 12
AS_IT_STANDS: Triple = (0.0, 0.0, 1.0)
_DIRECTIONS: tuple[Triple, ...] = (
    *((0.0, 0.0, -1.0), (1.0, 0.0, 0.0), (-1.0, 0.0, 0.0), (0.0, 1.0, 0.0), (0.0, -1.0, 0.0)),
    *((x, y, z) for z in (1.0, -1.0) for y in (1.0, -1.0) for x in (1.0, -1.0)),
)
"""Ways to hold it that are tried in any case, besides what its rooms suggest."""


def liquid_pixel(mesh: Mesh, up: Triple, least_drain_mm: float, wall_mm: float) -> float:
    """The pixel (mm) that shows the least drain and the wall, or the finest that is affordable."""
    finest = pixel_for(mesh, up, _MOST_PIXELS)
    usual = pixel_for(mesh, up, _SIZE_PIXELS**2)
    return max(finest, min(usual, least_drain_mm / _DRAIN_PIXELS, wall_mm / _WALL_PIXELS))


@dataclass(frozen=True)
class StandingLiquid:
    """What stays in one pose: the flooded columns and the room (N,) of each stretch that holds something, else -1."""

    still: Still
    room: Ints32

    def in_rooms(self, rooms: int) -> Floats:
        """What stays in each room (R,), mm3."""
        mine = np.flatnonzero(self.room >= 0)
        held = np.bincount(self.room[mine], self.still.held_mm[mine], rooms)
        return np.asarray(held * self.still.columns.pixel_mm2, np.float64)


def stand(mesh: Mesh, cavities: Cavities, up: Triple, pixel_mm: float) -> StandingLiquid:
    """What stays in the rooms of a model with a direction up."""
    still = let_stand(make_columns(mesh, up, pixel_mm))
    return StandingLiquid(still, rooms_of(still, cavities))


def rooms_of(still: Still, cavities: Cavities) -> Ints32:
    """The room (N,) that each stretch of air that holds something lies in: a row of `cavities.found`, else -1."""
    room = np.full(len(still.floor), -1, np.int32)
    nodes = np.flatnonzero(still.held_mm > 0)
    if not len(nodes) or not len(cavities.found):
        return room
    bottom, top = ends_of(still, nodes)
    label = cavities.label_at(still.columns.middle(still.column[nodes].astype(np.int64), 0.5 * (bottom + top)))
    room[nodes] = np.where(label >= 0, label, -1)
    # what lies beside a wall belongs where most of its pool does
    unsure = label < -1
    if unsure.any():
        room[nodes[unsure]] = _most_of_pool(still.pool[nodes], label, len(cavities.found))[still.pool[nodes[unsure]]]
    return room


def _most_of_pool(pool: Ints32, label: Ints32, rooms: int) -> Ints32:
    """The room, or -1, in which most of each pool lies that is not beside a wall."""
    sure = label >= -1
    key = pool[sure].astype(np.int64) * (rooms + 1) + label[sure] + 1
    kinds, count = np.unique(key, return_counts=True)
    best = np.full(int(pool.max()) + 1, -1, np.int32)
    order = np.argsort(count, kind="stable")  # the last that is written is the most
    best[kinds[order] // (rooms + 1)] = kinds[order] % (rooms + 1) - 1
    return best


def allowed_mm3(volume_mm3: float) -> float:
    """What may stay in a room."""
    return max(RESIDUE_SHARE * volume_mm3, RESIDUE_MM3)


def measure_liquid(
    mesh: Mesh, cavities: Cavities, poses: tuple[Triple, ...], least_drain_mm: float, wall_mm: float
) -> Liquid:
    """What stays in each room after all poses, one after the other; wall_mm: the thinnest there is.

    Without poses it is judged as it stands, and where too much stays then, held in those of many ways that leave least.
    """
    rooms = [k for k, c in enumerate(cavities.found) if not c.closed]
    volume = np.array([c.volume_mm3 for c in cavities.found])
    allowed = np.array([allowed_mm3(v) for v in volume])
    judged = [k for k in rooms if not cavities.found[k].pocket]
    pixel = liquid_pixel(mesh, poses[0] if poses else AS_IT_STANDS, least_drain_mm, wall_mm)
    first = stand(mesh, cavities, poses[0] if poses else AS_IT_STANDS, pixel)
    left = np.minimum(volume, first.in_rooms(len(volume)))
    as_it_stands = float(left[rooms].sum())
    held = [poses[0] if poses else AS_IT_STANDS]
    for up in poses[1:]:
        left = np.minimum(left, stand(mesh, cavities, up, pixel).in_rooms(len(volume)))
        held.append(up)
    tried = 0
    while not poses and len(held) <= _MOST_TILTS:
        worst = [k for k in judged if left[k] > allowed[k]]
        if not worst:
            break
        ways = _ways_to_hold(mesh, cavities, worst)
        tried += len(ways)
        best = _best_way(mesh, cavities, worst, ways, pixel, left, allowed)
        found = stand(mesh, cavities, best, pixel).in_rooms(len(volume))
        better = np.minimum(left, found)
        # a pose counts when it empties a room: one that leaves less and still too much is no cure
        if not any(better[k] <= allowed[k] for k in worst):
            break
        left = better
        held.append(best)
    return Liquid(
        poses=tuple(held),
        pixel_mm=pixel,
        judged=pixel < wall_mm or not judged,
        as_it_stands_mm3=as_it_stands,
        stays_mm3=float(left[rooms].sum()),
        open_mm3=float(first.still.held_mm[first.room < 0].sum() * first.still.columns.pixel_mm2),
        tried=tried,
        rooms=tuple(_residue(cavities, k, float(left[k]), first) for k in rooms),
    )


def _residue(cavities: Cavities, room: int, left: float, standing: StandingLiquid) -> Residue:
    """What stays in a room; with the hole that would cure it where that is too much."""
    c = cavities.found[room]
    residue = Residue(c.where_mm, c.volume_mm3, left, allowed_mm3(c.volume_mm3), c.pocket)
    pool = _deepest_pool(standing, room) if residue.too_much else None
    if pool is None:
        return residue
    place, _ = hole_beneath(standing.still, pool)
    return replace(residue, lowest_mm=pool.lowest_mm, hole_mm=place)


def _deepest_pool(standing: StandingLiquid, room: int) -> Pool | None:
    """The largest pool of a room."""
    nodes = np.flatnonzero(standing.room == room)
    if not len(nodes):
        return None
    volume = np.bincount(standing.still.pool[nodes], standing.still.held_mm[nodes])
    number = int(np.argmax(volume))
    return pool_of(standing.still, nodes[standing.still.pool[nodes] == number])


def _ways_to_hold(mesh: Mesh, cavities: Cavities, rooms: list[int]) -> list[Triple]:
    """Directions to hold up: level floors of the rooms down, openings down, along and across the axes."""
    ways = [np.array(w, np.float64) for w in _DIRECTIONS]
    for room in rooms:
        faces = np.flatnonzero(cavities.face == room)
        if len(faces):
            key = np.rint(_BINS * mesh.normals_of(faces)).astype(np.int64)
            bins, at = np.unique(key, axis=0, return_inverse=True)
            area = np.bincount(at.ravel(), mesh.face_areas[faces], len(bins))
            for b in np.argsort(-area, kind="stable")[:_MOST_FLOORS]:
                ways.append(mesh.area_vectors[faces[at.ravel() == b]].sum(axis=0))
        c = cavities.found[room]
        ways += [np.subtract(c.where_mm, o.where_mm) for o in c.openings]
    found: list[Triple] = []
    for way in ways:
        length = float(np.linalg.norm(way))
        if length > 0 and not any(way @ np.array(f) > 0.99999 * length for f in found):
            found.append(as_triple(way / length))
    return found


def _best_way(
    mesh: Mesh,
    cavities: Cavities,
    rooms: list[int],
    ways: list[Triple],
    pixel: float,
    left: Floats,
    allowed: Floats,
) -> Triple:
    """The way that empties most of some rooms, and leaves least in them, on coarse columns."""

    def stays(up: Triple) -> tuple[int, float]:
        coarse = max(pixel, pixel_for(mesh, up, _COARSE_PIXELS))
        after = np.minimum(left, stand(mesh, cavities, up, coarse).in_rooms(len(left)))[rooms]
        return int((after > allowed[rooms]).sum()), float(after.sum())

    return min(ways, key=stays)


def judge_liquid(liquid: Liquid, *, needed: bool) -> list[Finding]:
    """A fault a room that keeps too much, notes for how to hold it and for what stays in the open.

    needed: the verdict would be "fit" without it, so that what cannot be judged is a fault.
    """
    found = []
    for r in liquid.rooms:
        if not r.too_much:
            continue
        text = f"{volume_text(r.stays_mm3)} of liquid stay in a room of {volume_text(r.volume_mm3)}"
        text += f" around {point_text(r.where_mm)}, {volume_text(r.allowed_mm3)} may"
        if liquid.tried:
            text += f" (held in {liquid.tried} ways, none drains it)"
        if r.hole_mm is not None:
            text += f"; a hole at {point_text(r.hole_mm)} would let it out"
        elif r.lowest_mm is not None:
            text += f"; it needs a hole at its lowest point, {point_text(r.lowest_mm)}"
        ways = (remedy("drain", "lets it out", at=r.hole_mm),) if r.hole_mm is not None else ()
        found.append(Finding("liquid_stays", "fault", 1, text, r.lowest_mm or r.where_mm, remedies=ways))
    if liquid.tried and len(liquid.poses) > 1:
        text = f"as it stands {volume_text(liquid.as_it_stands_mm3)} of liquid stay in its rooms: to drain it hold it "
        text += f"with {_held(liquid.poses[1:])} up, {volume_text(liquid.stays_mm3)} stay then"
        found.append(Finding("liquid_tilt", "note", 1, text))
    if not liquid.judged:
        text = f"whether it drains is not judged: walls are thinner than the columns of {length_text(liquid.pixel_mm)}"
        found.append(Finding("liquid_unjudged", "fault" if needed else "note", 1, text))
    if liquid.open_mm3 > RESIDUE_MM3:
        text = f"{volume_text(liquid.open_mm3)} of liquid stay in the open (bowls, basins, grooves): pour it out"
        found.append(Finding("liquid_open", "note", 1, text))
    return found


def _held(poses: tuple[Triple, ...]) -> str:
    return "; then ".join(",".join(f"{x:.4g}" for x in pose) for pose in poses)


def liquid_clause(liquid: Liquid, findings: list[Finding], *, necks: bool = False) -> Clause:
    """The clause of what stays. necks: the ways out of some room are too narrow, though columns see through."""
    faults = [f.text for f in findings if f.severity == "fault"]
    if faults:
        return Clause("liquid", "fails", "; ".join(faults))
    if not liquid.judged:
        return Clause("liquid", "not judged", f"walls are thinner than the columns of {length_text(liquid.pixel_mm)}")
    if not liquid.rooms:
        return Clause("liquid", "holds", "no room that could hold any")
    share = 100 * liquid.stays_mm3 / max(sum(r.volume_mm3 for r in liquid.rooms), 1e-300)
    stays = f"{volume_text(liquid.stays_mm3)} stay in the rooms ({share:.2g}%) with {_held(liquid.poses)} up"
    if necks:
        stays += ", besides what narrow necks hold back"
    return Clause("liquid", "holds", f"{stays}; columns {length_text(liquid.pixel_mm)} apart")
