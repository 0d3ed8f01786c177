"""Any soup of faces becomes one closed solid."""

from bolvek.operations.recast.recast import recast
from bolvek.operations.recast.settings import RecastRecord, not_enclosed
from bolvek.settings.repairs import INSIDES, RecastSettings

__all__ = ["not_enclosed", "INSIDES", "RecastRecord", "RecastSettings", "recast"]
