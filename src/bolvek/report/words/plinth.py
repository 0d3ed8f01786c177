"""Plinths in words."""

from bolvek.operations.plinth import PlinthRecord
from bolvek.report.words.common import Row
from bolvek.units import length_text, size_text, volume_text


def plinth_text(r: PlinthRecord) -> str:
    """What stands under it now."""
    return f"{r.shape}, {size_text(r.size_mm)}, {volume_text(r.added_mm3)} added; {_stands(r)}"


def _stands(r: PlinthRecord) -> str:
    return f"it may lean {r.tips_deg:.0f} degrees before it falls" if r.tips_deg > 0 else "it falls as it stands"


def plinth_rows(r: PlinthRecord) -> list[Row]:
    """How deep and on what it stands."""
    return [
        (
            "stands",
            f"sunk {length_text(r.sunk_mm)}, {r.carried_mm2:.1f} mm2 go into it; it stands on {r.base_mm2:.1f} mm2",
        )
    ]
