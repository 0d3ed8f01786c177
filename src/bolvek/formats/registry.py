"""One door for reading models."""

from dataclasses import dataclass
from pathlib import Path

from bolvek.errors import FileError
from bolvek.formats.stl import read_stl
from bolvek.mesh import Mesh
from bolvek.units import MILLIMETRES


@dataclass(frozen=True)
class Model:
    """A file's content: its mesh in millimetres, where it came from and what reading it brought up."""

    path: Path
    mesh: Mesh
    format: str
    unit: str
    megabytes: float
    warnings: tuple[str, ...] = ()


def read_model(path: Path | str, *, unit: str = "mm") -> Model:
    """Read a model file; numbers without a unit are taken as `unit`. Raises FileError."""
    path = Path(path)
    if unit not in MILLIMETRES:
        raise FileError(f"{path}: '{unit}' is not a unit; known are {', '.join(MILLIMETRES)}")
    try:
        data = path.read_bytes()
    except IsADirectoryError:
        raise FileError(f"{path} is a folder, not a model file") from None
    except OSError as error:
        raise FileError(f"{path} cannot be read: {error.strerror or error}") from None
    if not data:
        raise FileError(f"{path}: the file is empty (0 bytes)")
    corners, warnings = read_stl(data, path)
    return Model(path, Mesh.from_corners(corners * MILLIMETRES[unit]), "STL", unit, len(data) / 1e6, tuple(warnings))
