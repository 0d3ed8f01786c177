"""Overhangs, islands, bridges, supports and how a model stands, for one build direction."""

from dataclasses import dataclass, replace

import numpy as np

from bolvek.analyses.layering import layer_count
from bolvek.analyses.overhangs.islands import Sweep, find_islands
from bolvek.analyses.overhangs.record import Island, OverhangRecord, OverhangZone, findings_of, up_of
from bolvek.analyses.overhangs.standing import bed_contact, centre_of_mass, foot
from bolvek.analyses.overhangs.zones import Overhanging, gather_zones
from bolvek.analyses.shells import counted_once, for_all_faces, material_tree, standing
from bolvek.analyses.thickness import (
    MOST_RAYS,
    SKIN_SHARE,
    Samples,
    check_solid,
    sample_surface,
    surfaces_along,
)
from bolvek.arrays import Bools, Floats, Ints, Ints8
from bolvek.mesh import Mesh
from bolvek.settings.measures import OverhangSettings
from bolvek.units import as_triple

_PLAIN = OverhangSettings()

ANGLE_SLACK_DEG = 0.05
"""Faces steeper than the limit less this count as printable: rounding must not decide a face that lies on it."""

MOST_SAMPLES = 150_000


def find_overhangs(mesh: Mesh, settings: OverhangSettings = _PLAIN) -> tuple[OverhangRecord, Ints8]:
    """The record, and per face (F,): 0 fine, 1 on the bed, 2 overhang, 3 in a bridge, 4 the bottom of an island.

    Copies of faces count once. Raises UsageError, or WorkError for a model without surface or extent.
    """
    settings.check()
    check_solid(mesh)
    once, keep = counted_once(mesh)
    record, kind = _find(once, settings)
    return record, np.asarray(for_all_faces(kind, keep, mesh), np.int8)


def faces_of(mesh: Mesh, settings: OverhangSettings, most_samples: int) -> Ints8:
    """What each face is, as `find_overhangs` tells it, from no more than so many samples: for pictures."""
    once, keep = counted_once(mesh)
    return np.asarray(for_all_faces(_look(once, settings, most_samples).kind, keep, mesh), np.int8)


def find_layer_islands(mesh: Mesh, settings: OverhangSettings) -> list[Island]:
    """The islands alone, as `find_overhangs` tells them."""
    settings.check()
    check_solid(mesh)
    once, _ = counted_once(mesh)
    once.prepare()
    sweep = _sweep(once, settings)
    return _islands(sweep, find_islands(sweep, sweep.floor + settings.contact_mm))


def _sweep(mesh: Mesh, s: OverhangSettings) -> Sweep:
    height = mesh.vertices @ up_of(s)
    floor = float(height[mesh.faces].min())
    return Sweep(mesh, standing(mesh).sign, material_tree(mesh), height, up_of(s), floor, s.layer_mm)


def _islands(sweep: Sweep, bottoms: Ints) -> list[Island]:
    return [Island(as_triple(sweep.mesh.vertices[v]), float(sweep.height[v]) - sweep.floor) for v in bottoms]


@dataclass(frozen=True)
class _Seen:
    """What one build direction shows: what each face is, the sweep upward, bottoms of islands and how many places begin
    before a layer shows them; samples of what hangs, how far, on the part or not; zones."""

    kind: Ints8
    sweep: Sweep
    bottoms: Ints
    minima: int
    samples: Samples
    drop: Floats
    landed: Bools
    zones: list[OverhangZone]


def _look(mesh: Mesh, s: OverhangSettings, most_samples: int) -> _Seen:
    mesh.prepare()
    up, sweep = up_of(s), _sweep(mesh, s)
    sign, tree, height, floor = sweep.sign, sweep.tree, sweep.height, sweep.floor
    corners = height[mesh.faces]
    slope = np.einsum("ij,j->i", mesh.unit_normals, up) * sign
    limit = -np.cos(np.radians(max(s.angle_deg - ANGLE_SLACK_DEG, 0.0)))
    on_bed = (slope < 0) & (corners.max(axis=1) <= floor + s.contact_mm)
    over = np.flatnonzero((slope < limit) & ~on_bed)
    kind = np.where(on_bed, 1, 0).astype(np.int8)
    bottoms = find_islands(sweep, floor + s.contact_mm)
    minima = len(find_islands(sweep, floor + s.contact_mm, all_places=True))
    samples, drop, landed, buried = _drops(mesh, over, sign, floor, s, most_samples)
    zones: list[OverhangZone] = []
    if len(samples.area):
        over = np.unique(samples.face)
        zones = gather_zones(
            Overhanging(mesh, over, samples, drop, buried, on_bed, slope, height, bottoms, tree, s), kind
        )
    return _Seen(kind, sweep, bottoms, minima, samples, drop, landed, zones)


