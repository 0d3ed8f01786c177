"""Overhangs and build directions in words."""

from bolvek.analyses.held import HeldRecord
from bolvek.analyses.overhangs import OverhangRecord, OverhangZone
from bolvek.analyses.overhangs.directions import Comparison, Direction
from bolvek.report.words.common import MOST_LISTED, Row, limited
from bolvek.units import count_text, length_text, point_text, volume_text


def overhang_rows(r: OverhangRecord, held: HeldRecord | None = None, *, most: int = MOST_LISTED) -> list[Row]:
    """Everything about one build direction: how it stands and what begins in the air first; what holds, if known."""
    up = ", ".join(f"{x:.4g}" for x in r.up)
    habit = "stands on the bed" if r.habit == "stands" else "hangs from the plate"
    rows = [
        ("build", f"up {up}; {habit}; {length_text(r.height_mm)} tall, {r.layers:,} layers of {r.layer_mm:g} mm"),
        ("contact", _contact_text(r)),
    ]
    smaller = r.minima - r.islands
    note = (
        f"; {count_text(smaller, 'smaller place')} where material begins join before a layer shows them"
        if smaller
        else ""
    )
    rows.append(("islands", f"{r.islands:,}{note}"))
    rows += limited(
        [(f"  {k}", f"at {_at(i.where_mm, r)}, {length_text(i.height_mm)} up") for k, i in enumerate(r.island_list, 1)],
        most,
    )
    share = f"{100 * r.share:.1f}% of the surface"
    rows.append(("overhang", f"{_area(r.area_mm2)} flatter than {r.angle_deg:g} degrees, {share}"))
    rows += _zone_rows(r, most)
    support = f"{volume_text(r.support_volume_mm3)} to be held, between overhangs and what is beneath"
    if r.support_sealed_mm3 > 0:
        support += f", of which {volume_text(r.support_sealed_mm3)} in sealed rooms"
    support += f"; {_area(r.support_footprint_mm2)} in plan"
    if r.footprint_on_part_mm2 > 0:
        support += f", {_area(r.footprint_on_part_mm2)} of it on the part itself"
    rows.append(("support", support))
    return rows if held is None else _held_rows(held, r, most) + rows


def _held_rows(h: HeldRecord, r: OverhangRecord, most: int) -> list[Row]:
    """What nothing holds, and what would."""
    rules = f"{h.angle_deg:g} degrees, reach {length_text(h.reach_mm)}"
    rules += f", bridges up to {length_text(h.bridge_most_mm)}" if h.bridge_most_mm else ""
    small = f"; {count_text(h.smaller, 'place')} too small to count" if h.smaller else ""
    small += f"; measured in columns {length_text(h.pixel_mm)} wide"
    if h.held:
        return [("held", f"every layer holds without supports ({rules}){small}")]
    kinds = [count_text(n, word) for n, word in ((h.islands, "island"), (h.ledges, "ledge")) if n]
    rows = [("not held", f"{' and '.join(kinds)}, {_area(h.area_mm2)} ({rules}){small}")]
    rows += limited(
        [
            (f"  {k}", f"{p.kind}, {_area(p.area_mm2)}, from {length_text(p.height_mm)} up, at {_at(p.where_mm, r)}")
            for k, p in enumerate(h.places, 1)
        ],
        most,
    )
    told = "hold every layer" if h.held_by_tips else "do not hold every layer yet"
    rows.append(("tips", f"{count_text(len(h.tips), 'tip')} {told}; each holds {length_text(h.carry_mm)} around it"))
    return rows + limited(
        [(f"  {k}", f"at {_at(t.where_mm, r)}, {length_text(t.height_mm)} up") for k, t in enumerate(h.tips, 1)], most
    )


def overhang_line(r: OverhangRecord) -> str:
    """One of many in one line."""
    return (
        f"{_area(r.area_mm2)} over, {count_text(r.islands, 'island')}, {volume_text(r.support_volume_mm3)} support, "
        f"{length_text(r.height_mm)} tall, {_area(r.bed_contact_mm2)} on the bed"
    )


