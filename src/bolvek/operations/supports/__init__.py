"""Supports: tips, their ways down, trunks, feet, and the body of them all."""

from bolvek.operations.supports.bodies import with_model
from bolvek.operations.supports.make import find_supports
from bolvek.operations.supports.record import SupportsRecord, SupportTip
from bolvek.settings.supports import SupportSettings

__all__ = ["SupportSettings", "SupportTip", "SupportsRecord", "find_supports", "with_model"]
