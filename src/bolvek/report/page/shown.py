"""What each measure and operation adds to the scene of a page."""

from collections.abc import Sequence
from dataclasses import replace

import numpy as np

from bolvek.analyses.cavities import Cavities
from bolvek.analyses.deviation import Compared, CompareRecord, compare
from bolvek.analyses.layers.record import LayerRecord
from bolvek.analyses.overhangs import OverhangRecord
from bolvek.analyses.proof import ProofRecord
from bolvek.analyses.survey.record import Marks, Survey
from bolvek.analyses.thickness import WallRecord, WallZone
from bolvek.arrays import Floats, Ints8
from bolvek.mesh import Mesh
from bolvek.operations.cut import Piece
from bolvek.operations.drain import DrainRecord
from bolvek.operations.supports import SupportsRecord
from bolvek.report.classes import class_of
from bolvek.report.page.scene import FaceField, FaceKinds, LayerPlot, Level, Place, Scene
from bolvek.report.pictures.callouts import choose_spots
from bolvek.report.pictures.compare import ADDED, MOVED, TURNED
from bolvek.report.pictures.overhangs import LEGEND
from bolvek.report.pictures.supports import SUPPORT
from bolvek.units import Triple, area_text, as_triple, length_text, volume_text

_MOST_ZONES = 60
_ZONES = {"breakthrough": "broken through", "hole": "as good as gone", "thin": "thin", "gap": "narrow gap"}
_APART = 0.45  # of the longest side: how far pieces are pulled apart


def walls_scene(scene: Scene, record: WallRecord, face_mm: Floats) -> Scene:
    """Walls of all faces, thin zones."""
    field = FaceField("wall", "mm", np.asarray(face_mm, np.float64), record.min_mm, "low")
    zones = [*record.zones, *record.gap_zones][:_MOST_ZONES]
    return replace(scene, fields=(*scene.fields, field), places=(*scene.places, *map(_zone, zones)))


def _zone(zone: WallZone) -> Place:
    text = f"{_ZONES[zone.kind]}, {length_text(zone.min_mm)}, {area_text(zone.area_mm2)}"
    return Place("fault", text, zone.where_mm, max(zone.size_mm))


def overhangs_scene(scene: Scene, record: OverhangRecord, kind: Ints8) -> Scene:
    """What hangs over, and islands."""
    # kinds are told as plain, on the bed, overhang, bridge, in the air
    names = [LEGEND[k] for k in (3, 0, 1, 2)]
    kinds = FaceKinds("overhangs", np.asarray(kind, np.int64) - 1, names)
    islands = [
        Place("fault", f"island, {length_text(i.height_mm)} above the bed", i.where_mm)
        for i in sorted(record.island_list, key=lambda i: -i.height_mm)[:_MOST_ZONES]
    ]
    return replace(scene, kinds=(*scene.kinds, kinds), places=(*scene.places, *islands))


def supports_scene(scene: Scene, supports: Mesh | None, record: SupportsRecord) -> Scene:
    """Supports as a part of their own, in their colour; what nothing holds, and what stands on the model."""
    places = [
        Place("fault", f"not held, layer {u.place.layer + 1:,}, {area_text(u.place.area_mm2)}", u.place.where_mm)
        for u in record.unheld[:_MOST_ZONES]
    ]
    standing = [t for t in record.tips if t.on == "model"][:_MOST_ZONES]
    places += [Place("mark", "its support stands on the model", t.where_mm) for t in standing]
    if supports is not None:
        count = [len(scene.mesh.faces), len(supports.faces)]
        inner = None if scene.inner is None else np.concatenate([scene.inner, np.zeros(count[1], bool)])
        both = scene.mesh.joined(supports)
        part = np.repeat([0, 1], count)
        kinds = (*scene.kinds, FaceKinds("supports", part - 1, [("support", SUPPORT)]))
        scene = replace(scene, mesh=both, inner=inner, kinds=kinds, part=part, part_names=["model", "supports"])
    return replace(scene, places=(*scene.places, *places))


def survey_scene(scene: Scene, survey: Survey, marks: Marks) -> Scene:
    """Faces in trouble by class, the places a picture points at."""
    codes = sorted((c for c in marks.faces if class_of(c).layer), key=lambda c: class_of(c).layer)
    kind = np.full(len(scene.mesh.faces), -1)
    for k, code in enumerate(codes):
        kind[marks.faces[code]] = k
    kinds = FaceKinds("faults", kind, [(class_of(c).name, class_of(c).colour) for c in codes])
    spots, _ = choose_spots(scene.mesh, survey, marks)
    places = [Place("note", s.text, as_triple(s.where), s.extent_mm, as_triple(s.normal)) for s in spots]
    return replace(scene, kinds=(*scene.kinds, kinds) if codes else scene.kinds, places=(*scene.places, *places))