def _find(mesh: Mesh, s: OverhangSettings) -> tuple[OverhangRecord, Ints8]:
    seen = _look(mesh, s, MOST_SAMPLES)
    up, height, floor, bottoms = up_of(s), seen.sweep.height, seen.sweep.floor, seen.bottoms
    samples, drop, zones = seen.samples, seen.drop, seen.zones
    shells = standing(mesh)
    sign = shells.sign
    slope = np.einsum("ij,j->i", mesh.normals_of(samples.face), up) * sign[samples.face]
    # a bridge that stands needs no support, as the ranking of directions has it too
    held = (seen.kind[samples.face] == 3) if s.habit == "stands" else np.zeros(len(samples.face), bool)
    flat = np.where(held, 0.0, samples.area * -slope)
    sealed = np.array([r == "cavity" for r in shells.roles])[mesh.topology.shell[samples.face]]
    contact, points = bed_contact(mesh, sign, up, height, floor + s.contact_mm)
    centre = centre_of_mass(mesh, sign)
    width, margin = foot(points, centre, up)
    tall = float(height[mesh.faces].max()) - floor
    bridges = [z for z in zones if z.kind == "bridge"]
    others = [z for z in zones if z.kind == "cantilever"]
    area = float(samples.area.sum())
    record = OverhangRecord(
        up=as_triple(up),
        angle_deg=s.angle_deg,
        layer_mm=s.layer_mm,
        habit=s.habit,
        bridge_most_mm=s.bridge_most_mm,
        area_mm2=area,
        share=area / mesh.area,
        islands=len(bottoms),
        minima=max(seen.minima, len(bottoms)),
        bridges=len(bridges),
        bridge_area_mm2=sum(z.area_mm2 for z in bridges),
        cantilevers=len(others),
        cantilever_area_mm2=sum(z.area_mm2 for z in others),
        support_volume_mm3=float((flat * drop).sum()),
        support_sealed_mm3=float((flat * drop)[sealed].sum()),
        support_footprint_mm2=float(flat.sum()),
        footprint_on_part_mm2=float(flat[seen.landed].sum()),
        bed_contact_mm2=contact,
        foot_mm=width,
        height_mm=tall,
        layers=layer_count(tall, s.layer_mm),
        centre_of_mass_mm=centre,
        bed_margin_mm=margin,
        open_skin=bool(shells.openings.skin.any()),
        zones=zones,
        island_list=_islands(seen.sweep, bottoms),
        findings=(),
    )
    return replace(record, findings=findings_of(record)), seen.kind


def _drops(
    mesh: Mesh, over: Ints, sign: Floats, floor: float, s: OverhangSettings, most: int
) -> tuple[Samples, Floats, Bools, Samples]:
    """Samples of the overhanging faces above the first half layer, how far each hangs over what is beneath, whether
    that is the part; and the samples that are buried: where more surfaces beneath are left than entered, there is
    material."""
    spacing = s.spacing_mm or float(np.sqrt(max(mesh.face_areas[over].sum(), 1e-300) / most))
    spacing = max(spacing, 1e-5 * float(mesh.size.max()))
    chosen = np.zeros(len(mesh.faces), bool)
    chosen[over] = True
    found = sample_surface(mesh, spacing, chosen)
    up = up_of(s)
    above = found.points @ up - floor
    raised = above > s.contact_mm
    found = Samples(found.points[raised], found.area[raised], found.face[raised], spacing)
    above, face = above[raised], found.face
    hits = mesh.tree.rays(
        found.points, np.broadcast_to(-up, found.points.shape), near=SKIN_SHARE * float(mesh.size.max())
    )
    distance, hit = hits.distance[:, 0], hits.face[:, 0]
    facing = np.einsum("ij,j->i", mesh.area_vectors[np.maximum(hit, 0)], up) * sign[np.maximum(hit, 0)]
    free = (hit < 0) | (facing >= 0)
    if mesh.topology.shells > 1:  # among several, count them all
        for at in range(0, len(free), MOST_RAYS):
            some = slice(at, at + MOST_RAYS)
            down = np.broadcast_to(-up, found.points[some].shape)
            free[some] = surfaces_along(mesh, found.points[some], down, sign)[1].sum(axis=1) <= 0
    landed = (hit >= 0) & (distance < above)
    drop = np.maximum(np.where(landed, distance, above), 0.0)
    samples, buried = (Samples(found.points[m], found.area[m], face[m], spacing) for m in (free, ~free))
    return samples, drop[free], landed[free], buried
