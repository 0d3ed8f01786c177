"""`prep`: from a file to a hollowed, drained, proven model, step by step."""

import dataclasses
import time
from collections.abc import Callable
from dataclasses import dataclass, field
from functools import partial
from pathlib import Path
from typing import Any, TypeVar

import numpy as np
from numpy.typing import NDArray

from bolvek.analyses.cavities import Cavities, default_ball_mm
from bolvek.analyses.finding import Finding
from bolvek.analyses.proof import INNER, OUTER, ProofRecord, ProofSettings, examine, origin_by_source
from bolvek.analyses.thickness import wall_tolerance_mm
from bolvek.errors import WorkError
from bolvek.formats import check_target, read_model, write_model
from bolvek.formats.registry import Model
from bolvek.mesh import Mesh
from bolvek.operations.drain import DrainRecord, DrainSettings, GivenUp, PlaceSettings, cut_and_trace, place_drains
from bolvek.operations.hollow import HollowRecord, HollowSettings, NoCavityError, check_hollowable, hollow
from bolvek.operations.scale import ScaleRecord, ScaleSettings, scale
from bolvek.report import words
from bolvek.units import length_text, volume_text

T = TypeVar("T")

_ROOM_SHARE = 1.06
"""The cavity is as wide as the least drain and a little more, so that the lattice makes no neck below it."""
_ROOMIER = 1.5
_TRIES = 3


@dataclass(frozen=True, kw_only=True)
class PrepSettings:
    """Scale (None: as it is), hollow, drains and the file to write; least drain and least wall (mm) of the printer."""

    hollow: HollowSettings
    drains: PlaceSettings
    scale: ScaleSettings | None = None
    unit: str | None = None
    replace: bool = False
    least_drain_mm: float = 1.5
    least_wall_mm: float = 0.8

    def check(self) -> None:
        """Raise UsageError when any of the settings makes no sense."""
        if self.scale is not None:
            self.scale.check()
        self.hollow.check()
        self.drains.check()
        self.proof(None).check()

    @property
    def least_passage_mm(self) -> float:
        """What every way out must let through: the least drain, or the holes asked for when they are narrower."""
        return min(self.least_drain_mm, self.drains.diameter_mm)

    def proof(self, ball_mm: float | None) -> ProofSettings:
        """What the result is held against."""
        return ProofSettings(
            wall_mm=self.hollow.wall_mm,
            least_drain_mm=self.least_passage_mm,
            ball_mm=ball_mm,
            least_wall_mm=self.least_wall_mm,
        )


@dataclass
class PrepResult:
    """What came out: the mesh, and the record of every step with its seconds. hollow is None for a model left solid."""

    model: Model
    after: Mesh
    scale: ScaleRecord | None
    hollow: HollowRecord | None
    drain: DrainRecord | None
    proof: ProofRecord
    rooms: Cavities | None
    output: Path
    seconds: dict[str, float] = field(default_factory=dict)


@dataclass
class _Made:
    """A hollowed and drained mesh, what was done, the origin of its faces, and what a preparer should know."""

    mesh: Mesh
    hollow: HollowRecord | None
    drain: DrainRecord | None
    source: NDArray[np.int32]
    before: NDArray[np.int8]
    notes: list[Finding]


