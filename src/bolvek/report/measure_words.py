"""Walls, overhangs and directions in words: rows of (what, text)."""

from bolvek.analyses.overhangs import OverhangRecord, OverhangZone
from bolvek.analyses.overhangs.directions import Comparison, Direction
from bolvek.analyses.thickness import Measured, WallEdge, WallRecord, WallZone
from bolvek.report.words import plural
from bolvek.units import length_text, point_text, size_text, volume_text

Row = tuple[str, str]

MOST_LISTED = 8
_MOST_LARGER = 50.0  # nobody enlarges a model further than this


def wall_rows(r: WallRecord, *, most: int = MOST_LISTED) -> list[Row]:
    """Everything measured about walls and gaps, what is thin first."""
    rows = [("too thin", f"{_percent(r.wall.below_share)} of the surface, {plural(r.zone_count, 'zone')}")]
    rows += _limited([(f"  {k}", _wall_zone_text(z)) for k, z in enumerate(r.zones, 1)], most)
    if r.edges:
        length = length_text(sum(e.length_mm for e in r.edges))
        rows.append(("edges", f"{len(r.edges):,} that taper to nothing, {length} in all"))
        rows += _limited([(f"  {k}", _edge_text(e)) for k, e in enumerate(r.edges, 1)], most)
    if r.prints_at:
        rows.append(("would print at", _prints_text(r)))
    rows.append(
        (
            "minimum",
            f"{length_text(r.min_mm)}; measured at {r.samples:,} places, {length_text(r.spacing_mm)} apart or less",
        )
    )
    rows.append(("wall", _measured_text(r.ray, "by rays")))
    if r.ball is not None:
        rows.append(("", _ball_text(r.ball, r.min_mm)))
    shares = [
        (r.edge_share, "beside an edge, where nothing is a wall"),
        (r.hidden_share, "inside other material"),
        (r.undefined_share, "without another side"),
    ]
    told = [f"{_percent(share)} {text}" for share, text in shares if share > 0]
    if told:
        rows.append(("not a wall", ", ".join(told)))
    if r.gap is not None:
        rows.append(("gaps", _measured_text(r.gap, "across air")))
        rows += _limited([(f"  {k}", _wall_zone_text(z)) for k, z in enumerate(r.gap_zones, 1)], most)
    return rows


def _percent(share: float) -> str:
    return f"{100 * share:.1f}%" if share >= 0.001 or share == 0 else f"{100 * share:.2g}%"


def _measured_text(m: Measured, how: str) -> str:
    if m.min_mm is None or m.max_mm is None:
        return "nowhere a wall"
    p = m.percentiles_mm
    return (
        f"{how} {length_text(m.min_mm)} to {length_text(m.max_mm)}; 1% below {length_text(p['1'])}, half below "
        f"{length_text(p['50'])}; on {_percent(m.measured_share)} of the surface"
    )


def _ball_text(m: Measured, min_mm: float) -> str:
    """Balls are looked for up to a few times the minimum only: nothing that depends on where they end is told."""
    if m.min_mm is None or m.min_mm >= min_mm:
        return "by balls nowhere thinner than the minimum"
    return f"by balls {length_text(m.min_mm)} at least, {_percent(m.below_share)} of the surface below the minimum"


def _wall_zone_text(z: WallZone) -> str:
    head = {"breakthrough": "broken through", "hole": f"{length_text(z.min_mm)}, as good as gone"}
    shells = f"shell {z.shells[0]}" if len(z.shells) == 1 else "shells " + ", ".join(str(s) for s in z.shells)
    words = head.get(z.kind, f"{length_text(z.min_mm)} at least, {length_text(z.mean_mm)} on average")
    return (
        f"{words}, {z.area_mm2:.3g} mm2, {size_text(z.size_mm)}, thinnest at {point_text(z.where_mm)}; "
        f"{z.decided}, {shells}"
    )


