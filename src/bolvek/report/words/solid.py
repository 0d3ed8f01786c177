"""The way to a solid in words."""

from bolvek.operations.solid import SolidRecord
from bolvek.units import count_text, length_text, volume_text


def solid_text(record: SolidRecord) -> str:
    """The way that was taken, why, and how far the surface moved."""
    text = f"{record.way}: {record.why}"
    if record.recast is not None:
        r = record.recast
        text += (
            f"; on a grid of {length_text(r.grid_mm)}, bridge {length_text(r.bridge_mm)}: "
            f"{count_text(r.parts, 'part')} of {volume_text(r.volume_mm3)}, {length_text(r.to_new.max_mm)} from the "
            f"original at most"
        )
    if record.cavities:
        text += f"; {count_text(record.cavities, 'closed void')} filled"
    return text
