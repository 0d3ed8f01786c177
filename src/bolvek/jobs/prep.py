"""`prep`: from a model to a hollowed, drained, proven one, step by step."""

import dataclasses
from dataclasses import dataclass
from functools import partial
from pathlib import Path
from typing import TypeVar

import numpy as np

from bolvek.analyses.cavities import Cavities, default_ball_mm
from bolvek.analyses.proof import ProofRecord
from bolvek.arrays import Floats
from bolvek.errors import WorkError
from bolvek.formats import check_target, read_model, write_model
from bolvek.formats.registry import Model
from bolvek.jobs.attempts import Again, Hollowed, Workbench
from bolvek.mesh import Mesh
from bolvek.operations.drain import (
    DrainRecord,
    Placed,
)
from bolvek.operations.hollow import HollowRecord, check_hollowable
from bolvek.operations.mend import MendRecord, mend
from bolvek.operations.places import remade_places
from bolvek.operations.scale import ScaleRecord, find_factors, scale, scale_by
from bolvek.operations.solid import MADE, SolidPlan, SolidRecord, Step, just_do, make_solid, plan_solid
from bolvek.settings import remedy
from bolvek.settings.measures import ProofSettings
from bolvek.settings.parts import ScaleSettings
from bolvek.settings.repairs import SolidSettings
from bolvek.settings.shape import PrepSettings
from bolvek.units import as_triple

T = TypeVar("T")

_ROOM_SHARE = 1.06
"""The cavity is as wide as the least drain and a little more, so that the lattice makes no neck below it."""
_SIZED = 3
SIZE_SHARE = 1e-3
"""What is written is off the size asked for by no more than this share."""


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
    size_asked_mm: Floats
    whole: Mesh
    placed: tuple[Placed, ...] = ()


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
    whole, size_asked = mesh, mesh.size
    if settings.solid is not None:
        mesh, made_solid, whole, scaled = _solid_of_size(model, settings, whole, scaled, step)
        step("solid", lambda: made_solid)
    elif settings.mend is not None:
        asked_of_mend = settings.mend
        mesh, mended, _ = step("mend", lambda: mend(whole, asked_of_mend))
        if mended.verdict != "sound":
            ladder = mended
            mesh, mended = step("remake", lambda: remade_places(mesh, ladder, asked_of_mend))
    advice = remedy("", "makes a solid of it first", to_solid=True)
    try:
        solid, _ = step("check", lambda: check_hollowable(mesh, advice))
    except WorkError:
        if mended is None and made_solid is None:
            check_hollowable(model.mesh, advice)  # so that places are told in the coordinates of the file
        raise
    room = settings.hollow.room_mm
    if room is None:
        room = max(settings.hollow.wall_mm, _ROOM_SHARE * settings.least_passage_mm)
    # what thickness and recasting made is held against the printer even where nothing is hollowed
    own = not settings.strict and (made_solid is None or made_solid.way not in MADE)
    asked = _asked(settings, max(default_ball_mm(solid), 1.6 * settings.drains.diameter_mm))
    as_solid = dataclasses.replace(asked, wall_mm=settings.least_wall_mm, own_told=own, features_told=own)
    bench = Workbench(solid, settings, step, asked, as_solid)
    hollow_as = dataclasses.replace(settings.worth, room_mm=room)
    done = bench.attempt(hollow_as)
    model = dataclasses.replace(model, mesh=done.made.mesh)  # lets go of what is not needed any more
    drilled = bench.with_rooms_drained(done)
    tried = drilled.finished(drilled.attempt(hollow_as), hollow_as) if drilled is not None else None
    if drilled is not None and tried is not None and tried.better_than(done):
        bench, done = drilled, tried
    else:
        done = bench.finished(done, hollow_as)
    made, hollowed = done.made, done.hollowed
    model = dataclasses.replace(model, mesh=made.mesh)
    proof = dataclasses.replace(done.proof, findings=(*done.proof.findings, *made.notes))
    if made_solid is not None:
        proof = _as_the_file(proof, made_solid)
    placed = tuple(hollowed.placed) if isinstance(hollowed, Hollowed) and made.drain is not None else ()
    drain = made.drain
    if bench.drilled is not None:
        placed = (*bench.drilled.placed, *placed)
        drain = bench.drilled.record if drain is None else bench.drilled.record.then(drain)
    return PrepResult(
        model, scaled, mended, made_solid, made.hollow, drain, proof, done.rooms, size_asked, solid, placed
    )


def _solid_of_size(
    model: Model, settings: PrepSettings, whole: Mesh, scaled: ScaleRecord | None, step: Step
) -> tuple[Mesh, SolidRecord, Mesh, ScaleRecord | None]:
    """The model made solid, with what it was made of and how that was scaled: where closing, thickness or recasting
    changed the size that was asked for, it is scaled by so much more and made again, thickness and cells as asked."""
    assert settings.solid is not None
    made, record = make_solid(whole, settings.solid, step)
    for _ in range(_SIZED):
        more = _off_size(made, settings.scale)
        if scaled is None or abs(more - 1) <= SIZE_SHARE:
            break
        step("again", partial(Again, places=1, how="resized"))
        factors = as_triple(more * np.array(scaled.factors))
        larger, scaled = step("scale", partial(scale_by, model.mesh, factors))
        whole = larger.as_stored()
        made, record = make_solid(whole, settings.solid, step)
    return made, record, whole, scaled


def _off_size(made: Mesh, asked: ScaleSettings | None) -> float:
    """The factor that would give a mesh the size asked for; 1 where no size was."""
    if asked is None or asked.by is not None or asked.volume_mm3 is not None:
        return 1.0
    return find_factors([made], asked)[0]


def _as_the_file(proof: ProofRecord, made: SolidRecord) -> ProofRecord:
    """The proof with what making a solid changed: what is not as the file shows it is not fit."""
    faults = any(f.severity == "fault" for f in made.findings)
    return dataclasses.replace(
        proof,
        findings=(*made.findings, *proof.findings),
        ok=proof.ok and not faults,
        verdict="unfit" if faults else proof.verdict,
    )


def prep_start(model: Model, settings: PrepSettings, scaled: ScaleRecord | None = None) -> Mesh:
    """The model as it is scaled (as it was, where that is known), before anything is made of it."""
    if scaled is not None:
        return scale_by(model.mesh, scaled.factors)[0].as_stored()
    mesh = model.mesh if settings.scale is None else scale(model.mesh, settings.scale)[0]
    return mesh.as_stored()


def prep_plan(model: Model, settings: PrepSettings, step: Step = just_do) -> SolidPlan:
    """The way that making a solid would take. Raises BolvekError."""
    settings.check()
    return plan_solid(prep_start(model, settings), settings.solid or SolidSettings(), step)[1]


def _asked(settings: PrepSettings, ball_mm: float | None) -> ProofSettings:
    """What the result is held against."""
    return ProofSettings(
        wall_mm=settings.hollow.wall_mm,
        least_drain_mm=settings.least_passage_mm,
        ball_mm=ball_mm,
        least_wall_mm=settings.least_wall_mm,
        own_told=not settings.strict,
        features_told=not settings.strict,
        drain_poses=(settings.drains.up,) if settings.auto else (),
    )
