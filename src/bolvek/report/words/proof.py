"""The proof in words."""

from bolvek.analyses.proof import ProofRecord
from bolvek.units import count_text, point_text, volume_text


def proof_line(record: ProofRecord) -> str:
    """The proof in one line."""
    crossing = {d.code: d.count for d in (*record.defects, *record.defects_as_stored)}.get("self_intersections", 0)
    rooms = [c for c in record.cavities if c.holds]
    parts = [
        "sound" if record.sound and record.sound_as_stored else "not sound",
        f"{crossing:,} self-intersections",
        f"{len(rooms)} {'cavity' if len(rooms) == 1 else 'cavities'}",
        count_text(record.drains, "opening"),
    ]
    if record.wall:
        parts.append(f"wall {record.wall.min_mm:.3f} mm at least")
    return ", ".join(parts)


CLAUSES = {
    "sound": "sound",
    "material": "counted once",
    "voids": "voids open",
    "ways": "ways out",
    "liquid": "drains",
    "wall": "wall",
}
"""Clauses of the proof as they are called in the text."""


_MOST_CAVITIES = 12


def proof_text(record: ProofRecord) -> list[tuple[str, str]]:
    """The proof as rows of (what, figures)."""
    rows = [(CLAUSES[c.name], c.text if c.state != "fails" else "no, see the fault below") for c in record.clauses]
    rows.append(
        (
            "solid",
            f"{count_text(record.bodies, 'part')}, {count_text(record.triangles, 'triangle')}, "
            f"{record.volume_mm3 / 1000:.2f} cm3 of material",
        )
    )
    rooms = [c for c in record.cavities if c.holds]
    bores = sum(c.bore and not c.pocket for c in record.cavities)
    if bores:
        rows.append(
            ("bores", f"{count_text(bores, 'bore or groove', 'bores or grooves')}: as wide at a mouth as within")
        )
    for cavity in rooms[:_MOST_CAVITIES]:
        ways = "; ".join(f"{o.width_mm:.1f} mm at {point_text(o.where_mm)}" for o in cavity.openings)
        if not ways:
            ways = "no way out" if cavity.closed else "none wide enough to be seen"
        size = volume_text(cavity.volume_mm3)
        rows.append(("cavity", f"{size} near {point_text(cavity.where_mm)}, openings: {ways}"))
    if len(rooms) > _MOST_CAVITIES:
        rest = rooms[_MOST_CAVITIES:]
        rows.append(("cavity", f"{len(rest):,} more, {volume_text(sum(c.volume_mm3 for c in rest))} in all"))
    if record.kept:
        k = record.kept
        rows.append(
            (
                "outer surface",
                f"{k.faces:,} of {k.of:,} faces of the original bit for bit, {k.cut:,} cut by holes "
                f"({k.taken_out_mm2:.1f} mm2 taken out)",
            )
        )
    if record.wall:
        w = record.wall
        asked = f", asked {w.asked_mm:.3f} mm within {w.tolerance_mm:.3f} mm" if w.asked_mm else ""
        tapers = f"; {w.tapering_mm2:.1f} mm2 taper to an edge" if w.tapering_mm2 >= 0.05 else ""
        rows.append(
            (
                "measured",
                f"min {w.min_mm:.3f} mm at {point_text(w.where_mm)}, 1% {w.p1_mm:.3f} mm, "
                f"median {w.median_mm:.3f} mm{asked}, on {w.of}; all ways between corners, creases and edges, "
                f"{w.samples:,} samples {w.spacing_mm:.2f} mm apart between flat faces{tapers}",
            )
        )
    if record.voxel_mm is not None:
        rows.append(
            (
                "method",
                f"rooms told on {record.voxel_mm:.2f} mm voxels: what a ball of {record.ball_mm:.1f} mm cannot roll "
                "into from outside; ways out and walls measured on the surface",
            )
        )
    return rows


def clause_text(record: ProofRecord, name: str) -> str:
    """What one clause says."""
    return next(c.text for c in record.clauses if c.name == name)


def proof_verdict(record: ProofRecord) -> str:
    """The last line: the verdict, and what it does not cover."""
    if record.verdict == "fit":
        return f"fit to print; wall: {clause_text(record, 'wall')}"
    if record.verdict == "unfit":
        unjudged = [CLAUSES[c.name] for c in record.clauses if c.state == "not judged"]
        more = f" (not judged: {', '.join(unjudged)})" if unjudged else ""
        return f"unfit, see the faults{more}"
    rooms = sum(c.holds for c in record.cavities)
    cavities = "no cavity" if not rooms else f"{rooms} {'cavity' if rooms == 1 else 'cavities'}"
    return f"wall not judged: sound, {count_text(record.bodies, 'part')}, {cavities}"
