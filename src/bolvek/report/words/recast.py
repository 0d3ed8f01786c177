"""Recasting and slimming in words."""

from bolvek.operations.recast import RecastRecord
from bolvek.operations.slim import SlimRecord
from bolvek.units import area_text, count_text, length_text, point_text, volume_text

Styled = tuple[str, str, str]


def recast_text(record: RecastRecord) -> str:
    """What it was made with, and what came out."""
    text = (
        f"grid {length_text(record.grid_mm)}, bridge {length_text(record.bridge_mm)}: "
        f"{count_text(record.parts, 'part')}, {volume_text(record.volume_mm3)}, "
        f"{record.triangles_before_slim:,} slimmed to {count_text(record.triangles, 'triangle')}"
    )
    if record.edge_points:
        text += f"; sharp edges brought back at {record.edge_points:,} points"
    if record.grown_mm2:
        text += f"; {area_text(record.grown_mm2)} of thin faces made {length_text(2 * record.grow_mm)} thick"
    if record.thick_mm2:
        text += f"; {area_text(record.thick_mm2)} of thin material made {length_text(record.least_mm)} thick"
    return text


def recast_rows(record: RecastRecord) -> list[Styled]:
    """What became of voids, of what was thin, of the surface."""
    rows: list[Styled] = []
    voids = [
        f"{count_text(n, 'void')} {what}"
        for n, what in ((record.voids_filled, "filled"), (record.cavities, "kept"))
        if n
    ]
    if voids:
        rows.append(("voids", ", ".join(voids), ""))
    for name, way in (("old to new", record.to_new), ("new to old", record.to_old)):
        if way.where_mm is not None:
            far = f"{length_text(way.max_mm)} at most, at {point_text(way.where_mm)}"
            rows.append((name, f"{far}; {length_text(way.mean_mm)} in the mean", ""))
    for name, area, zones, why in (
        ("lost", record.lost_mm2, record.lost, "of the original have nothing near them: too fine for the grid"),
        ("added", record.added_mm2, record.added, "of the result lie off the original: bridges over gaps"),
    ):
        if area >= 0.01:
            place = (
                f"; {count_text(len(zones), 'place')}, the largest at {point_text(zones[0].where_mm)}" if zones else ""
            )
            rows.append((name, f"{area_text(area)} {why}{place}", "yellow"))
    return rows


def slim_text(record: SlimRecord) -> str:
    """From how many to how many, and how far off."""
    return (
        f"{record.triangles_before:,} to {count_text(record.triangles_after, 'triangle')}; the surface moved "
        f"{length_text(record.deviation_mm)} at most, measured both ways"
    )
