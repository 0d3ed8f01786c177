"""Cutting convex bodies out of closed meshes."""

from bolvek.operations.convex.assemble import subtract, subtract_and_trace
from bolvek.operations.convex.body import ConvexBody, lofted, prism
from bolvek.operations.convex.clip import TooClose

__all__ = ["ConvexBody", "TooClose", "lofted", "prism", "subtract", "subtract_and_trace"]
