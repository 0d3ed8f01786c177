"""From any file to one sound solid."""

from bolvek.operations.solid.plan import SolidPlan, plan_solid
from bolvek.operations.solid.settings import SolidSettings, Step
from bolvek.operations.solid.solid import MADE, SolidRecord, make_solid

__all__ = ["MADE", "SolidPlan", "SolidRecord", "SolidSettings", "Step", "make_solid", "plan_solid"]
