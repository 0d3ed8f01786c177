"""The proof itself: clause after clause, findings, the verdict."""

import time
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import TypeVar

import numpy as np

from bolvek.analyses.cavities import Cavities, Chamber, NeckWays, convex_shells, find_cavities, find_ways
from bolvek.analyses.finding import Finding
from bolvek.analyses.proof.features import features_text, judge_thin
from bolvek.analyses.proof.liquid import judge_liquid, liquid_clause, measure_liquid
from bolvek.analyses.proof.material import find_voids, judge_material, judge_voids
from bolvek.analyses.proof.origin import OUTER, Origin
from bolvek.analyses.proof.passages import judge_ways, with_pockets
from bolvek.analyses.proof.record import Clause, Features, Liquid, ProofRecord, Void, Wall
from bolvek.analyses.proof.wall import measure_wall
from bolvek.analyses.shells import Shells, nest_exactly
from bolvek.analyses.soundness import Defect, find_defects
from bolvek.mesh import Mesh
from bolvek.settings.measures import ProofSettings
from bolvek.settings.ways_on import SOLID, thick_as
from bolvek.spatial.parallel import side_by_side
from bolvek.units import length_text, point_text

T = TypeVar("T")

_UNSOUND = "not judged: the surface is not sound"


def prove(mesh: Mesh, settings: ProofSettings, origin: Origin | None = None) -> ProofRecord:
    """`examine` without the rooms."""
    return examine(mesh, settings, origin)[0]


def examine(mesh: Mesh, settings: ProofSettings, origin: Origin | None = None) -> tuple[ProofRecord, Cavities | None]:
    """Prove a mesh fit to print, or say what is not. Raises UsageError for impossible settings, WorkError when a
    lattice or samples would not fit into memory.

    Only a sound mesh has an inside to speak of: without that the clauses after the first are not judged, and the
    verdict is "unfit". origin: where its faces come from, when that is known. Also gives the rooms that were
    found, for pictures (None when they were not looked for).
    """
    settings.check()
    log = _Log()
    defects = log.timed("sound", lambda: find_defects(mesh))
    stored = log.timed("sound", lambda: find_defects(mesh.as_stored()))
    log.take(*_soundness(mesh, defects, stored))
    measured = _Measured()
    if defects or not len(mesh.faces):
        log.not_judged(_UNSOUND, "material", "voids", "ways", "liquid", "wall")
        return _record(mesh, settings, origin, log, measured, (defects, stored), mesh.topology.shells), None
    nested = log.timed("material", lambda: nest_exactly(mesh))
    log.take(*_material(judge_material(mesh, nested)))
    wrong = log.clauses[-1].state == "fails"
    measured.voids = find_voids(mesh, nested, settings.allow_closed_mm3)
    log.take(*_voids(judge_voids(measured.voids)))
    if wrong:
        log.not_judged("not judged: inside and outside contradict each other", "ways", "liquid", "wall")
    else:
        _measure(mesh, settings, origin, nested, log, measured)
    bodies = int((nested.volume > 0).sum())
    return _record(mesh, settings, origin, log, measured, (defects, stored), bodies), measured.cavities


class _Log:
    """Clauses and findings as they are judged, and the seconds of what they took."""

    def __init__(self) -> None:
        self.clauses: list[Clause] = []
        self.findings: list[Finding] = []
        self.seconds: dict[str, float] = {}

    @property
    def fallen(self) -> bool:
        """Whether anything is a fault so far."""
        return any(f.severity == "fault" for f in self.findings)

    def timed(self, name: str, work: Callable[[], T]) -> T:
        begin = time.perf_counter()
        result = work()
        self.seconds[name] = self.seconds.get(name, 0.0) + time.perf_counter() - begin
        return result

    def take(self, clause: Clause, findings: Sequence[Finding]) -> None:
        self.clauses.append(clause)
        self.findings += findings

    def not_judged(self, reason: str, *names: str) -> None:
        self.clauses += [Clause(name, "not judged", reason) for name in names]


@dataclass
class _Measured:
    """What the clauses are judged by, as far as it was measured."""

    voids: tuple[Void, ...] = ()
    cavities: Cavities | None = None
    ways: NeckWays | None = None
    liquid: Liquid | None = None
    wall: Wall | None = None
    features: Features | None = None


