"""Walls and gaps in words."""

from bolvek.analyses.thickness import Measured, WallEdge, WallRecord, WallZone
from bolvek.report.words.common import MOST_LISTED, Row, limited, percent
from bolvek.units import area_text, count_text, length_text, point_text, size_text

_MOST_LARGER = 50.0  # nobody enlarges a model further than this


def wall_rows(r: WallRecord, *, most: int = MOST_LISTED) -> list[Row]:
    """Everything measured about walls and gaps, what is thin first."""
    rows = [("too thin", f"{percent(r.wall.below_share)} of the surface, {count_text(r.zone_count, 'zone')}")]
    rows += limited([(f"  {k}", _wall_zone_text(z)) for k, z in enumerate(r.zones, 1)], most)
    if r.edges:
        length = length_text(sum(e.length_mm for e in r.edges))
        rows.append(("edges", f"{len(r.edges):,} that taper to nothing, {length} in all"))
        rows += limited([(f"  {k}", _edge_text(e)) for k, e in enumerate(r.edges, 1)], most)
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
    told = [f"{percent(share)} {text}" for share, text in shares if share > 0]
    if told:
        rows.append(("not a wall", ", ".join(told)))
    if r.gap is not None:
        rows.append(("gaps", _measured_text(r.gap, "across air")))
        rows += limited([(f"  {k}", _wall_zone_text(z)) for k, z in enumerate(r.gap_zones, 1)], most)
    return rows


def wall_line(r: WallRecord) -> str:
    """One of many in one line."""
    thinnest = "nowhere a wall" if r.wall.min_mm is None else f"{length_text(r.wall.min_mm)} at the thinnest"
    return (
        f"{thinnest}; {percent(r.wall.below_share)} below {length_text(r.min_mm)} in {count_text(r.zone_count, 'zone')}"
    )


def _measured_text(m: Measured, how: str) -> str:
    if m.min_mm is None or m.max_mm is None:
        return "nowhere a wall"
    p = m.percentiles_mm
    return (
        f"{how} {length_text(m.min_mm)} to {length_text(m.max_mm)}; 1% below {length_text(p['1'])}, half below "
        f"{length_text(p['50'])}; on {percent(m.measured_share)} of the surface"
    )


def _ball_text(m: Measured, min_mm: float) -> str:
    """Balls are looked for up to a few times the minimum only: nothing that depends on where they end is told."""
    if m.min_mm is None or m.min_mm >= min_mm:
        return "by balls nowhere thinner than the minimum"
    return f"by balls {length_text(m.min_mm)} at least, {percent(m.below_share)} of the surface below the minimum"


def _wall_zone_text(z: WallZone) -> str:
    head = {"breakthrough": "broken through", "hole": f"{length_text(z.min_mm)}, as good as gone"}
    shells = f"shell {z.shells[0]}" if len(z.shells) == 1 else "shells " + ", ".join(str(s) for s in z.shells)
    words = head.get(z.kind, f"{length_text(z.min_mm)} at least, {length_text(z.mean_mm)} on average")
    return (
        f"{words}, {area_text(z.area_mm2)}, {size_text(z.size_mm)}, thinnest at {point_text(z.where_mm)}; "
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
