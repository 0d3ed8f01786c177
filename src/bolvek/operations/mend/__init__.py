"""Mending: closed and honest, without touching what was fine."""

from bolvek.operations.mend.fills import sharpest_bend
from bolvek.operations.mend.ladder import count_faults, mend, origin_parts
from bolvek.operations.mend.record import STEPS, STYLES, Faults, Left, MendRecord, MendSettings, MendStep, Place

__all__ = [
    "STEPS",
    "STYLES",
    "Faults",
    "Left",
    "MendRecord",
    "MendSettings",
    "MendStep",
    "Place",
    "count_faults",
    "mend",
    "origin_parts",
    "sharpest_bend",
]
