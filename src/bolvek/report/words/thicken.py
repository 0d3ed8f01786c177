"""Thickening in words."""

from bolvek.analyses.finding import Finding
from bolvek.operations.thicken import ThickenRecord, still_thin
from bolvek.units import area_text, count_text, length_text, point_text, volume_text

Styled = tuple[str, str, str]

THIN_SHARE = 0.001
"""Of the area: what is thinner than can be printed on more than that makes the verdict "thin"."""


def thicken_text(record: ThickenRecord) -> str:
    """What was done, in one line."""
    kept = f"{record.kept_faces:,} of {record.triangles_before:,} faces bit for bit as they were"
    if record.way == "walls":
        before, after = record.thin_before_mm2 or 0.0, record.thin_after_mm2 or 0.0
        if not before:
            return f"no wall is thinner than {length_text(record.thickness_mm)}: nothing was changed"
        return (
            f"{area_text(before)} thinner than {length_text(record.thickness_mm)} before, {area_text(after)} now, "
            f"in {count_text(record.filled, 'patch', 'patches')}; {kept}"
        )
    sheets = count_text(record.sheets, "sheet")
    if record.way == "foot":
        beneath = f"hollow with a wall of {length_text(record.thickness_mm)}" if record.thickness_mm else "solid"
        return f"{sheets} on a foot, {beneath}, {volume_text(record.volume_mm3)}; {kept}"
    return (
        f"{sheets} made {length_text(record.thickness_mm)} thick: {100 * (record.share_full or 0.0):.1f}% of the area "
        f"as measured, {length_text(record.least_mm or 0.0)} at least; {kept}"
    )


def thicken_verdict(record: ThickenRecord) -> str:
    """ "done", or "thin" where something is thinner than can be printed, or than asked of walls."""
    if record.way == "walls":
        return "thin" if still_thin(record.thin_before_mm2 or 0.0, record.thin_after_mm2 or 0.0) else "done"
    return "thin" if record.below_mm2 > THIN_SHARE * record.area_mm2 else "done"


def thicken_rows(record: ThickenRecord) -> list[Styled]:
    """What was done on the way, and what is thin."""
    rows: list[Styled] = []
    if record.turned:
        rows.append(("turned", f"{count_text(record.turned, 'face')} that disagreed with the rest", ""))
    if record.trimmed_mm2:
        rows.append(("trimmed", f"{area_text(record.trimmed_mm2)} off the rim", "yellow"))
    if record.closed and record.way != "walls":
        rows.append(("closed", f"{count_text(record.closed, 'closed shell')} left as they were", ""))
    if record.way == "skin":
        way = "smoothed normals" if record.smoothed else "the normals"
        how = [f"the other side follows {way if record.along is None else f'the direction {point_text(record.along)}'}"]
        if record.backed_off:
            how.append(f"{record.backed_off:,} vertices could not go all the way")
        if record.filled:
            on = f" on a grid of {length_text(record.cell_mm)}" if record.cell_mm else ""
            how.append(f"thin places filled{on}")
        rows.append(("way", "; ".join(how), ""))
        rows.append(("thickness", f"{length_text(record.mean_mm or 0.0)} in the mean, as measured from the skin", ""))
    if record.given_up:
        rows.append(
            ("left", f"{count_text(record.given_up, 'patch', 'patches')} could not be thickened cleanly", "yellow")
        )
    if record.way == "walls" and record.least_mm is not None:
        rows.append(("least", f"{length_text(record.least_mm)} at thin places that are left", "yellow"))
    rows += [(f.code, f.text, "yellow") for f in thicken_findings(record)]
    rows.append(("solid", f"{volume_text(record.volume_mm3)}, {count_text(record.triangles, 'triangle')}", ""))
    return rows


def thicken_findings(record: ThickenRecord) -> tuple[Finding, ...]:
    """Places thinner than can be printed, and those that a direction gains nothing at."""
    found = []
    for code, area, zones, why in (
        ("thin", record.below_mm2, record.below, "thinner than can be printed"),
        (
            "steep",
            record.steep_mm2,
            record.steep,
            "along the direction: it makes them no thicker than that can be printed",
        ),
    ):
        if zones:
            where = f"in {count_text(len(zones), 'place')}, the largest at {point_text(zones[0].where_mm)}"
            text = f"{area_text(area)} {why}, {where}"
            found.append(Finding(code, "note", len(zones), text, zones[0].where_mm))
    if record.way == "walls" and thicken_verdict(record) == "thin":
        text = f"{area_text(record.thin_after_mm2 or 0.0)} of wall stay thinner than {length_text(record.thickness_mm)}"
        found.append(Finding("thin", "fault", 1, text))
    return tuple(found)