def changed_scene(scene: Scene, old: Mesh, known: tuple[CompareRecord, Compared] | None = None) -> Scene:
    """How far each face is from the old surface, and which are new; compared here where that is not known."""
    record, found = known or compare(old, scene.mesh)
    longest = float(max(scene.mesh.size.max(initial=0.0), 1e-9))
    limit = max(0.5 * record.to_old.max_mm, 1e-6 * longest)
    far = found.off_mm > 1e-6 * longest
    kind = np.full(len(found.added), -1)
    for k, faces in enumerate((found.turned, found.added & ~far, found.added & far)):
        kind[faces] = k
    names = [("turned", TURNED), ("new, in place", ADDED), ("new, off the old surface", MOVED)]
    field = FaceField("deviation", "mm", np.asarray(found.off_mm, np.float64), limit, "high")
    places = [
        Place("note", f"changed, {z.count:,} triangles", z.where_mm, max(z.size_mm)) for z in record.moved[:_MOST_ZONES]
    ]
    return replace(
        scene,
        before=old,
        kinds=(*scene.kinds, FaceKinds("changes", kind, names)),
        fields=(*scene.fields, field),
        places=(*scene.places, *places),
    )


def layers_scene(scene: Scene, record: LayerRecord) -> Scene:
    """Areas by height with what happens there; pools at their level."""
    table = record.table
    events = [(i.height_mm, "an island begins") for i in record.island_list[:200]]
    events += [
        (j.at_mm, f"the area jumps from {j.before_mm2:.0f} to {j.after_mm2:.0f} mm2") for j in record.jumps[:200]
    ]
    low = _lowest(scene.mesh, record.up)
    for m in record.membranes[:200]:
        events.append((float(np.dot(m.where_mm, record.up)) - low, f"a {m.kind} membrane"))
    levels = [
        Level(record.up, p.level_mm, p.lowest_mm, p.area_mm2, f"{volume_text(p.volume_mm3)} stay")
        for p in record.pools[:_MOST_ZONES]
        if not p.enclosed
    ]
    plot = LayerPlot(record.up, table.at_mm, table.area_mm2, sorted(events))
    marks = [Place("mark", f"{volume_text(p.volume_mm3)} of liquid stay", p.lowest_mm) for p in record.pools[:12]]
    return replace(scene, layers=plot, levels=(*scene.levels, *levels), places=(*scene.places, *marks))


def _lowest(mesh: Mesh, up: Triple) -> float:
    return float((mesh.vertices @ np.array(up)).min())


def rooms_scene(scene: Scene, proof: ProofRecord | None, rooms: Cavities | None) -> Scene:
    """Faces of rooms, their openings and necks."""
    if rooms is None:
        return scene
    marks = [Place("mark", f"opening, {length_text(o.width_mm)} wide", o.where_mm, o.width_mm) for o in rooms.openings]
    chambers = proof.ways.chambers if proof is not None and proof.ways is not None else ()
    marks += [
        Place("fault", f"neck of {length_text(c.neck_mm)}", c.neck_where_mm, c.neck_mm)
        for c in chambers
        if not c.pocket and c.neck_where_mm is not None
    ]
    return replace(scene, inner=rooms.inside, places=(*scene.places, *marks[:_MOST_ZONES]))


def drains_scene(scene: Scene, record: DrainRecord) -> Scene:
    """Where the holes are."""
    marks = [
        Place(
            "mark", f"hole {k}, {length_text(h.diameter_mm)}", h.at_mm, h.diameter_mm, as_triple(-np.array(h.direction))
        )
        for k, h in enumerate(record.holes, 1)
    ]
    return replace(scene, places=(*scene.places, *marks))


def pieces_scene(scene: Scene, cut: Sequence[Piece]) -> Scene:
    """Pieces of a cut, to be pulled apart."""
    pieces = [piece.mesh for piece in cut]
    whole = pieces[0].joined(*pieces[1:])
    part = np.repeat(np.arange(len(pieces)), [len(p.faces) for p in pieces])
    middle = whole.bounds.mean(axis=0)
    shift = np.array([p.bounds.mean(axis=0) - middle for p in pieces]) * _APART * 2
    names = [f"piece {k}" for k in range(1, len(pieces) + 1)]
    return replace(scene, mesh=whole, before=None, part=part, part_names=names, shift_mm=shift)


def looked_scene(
    scene: Scene,
    survey: Survey,
    marks: Marks,
    walls: tuple[WallRecord | None, Floats | None],
    overhangs: tuple[OverhangRecord | None, Ints8 | None],
    layers: LayerRecord | None,
    proven: tuple[ProofRecord | None, Cavities | None],
) -> Scene:
    """All that was measured of a model as it is."""
    scene = survey_scene(scene, survey, marks)
    if walls[0] is not None and walls[1] is not None:
        scene = walls_scene(scene, walls[0], walls[1])
    if overhangs[0] is not None and overhangs[1] is not None:
        scene = overhangs_scene(scene, overhangs[0], overhangs[1])
    if layers is not None:
        scene = layers_scene(scene, layers)
    return rooms_scene(scene, *proven)
