"""The proof itself: clause after clause, findings, the verdict."""

import time
from collections.abc import Callable
from typing import TypeVar

import numpy as np

from bolvek.analyses.cavities import Cavities, Chamber, NeckWays, convex_shells, find_cavities, find_ways
from bolvek.analyses.finding import Finding
from bolvek.analyses.proof.liquid import judge_liquid, liquid_clause, measure_liquid
from bolvek.analyses.proof.material import find_voids, judge_material, judge_voids
from bolvek.analyses.proof.origin import OUTER, Origin
from bolvek.analyses.proof.passages import judge_ways, with_pockets
from bolvek.analyses.proof.record import Clause, Liquid, ProofRecord, Wall
from bolvek.analyses.proof.wall import measure_wall
from bolvek.analyses.shells import Shells, nest_exactly
from bolvek.analyses.soundness import Defect, find_defects
from bolvek.mesh import Mesh
from bolvek.settings import remedy
from bolvek.settings.measures import ProofSettings
from bolvek.settings.repairs import ThickenSettings
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
    seconds: dict[str, float] = {}

    def timed(name: str, work: Callable[[], T]) -> T:
        begin = time.perf_counter()
        result = work()
        seconds[name] = seconds.get(name, 0.0) + time.perf_counter() - begin
        return result

    defects = timed("sound", lambda: find_defects(mesh))
    stored_defects = timed("sound", lambda: find_defects(mesh.as_stored()))
    known = {d.code for d in defects}
    findings = [_fault(d, "") for d in defects]
    findings += [_fault(d, " once stored in float32") for d in stored_defects if d.code not in known]
    if not len(mesh.faces):
        findings.append(Finding("empty", "fault", 0, "the model has no triangles"))
    clauses = [_soundness(mesh, defects, stored_defects)]
    if defects or not len(mesh.faces):
        for name in ("material", "voids", "ways", "liquid", "wall"):
            clauses.append(Clause(name, "not judged", _UNSOUND))
        unsound = ProofRecord(
            verdict="unfit",
            ok=False,
            clauses=tuple(clauses),
            sound=not defects,
            sound_as_stored=not stored_defects,
            defects=defects,
            defects_as_stored=stored_defects,
            bodies=mesh.topology.shells,
            triangles=len(mesh.faces),
            volume_mm3=mesh.volume,
            cavities=(),
            drains=0,
            findings=tuple(findings),
            seconds=seconds,
        )
        return unsound, None
    nested = timed("material", lambda: nest_exactly(mesh))
    material = judge_material(mesh, nested)
    voids = find_voids(mesh, nested, settings.allow_closed_mm3)
    closed = judge_voids(voids)
    findings += material + closed
    wrong = any(f.severity == "fault" for f in material)
    clauses.append(
        Clause("material", "fails", _first(material))
        if wrong
        else Clause("material", "holds", "counted once everywhere, voids face the right way")
    )
    if any(f.severity == "fault" for f in closed):
        clauses.append(Clause("voids", "fails", _first(closed)))
    elif closed:
        clauses.append(Clause("voids", "holds", _first(closed, "note")))
    else:
        clauses.append(Clause("voids", "holds", "no closed void"))
    cavities: Cavities | None = None
    ways: NeckWays | None = None
    wall: Wall | None = None
    liquid: Liquid | None = None
    if wrong:
        reason = "not judged: inside and outside contradict each other"
        clauses += [Clause(name, "not judged", reason) for name in ("ways", "liquid", "wall")]
    else:

        def measured() -> tuple[Cavities, Wall | None]:
            found = timed(
                "rooms", lambda: find_cavities(mesh, ball_mm=settings.ball_mm, wall_mm=settings.wall_mm, nested=nested)
            )
            return found, timed("wall", lambda: measure_wall(mesh, found, settings.wall_mm, origin, least_wall))

        least_wall = settings.least_wall_mm
        found_ways, (rooms, wall) = side_by_side(
            lambda: timed(
                "ways", lambda: find_ways(_opened(mesh, nested, settings.least_drain_mm), settings.least_drain_mm)
            ),
            measured,
        )
        cavities, ways = rooms, with_pockets(found_ways, rooms, mesh.volume, _own_chambers(mesh, settings, origin))
        judged = judge_ways(ways, rooms)
        findings += judged
        clauses.append(_ways_clause(ways, judged))
        liquid = timed("liquid", lambda: _liquid(mesh, rooms, wall, settings))
        judged = judge_liquid(liquid, needed=settings.wall_mm is not None)
        findings += judged
        clauses.append(liquid_clause(liquid, judged, necks=any(not c.pocket for c in ways.chambers)))
        judged = _wall_findings(wall, settings, bool(rooms.is_room.any()), settings.own_told and origin is None)
        findings += judged
        clauses.append(_wall_clause(wall, settings, judged))
    faults = any(f.severity == "fault" for f in findings)
    verdict = "unfit" if faults else "fit" if settings.wall_mm is not None else "wall not judged"
    record = ProofRecord(
        verdict=verdict,
        ok=not faults,
        clauses=tuple(clauses),
        sound=not defects,
        sound_as_stored=not stored_defects,
        defects=defects,
        defects_as_stored=stored_defects,
        bodies=int((nested.volume > 0).sum()),
        triangles=len(mesh.faces),
        volume_mm3=mesh.volume,
        cavities=cavities.found if cavities else (),
        drains=sum(len(c.openings) for c in cavities.found) if cavities else 0,
        findings=tuple(findings),
        voids=voids,
        ways=ways,
        liquid=liquid,
        wall=wall,
        kept=origin.kept if origin else None,
        voxel_mm=cavities.spacing_mm if cavities else None,
        ball_mm=cavities.ball_mm if cavities else None,
        seconds=seconds,
    )
    return record, cavities


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
    return Finding(defect.code, "fault", defect.count, defect.text + suffix, defect.where_mm[0])