def _edge_text(e: WallEdge) -> str:
    return (
        f"{e.angle_deg:.0f} degrees, about {length_text(e.length_mm)} long, ends {length_text(e.recedes_mm)} short, "
        f"around {point_text(e.centre_mm)}, {size_text(e.size_mm)}"
    )


def _prints_text(r: WallRecord) -> str:
    words = []
    thinnest = r.prints_at.get("thinnest", 0.0)
    if thinnest > _MOST_LARGER:
        words.append("no size: its thinnest places are as good as nothing")
    elif "thinnest" in r.prints_at:
        down = "down to " if thinnest <= 1 else ""
        words.append(f"{down}{100 * thinnest:.1f}% of its size everything reaches the minimum")
    if "99_percent" in r.prints_at and thinnest > 1:
        words.append(f"{100 * r.prints_at['99_percent']:.1f}% of its size 99% of the surface does")
    return ", ".join(words)


def overhang_rows(r: OverhangRecord, *, most: int = MOST_LISTED) -> list[Row]:
    """Everything about one build direction: how it stands and what begins in the air first."""
    up = ", ".join(f"{x:.4g}" for x in r.up)
    habit = "stands on the bed" if r.habit == "stands" else "hangs from the plate"
    rows = [
        ("build", f"up {up}; {habit}; {length_text(r.height_mm)} tall, {r.layers:,} layers of {r.layer_mm:g} mm"),
        ("contact", _contact_text(r)),
    ]
    smaller = r.minima - r.islands
    note = (
        f"; {plural(smaller, 'smaller place')} where material begins join before a layer shows them" if smaller else ""
    )
    rows.append(("islands", f"{r.islands:,}{note}"))
    rows += _limited(
        [(f"  {k}", f"at {_at(i.where_mm, r)}, {length_text(i.height_mm)} up") for k, i in enumerate(r.island_list, 1)],
        most,
    )
    share = f"{100 * r.share:.1f}% of the surface"
    rows.append(("overhang", f"{_area(r.area_mm2)} flatter than {r.angle_deg:g} degrees, {share}"))
    rows += _zone_rows(r, most)
    support = f"{_volume(r.support_volume_mm3)} between overhang and what is beneath"
    if r.support_sealed_mm3 > 0:
        support += f", of which {_volume(r.support_sealed_mm3)} in sealed rooms"
    support += f"; {_area(r.support_footprint_mm2)} in plan"
    if r.footprint_on_part_mm2 > 0:
        support += f", {_area(r.footprint_on_part_mm2)} of it on the part itself"
    rows.append(("support", support))
    return rows


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
        rows.append(("", f"and {len(rest):,} more {word}, {_area(area)} and {_volume(volume)} in all; --details"))
    return rows


def _at(place: tuple[float, float, float], r: OverhangRecord) -> str:
    return point_text(place, r.height_mm)


def _area(mm2: float) -> str:
    return f"{mm2 / 100:.2f} cm2" if mm2 >= 100 else f"{mm2:.2f} mm2"


def _volume(mm3: float) -> str:
    return volume_text(mm3)


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
        f"{_at(z.lowest_mm, r)}, {_volume(z.support_mm3)} beneath"
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
    sealed = f" ({_volume(d.support_sealed_mm3)} in sealed rooms)" if d.support_sealed_mm3 > 0 else ""
    return (
        f"{d.score:.3f}: up {up} ({d.source}): {'falls over, ' if d.falls else ''}{_area(d.overhang_mm2)} over, "
        f"{plural(d.islands, 'island')}, about {_volume(d.support_volume_mm3)} support{sealed}, "
        f"{length_text(d.height_mm)} tall, {_area(d.bed_contact_mm2)} on the bed, {_area(d.section_mm2)} in the widest "
        "layer"
    )


def _limited(rows: list[Row], most: int) -> list[Row]:
    left = len(rows) - most
    return rows if left <= 0 else [*rows[:most], ("", f"and {left:,} more; --details tells all")]
