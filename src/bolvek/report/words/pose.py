"""Posing in words."""

from bolvek.operations.pose import PoseRecord
from bolvek.units import length_text, size_text


def pose_text(record: PoseRecord) -> str:
    """Sizes, where it stands now and on how much."""
    text = (
        f"{size_text(record.before_mm)} becomes {size_text(record.after_mm)}, lowest at z = {record.lowest_mm:.2f} mm"
    )
    text += f", {record.bed_mm2 / 100:.2f} cm2 on the bed" if record.bed_mm2 else ", standing on no flat side"
    if record.laid_above_mm is not None and record.laid_above_mm > record.flat_mm:
        text += f"; the face laid is {length_text(record.laid_above_mm)} above the bed: something else reaches lower"
    return text
