"""Cutting into pieces in words."""

from bolvek.operations.cut import CutRecord, FitPlan
from bolvek.report.words.common import MOST_LISTED, Row, limited
from bolvek.units import count_text, length_text, point_text, size_text, volume_text


def plan_text(plan: FitPlan) -> str:
    """The planes that make a model fit."""
    if not plan.planes:
        return f"it fits {size_text(plan.room_mm)} as it is"
    return f"{count_text(len(plan.planes), 'plane')} for {size_text(plan.room_mm)}"


def plan_rows(plan: FitPlan) -> list[Row]:
    """A row a plane: where, and how wide its section is where it is narrowest."""
    return [
        ("plane" if not k else "", f"{p.name}: the section is {width:.1f} mm wide in its narrowest region")
        for k, (p, width) in enumerate(zip(plan.planes, plan.narrowest_mm, strict=True))
    ]


def cut_text(r: CutRecord) -> str:
    """How many pieces, and what holds them together."""
    text = f"{count_text(len(r.planes), 'plane')}, {count_text(len(r.pieces), 'piece')}"
    if r.pegs:
        text += f", {count_text(len(r.pegs), 'peg')}"
    if r.lips:
        text += f", {count_text(len(r.lips), 'lip')}"
    return text + f"; {r.kept_faces:,} of {r.triangles_before:,} faces bit for bit as they were"


def cut_rows(r: CutRecord, *, most: int = MOST_LISTED) -> list[Row]:
    """Planes, pieces, pegs and lips, and how exact the cut is."""
    rows = limited(
        [
            ("cut" if not k else "", f"{k + 1}: {p.name}, {area:.1f} mm2")
            for k, (p, area) in enumerate(zip(r.planes, r.cut_mm2, strict=True))
        ],
        most,
    )
    told = []
    for p in r.pieces:
        text = f"{p.number}: {size_text(p.size_mm)}, {volume_text(p.volume_mm3)}"
        if p.fits is not None:
            text += ", fits" if p.fits else ", too large"
        text += ", laid on its cut" if p.laid else ""
        told.append(("piece" if p.number == 1 else "", text + (f"; to {p.file}" if p.file else "")))
    rows += limited(told, most)
    rows += limited(
        [
            (
                "peg" if not k else "",
                f"{p.pieces[0]} to {p.pieces[1]} at {point_text(p.at_mm)}: {p.diameter_mm:g} mm wide, "
                f"{p.length_mm:.2f} mm long; gap {length_text(p.gap_mm)}, wall around the socket at least "
                f"{length_text(p.wall_mm)}",
            )
            for k, p in enumerate(r.pegs)
        ],
        most,
    )
    if r.peg_file:
        rows.append(("loose pegs", f"{len(r.pegs)} to {r.peg_file}"))
    rows += limited(
        [
            (
                "lip" if not k else "",
                f"{p.pieces[0]} into {p.pieces[1]}: {p.height_mm:g} mm high, {p.thick_mm:g} mm thick, "
                f"{volume_text(p.volume_mm3)}; least gap measured {length_text(p.gap_mm)}",
            )
            for k, p in enumerate(r.lips)
        ],
        most,
    )
    exact = f"cut within {length_text(r.laid_mm)} of the planes; all pieces together are "
    rows.append(("exact", f"{exact}{abs(r.apart_mm3):.2g} mm3 {'more' if r.apart_mm3 > 0 else 'less'} than the model"))
    return rows
