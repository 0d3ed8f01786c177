"""What was read and what was written."""

from pathlib import Path

import numpy as np

from bolvek.arrays import Floats
from bolvek.formats.registry import Model
from bolvek.formats.safe import Written
from bolvek.units import bytes_text, count_text, size_text


def model_text(model: Model) -> str:
    """What was read."""
    text = (
        f"{count_text(len(model.mesh.faces), 'triangle')}, {size_text(model.mesh.size)}, {bytes_text(model.megabytes)}"
    )
    if model.format != "STL":
        text += f", {model.format}"
    if model.unit != "mm":
        text += f", numbers taken as {model.unit}"
    if model.parts is not None:
        text += f", {count_text(len(model.parts.names), 'named part')}"
    return "; ".join([text, *model.warnings])


def written_text(path: Path, written: Written) -> str:
    """What was written where, and what the format could not hold."""
    rounded = f"; float32 moved a coordinate by {written.rounded_mm:.2g} mm at most" if written.rounded_mm else ""
    lost = (
        f"; {path.suffix} holds no names: {count_text(written.names_lost, 'part')} lost theirs"
        if written.names_lost
        else ""
    )
    return f"{path} ({bytes_text(written.bytes / 1e6)}), read back and compared{rounded}{lost}"


_SIZE_SHARE = 1e-3
"""A side that changed by no more than this share counts as the same size."""


def size_rows(before: Floats, after: Floats) -> list[tuple[str, str, str]]:
    """A row that tells the size (3,) that a model has now, where it is another than it had."""
    if (np.abs(after - before) <= _SIZE_SHARE * np.max(before)).all():
        return []
    return [("size", f"{size_text(after)} instead of {size_text(before)}", "")]
