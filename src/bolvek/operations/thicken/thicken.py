"""An open skin becomes a solid, its front kept exactly; or thin walls of a closed model become thick enough."""

from dataclasses import replace
from functools import partial

import numpy as np

from bolvek.analyses.deviation import matching_faces
from bolvek.analyses.finding import Finding
from bolvek.analyses.soundness import find_defects, require_sound
from bolvek.analyses.thickness import measure_walls
from bolvek.analyses.zones import face_zones
from bolvek.arrays import Floats, Ints
from bolvek.errors import WorkError
from bolvek.mesh import Mesh
from bolvek.mesh.topology import CROWDED
from bolvek.operations.mend import mend
from bolvek.operations.thicken.cover import Cover, cover
from bolvek.operations.thicken.fill import fill_thin
from bolvek.operations.thicken.fit import as_solid, best_offset
from bolvek.operations.thicken.foot import facing_foot, hollow_beneath, in_the_way, with_foot
from bolvek.operations.thicken.offset import Offset, offset
from bolvek.operations.thicken.rim import hanging_faces, narrow_teeth, refuse_rim, trimmed
from bolvek.operations.thicken.settings import ThickenRecord
from bolvek.operations.thicken.solid import Depth, Solid, depth_of
from bolvek.operations.thicken.walls import grow_walls
from bolvek.settings import remedy
from bolvek.settings.measures import WallSettings
from bolvek.settings.repairs import MendSettings, ThickenSettings
from bolvek.settings.ways_on import ANEW, SOLID, THICKENS
from bolvek.units import point_text

FULL_SHARE = 0.9
"""Of the thickness asked for: what is as thick counts as full."""

_AGREE = MendSettings(only=("weld", "drop", "separate", "orient"))
_MOST_ZONES = 50
_TEETH_ROUNDS = 6


def thicken(mesh: Mesh, settings: ThickenSettings, most_trimmed: float = 1.0) -> tuple[Mesh, ThickenRecord]:
    """A sound solid. Faces of the side that is kept are those of the model, bit for bit, unless trimmed (no more than a
    share of them). Raises UsageError, or WorkError with the reason and a place."""
    settings.check()
    mesh = mesh.as_stored()
    if not len(mesh.faces) or not mesh.area > 0:
        raise WorkError("the model has no faces with an area")
    if settings.at_least_mm is not None:
        return _walls(mesh, settings.at_least_mm, settings)
    agreed, turned = _agreed(mesh)
    topology = agreed.topology
    is_open = topology.open_shells
    if not is_open.any():
        raise WorkError(
            "the model is closed, it has no rim",
            remedy(
                "thicken",
                "makes its thin walls thicker",
                ThickenSettings(at_least_mm=settings.by_mm or settings.least_mm),
            ),
            remedy("hollow", "gives it a wall"),
        )
    skin, rest = agreed.picked(is_open[topology.shell]), agreed.picked(~is_open[topology.shell])
    if settings.foot is not None:
        solid, record = _on_foot(skin, settings)
    else:
        solid, record = _skin(skin, settings, most_trimmed)
    result = solid.joined(rest).as_stored() if len(rest.faces) else solid
    found = find_defects(result)
    if found:
        told = "; ".join(d.text for d in found)
        raise WorkError(f"no sound solid came out: {told}, first near {point_text(found[0].where_mm[0])}", ANEW)
    return result, replace(
        record,
        closed=int((~is_open).sum()),
        sheets=int(is_open.sum()),
        turned=turned,
        triangles_before=len(mesh.faces),
        triangles=len(result.faces),
        kept_faces=_kept(mesh, result),
        volume_mm3=result.volume,
    )


def _kept(mesh: Mesh, result: Mesh) -> int:
    """How many faces of the model are in the result bit for bit, whichever way they look."""
    return int((matching_faces(mesh, result)[0] != 0).sum())


