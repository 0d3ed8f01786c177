"""`prep`: from a model to a hollowed, drained, proven one, step by step."""

import dataclasses
from collections.abc import Callable
from dataclasses import dataclass
from functools import partial
from pathlib import Path
from typing import TypeVar

import numpy as np

from bolvek.analyses.cavities import Cavities, Chamber, default_ball_mm
from bolvek.analyses.finding import Finding
from bolvek.analyses.proof import INNER, OUTER, ProofRecord, examine, origin_by_source
from bolvek.arrays import Floats, Ints8, Ints32
from bolvek.errors import WorkError
from bolvek.formats import check_target, read_model, write_model
from bolvek.formats.registry import Model
from bolvek.mesh import Mesh
from bolvek.operations.drain import (
    AutoRecord,
    DrainRecord,
    GivenUp,
    Placed,
    cut_and_trace,
    place_by_flood,
    place_drains,
    place_in_chamber,
)
from bolvek.operations.hollow import HollowRecord, NoCavityError, check_hollowable, hollow
from bolvek.operations.mend import MendRecord, mend
from bolvek.operations.scale import ScaleRecord, scale
from bolvek.operations.solid import MADE, SolidPlan, SolidRecord, Step, make_solid, plan_solid
from bolvek.settings.measures import ProofSettings, wall_tolerance_mm
from bolvek.settings.repairs import SolidSettings
from bolvek.settings.shape import AutoSettings, DrainSettings, HollowSettings, PlaceSettings, PrepSettings
from bolvek.units import as_triple, length_text, volume_text

T = TypeVar("T")

_ROOM_SHARE = 1.06
"""The cavity is as wide as the least drain and a little more, so that the lattice makes no neck below it."""
_TRIES = 3
_MOVED, _ASIDE = 2, 0.75  # rounds of holes put elsewhere; so many diameters off
_ADDED = 2  # rounds of further holes


@dataclass(frozen=True)
class PrepResult:
    """What came out: the model with the mesh it has now, and the record of every step. hollow is None for one left
    solid; whole: the solid that was hollowed; placed: its holes."""

    model: Model
    scale: ScaleRecord | None
    mend: MendRecord | None
    solid: SolidRecord | None
    hollow: HollowRecord | None
    drain: DrainRecord | None
    proof: ProofRecord
    rooms: Cavities | None
    whole: Mesh
    placed: tuple[Placed, ...] = ()


@dataclass(frozen=True, kw_only=True)
class Again:
    """Places that made it begin again, and how: chambers behind narrow necks got "a hole" each, or were "closed off" at
    their necks; holes at whose edges the wall came out short were "moved"; pools that stayed got "one more" each."""

    places: int
    how: str


def just_do(name: str, work: Callable[[], T]) -> T:
    """A step of which nobody is told."""
    return work()


@dataclass
class _Made:
    """A hollowed and drained mesh, what was done, the origin of its faces, and what a preparer should know."""

    mesh: Mesh
    hollow: HollowRecord | None
    drain: DrainRecord | None
    source: Ints32
    before: Ints8
    notes: list[Finding]


@dataclass
class _Hollowed:
    """A hollowed mesh with the holes it is to get. before: origins of its faces; auto: how the holes were found; raw:
    as it was hollowed, with every cavity."""

    mesh: Mesh
    record: HollowRecord
    before: Ints8
    placed: list[Placed]
    notes: list[Finding]
    auto: AutoRecord | None = None
    raw: tuple[Mesh, HollowRecord, Ints8] | None = None


def prep_file(
    source: Path,
    output: Path,
    settings: PrepSettings,
    step: Step = just_do,
    *,
    unit: str | None = None,
    replace: bool = False,
) -> PrepResult:
    """`prep` from file to file. Raises BolvekError; nothing is written then. What is unfit is written all the same."""
    settings.check()
    check_target(output, [source], replace=replace)
    result = prep(step("read", lambda: read_model(source, unit=unit)), settings, step)
    step("write", lambda: write_model(output, result.model.mesh, replace=replace))
    return result


