"""Closed meshes put together."""

from bolvek.operations.fuse.unite import unite

__all__ = ["unite"]
