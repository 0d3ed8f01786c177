"""What is asked about a build direction, and what is told of it: plain values."""

from dataclasses import dataclass, replace

import numpy as np

from bolvek.analyses.finding import Finding, Judged
from bolvek.analyses.held import HeldRecord
from bolvek.arrays import Floats
from bolvek.settings import remedy
from bolvek.settings.measures import OverhangSettings
from bolvek.units import Triple, area_text, count_text, length_text, volume_text

FOOT_SHARE = 0.01
"""A foot narrower than this share of the height, or than two layers, is a point or an edge."""


@dataclass(frozen=True)
class OverhangZone:
    """Overhanging faces that hang together. kind: "bridge" (flat, held on opposite sides of each of its places in one
    direction, no longer than the longest bridge), "free" (nothing holds it: the bottom of an island) or "cantilever".

    lowest_mm: its lowest point; reach_mm: farthest it gets from what holds it (None when nothing does); span_mm: how
    long the bridge is, or would be where it is too long for one; support_mm3: room between it and what is beneath.
    """

    kind: str
    area_mm2: float
    lowest_mm: Triple
    centre_mm: Triple
    size_mm: Triple
    flattest_deg: float
    reach_mm: float | None
    span_mm: float | None
    support_mm3: float


@dataclass(frozen=True)
class Island:
    """A place above the bed where material begins with nothing beneath; height_mm above the bed."""

    where_mm: Triple
    height_mm: float


@dataclass(frozen=True, kw_only=True)
class OverhangRecord(Judged):
    """Overhangs for one direction. Lengths mm, areas mm2, volumes mm3.

    minima counts every place where material begins above the bed; islands are those that stay alone until the
    middle of a layer cuts them, as slicing shows them. Support is what must be held: bridges, on the bed, need none.
    support_sealed_mm3: of the support, what would stand in
    rooms without a way out. bed_margin_mm: how far inside the contact's outline the centre of mass stands (negative:
    outside), None without a volume; foot_mm: how wide the contact is at least. open_skin: some shell is an open skin.
    """

    up: Triple
    angle_deg: float
    layer_mm: float
    habit: str
    bridge_most_mm: float
    area_mm2: float
    share: float
    islands: int
    minima: int
    bridges: int
    bridge_area_mm2: float
    cantilevers: int
    cantilever_area_mm2: float
    support_volume_mm3: float
    support_sealed_mm3: float
    support_footprint_mm2: float
    footprint_on_part_mm2: float
    bed_contact_mm2: float
    foot_mm: float
    height_mm: float
    layers: int
    centre_of_mass_mm: Triple | None
    bed_margin_mm: float | None
    open_skin: bool
    zones: list[OverhangZone]
    island_list: list[Island]
    findings: tuple[Finding, ...]

    @property
    def verdict(self) -> str:
        """Whether anything needs support, or else falls over."""
        faults = {f.code for f in self.findings if f.severity == "fault"}
        if not faults:
            return "prints as it stands"
        return "needs support" if faults & {"islands", "overhangs", "unheld"} else "does not stand"


_TURNS = (remedy("pose", "turns it to where it prints best of a hundred directions", best=1),)


def findings_of(r: OverhangRecord) -> tuple[Finding, ...]:
    """What falls short, worst first: what falls over, what begins in the air, what hangs."""
    found = []
    stands = r.habit == "stands"
    if stands and r.bed_margin_mm is not None and r.bed_margin_mm < 0:
        text = f"the centre of mass stands {length_text(-r.bed_margin_mm)} outside the contact: it would fall over"
        found.append(Finding("topples", "fault", 1, text, r.centre_of_mass_mm, remedies=_TURNS))
    if stands and r.foot_mm < max(2 * r.layer_mm, FOOT_SHARE * r.height_mm):
        text = f"it stands on a point or an edge, {length_text(r.foot_mm)} wide in the first layer: it does not stand"
        found.append(Finding("no_foot", "fault", 1, text, remedies=_TURNS))
    if r.islands:
        text = f"{r.islands:,} island{'' if r.islands == 1 else 's'}: material begins with nothing beneath"
        found.append(Finding("islands", "fault", r.islands, text, r.island_list[0].where_mm, remedies=_TURNS))
    hold = [z for z in r.zones if z.kind != "bridge" or not stands]
    if hold:
        area = sum(z.area_mm2 for z in hold)
        word = "zone overhangs" if len(hold) == 1 else "zones overhang"
        text = f"{len(hold):,} {word} flatter than {r.angle_deg:g} degrees, {area / 100:.2f} cm2"
        long = [z.span_mm for z in hold if z.span_mm is not None and z.kind != "bridge"]
        if long and stands:
            text += f"; of them {len(long):,} would bridge more than {length_text(r.bridge_most_mm)}"
            text += f", up to {length_text(max(long))}"
        found.append(Finding("overhangs", "fault", len(hold), text, hold[0].lowest_mm, remedies=_TURNS))
    if r.support_sealed_mm3 > 0:
        text = (
            f"{volume_text(r.support_sealed_mm3)} of the support would stand in sealed rooms, where nobody reaches it"
        )
        found.append(Finding("support_sealed", "note", 1, text))
    spans = [z for z in r.zones if z.kind == "bridge" and stands]
    if spans:
        widest = max(spans, key=lambda z: z.span_mm or 0.0)
        word = "bridge" if len(spans) == 1 else "bridges"
        text = f"{len(spans):,} {word}, the widest spans {length_text(widest.span_mm or 0.0)}"
        found.append(Finding("bridges", "note", len(spans), text, widest.centre_mm))
    if r.open_skin:
        text = "an open skin: which side is up is as its faces say, and it has no thickness to stand on"
        found.append(Finding("open_skin", "note", 1, text))
    if stands and r.bed_margin_mm is None:
        text = "whether it falls over is not judged: it is open, and encloses no volume with a centre"
        found.append(Finding("fall_not_judged", "note", 1, text))
    return tuple(found)


def judged_by_hold(r: OverhangRecord, held: HeldRecord) -> OverhangRecord:
    """The record where it was measured what holds: that decides, and what overhangs or begins in the air is a note."""
    told = [replace(f, severity="note") if f.code in ("islands", "overhangs") else f for f in r.findings]
    if not held.held:
        count = len(held.places)
        text = f"nothing holds {count_text(count, 'place')} ({area_text(held.area_mm2)}) while they are built"
        told.insert(0, Finding("unheld", "fault", count, text, held.places[0].where_mm, remedies=_TURNS))
    return replace(r, findings=tuple(told))


def up_of(settings: OverhangSettings) -> Floats:
    """The unit vector upward (3,)."""
    up = np.array(settings.up, np.float64)
    return np.asarray(up / np.linalg.norm(up))