def _first(findings: list[Finding], severity: str = "fault") -> str:
    return "; ".join(f.text for f in findings if f.severity == severity)


def _soundness(mesh: Mesh, defects: tuple[Defect, ...], stored: tuple[Defect, ...]) -> Clause:
    if not len(mesh.faces):
        return Clause("sound", "fails", "the model has no triangles")
    if defects:
        return Clause("sound", "fails", "; ".join(d.text for d in defects))
    if stored:
        return Clause("sound", "fails", "; ".join(d.text for d in stored) + " once stored in float32")
    return Clause("sound", "holds", "closed, manifold, oriented, no self-intersection; in float64 and as stored")


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
            ways = (remedy("thicken", "makes it as thick", ThickenSettings(at_least_mm=asked)),)
            found.append(Finding("own_wall_thin", "note", wall.thin_spots, text, wall.where_mm, remedies=ways))
        else:
            text += f"{length_text(asked)} were asked for{more}"
            found.append(Finding("wall_thin", "fault", wall.thin_spots, text, wall.where_mm))
    if wall.features and wall.features_min_mm is not None:
        text = (
            f"{wall.features:,} thin feature{'s' if wall.features > 1 else ''} that the original has, "
            f"{length_text(wall.features_min_mm)} at least: print as they are"
        )
        found.append(Finding("thin_features", "note", wall.features, text, wall.features_where_mm))
    return found


def _wall_clause(wall: Wall | None, settings: ProofSettings, findings: list[Finding]) -> Clause:
    if settings.wall_mm is None:
        measured = f"; measured {length_text(wall.min_mm)} at least" if wall else ""
        return Clause("wall", "not judged", f"no wall was asked for{measured}")
    faults = _first(findings)
    if faults:
        return Clause("wall", "fails", faults)
    if any(f.code == "own_wall_thin" for f in findings):
        return Clause("wall", "holds", "nothing was made that could be thin; the model's own wall is told below")
    if wall is None:
        return Clause("wall", "holds", "no two sides face each other: the material only tapers to its edges")
    return Clause(
        "wall",
        "holds",
        f"{length_text(wall.min_mm)} at least, {length_text(settings.wall_mm)} asked, on {wall.of}",
    )
