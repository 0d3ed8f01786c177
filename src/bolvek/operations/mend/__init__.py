"""Mending: closed and honest, without touching what was fine."""

from bolvek.operations.mend.fills import sharpest_bend
from bolvek.operations.mend.ladder import concluded, count_faults, mend, origin_parts
from bolvek.operations.mend.record import (
    FAULT_WORDS,
    LEFT_CODES,
    Faults,
    Left,
    MendRecord,
    MendStep,
    Place,
    left_counted,
    left_texts,
)
from bolvek.settings.repairs import STEPS, STYLES, MendSettings

__all__ = [
    "FAULT_WORDS",
    "LEFT_CODES",
    "STEPS",
    "STYLES",
    "Faults",
    "Left",
    "MendRecord",
    "MendSettings",
    "MendStep",
    "Place",
    "concluded",
    "count_faults",
    "left_counted",
    "left_texts",
    "mend",
    "origin_parts",
    "sharpest_bend",
]
