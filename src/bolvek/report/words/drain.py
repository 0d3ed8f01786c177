"""Drains in words."""

from bolvek.operations.drain import DrainRecord, GivenUp, Placed
from bolvek.units import length_text, point_text

_MOST_HOLES = 4


def placed_text(placed: list[Placed], given_up: list[GivenUp]) -> str:
    """Where drains go."""
    texts = []
    for p in placed[:_MOST_HOLES]:
        end = "lowest" if p.role == "drain" else "highest"
        off = length_text(p.above_extreme_mm)
        texts.append(f"{p.role} at {point_text(p.bore.mouth)}, {off} from the cavity's {end} point")
    if len(placed) > _MOST_HOLES:
        texts.append(f"{len(placed) - _MOST_HOLES:,} more")
    if given_up:
        n = len(given_up)
        which = "cavity that no hole reaches stays" if n == 1 else "cavities that no hole reaches stay"
        texts.append(f"{n:,} {which} solid")
    return "; ".join(texts)


def drain_text(record: DrainRecord) -> str:
    """The holes that were cut."""
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
