"""Old against new in words."""

from bolvek.analyses.deviation import CompareRecord, OneWay, far_text
from bolvek.report.words.common import MOST_LISTED, limited
from bolvek.units import count_text, length_text, number_text, point_text, size_text, volume_text

Styled = tuple[str, str, str]


def compare_line(record: CompareRecord) -> str:
    """What became of the faces, and how far the surfaces are apart."""
    if record.same:
        return f"all {count_text(record.triangles_new, 'face')} bit for bit the same"
    words = [f"{record.kept:,} of {count_text(record.triangles_old, 'face')} bit for bit the same"]
    for n, what in ((record.turned, "turned"), (record.gone, "gone"), (record.added, "new")):
        if n:
            words.append(f"{n:,} {what}")
    if len(words) == 1:
        words.append("not all of them as often")
    return ", ".join(words) + f"; {far_text(record)}"


def _way_text(way: OneWay) -> str:
    if way.where_mm is None or not way.max_mm:
        return "nowhere off"
    return f"{length_text(way.max_mm)} at most, at {point_text(way.where_mm)}; {length_text(way.mean_mm)} in the mean"


def compare_rows(record: CompareRecord, *, most: int = MOST_LISTED) -> list[Styled]:
    """Everything, row by row."""
    rows: list[Styled] = [("faces", compare_line(record), "")]
    if record.same:
        return rows
    rows.append(("old to new", _way_text(record.to_new), ""))
    rows.append(("new to old", _way_text(record.to_old), ""))
    old, new = record.size_old_mm, record.size_new_mm
    text = _became(size_text(old), size_text(new), equal=old == new)
    if old != new and size_text(old) == size_text(new):
        text += ": " + ", ".join(
            f"{axis} {'+' if b > a else '-'}{length_text(abs(b - a))}"
            for axis, a, b in zip("xyz", old, new, strict=True)
            if a != b
        )
    rows.append(("size", text, ""))
    was, now = record.volume_old_mm3, record.volume_new_mm3
    volumes = ["no volume" if v is None else volume_text(v) for v in (was, now)]
    text = _became(*volumes, equal=was == now)
    if was and now and was != now:
        more = "more" if now > was else "less"
        text += f": {volume_text(abs(now - was))} {more} ({number_text(100 * abs(now / was - 1), 2)}%)"
    rows.append(("volume", text, ""))
    rows.append(("shells", _became(f"{record.shells_old:,}", f"{record.shells_new:,}"), ""))
    rows.append(("openings", _became(f"{record.openings_old:,}", f"{record.openings_new:,}"), ""))
    zones = [
        (f"  {k}", f"{count_text(z.count, 'face')} at {point_text(z.where_mm)}, {size_text(z.size_mm)}")
        for k, z in enumerate(record.moved, 1)
    ]
    if zones:
        rows.append(("moved", count_text(len(zones), "place"), ""))
        rows += [(name, text, "") for name, text in limited(zones, most)]
    rows.append(("sampled", f"changed faces, every {length_text(record.spacing_mm)} and at their corners", "dim"))
    return rows


def _became(old: str, new: str, *, equal: bool | None = None) -> str:
    """As before only where it is equal, not where it merely reads the same."""
    if old == new:
        return f"{new}, as before" if equal or equal is None else f"about {new} as before"
    return f"{old} became {new}"
