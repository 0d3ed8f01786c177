"""One door for reading models: what a file is, its content decides first and its name second."""

import re
from dataclasses import dataclass, replace
from pathlib import Path

import numpy as np

from bolvek.errors import FileError
from bolvek.formats import stl
from bolvek.formats.kinds import BY_NAME, FORMATS
from bolvek.formats.soup import Parts, Polygons
from bolvek.formats.text import OFF_HEADER, as_utf8
from bolvek.mesh import Mesh
from bolvek.units import MILLIMETRES, count_text

_OBJ_LINE = re.compile(rb"^[ \t]*(?:v[ \t]+[-+.\d]|f[ \t]+-?\d)", re.MULTILINE)
_PLY = re.compile(rb"ply\s*[\r\n]")


@dataclass(frozen=True)
class Model:
    """A file's content: its mesh in millimetres, where it came from and what reading it brought up.

    polygons counts the file's faces of more than three corners; parts names its pieces where it has
    more than one. `declared` is True where the file itself states its unit. support: what was left out of the mesh,
    since the file says that it only holds it while it is built.
    """

    path: Path
    mesh: Mesh
    format: str
    unit: str
    megabytes: float
    warnings: tuple[str, ...] = ()
    parts: Parts | None = None
    polygons: Polygons = Polygons()
    declared: bool = False
    support: Mesh | None = None

    def without_support(self) -> "Model":
        """The model without what the file says only holds it while it is built; itself where there is none, or nothing
        else."""
        if self.parts is None or not self.parts.support:
            return self
        kept = ~np.isin(self.parts.part, list(self.parts.support))
        if kept.all() or not kept.any():
            return self
        n = len(self.parts.support)
        told = f"{count_text(n, 'support object')} of the file left out: no part of the model"
        parts = replace(self.parts, part=self.parts.part[kept])
        mesh, support = self.mesh.picked(kept), self.mesh.picked(~kept)
        return replace(self, mesh=mesh, support=support, parts=parts, warnings=(*self.warnings, told))


def recognise(data: bytes) -> str | None:
    """The format that the bytes are, None when they are none that is known."""
    if data.startswith(b"PK\x03\x04") or data.startswith(b"PK\x05\x06"):
        return "3MF"
    head = as_utf8(data[:8000] if len(data) % 2 == 0 or len(data) > 8000 else data)
    if _PLY.match(head):
        return "PLY"
    if stl.fits_exactly(data):
        return "STL"
    if OFF_HEADER.match(head):
        return "OFF"
    if stl.is_text(head):
        return "STL"
    text = as_utf8(data)
    if b"\0" not in text[:4000] and _OBJ_LINE.search(text):
        return "OBJ"
    return "STL" if stl.is_binary(data) else None


def file_bytes(path: Path) -> bytes:
    """What a model file holds. Raises FileError where it cannot be read."""
    try:
        return path.read_bytes()
    except IsADirectoryError:
        raise FileError(f"{path} is a folder, not a model file") from None
    except OSError as error:
        raise FileError(f"{path} cannot be read: {error.strerror or error}") from None
    except MemoryError:
        raise FileError(f"{path} cannot be read: it does not fit into memory") from None


def read_model(path: Path | str, *, unit: str | None = None, data: bytes | None = None) -> Model:
    """Read a model file; `unit` is the unit of its numbers where the file does not say (None: mm).

    A unit given for a file that states its own wins, with a warning. Exactly equal points become one
    vertex, whatever the format. data: what the file holds, where that is known. Raises FileError.
    """
    path = Path(path)
    if unit is not None and unit not in MILLIMETRES:
        raise FileError(f"{path}: '{unit}' is not a unit; known are {', '.join(MILLIMETRES)}")
    data = file_bytes(path) if data is None else data
    if not data:
        raise FileError(f"{path}: the file is empty (0 bytes)")
    kind = FORMATS.get(path.suffix.lower())
    named = kind.name if kind else None
    found = recognise(data)
    if found is None:
        if named is None:
            raise FileError(f"{path}: not a model in a format that is read ({', '.join(BY_NAME)})")
        found = named  # its reader says best what is missing
    with np.errstate(all="ignore"):  # a number that no float holds is told in a sentence, not by NumPy
        soup = BY_NAME[found].read(data, path)
    warnings = list(soup.warnings)
    if named != found:
        said = f"named {path.suffix}" if path.suffix else "without a suffix"
        warnings.insert(0, f"{said}, but its content is {found}; read as {found}")
    used = unit or soup.unit or "mm"
    if unit and soup.unit and unit != soup.unit:
        warnings.append(f"the file states its unit as {soup.unit}; taken as {unit}, as asked")
    factor = MILLIMETRES[used]
    with np.errstate(over="ignore", invalid="ignore"):
        scaled = soup.vertices if factor == 1.0 else soup.vertices * factor
    largest = float(np.abs(scaled).max()) if len(scaled) else 0.0
    if not largest < 1e30:
        raise FileError(f"{path}: coordinates as large as {largest:.3g} mm are no model; export it again")
    mesh = Mesh.from_indexed(scaled, soup.faces)
    return Model(
        path, mesh, found, used, len(data) / 1e6, tuple(warnings), soup.parts, soup.polygons, soup.unit is not None
    )
