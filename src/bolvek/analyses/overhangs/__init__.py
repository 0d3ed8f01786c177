"""What a build direction does to a model, and which direction is best."""

from bolvek.analyses.overhangs.overhangs import ANGLE_SLACK_DEG, find_layer_islands, find_overhangs
from bolvek.analyses.overhangs.record import (
    BRIDGE_MOST_MM,
    Island,
    OverhangRecord,
    OverhangSettings,
    OverhangZone,
)

__all__ = [
    "ANGLE_SLACK_DEG",
    "BRIDGE_MOST_MM",
    "Island",
    "OverhangRecord",
    "OverhangSettings",
    "OverhangZone",
    "find_layer_islands",
    "find_overhangs",
]
