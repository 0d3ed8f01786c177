"""An open skin becomes a solid; thin walls become thick enough."""

from bolvek.operations.thicken.settings import ThickenRecord
from bolvek.operations.thicken.thicken import thicken
from bolvek.settings.repairs import BENEATH, SIDES, ThickenSettings

__all__ = ["BENEATH", "SIDES", "ThickenRecord", "ThickenSettings", "thicken"]
