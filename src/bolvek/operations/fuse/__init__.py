"""Closed meshes put together."""

from bolvek.operations.fuse.parts import fuse_parts, parts_of
from bolvek.operations.fuse.unite import unite

__all__ = ["fuse_parts", "parts_of", "unite"]
