"""Scaling in words."""

from bolvek.operations.scale import ScaleRecord
from bolvek.units import size_text, volume_text


def scale_text(record: ScaleRecord) -> str:
    """The factor and the sizes."""
    factors = f"{record.factor:.6g}" if record.factor is not None else " x ".join(f"{f:.6g}" for f in record.factors)
    text = f"by {factors}: {size_text(record.before_mm)} becomes {size_text(record.after_mm)}"
    if record.volume_before_mm3 is not None and record.volume_after_mm3 is not None:
        text += f", {volume_text(record.volume_before_mm3)} becomes {volume_text(record.volume_after_mm3)}"
    return text
