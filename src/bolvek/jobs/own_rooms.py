"""Rooms that a solid has before anything is hollowed: where its proof finds fault with one, it gets holes first.

Drilled before hollowing, so that a wall stays around these holes as around everything else of the outside.
"""

import dataclasses
from dataclasses import dataclass

import numpy as np

from bolvek.analyses.cavities import Chamber
from bolvek.analyses.proof import ProofRecord
from bolvek.arrays import Ints32
from bolvek.errors import WorkError
from bolvek.mesh import Mesh
from bolvek.operations.drain import DrainRecord, Placed, cut_and_trace, place_by_flood, place_in_chamber
from bolvek.operations.solid import Step
from bolvek.settings.measures import wall_tolerance_mm
from bolvek.settings.shape import AutoSettings, DrainSettings, PlaceSettings, PrepSettings
from bolvek.units import Triple, as_triple

_ABOVE = (0.3, 0.6, 1.2)
"""Diameters above the lowest place of what stays, at the first of which there is air a hole is looked for."""


@dataclass(frozen=True)
class Drilled:
    """A solid with holes in its own rooms: the original, the mesh, what was cut, the holes, and for each face of the
    mesh (F,) the original's face it is of, -1 for the side of a hole."""

    original: Mesh
    mesh: Mesh
    record: DrainRecord
    placed: tuple[Placed, ...]
    source: Ints32


def within(solid: Mesh, place: Triple) -> bool:
    """Whether a place lies in the material of a solid."""
    return bool(solid.signed_distance.at(np.array([place]))[0] < 0)


def places_kept(mesh: Mesh, proof: ProofRecord, drains: PlaceSettings) -> list[Triple]:
    """A place in the air of each room in which more liquid stays than may, low in what stays."""
    up = np.array(drains.up) / np.linalg.norm(drains.up)
    found = []
    for room in proof.liquid.rooms if proof.liquid is not None else ():
        if not room.too_much or room.lowest_mm is None:
            continue
        places = np.array(room.lowest_mm) + np.outer(_ABOVE, drains.diameter_mm * up)
        air = np.flatnonzero(mesh.signed_distance.at(places) > 0)
        found += [as_triple(places[k]) for k in air[:1]]
    return found


def rooms_at_fault(solid: Mesh, proof: ProofRecord) -> bool:
    """Whether a room of the solid's own keeps more liquid than it may, or lets it out by too narrow a way only."""
    kept = [r.where_mm for r in proof.liquid.rooms if r.too_much] if proof.liquid is not None else []
    return bool(_own_chambers(solid, proof)) or any(not within(solid, where) for where in kept)


def _own_chambers(solid: Mesh, proof: ProofRecord) -> list[Chamber]:
    chambers = proof.ways.chambers if proof.ways is not None else ()
    return [c for c in chambers if not c.pocket and not within(solid, c.where_mm)]


def drill_rooms(solid: Mesh, proof: ProofRecord, settings: PrepSettings, step: Step) -> Drilled | None:
    """The solid with a hole into each chamber of its own behind a narrow neck, and with the holes that flooding finds
    for its rooms. Beside them the wall asked for is left, or where no hole does that the printer's least: the walls of
    such rooms are the file's. None where none can be cut."""
    wall = settings.hollow.wall_mm
    for beside in (wall - wall_tolerance_mm(wall), settings.least_wall_mm):
        drilled = _drilled(solid, proof, settings, beside, step)
        if drilled is not None:
            return drilled
    return None


def _drilled(solid: Mesh, proof: ProofRecord, settings: PrepSettings, beside: float, step: Step) -> Drilled | None:
    where = dataclasses.replace(settings.drains, least_mm=settings.least_passage_mm, wall_mm=beside)
    flooded = AutoSettings(place=where, least_drain_mm=settings.least_passage_mm, wall_mm=settings.least_wall_mm)
    placed: list[Placed] = []
    drilled: Drilled | None = None
    for chamber in _own_chambers(solid, proof):
        hole = place_in_chamber(solid, chamber.where_mm, chamber.width_mm, where, placed)
        placed += [] if hole is None else [hole]
    try:
        if placed:
            drilled = _cut(solid, placed, step)
        placed += place_by_flood(drilled.mesh if drilled is not None else solid, flooded)[0]
        if placed and (drilled is None or len(placed) > len(drilled.placed)):
            drilled = _cut(solid, placed, step)
    except WorkError:
        return drilled
    return drilled


def _cut(solid: Mesh, placed: list[Placed], step: Step) -> Drilled:
    holes = DrainSettings(drains=tuple(p.drain for p in placed))
    bores = [p.bore for p in placed]
    mesh, record, source = step("drain", lambda: cut_and_trace(solid, holes, bores, as_stored=True))
    return Drilled(solid, mesh, record, tuple(placed), source)
