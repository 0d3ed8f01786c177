"""Drains in words."""

from bolvek.operations.drain import AutoRecord, DrainRecord, GivenUp, Placed, PlugRecord, RoomDrained
from bolvek.report.words.common import Row, percent
from bolvek.units import count_text, length_text, point_text, volume_text

_MOST_HOLES = 4


def placed_text(placed: list[Placed], given_up: list[GivenUp], left: str = "solid") -> str:
    """Where drains go; what cavities without one are left: solid, or closed."""
    texts = []
    for p in placed[:_MOST_HOLES]:
        end = "lowest" if p.role == "drain" else "highest"
        off = f"{length_text(p.above_extreme_mm)} from" if p.above_extreme_mm >= 0.005 else "at"
        where = f"{point_text(p.bore.mouth)}{' in another room or a deep recess' if p.bore.indoors else ''}"
        texts.append(f"{p.role} at {where}, inside it opens {off} the cavity's {end} point")
    if len(placed) > _MOST_HOLES:
        texts.append(f"{len(placed) - _MOST_HOLES:,} more")
    if given_up:
        n = len(given_up)
        which = "cavity that no hole reaches stays" if n == 1 else "cavities that no hole reaches stay"
        texts.append(f"{n:,} {which} {left}")
    return "; ".join(texts)


def drain_text(record: DrainRecord) -> str:
    """The holes that were cut."""
    if not record.holes:
        return "no hole was cut"
    holes = [
        f"{h.diameter_mm:.2f} mm {'blind hole' if h.blind else 'hole'}, "
        + (
            f"{length_text(h.wall_max_mm)} deep"
            if h.blind
            else f"through {length_text(h.wall_min_mm)} to {length_text(h.wall_max_mm)} of wall"
        )
        for h in record.holes[:_MOST_HOLES]
    ]
    if len(record.holes) > _MOST_HOLES:
        holes.append(f"{len(record.holes) - _MOST_HOLES:,} more")
    return f"{'; '.join(holes)}; {record.volume_removed_mm3:.1f} mm3 taken out"


def flood_text(placed: list[Placed], given_up: list[GivenUp], auto: AutoRecord, left: str = "closed") -> str:
    """Holes found by flooding, and what they leave; what cavities without one are left."""
    text = placed_text(placed, given_up, left)
    rooms = [r for r in auto.rooms if r.holes or not r.drains]
    if not rooms:
        return text or "nothing stays: no hole is needed"
    of = volume_text(sum(r.volume_mm3 for r in rooms))
    found = f"{volume_text(auto.stays_mm3)} of {of} stay ({count_text(auto.rounds, 'round')} of cutting and flooding)"
    return f"{text}; {found}" if text else found


def room_rows(auto: AutoRecord) -> list[Row]:
    """What stays in each room, before and after."""
    rows = []
    for k, r in enumerate(auto.rooms, 1):
        rows.append((f"room {k}", room_text(r)))
    up = ", ".join(f"{x:.4g}" for x in auto.up)
    rows.append(("method", f"flooded with {up} up on columns {auto.pixel_mm:.3g} mm apart, after every cut"))
    return rows


def room_text(r: RoomDrained) -> str:
    """One room."""
    text = f"{volume_text(r.volume_mm3)} around {point_text(r.where_mm)}: {volume_text(r.held_mm3)} stayed, "
    text += f"{volume_text(r.stays_mm3)} stay ({percent(r.stays_mm3 / max(r.volume_mm3, 1e-300))})"
    if r.holes:
        text += f" with hole{'s' if len(r.holes) > 1 else ''} {', '.join(str(k + 1) for k in r.holes)}"
    if r.air_mm3 > 0.01 * r.volume_mm3:
        text += f"; {volume_text(r.air_mm3)} of air stay when it is immersed"
    return f"{text}; no further hole: {r.given_up}" if r.given_up else text


def airs(auto: AutoRecord) -> bool:
    """Whether air finds its way into every room."""
    return all(r.air_mm3 <= 0.05 * r.volume_mm3 for r in auto.rooms)


def drained_all(auto: AutoRecord) -> bool:
    """Whether no more stays in any room than may."""
    return all(r.drains for r in auto.rooms)


def tried_text(record: DrainRecord) -> str:
    """What a number of holes leaves."""
    auto = record.auto
    assert auto is not None
    held = sum(r.held_mm3 for r in auto.rooms)
    air = sum(r.air_mm3 for r in auto.rooms)
    text = f"{count_text(len(record.holes), 'hole')}, {volume_text(auto.stays_mm3)} of {volume_text(held)} stay"
    text += f", {volume_text(air)} of air when it is immersed"
    return text if drained_all(auto) else f"{text}; more stays than may"


def plug_rows(plugs: list[PlugRecord]) -> list[Row]:
    """A row a plug, or why there is none."""
    rows = []
    for p in plugs:
        if p.reason:
            rows.append((f"plug {p.hole}", f"none: {p.reason}"))
            continue
        text = f"{p.file}: {p.wide_mm:.2f} to {p.narrow_mm:.2f} mm wide, {length_text(p.tall_mm)} tall, "
        text += f"{p.volume_mm3:.1f} mm3; {p.clearance_mm:g} mm of clearance, {p.taper_deg:g} degrees of taper"
        rows.append((f"plug {p.hole}", text))
    return rows
