"""What a build direction does to a model, and which direction is best."""

from bolvek.analyses.overhangs.overhangs import ANGLE_SLACK_DEG, find_layer_islands, find_overhangs
from bolvek.analyses.overhangs.record import Island, OverhangRecord, OverhangZone, judged_by_hold
from bolvek.settings.measures import BRIDGE_MOST_MM, OverhangSettings

__all__ = [
    "ANGLE_SLACK_DEG",
    "BRIDGE_MOST_MM",
    "Island",
    "OverhangRecord",
    "OverhangSettings",
    "OverhangZone",
    "find_layer_islands",
    "find_overhangs",
    "judged_by_hold",
]