def prep(model: Model, settings: PrepSettings, step: Step = just_do) -> PrepResult:
    """Run all steps.

    From scaling on, coordinates are what a binary STL can hold, so the model that is proven is the file that will be
    written, bit for bit. Where no cavity worth having fits, or none can be drained, the model stays solid and is
    proven so. Raises BolvekError. The verdict says whether what came out is fit.
    """
    settings.check()
    mesh, scaled = model.mesh, None
    if settings.scale is not None:
        chosen = settings.scale
        mesh, scaled = step("scale", lambda: scale(model.mesh, chosen))
    mesh = mesh.as_stored()
    mended, made_solid = None, None
    whole = mesh
    if settings.solid is not None:
        asked_solid = settings.solid
        mesh, made_solid = make_solid(whole, asked_solid, step)
        step("solid", lambda: made_solid)
    elif settings.mend is not None:
        asked_of_mend = settings.mend
        mesh, mended, _ = step("mend", lambda: mend(whole, asked_of_mend))
    try:
        solid, _ = step("check", lambda: check_hollowable(mesh))
    except WorkError:
        if mended is None and made_solid is None:
            check_hollowable(model.mesh)  # so that places are told in the coordinates of the file
        raise
    room = settings.hollow.room_mm
    if room is None:
        room = max(settings.hollow.wall_mm, _ROOM_SHARE * settings.least_passage_mm)
    # what thickness and recasting made is held against the printer even where nothing is hollowed
    own = not settings.strict and (made_solid is None or made_solid.way not in MADE)
    asked = _asked(settings, max(default_ball_mm(solid), 1.6 * settings.drains.diameter_mm))

    def examined(made: _Made) -> tuple[ProofRecord, Cavities | None]:
        origin = origin_by_source(made.mesh, made.source, made.before, solid) if made.hollow else None
        # of a model left solid nothing was made that the wall could be asked of
        wanted = asked if made.hollow else dataclasses.replace(asked, wall_mm=settings.least_wall_mm, own_told=own)
        return step("proof", partial(examine, made.mesh, wanted, origin))

    plugs = settings.hollow.plugs_mm
    for turn in range(_TRIES):
        last = turn == _TRIES - 1
        hollowed = _hollowed(solid, dataclasses.replace(settings.hollow, room_mm=room, plugs_mm=plugs), settings, step)
        made = _drained(solid, hollowed, step)
        model = dataclasses.replace(model, mesh=made.mesh)  # lets go of what is not needed any more
        proof, rooms = examined(made)
        chambers = _chambers(proof, solid)
        if isinstance(hollowed, _Hollowed) and made.drain is not None and chambers:
            # each chamber behind a narrow neck gets a hole of its own
            more = [
                place_in_chamber(hollowed.mesh, c.where_mm, c.width_mm, _where(settings), hollowed.placed)
                for c in chambers
            ]
            if all(p is not None for p in more):
                step("again", partial(Again, places=len(more), how="a hole"))
                hollowed.placed += [p for p in more if p is not None]
                made = _drained(solid, hollowed, step)
                proof, rooms = examined(made)
                chambers = _chambers(proof, solid)
        if isinstance(hollowed, _Hollowed) and not chambers:
            made, hollowed, proof, rooms = _holes_moved(solid, hollowed, settings, step, (made, proof, rooms), examined)
            made, hollowed, proof, rooms = _holes_added(solid, hollowed, settings, step, (made, proof, rooms), examined)
        if made.hollow is None or not chambers or last:
            break
        # what no hole reaches is closed off at its neck: a cavity of its own, or a pocket that stays solid
        plugs += tuple(_plug(c, settings.hollow.wall_mm) for c in chambers)
        step("again", partial(Again, places=len(chambers), how="closed off"))
    proof = dataclasses.replace(proof, findings=(*proof.findings, *made.notes))
    if made_solid is not None:
        proof = _as_the_file(proof, made_solid)
    placed = tuple(hollowed.placed) if isinstance(hollowed, _Hollowed) and made.drain is not None else ()
    return PrepResult(model, scaled, mended, made_solid, made.hollow, made.drain, proof, rooms, solid, placed)


def _as_the_file(proof: ProofRecord, made: SolidRecord) -> ProofRecord:
    """The proof with what making a solid changed: what is not as the file shows it is not fit."""
    faults = any(f.severity == "fault" for f in made.findings)
    return dataclasses.replace(
        proof,
        findings=(*made.findings, *proof.findings),
        ok=proof.ok and not faults,
        verdict="unfit" if faults else proof.verdict,
    )


def prep_start(model: Model, settings: PrepSettings) -> Mesh:
    """The model as it is scaled, before anything is made of it."""
    mesh = model.mesh if settings.scale is None else scale(model.mesh, settings.scale)[0]
    return mesh.as_stored()


def prep_plan(model: Model, settings: PrepSettings, step: Step = just_do) -> SolidPlan:
    """The way that making a solid would take. Raises BolvekError."""
    settings.check()
    return plan_solid(prep_start(model, settings), step, settings.solid or SolidSettings())[1]


