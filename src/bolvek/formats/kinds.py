"""The formats that are read and written: one line each. Their modules bring kernels and parsers of their own, and are
imported when a file of theirs is there."""

import importlib
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Any

from bolvek.formats.text import as_utf8

if TYPE_CHECKING:
    from bolvek.formats.soup import Parts, Soup
    from bolvek.mesh import Mesh


@dataclass(frozen=True)
class Format:
    """A format: its name, the module under `bolvek.formats`, the functions there that read and write it, whether what
    it holds is text throughout, and whether it has a place for the names of parts."""

    name: str
    module: str
    reader: str
    writer: str
    text: bool = False
    keeps_parts: bool = False

    def read(self, data: bytes, path: Path) -> "Soup":
        """What the bytes of a file hold. Raises FileError."""
        return self._function(self.reader)(as_utf8(data) if self.text else data, path)

    def write(self, mesh: "Mesh", parts: "Parts | None") -> bytes:
        """A mesh as the bytes of a file."""
        return self._function(self.writer)(mesh, parts)

    def _function(self, name: str) -> Callable[..., Any]:
        return getattr(importlib.import_module(f"bolvek.formats.{self.module}"), name)


FORMATS = {
    ".stl": Format("STL", "stl", "read_stl", "stl_bytes"),
    ".obj": Format("OBJ", "obj", "read_obj", "obj_bytes", text=True, keeps_parts=True),
    ".ply": Format("PLY", "ply", "read_ply", "ply_bytes", text=True),
    ".off": Format("OFF", "off", "read_off", "off_bytes", text=True),
    ".3mf": Format("3MF", "threemf", "read_3mf", "threemf_bytes", keeps_parts=True),
}
"""Formats by the suffix of a file."""

BY_NAME = {known.name: known for known in FORMATS.values()}
