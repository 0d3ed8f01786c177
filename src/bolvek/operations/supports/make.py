"""Supports for a model: the fewest tips that hold it, their ways down, and the body they are."""

import math

import numpy as np

from bolvek.analyses.finding import Finding
from bolvek.analyses.held.held import hold
from bolvek.analyses.held.proven import SupportsProof, proof_findings, prove_supports
from bolvek.analyses.held.record import UnheldPlace
from bolvek.analyses.held.stretches import cut_in_layers
from bolvek.analyses.held.tips import told_stretches
from bolvek.analyses.shells import facing_out
from bolvek.analyses.soundness import require_sound
from bolvek.arrays import Bools, Floats
from bolvek.mesh import Mesh
from bolvek.operations.supports.bodies import as_one, limbs_of, plate
from bolvek.operations.supports.place import INSIDE, KEPT_OFF, NO_WAY, Placed, carried, is_shown, place
from bolvek.operations.supports.record import StillUnheld, SupportsRecord, SupportTip
from bolvek.operations.supports.trunks import Trunk, join
from bolvek.operations.supports.ways import Way
from bolvek.settings import remedy
from bolvek.settings.parts import PoseSettings
from bolvek.settings.supports import SupportSettings
from bolvek.settings.ways_on import SOLID
from bolvek.spatial.points import PointTree
from bolvek.units import area_text, as_triple, count_text, length_text

_PLAIN = SupportSettings()
NOT_HELD = "not held"
_OFF_BED_MM = 1e-3
_DEEPEST = 0.5  # of the material at a tip: it goes in no deeper


def find_supports(mesh: Mesh, settings: SupportSettings = _PLAIN) -> tuple[Mesh | None, SupportsRecord]:
    """The supports of a sound mesh that stands as it is built, z upward, as a mesh of their own (None: none are
    needed), and what is told of them. Tips reach into the model, so that the two overlap there. Faces are read as they
    are meant: turned ones turned.

    Raises UsageError for impossible settings, WorkError for a mesh that is not sound.
    """
    settings.check()
    require_sound(mesh, "only sound models get supports", SOLID)
    mesh = facing_out(mesh)
    s = settings
    stretches = cut_in_layers(mesh, s.held)
    bare = hold(stretches)
    lacking = [p for p in bare.places()[1] if p.counts(s.held)]
    placed, trunks, made = None, [], None
    depth, thin = np.zeros(0), np.zeros(0, bool)
    if lacking or s.at_mm:
        placed = place(mesh, stretches, bare, s)
        depth, thin = _depths(mesh, placed.ways, s)
        if placed.ways:
            trunks = join(mesh, placed.ways, stretches.floor_mm, s)
            limbs = limbs_of(mesh, placed.ways, trunks, depth, stretches.floor_mm, s)
            foot = plate(placed.ways, stretches.floor_mm, s) if s.foot == "plate" else None
            made = as_one(limbs, [] if foot is None else [foot], stretches.floor_mm)
    proof = None if made is None else prove_supports(mesh, made, s)
    unheld = _unheld(lacking if proof is None else proof.unheld, placed)
    ways = [] if placed is None else placed.ways
    tips = _told(mesh, ways, trunks, depth, s)
    scars = int((depth > 0).sum()) * np.pi * (0.5 * s.tip_mm) ** 2
    record = SupportsRecord(
        angle_deg=s.held.angle_deg,
        layer_mm=s.held.layer_mm,
        reach_mm=s.held.reach_mm,
        carry_mm=carried(s).carry_mm,
        bridge_most_mm=s.held.bridge_most_mm,
        tip_mm=s.tip_mm,
        column_mm=s.column_mm,
        lean_deg=s.lean_deg,
        clearance_mm=s.clearance_mm,
        gap_mm=s.gap_mm,
        lift_mm=s.held.lift_mm,
        foot=s.foot,
        pixel_mm=stretches.columns.pixel_mm,
        bare=len(lacking),
        islands=sum(p.kind == "island" for p in lacking),
        bare_mm2=sum(p.area_mm2 for p in lacking),
        tips=tips,
        trunks=len(trunks),
        on_model=sum(way.on_model for way in ways),
        no_way=0 if placed is None else placed.no_way,
        shallow=int(thin.sum()),
        shown=sum(tip.shown for tip in tips),
        volume_mm3=0.0 if made is None else made.volume,
        model_mm3=mesh.volume,
        minutes=_minutes(mesh, made, s),
        scars_mm2=scars,
        scar_share=scars / mesh.area,
        longest_mm=max((way.length_mm for way in ways), default=0.0),
        triangles=0 if made is None else len(made.faces),
        unheld=unheld,
        proof=proof,
        findings=(*_off_the_bed(mesh, bool(tips)), *_findings(unheld, proof, tips, thin, s)),
    )
    return made, record


def _minutes(mesh: Mesh, made: Mesh | None, s: SupportSettings) -> float | None:
    """How much longer the build takes with supports."""
    if s.making is None:
        return None
    high, added = float(mesh.size[2]), 0.0 if made is None else made.volume
    layers = [math.ceil((high + lift) / s.held.layer_mm - 1e-9) for lift in (0.0, s.held.lift_mm)]
    before, after = s.making.seconds(layers[0], mesh.volume), s.making.seconds(layers[1], mesh.volume + added)
    return None if before is None or after is None else (after - before) / 60


