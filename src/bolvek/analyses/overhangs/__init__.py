"""What a build direction does to a model, and which direction is best."""

from bolvek.analyses.overhangs.overhangs import OverhangRecord, OverhangSettings, OverhangZone, find_overhangs

__all__ = ["OverhangRecord", "OverhangSettings", "OverhangZone", "find_overhangs"]
