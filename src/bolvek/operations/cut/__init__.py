"""Cutting convex bodies out of closed meshes."""

from bolvek.operations.cut.assemble import subtract, subtract_and_trace
from bolvek.operations.cut.body import ConvexBody, lofted, prism
from bolvek.operations.cut.clip import TooClose

__all__ = ["ConvexBody", "TooClose", "lofted", "prism", "subtract", "subtract_and_trace"]