def _chambers(proof: ProofRecord, solid: Mesh) -> list[Chamber]:
    """Chambers that hollowing made: those of the model's own skin no hollowing can mend."""
    found = [c for c in proof.ways.chambers if not c.pocket] if proof.ways is not None else []
    return [c for c in found if solid.signed_distance.at(np.array([c.where_mm]))[0] < 0]


def _plug(chamber: Chamber, wall: float) -> tuple[float, float, float, float]:
    """A ball, as wide as the wall at least, that closes a chamber's neck (its middle, where no neck was found)."""
    place = chamber.neck_where_mm or chamber.where_mm
    return *place, max(0.55 * wall, 0.75 * chamber.neck_most_mm)


def _asked(settings: PrepSettings, ball_mm: float | None) -> ProofSettings:
    """What the result is held against."""
    return ProofSettings(
        wall_mm=settings.hollow.wall_mm,
        least_drain_mm=settings.least_passage_mm,
        ball_mm=ball_mm,
        least_wall_mm=settings.least_wall_mm,
        own_told=not settings.strict,
        drain_poses=(settings.drains.up,) if settings.auto else (),
    )


def _flooding(settings: PrepSettings) -> AutoSettings:
    """How holes are found by flooding: the wall is left beside them, smaller ones are tried where no other fits."""
    return AutoSettings(
        place=_where(settings),
        least_drain_mm=settings.least_passage_mm,
        wall_mm=settings.hollow.wall_mm,
        closed_only=True,
    )


def _where(settings: PrepSettings) -> PlaceSettings:
    """Where holes may be: the wall is left beside them, and they may be smaller where no other fits."""
    wall = settings.hollow.wall_mm
    return dataclasses.replace(
        settings.drains, least_mm=settings.least_passage_mm, wall_mm=wall - wall_tolerance_mm(wall)
    )


_Judged = tuple[_Made, ProofRecord, Cavities | None]


def _holes_moved(
    solid: Mesh,
    hollowed: "_Hollowed",
    settings: PrepSettings,
    step: Step,
    judged: _Judged,
    examined: Callable[[_Made], tuple[ProofRecord, Cavities | None]],
) -> "tuple[_Made, _Hollowed, ProofRecord, Cavities | None]":
    """The model with other places for holes at whose edges the wall came out short; as it was, where none are better.

    What is looked at before a cut is not the proof: the proof decides."""
    made, proof, rooms = judged
    off = settings.drains.keep_off
    for _ in range(_MOVED):
        wall, aside = proof.wall, _ASIDE * settings.drains.diameter_mm
        if wall is None or wall.holds or hollowed.raw is None:
            break
        mouths = [p.bore.mouth for p in hollowed.placed]
        near = [m for m in mouths if np.linalg.norm(np.subtract(m, wall.where_mm)) < aside + settings.hollow.wall_mm]
        if not near:
            break
        off = (*off, *((mouth, aside) for mouth in near))
        elsewhere = dataclasses.replace(settings, drains=dataclasses.replace(settings.drains, keep_off=off))
        again = _with_places(*hollowed.raw, elsewhere, step)
        if not isinstance(again, _Hollowed):
            break
        step("again", partial(Again, places=len(near), how="moved"))
        cut = _drained(solid, again, step)
        found, air = examined(cut)
        better = found.ok or (found.wall is not None and found.wall.min_mm > wall.min_mm)
        if not better or _chambers(found, solid):
            break
        made, hollowed, proof, rooms = cut, again, found, air
    return made, hollowed, proof, rooms


def _holes_added(
    solid: Mesh,
    hollowed: "_Hollowed",
    settings: PrepSettings,
    step: Step,
    judged: _Judged,
    examined: Callable[[_Made], tuple[ProofRecord, Cavities | None]],
) -> "tuple[_Made, _Hollowed, ProofRecord, Cavities | None]":
    """The model with a further hole for each room in which more stays than may, low in it; as it was, where that does
    not cure it. Columns of the flood are coarser than those of the proof."""
    made, proof, rooms = judged
    if not settings.auto or made.drain is None:
        return made, hollowed, proof, rooms
    up = np.array(settings.drains.up) / np.linalg.norm(settings.drains.up)
    for _ in range(_ADDED):
        wet = [r for r in proof.liquid.rooms if r.too_much and r.lowest_mm] if proof.liquid is not None else []
        more = [
            found for r in wet if (found := _hole_low_in(hollowed, np.array(r.lowest_mm), up, settings)) is not None
        ]
        if not more:
            break
        step("again", partial(Again, places=len(more), how="one more"))
        again = dataclasses.replace(hollowed, placed=hollowed.placed + more)
        cut = _drained(solid, again, step)
        found_proof, air = examined(cut)
        faults = [sum(f.severity == "fault" for f in p.findings) for p in (proof, found_proof)]
        if faults[1] > faults[0] or _stays(found_proof) >= _stays(proof):
            break
        made, hollowed, proof, rooms = cut, again, found_proof, air
    return made, hollowed, proof, rooms


