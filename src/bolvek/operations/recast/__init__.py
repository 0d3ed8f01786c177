"""Any soup of faces becomes one closed solid."""

from bolvek.operations.recast.recast import recast
from bolvek.operations.recast.settings import INSIDES, RecastRecord, RecastSettings

__all__ = ["INSIDES", "RecastRecord", "RecastSettings", "recast"]
