"""An open skin becomes a solid; thin walls become thick enough."""

from bolvek.operations.thicken.settings import BENEATH, SIDES, ThickenRecord, ThickenSettings
from bolvek.operations.thicken.thicken import thicken

__all__ = ["BENEATH", "SIDES", "ThickenRecord", "ThickenSettings", "thicken"]
