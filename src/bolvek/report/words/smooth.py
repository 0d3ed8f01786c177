"""Smoothing in words."""

from bolvek.operations.smooth import SmoothRecord
from bolvek.report.words.common import Row
from bolvek.units import length_text


def smooth_text(r: SmoothRecord) -> str:
    """How much calmer, how far off, what of the volume."""
    text = f"roughness {length_text(r.rough_before_mm)} to {length_text(r.rough_mm)}"
    text += f", {r.moved:,} of {r.vertices:,} vertices moved, {length_text(max(r.deviation_mm, r.deviation_back_mm))} "
    text += "at most"
    if r.volume_before_mm3 and r.volume_mm3 is not None:
        text += f", volume {100 * (r.volume_mm3 / r.volume_before_mm3 - 1):+.3f}%"
    return text


def smooth_rows(r: SmoothRecord, most_mm: float) -> list[Row]:
    """The deviation both ways, and what was held back."""
    rows = [
        (
            "deviation",
            f"old to new {length_text(r.deviation_mm)}, new to old {length_text(r.deviation_back_mm)}, allowed "
            f"{length_text(most_mm)}",
        )
    ]
    if r.at_limit:
        rows.append(("at limit", f"{r.at_limit:,} vertices went as far as they may"))
    return rows