def _measure(
    mesh: Mesh, settings: ProofSettings, origin: Origin | None, nested: Shells, log: _Log, found: _Measured
) -> None:
    """Rooms, ways out, liquid and walls of a model that has one inside: measured and judged."""
    least = settings.least_drain_mm

    def rooms_and_wall() -> tuple[Cavities, tuple[Wall | None, Features | None]]:
        ball, asked, thinnest = settings.ball_mm, settings.wall_mm, settings.features_mm
        rooms = log.timed("rooms", lambda: find_cavities(mesh, ball_mm=ball, wall_mm=asked, nested=nested))
        closely = not settings.features_told
        walls = log.timed("wall", lambda: measure_wall(mesh, rooms, asked, origin, thinnest, closely=closely))
        return rooms, walls

    ways, (rooms, (wall, features)) = side_by_side(
        lambda: log.timed("ways", lambda: find_ways(_opened(mesh, nested, least), least)), rooms_and_wall
    )
    ways = with_pockets(ways, rooms, mesh.volume, _own_chambers(mesh, settings, origin))
    judged = judge_ways(ways, rooms)
    log.take(_ways_clause(ways, judged), judged)
    liquid = log.timed("liquid", lambda: _liquid(mesh, rooms, wall, settings))
    judged = judge_liquid(liquid, needed=settings.wall_mm is not None)
    log.take(liquid_clause(liquid, judged, necks=any(not c.pocket for c in ways.chambers)), judged)
    judged = _wall_findings(wall, settings, bool(rooms.is_room.any()), settings.own_told and origin is None)
    judged += judge_thin(features, settings)
    log.take(_wall_clause(wall, features, settings, judged), judged)
    found.cavities, found.ways, found.liquid, found.wall, found.features = rooms, ways, liquid, wall, features


def _record(
    mesh: Mesh,
    settings: ProofSettings,
    origin: Origin | None,
    log: _Log,
    found: _Measured,
    defects: tuple[tuple[Defect, ...], tuple[Defect, ...]],
    bodies: int,
) -> ProofRecord:
    """All of it, and the verdict: "fit" only where every clause was judged."""
    judged = "fit" if settings.wall_mm is not None else "wall not judged"
    rooms = found.cavities
    return ProofRecord(
        verdict="unfit" if log.fallen else judged,
        ok=not log.fallen,
        clauses=tuple(log.clauses),
        sound=not defects[0],
        sound_as_stored=not defects[1],
        defects=defects[0],
        defects_as_stored=defects[1],
        bodies=bodies,
        triangles=len(mesh.faces),
        volume_mm3=mesh.volume,
        cavities=rooms.found if rooms else (),
        drains=sum(len(c.openings) for c in rooms.found if c.holds) if rooms else 0,
        findings=tuple(log.findings),
        voids=found.voids,
        ways=found.ways,
        liquid=found.liquid,
        wall=found.wall,
        features=found.features,
        kept=origin.kept if origin else None,
        voxel_mm=rooms.spacing_mm if rooms else None,
        ball_mm=rooms.ball_mm if rooms else None,
        seconds=log.seconds,
    )


def _own_chambers(mesh: Mesh, settings: ProofSettings, origin: Origin | None) -> Callable[[Chamber], bool]:
    """Which chambers are of the model's own surface, and only told."""

    def own(chamber: Chamber) -> bool:
        if not settings.own_told:
            return False
        places = np.array([chamber.where_mm, chamber.neck_where_mm or chamber.where_mm])
        return origin is None or bool((origin.face[mesh.tree.nearest(places)[1]] == OUTER).all())

    return own


def _liquid(mesh: Mesh, rooms: Cavities, wall: Wall | None, settings: ProofSettings) -> Liquid:
    """What stays, on columns that are finer than the thinnest wall where that can be."""
    thinnest = np.inf if wall is None else wall.min_mm
    return measure_liquid(mesh, rooms, settings.drain_poses, settings.least_drain_mm, thinnest)


def _opened(mesh: Mesh, nested: Shells, least_mm: float) -> Mesh:
    """The mesh without its closed voids and what lies in them, which are judged already, and without convex bodies
    that are no nearer than a drain is wide to any that is not: nothing stays in or between them."""
    kept = nested.depth == 0
    convex = convex_shells(mesh) & kept
    if convex.any():
        low, high = mesh.shell_boxes
        hollow = np.flatnonzero(kept & ~convex)
        for shell in np.flatnonzero(convex).tolist():
            near = (low[hollow] <= high[shell] + least_mm) & (high[hollow] >= low[shell] - least_mm)
            kept[shell] = near.all(axis=1).any()
    return mesh if kept.all() else mesh.picked(kept[mesh.topology.shell])


