"""From any file to one sound solid."""

from bolvek.operations.solid.plan import SolidPlan, plan_solid
from bolvek.operations.solid.settings import Step, just_do
from bolvek.operations.solid.solid import MADE, SolidRecord, make_solid
from bolvek.settings.repairs import SolidSettings

__all__ = [
    "MADE",
    "SolidPlan",
    "SolidRecord",
    "SolidSettings",
    "Step",
    "just_do",
    "make_solid",
    "plan_solid",
]