def _stays(proof: ProofRecord) -> float:
    return proof.liquid.stays_mm3 if proof.liquid is not None else 0.0


def _hole_low_in(hollowed: "_Hollowed", lowest: Floats, up: Floats, settings: PrepSettings) -> Placed | None:
    """A hole for what stays above a place of a cavity."""
    diameter = settings.drains.diameter_mm
    for above in (0.3, 0.6, 1.2):
        place = lowest + above * diameter * up
        if hollowed.mesh.signed_distance.at(place[None])[0] > 0:
            found = place_in_chamber(hollowed.mesh, as_triple(place), 3 * diameter, _where(settings), hollowed.placed)
            if found is not None:
                return found
    return None


def _hollowed(solid: Mesh, asked: HollowSettings, settings: PrepSettings, step: Step) -> "_Hollowed | list[Finding]":
    """Hollow and find places for holes; what cannot be drained stays solid. Only notes when all stays so."""
    try:
        mesh, record = step("hollow", lambda: hollow(solid, asked))
    except NoCavityError as error:
        return [Finding("left_solid", "note", 1, f"left solid: {error}")]
    inner = np.full(len(mesh.faces) - len(solid.faces), INNER, np.int8)
    before = np.concatenate([np.full(len(solid.faces), OUTER, np.int8), inner])
    return _with_places(mesh, record, before, settings, step)


def _with_places(
    mesh: Mesh, record: HollowRecord, before: Ints8, settings: PrepSettings, step: Step
) -> "_Hollowed | list[Finding]":
    """Places for holes of a hollowed mesh; cavities that none reaches are left out. Only notes when all are."""
    raw = mesh, record, before
    if not settings.drains.count and not settings.auto:
        return _Hollowed(mesh, record, before, [], [])
    auto: AutoRecord | None = None
    if settings.auto:
        placed, given_up, auto = step("flood", lambda: place_by_flood(mesh, _flooding(settings)))
    else:
        placed, given_up = step("place", lambda: place_drains(mesh, _where(settings)))
    notes = [_given_up(g) for g in given_up]
    if not placed:
        return notes
    if given_up:
        keep = ~np.isin(mesh.topology.shell, [g.shell for g in given_up])
        mesh, before = mesh.picked(keep), before[keep]
        record = dataclasses.replace(
            record,
            cavities=record.cavities - len(given_up),
            cavity_volume_mm3=record.cavity_volume_mm3 - sum(g.volume_mm3 for g in given_up),
            undrained=len(given_up),
            undrained_mm3=sum(g.volume_mm3 for g in given_up),
        )
    return _Hollowed(mesh, record, before, placed, notes, auto, raw)


def _drained(solid: Mesh, hollowed: "_Hollowed | list[Finding]", step: Step) -> _Made:
    """Cut the holes; the solid itself where nothing was hollowed."""
    if isinstance(hollowed, list):
        n = len(solid.faces)
        return _Made(solid, None, None, np.arange(n, dtype=np.int32), np.full(n, OUTER, np.int8), hollowed)
    h = hollowed
    if not h.placed:
        return _Made(h.mesh, h.record, None, np.arange(len(h.mesh.faces), dtype=np.int32), h.before, h.notes)
    holes = DrainSettings(drains=tuple(p.drain for p in h.placed))
    mesh, record, source = step(
        "drain", lambda: cut_and_trace(h.mesh, holes, [p.bore for p in h.placed], as_stored=True)
    )
    return _Made(mesh, h.record, dataclasses.replace(record, auto=h.auto), source, h.before, h.notes)


def _given_up(g: GivenUp) -> Finding:
    text = (
        f"a cavity of {volume_text(g.volume_mm3)} stays solid: no hole down to {length_text(g.diameter_mm)} reaches it "
        f"({g.tried:,} places tried: {g.text})"
    )
    return Finding("left_solid", "note", 1, text, g.where_mm)