def _depths(mesh: Mesh, ways: list[Way], s: SupportSettings) -> tuple[Floats, Bools]:
    """How deep each tip (T,) goes in (below 0: the gap above its pad), and where that is less than asked because the
    model is thin there."""
    start, way = np.array([w.tip for w in ways]).reshape(-1, 3), np.array([w.toward for w in ways]).reshape(-1, 3)
    hit = mesh.tree.rays(start, -way, near=1e-4).distance[:, 0]
    thin = _DEEPEST * hit < s.enter_mm
    deep = np.where(thin, _DEEPEST * hit, s.enter_mm)
    if s.gap_mm > 0:
        # a stub so low that no pad has room beneath the gap goes in all the same
        high = np.array([w.tip[2] - w.corners[-1][2] if w.stub else np.inf for w in ways])
        pad = high > s.gap_mm + s.held.layer_mm
        deep, thin = np.where(pad, -s.gap_mm, deep), thin & ~pad
    return deep, thin


def _told(mesh: Mesh, ways: list[Way], trunks: list[Trunk], depth: Floats, s: SupportSettings) -> list[SupportTip]:
    if not ways:
        return []
    places = np.array([way.tip for way in ways])
    shown = np.zeros(len(ways), bool) if s.show is None else is_shown(mesh, places, s.show)
    trunk_of = {k: k for k in range(len(ways))} | {b: t.tip for t in trunks for b in t.branches}
    return [
        SupportTip(
            where_mm=as_triple(way.tip),
            toward=as_triple(way.toward),
            deep_mm=float(depth[k]),
            long_mm=way.length_mm,
            trunk=trunk_of[k],
            on="model" if way.on_model else "bed",
            shown=bool(shown[k]),
        )
        for k, way in enumerate(ways)
    ]


def _unheld(places: list[UnheldPlace], placed: Placed | None) -> list[StillUnheld]:
    """Places that nothing holds, each with why."""
    if placed is None or not places:
        return [StillUnheld(p, NOT_HELD) for p in places]
    stretches = placed.held.stretches
    number, _ = placed.held.places()
    rows = np.flatnonzero(told_stretches(placed.held, placed.rules))
    if not len(rows):
        return [StillUnheld(p, NOT_HELD) for p in places]
    gap, near = PointTree(stretches.bottoms[rows]).nearest([p.where_mm for p in places])
    found = []
    for p, off, k in zip(places, gap, near, strict=True):
        same = np.flatnonzero(number == number[rows[k]])
        found.append(StillUnheld(p, placed.where.why(same) if off <= placed.rules.carry_mm else NOT_HELD))
    return found


def _off_the_bed(mesh: Mesh, supported: bool) -> tuple[Finding, ...]:
    """That a model with supports does not begin at the height of the bed."""
    low = float(mesh.bounds[0, 2])
    if not supported or abs(low) <= _OFF_BED_MM:
        return ()
    text = f"the model begins at z = {length_text(low)}; its supports stand at that height, not at 0"
    drop = remedy("pose", "drops it onto the bed first", PoseSettings(drop=True), anew=True)
    return (Finding("off_bed", "note", 1, text, remedies=(drop,)),)


def _findings(
    unheld: list[StillUnheld], proof: SupportsProof | None, tips: list[SupportTip], thin: Bools, s: SupportSettings
) -> tuple[Finding, ...]:
    found = []
    if unheld:
        area = sum(u.place.area_mm2 for u in unheld)
        text = f"nothing holds {count_text(len(unheld), 'place')} ({area_text(area)}): {_reasons(unheld)}"
        inside = any(u.why == INSIDE for u in unheld)
        ways = (remedy("", "supports rooms too, from within", SupportSettings(inside=True)),) if inside else ()
        found.append(Finding("unheld", "fault", len(unheld), text, unheld[0].place.where_mm, remedies=ways))
    if proof is not None:
        found += proof_findings(proof)
    stand = [t for t in tips if t.on == "model"]
    if stand:
        text = f"{count_text(len(stand), 'support')} on the model itself: no way leads from there to the bed"
        found.append(Finding("on_model", "note", len(stand), text, stand[0].where_mm))
    shown = [t for t in tips if t.shown]
    if shown:
        text = f"{count_text(len(shown), 'tip')} on the shown side: no other place holds as well"
        found.append(Finding("scars_shown", "note", len(shown), text, shown[0].where_mm))
    if thin.any():
        where = tips[int(np.flatnonzero(thin)[0])].where_mm
        count = count_text(int(thin.sum()), "tip")
        text = f"{count} less deep than {length_text(s.enter_mm)}: the model is too thin there"
        found.append(Finding("tips_shallow", "note", int(thin.sum()), text, where))
    return tuple(found)


_REASONS = {
    INSIDE: "in rooms of the model",
    KEPT_OFF: "where no tip may be",
    NO_WAY: "without a way down",
    NOT_HELD: "that the tips do not hold",
}


def _reasons(unheld: list[StillUnheld]) -> str:
    count = {why: sum(u.why == why for u in unheld) for why in _REASONS}
    return ", ".join(f"{n:,} {_REASONS[why]}" for why, n in count.items() if n)
