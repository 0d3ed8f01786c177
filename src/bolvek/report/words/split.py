"""Splitting and joining in words."""

from bolvek.operations.split import SplitRecord
from bolvek.report.words.common import MOST_LISTED, Row, limited
from bolvek.units import count_text, size_text, volume_text


def split_text(r: SplitRecord) -> str:
    """Into how many, and by what."""
    how = "by the names in the file" if r.by == "name" else "by what hangs together"
    text = f"{count_text(len(r.parts), 'part')} {how}"
    if r.strays:
        text += f", {count_text(r.strays, 'stray')} {'gathered' if r.stray_file else 'left out'}"
    return text


def split_rows(r: SplitRecord, *, most: int = MOST_LISTED) -> list[Row]:
    """A row a part."""
    told = []
    for p in r.parts:
        text = f"{p.number}: {f'{p.name}, ' if p.name else ''}{size_text(p.size_mm)}, "
        text += f"{count_text(p.triangles, 'triangle')}, "
        text += volume_text(p.volume_mm3) if p.volume_mm3 is not None else "closed" if p.closed else "open"
        if p.cavities:
            text += f" with {count_text(p.cavities, 'void')}"
        told.append(("part" if p.number == 1 else "", text + (f"; to {p.file}" if p.file else "")))
    rows = limited(told, most)
    if r.stray_file:
        rows.append(("strays", f"{r.strays} to {r.stray_file}"))
    if r.left_out:
        rows.append(("left out", f"{r.left_out:,} of {r.triangles:,} triangles"))
    return rows
