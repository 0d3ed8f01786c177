"""Thickening in words."""

from bolvek.operations.thicken import ThickenRecord
from bolvek.units import area_text, count_text, length_text, point_text, volume_text

Styled = tuple[str, str, str]


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
    rows.append(("solid", f"{volume_text(record.volume_mm3)}, {count_text(record.triangles, 'triangle')}", ""))
    return rows