def prep(
    source: Path,
    output: Path,
    settings: PrepSettings,
    tell: Callable[[str, str, float], None] = lambda *_: None,
    begin_step: Callable[[str], None] = lambda _: None,
) -> PrepResult:
    """Run all steps; `begin_step(step)` is called before and `tell(step, text, seconds)` after each.

    From scaling on, coordinates are what a binary STL can hold, so the model that is proven is the
    file that is written, bit for bit. Where no cavity worth having fits, or none can be drained, the model stays
    solid and is proven so. Raises BolvekError; nothing is written then. A model that turns out unfit is still
    written: the verdict says so.
    """
    settings.check()
    check_target(output, [source], replace=settings.replace)
    seconds: dict[str, float] = {}

    def step(name: str, work: Callable[[], T], text: Callable[[T], str]) -> T:
        begin_step(name)
        begin = time.perf_counter()
        result = work()
        took = time.perf_counter() - begin
        seconds[name] = seconds.get(name, 0.0) + took
        tell(name, text(result), took)
        return result

    model = step("read", lambda: read_model(source, unit=settings.unit), words.model_text)
    mesh, scaled = model.mesh, None
    if settings.scale is not None:
        chosen = settings.scale
        mesh, scaled = step("scale", lambda: scale(model.mesh, chosen), lambda r: words.scale_text(r[1]))
    mesh = mesh.as_stored()
    try:
        solid, _ = step("check", lambda: check_hollowable(mesh), words.check_text)
    except WorkError:
        check_hollowable(model.mesh)  # so that places are told in the coordinates of the file
        raise
    room = settings.hollow.room_mm
    if room is None:
        room = max(settings.hollow.wall_mm, _ROOM_SHARE * settings.least_passage_mm)
    ball = max(default_ball_mm(solid), 1.6 * settings.drains.diameter_mm)
    for turn in range(_TRIES):
        made = _make(solid, dataclasses.replace(settings.hollow, room_mm=room), settings, step)
        model = dataclasses.replace(model, mesh=made.mesh)  # lets go of what is not needed any more
        origin = origin_by_source(made.mesh, made.source, made.before, solid) if made.hollow else None
        asked = settings.proof(ball)
        if made.hollow is None:
            # nothing was made that the wall could be asked of
            asked = dataclasses.replace(asked, wall_mm=settings.least_wall_mm)
        examined = partial(examine, made.mesh, asked, origin)
        proof, rooms = step("proof", examined, lambda r: words.proof_line(r[0]))
        narrow = proof.ways is not None and proof.ways.chambers
        if made.hollow is None or not narrow or turn == _TRIES - 1 or settings.hollow.room_mm is not None:
            break
        room *= _ROOMIER
        tell("again", f"{len(narrow)} chambers behind narrow necks: a cavity {length_text(room)} wide at least", 0.0)
    proof = dataclasses.replace(proof, findings=(*proof.findings, *made.notes))
    mesh = made.mesh
    step("write", lambda: write_model(output, mesh, replace=settings.replace), lambda n: words.written_text(output, n))
    return PrepResult(model, mesh, scaled, made.hollow, made.drain, proof, rooms, output, seconds)


def _make(solid: Mesh, asked: HollowSettings, settings: PrepSettings, step: Callable[..., Any]) -> _Made:
    """Hollow and drain; what cannot be drained stays solid."""
    outer = np.full(len(solid.faces), OUTER, np.int8)
    alone = np.arange(len(solid.faces), dtype=np.int32)
    try:
        mesh, record = step("hollow", lambda: hollow(solid, asked), lambda r: words.hollow_text(r[1]))
    except NoCavityError as error:
        text = f"left solid: {error}"
        return _Made(solid, None, None, alone, outer, [Finding("left_solid", "note", 1, text)])
    inner = np.full(len(mesh.faces) - len(solid.faces), INNER, np.int8)
    before = np.concatenate([outer, inner])
    source = np.arange(len(mesh.faces), dtype=np.int32)
    if not settings.drains.count:
        return _Made(mesh, record, None, source, before, [])
    wall = settings.hollow.wall_mm
    where = dataclasses.replace(
        settings.drains, least_mm=settings.least_passage_mm, wall_mm=wall - wall_tolerance_mm(wall)
    )
    placed, given_up = step("place", lambda: place_drains(mesh, where), lambda r: words.placed_text(*r))
    notes = [_given_up(g) for g in given_up]
    if given_up:
        keep = ~np.isin(mesh.topology.shell, [g.shell for g in given_up])
        mesh, before, source = mesh.picked(keep), before[keep], source[keep]
        record = dataclasses.replace(
            record,
            cavities=record.cavities - len(given_up),
            cavity_volume_mm3=record.cavity_volume_mm3 - sum(g.volume_mm3 for g in given_up),
            undrained=len(given_up),
            undrained_mm3=sum(g.volume_mm3 for g in given_up),
        )
    if not placed:
        return _Made(solid, None, None, alone, outer, notes)
    holes = DrainSettings(tuple(p.drain for p in placed))
    bores = [p.bore for p in placed]
    cut = step(
        "drain",
        lambda: cut_and_trace(mesh, holes, bores, as_stored=True),
        lambda r: words.drain_text(r[1]),
    )
    return _Made(cut[0], record, cut[1], cut[2], before, notes)


def _given_up(g: GivenUp) -> Finding:
    text = (
        f"a cavity of {volume_text(g.volume_mm3)} stays solid: no hole down to {length_text(g.diameter_mm)} reaches it "
        f"({g.tried:,} places tried: {g.text})"
    )
    return Finding("left_solid", "note", 1, text, g.where_mm)
