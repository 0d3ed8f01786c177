"""Fusing and carving in words."""

from bolvek.operations.fuse import FuseRecord, VoidMade
from bolvek.report.words.common import MOST_LISTED, Row, limited
from bolvek.units import area_text, count_text, length_text, point_text, volume_text


def fuse_text(r: FuseRecord) -> str:
    """What came together, and what of it."""
    if r.tools:
        text = f"{count_text(r.tools, 'tool')} out of {count_text(r.parts, 'part')}: {volume_text(r.changed_mm3)} taken"
    else:
        text = f"{count_text(r.parts, 'part')} into {count_text(r.bodies, 'body', 'bodies')}"
        shared = r.changed_mm3 + sum(v.volume_mm3 for v in r.filled)
        text += f": {volume_text(max(shared, 0.0))} in common"
    text += (
        f", {volume_text(r.after_mm3)} now; {r.kept_faces:,} of {r.triangles_before:,} faces bit for bit as they were"
    )
    done = [
        f"{count_text(n, 'shell')} turned to face out" if what == "turned" else f"{n:,} {what}"
        for n, what in ((r.turned, "turned"), (r.copies, "copies of faces dropped"), (r.recast, "parts recast"))
        if n
    ]
    if r.thick_mm2:
        done.append(f"{area_text(r.thick_mm2)} of thin material made as thick as it prints")
    if r.broken_through:
        done.append(f"{count_text(r.broken_through, 'void')} that broke through the skin read as cut out of it")
    if r.moved_mm > 0:
        done.append(f"corners that met moved by up to {length_text(r.moved_mm)}")
    return "; ".join([text, *done])


def fuse_rows(r: FuseRecord, *, most: int = MOST_LISTED) -> list[Row]:
    """Voids, what was brought together, what stays apart."""
    rows = []
    for what, voids in (("void kept", r.voids), ("void filled", r.filled)):
        rows += limited([(what if not k else "", _void_text(v)) for k, v in enumerate(voids)], most)
    rows += limited(
        [
            (
                "reached" if not k else "",
                f"{count_text(m.triangles, 'triangle')}, {volume_text(m.volume_mm3)}, {_brought(m.how)} by "
                f"{length_text(m.distance_mm)} from {point_text(m.where_mm)} into contact",
            )
            for k, m in enumerate(r.reached)
        ],
        most,
    )
    return rows


def _brought(how: str) -> str:
    return "moved" if how == "moved" else "grown where it faces the other"


def _void_text(v: VoidMade) -> str:
    return f"{volume_text(v.volume_mm3)} around {point_text(v.where_mm)}"