_TELLING = 0.001  # of all support, or of all overhang: a zone with less of both is summed up, not listed


def _zone_rows(r: OverhangRecord, most: int) -> list[Row]:
    """Zones that weigh something, by the support they need; the rest in one line."""
    zones = sorted(r.zones, key=lambda z: (-z.support_mm3, -z.area_mm2))
    told = [
        z
        for z in zones
        if z.support_mm3 >= _TELLING * r.support_volume_mm3 or z.area_mm2 >= _TELLING * r.area_mm2 or most > MOST_LISTED
    ][:most]
    rows = [(f"  {k}", _overhang_zone_text(z, r)) for k, z in enumerate(told, 1)]
    rest = [z for z in zones if z not in told] if len(told) < len(zones) else []
    if rest:
        area, volume = sum(z.area_mm2 for z in rest), sum(z.support_mm3 for z in rest)
        word = "zone" if len(rest) == 1 else "zones"
        rows.append(("", f"and {len(rest):,} more {word}, {_area(area)} and {volume_text(volume)} in all; --details"))
    return rows


def _at(place: tuple[float, float, float], r: OverhangRecord) -> str:
    return point_text(place, r.height_mm)


def _area(mm2: float) -> str:
    return f"{mm2 / 100:.2f} cm2" if mm2 >= 100 else f"{mm2:.2f} mm2"


def _contact_text(r: OverhangRecord) -> str:
    text = f"{_area(r.bed_contact_mm2)} on the bed in the first half layer, {length_text(r.foot_mm)} wide at least"
    if r.bed_margin_mm is not None:
        side = "inside" if r.bed_margin_mm >= 0 else "outside"
        text += f"; the centre of mass stands {length_text(abs(r.bed_margin_mm))} {side} it"
    return text


def _overhang_zone_text(z: OverhangZone, r: OverhangRecord) -> str:
    kind = {"bridge": "bridge", "cantilever": "overhang", "free": "bottom of an island"}[z.kind]
    reach = ""
    if z.kind == "bridge":
        reach = f", spans {length_text(z.span_mm or 0.0)}"
    elif z.reach_mm is not None:
        reach = f", reaches out {length_text(z.reach_mm)}"
        if z.span_mm is not None:
            reach += f" (a bridge of {length_text(z.span_mm)}, too long)"
    return (
        f"{kind}, {_area(z.area_mm2)}{reach}, {z.flattest_deg:.0f} degrees at the flattest, lowest at "
        f"{_at(z.lowest_mm, r)}, {volume_text(z.support_mm3)} beneath"
    )


def direction_rows(c: Comparison) -> list[Row]:
    """The best directions and the present one, a line each."""
    mix = ", ".join(f"{name} {weight:g}" for name, weight in c.weights.items() if weight)
    rows = [("compared", f"{c.tried} directions; score = shares of the worst, weighed {mix}; lower is better")]
    rows += [(f"  {k}", _direction_text(d)) for k, d in enumerate(c.best, 1)]
    rows.append(("  as it is", _direction_text(c.now)))
    return rows


def _direction_text(d: Direction) -> str:
    up = ",".join(f"{x:.4f}" for x in d.up)
    sealed = f" ({volume_text(d.support_sealed_mm3)} in sealed rooms)" if d.support_sealed_mm3 > 0 else ""
    needed = ""
    if d.supports is not None:
        n = d.supports
        scars = f"{n.scars_mm2:.1f} mm2 of scars"
        needed = f"; about {count_text(n.tips, 'tip')}, {scars}, {volume_text(n.volume_mm3)} of columns"
    return (
        f"{d.score:.3f}: up {up} ({d.source}): {'falls over, ' if d.falls else ''}{_area(d.overhang_mm2)} over, "
        f"{count_text(d.islands, 'island')}, about {volume_text(d.support_volume_mm3)} support{sealed}, "
        f"{length_text(d.height_mm)} tall, {_area(d.bed_contact_mm2)} on the bed, {_area(d.section_mm2)} in the widest "
        f"layer{needed}"
    )