def _agreed(mesh: Mesh) -> tuple[Mesh, int]:
    """The model with its faces welded and turned to agree, nothing closed; and how many were turned."""
    topology = mesh.topology
    plain = {"open_edges", "self_intersections", "split_vertices"}
    if {defect.code for defect in find_defects(mesh)} <= plain and not topology.badly_oriented_edges:
        return mesh, 0
    mended, record, _ = mend(mesh, _AGREE)
    turned = sum(step.counts.get("flipped_faces", 0) for step in record.steps if step.step == "orient")
    return mended.as_stored(), turned


def _skin(skin: Mesh, settings: ThickenSettings, most_trimmed: float) -> tuple[Mesh, ThickenRecord]:
    thickness = settings.by_mm or 0.0
    if skin.topology.nonmanifold_edges:
        edge = skin.vertices[skin.faces[np.flatnonzero(skin.topology.opposite == CROWDED)[0] // 3]].mean(axis=0)
        raise WorkError(f"the skin branches: three faces or more meet in an edge, as at {point_text(edge)}", ANEW)
    if skin.topology.badly_oriented_edges and settings.side != "both":
        raise WorkError(
            "the skin has one side only (as a Moebius band has): there is no front to keep",
            remedy("", "thickens it to either side", ThickenSettings(side="both")),
        )
    front, back = {"in": (0.0, thickness), "out": (thickness, 0.0), "both": (0.5 * thickness, 0.5 * thickness)}[
        settings.side
    ]
    along = None
    if settings.along is not None:
        along = np.asarray(settings.along, np.float64) / np.linalg.norm(settings.along)
        skin = _facing(skin, along, settings.side)

    def stuck(one: Mesh) -> Ints:
        return offset(_covered(one, along), front, back).stuck_faces

    gone = 0.0
    if settings.trim:
        skin, gone = trimmed(skin, thickness, stuck, most_trimmed)
    else:
        bad = hanging_faces(skin)
        if not len(bad):
            bad = stuck(skin)
        if len(bad):
            raise refuse_rim(skin, bad)
    side = {"in": -1, "out": 1, "both": 0}[settings.side]
    least = min(settings.least_mm, FULL_SHARE * thickness)
    for turn in range(_TEETH_ROUNDS + 1):
        smoothed, found, solid, depth = _offset(skin, front, back, along, side)
        looked_at = settings.trim and turn < _TEETH_ROUNDS
        teeth = narrow_teeth(skin, solid.mesh, least) if looked_at else np.zeros(0, np.int64)
        if not len(teeth):
            break
        keep = np.ones(len(skin.faces), bool)
        keep[teeth] = False
        gone += float(skin.face_areas[teeth].sum())
        skin, more = trimmed(skin.picked(keep), thickness, stuck, most_trimmed)
        gone += more
    done, cell = 0, 0.0
    if along is None and side:
        solid, depth, done, cell = fill_thin(skin, solid, depth, thickness, side)
    record = _measured(skin, solid, depth, settings, thickness)
    steep = np.zeros(0, np.int64)
    if along is not None:
        steep = np.flatnonzero(np.abs(skin.unit_normals @ along) * thickness < settings.least_mm)
    return solid.mesh, replace(
        record,
        along=settings.along,
        trimmed_mm2=gone,
        smoothed=smoothed,
        backed_off=int((found.share < 0.999).sum()),
        filled=done,
        cell_mm=cell,
        steep_mm2=float(skin.face_areas[steep].sum()),
        steep=tuple(face_zones(skin, steep)[:_MOST_ZONES]),
    )


def _offset(skin: Mesh, front: float, back: float, along: Floats | None, side: int) -> tuple[int, Offset, Solid, Depth]:
    """The skin with its other side: rounds of smoothing, the offset, the solid, how thick it is."""
    if along is None:
        _, found, solid, depth, smoothed = best_offset(skin, front, back, side)
        return smoothed, found, solid, depth
    double = _covered(skin, along)
    found = offset(double, front, back)
    solid = as_solid(double, found, front, back)
    return 0, found, solid, depth_of(skin, solid, front + back, side)


def _covered(skin: Mesh, along: Floats | None) -> Cover:
    """The cover of a skin, all of it going along a direction where one is given."""
    double = cover(skin)
    return double if along is None else replace(double, out=np.broadcast_to(along, (len(double.place), 3)))


def _facing(skin: Mesh, along: Floats, side: str) -> Mesh:
    """The skin with each piece turned so that the direction leads from the side that is kept."""
    toward = np.bincount(skin.topology.shell, skin.area_vectors @ along, skin.topology.shells)
    turn = ((toward > 0) == (side == "in"))[skin.topology.shell]
    return Mesh(skin.vertices, np.where(turn[:, None], skin.faces[:, ::-1], skin.faces)) if turn.any() else skin


def _measured(skin: Mesh, solid: Solid, depth: Depth, settings: ThickenSettings, thickness: float) -> ThickenRecord:
    """The record of how thick a skin became."""
    least = min(settings.least_mm, FULL_SHARE * thickness)
    thin = depth.depth < least
    faces = np.unique(depth.face[thin])
    return ThickenRecord(
        way="skin",
        area_mm2=skin.area,
        thickness_mm=thickness,
        share_full=depth.share_above(FULL_SHARE * thickness),
        least_mm=depth.least(),
        mean_mm=float((np.minimum(depth.depth, 2 * thickness) * depth.area).sum() / max(depth.area.sum(), 1e-300)),
        below_mm2=float(depth.area[thin].sum()),
        below=tuple(face_zones(skin, faces)[:_MOST_ZONES]),
        triangles_before=0,
        triangles=0,
        kept_faces=0,
        volume_mm3=0.0,
    )


def _on_foot(skin: Mesh, settings: ThickenSettings) -> tuple[Mesh, ThickenRecord]:
    assert settings.foot is not None
    foot, gone = settings.foot, 0.0
    skin = facing_foot(skin, foot)
    reach = settings.by_mm or 0.01 * float(skin.size.max())
    if settings.trim:
        skin, gone = trimmed(skin, reach, partial(in_the_way, foot=foot))
    else:
        bad = np.union1d(hanging_faces(skin), in_the_way(skin, foot))
        if len(bad):
            raise refuse_rim(skin, bad.astype(np.int64))
    made = with_foot(skin, foot) if settings.beneath == "solid" else hollow_beneath(skin, foot, settings.by_mm or 0.0)
    if made is None:
        raise WorkError(
            "seen along the axis of the foot the rim crosses itself",
            remedy("", "may take such off", ThickenSettings(trim=True)),
            ANEW,
        )
    return made.as_stored(), ThickenRecord(
        way="foot",
        thickness_mm=settings.by_mm or 0.0,
        trimmed_mm2=gone,
        triangles_before=0,
        triangles=0,
        kept_faces=0,
        volume_mm3=0.0,
    )


def _walls(mesh: Mesh, least: float, settings: ThickenSettings) -> tuple[Mesh, ThickenRecord]:
    ways = [SOLID]
    if mesh.topology.open_shells.all():
        ways.append(THICKENS)
    require_sound(mesh, "walls grow on a sound model only", *ways)
    grown = grow_walls(mesh, least, settings.side, settings.blend_mm or 2 * least)
    return grown.mesh, ThickenRecord(
        way="walls",
        thickness_mm=least,
        closed=mesh.topology.shells,
        least_mm=grown.least_mm if np.isfinite(grown.least_mm) else None,
        filled=grown.patches,
        given_up=grown.given_up,
        thin_before_mm2=grown.thin_before_mm2,
        thin_after_mm2=grown.thin_after_mm2,
        least_before_mm=grown.least_before_mm if np.isfinite(grown.least_before_mm) else None,
        triangles_before=len(mesh.faces),
        triangles=len(grown.mesh.faces),
        kept_faces=_kept(mesh, grown.mesh),
        volume_mm3=grown.mesh.volume,
        left=_left_thin(grown.mesh, least),
    )


def _left_thin(mesh: Mesh, least: float) -> tuple[Finding, ...]:
    """What `walls` says of the result; to thicken it once more would come to the same."""
    record, _ = measure_walls(mesh, WallSettings(min_mm=least))
    told = (f for f in record.findings if f.severity == "fault" or f.code == "wall_specks")
    return tuple(replace(f, remedies=tuple(r for r in f.remedies if r.verb != "thicken")) for f in told)