def _fault(defect: Defect, suffix: str) -> Finding:
    text, where = defect.text + suffix, defect.where_mm[0]
    return Finding(defect.code, "fault", defect.count, text, where, remedies=(SOLID,))


def _first(findings: list[Finding], severity: str = "fault") -> str:
    return "; ".join(f.text for f in findings if f.severity == severity)


def _soundness(mesh: Mesh, defects: tuple[Defect, ...], stored: tuple[Defect, ...]) -> tuple[Clause, list[Finding]]:
    if not len(mesh.faces):
        text = "the model has no triangles"
        return Clause("sound", "fails", text), [Finding("empty", "fault", 0, text)]
    known = {d.code for d in defects}
    found = [_fault(d, "") for d in defects]
    found += [_fault(d, " once stored in float32") for d in stored if d.code not in known]
    if defects:
        return Clause("sound", "fails", "; ".join(d.text for d in defects)), found
    if stored:
        return Clause("sound", "fails", "; ".join(d.text for d in stored) + " once stored in float32"), found
    text = "closed, manifold, oriented, no self-intersection; in float64 and as stored"
    return Clause("sound", "holds", text), found


def _material(found: list[Finding]) -> tuple[Clause, list[Finding]]:
    if any(f.severity == "fault" for f in found):
        return Clause("material", "fails", _first(found)), found
    return Clause("material", "holds", "counted once everywhere, voids face the right way"), found


def _voids(found: list[Finding]) -> tuple[Clause, list[Finding]]:
    if any(f.severity == "fault" for f in found):
        return Clause("voids", "fails", _first(found)), found
    return Clause("voids", "holds", _first(found, "note") if found else "no closed void"), found


def _ways_clause(ways: NeckWays, findings: list[Finding]) -> Clause:
    faults = _first(findings)
    if faults:
        return Clause("ways", "fails", faults)
    least = length_text(ways.least_mm)
    text = f"every room as wide as a ball of {least} lets it out; lattice {length_text(ways.cell_mm)}"
    return Clause("ways", "holds", text)


def _wall_findings(wall: Wall | None, settings: ProofSettings, rooms: bool, made_none: bool) -> list[Finding]:
    """Faults and notes of the wall; made_none: what is thin is the model's own, and told. A solid of which no two sides
    face each other (a cone) has none to be thin."""
    found = []
    asked = settings.wall_mm
    if wall is None:
        if asked is not None and rooms:
            text = f"a wall of {length_text(asked)} was asked for and nothing could be measured"
            found.append(Finding("wall_unmeasured", "fault", 0, text))
        return found
    if asked is not None and not wall.holds:
        more = f", {wall.thin_spots:,} places in all" if wall.thin_spots > 1 else ""
        text = f"the wall is {length_text(wall.min_mm)} at its thinnest, at {point_text(wall.where_mm)}, "
        if made_none:
            text = f"the model's own: {text}{length_text(asked)} is the least that prints{more}"
            ways = (thick_as(asked),)
            found.append(Finding("own_wall_thin", "note", wall.thin_spots, text, wall.where_mm, remedies=ways))
        else:
            text += f"{length_text(asked)} were asked for{more}"
            found.append(Finding("wall_thin", "fault", wall.thin_spots, text, wall.where_mm))
    return found


def _wall_clause(
    wall: Wall | None, features: Features | None, settings: ProofSettings, findings: list[Finding]
) -> Clause:
    faults = _first(findings)
    if faults:
        return Clause("wall", "fails", faults)
    if settings.wall_mm is None:
        measured = f"; measured {length_text(wall.min_mm)} at least" if wall else ""
        return Clause("wall", "not judged", f"no wall was asked for{measured}")
    if any(f.code == "own_wall_thin" for f in findings):
        return Clause("wall", "holds", "nothing was made that could be thin; the model's own wall is told below")
    if wall is None:
        text = "no two sides face each other: the material only tapers to its edges"
    else:
        text = f"{length_text(wall.min_mm)} at least, {length_text(settings.wall_mm)} asked, on {wall.of}"
    return Clause("wall", "holds", text + (f"; {features_text(features)}" if features else ""))
