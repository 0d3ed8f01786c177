"""Writing without losing anything: beside the target, read back, compared, renamed."""

import os
import tempfile
from collections.abc import Callable, Iterable
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from bolvek.arrays import stored
from bolvek.errors import FileError
from bolvek.formats.kinds import FORMATS
from bolvek.formats.soup import Parts
from bolvek.formats.stl import stl_text
from bolvek.mesh import Mesh


class Inputs:
    """Files that may not be written, looked up once: on a disk that does not tell capitals apart, two names can be one
    file."""

    def __init__(self, paths: Iterable[Path]) -> None:
        self._paths: set[Path] = set()
        self._files: set[tuple[int, int]] = set()
        for path in paths:
            self._paths.add(Path(path).resolve())
            self._files |= _file_of(Path(path))

    def hold(self, path: Path) -> bool:
        """Whether a path leads to one of them."""
        return path.resolve() in self._paths or bool(self._files & _file_of(path))


def _file_of(path: Path) -> set[tuple[int, int]]:
    """What tells a file from all others, under whatever name; nothing where there is none."""
    try:
        found = os.stat(path)
    except OSError:
        return set()
    return {(found.st_dev, found.st_ino)}


def check_target(path: Path, inputs: Iterable[Path] | Inputs = (), *, replace: bool = False) -> None:
    """Raise FileError when `path` may not be written: before the heavy work, not after it."""
    inputs = inputs if isinstance(inputs, Inputs) else Inputs(inputs)
    if inputs.hold(path):
        raise FileError(f"{path} is the input itself; inputs are never changed, choose another name")
    if path.is_dir():
        raise FileError(f"{path} is a folder; name a file")
    if path.exists() and not replace:
        raise FileError(f"{path} exists already; choose another name or pass --replace")
    there = path.absolute().parent
    while not there.exists() and there != there.parent:
        there = there.parent
    if not there.is_dir():
        raise FileError(f"{there} is not a folder")
    if not os.access(there, os.W_OK):
        raise FileError(f"{path} cannot be written: the folder {there} takes no files from this user")


def write_bytes(
    path: Path,
    data: bytes,
    *,
    replace: bool,
    verify: Callable[[bytes], None] | None = None,
    announce: Callable[[bytes], None] | None = None,
) -> None:
    """Write beside `path`, read back, check, announce, rename. No partial file is ever left. Raises FileError."""
    check_target(path, replace=replace)
    handle = -1
    beside: Path | None = None
    try:
        path.parent.mkdir(parents=True, exist_ok=True)
        handle, name = tempfile.mkstemp(prefix=f".{path.name}.", suffix=".part", dir=path.parent)
        beside = Path(name)
        with os.fdopen(handle, "wb") as file:
            file.write(data)
            file.flush()
            os.fsync(file.fileno())
        back = beside.read_bytes()
        if back != data:
            raise FileError(f"{path}: what was written does not read back; the disk may be full or failing")
        if verify:
            verify(back)
        if announce:
            announce(back)
        mask = os.umask(0)
        os.umask(mask)
        os.chmod(beside, 0o666 & ~mask)
        if replace:
            os.replace(beside, path)
        else:
            _name_once(beside, path)
    except OSError as error:
        raise FileError(f"{path} cannot be written: {error.strerror or error}") from None
    finally:
        if beside is not None:
            beside.unlink(missing_ok=True)


def _name_once(beside: Path, path: Path) -> None:
    """Give the file its name, failing when somebody else took it meanwhile."""
    try:
        os.link(beside, path)
    except FileExistsError:
        raise FileError(f"{path} appeared while the work was going on; nothing was written over it") from None
    except OSError:  # no hard links here: the check before has to do
        os.replace(beside, path)


@dataclass(frozen=True)
class Written:
    """What a model file got: its size, how far rounding moved a coordinate (0: bit for bit), and how many names of
    parts the format has no place for."""

    bytes: int
    rounded_mm: float
    names_lost: int = 0


def keeps_parts(suffix: str, *, text: bool = False) -> bool:
    """Whether files of a suffix (text: STL as ASCII) have a place for the names of parts."""
    suffix = suffix.lower()
    return FORMATS[suffix].keeps_parts or (text and suffix == ".stl") if suffix in FORMATS else False


def check_suffix(path: Path) -> None:
    """Raise FileError for a suffix no model is written with."""
    if path.suffix.lower() not in FORMATS:
        known = ", ".join(FORMATS)
        raise FileError(f"{path}: models are written as {known}; '{path.suffix}' is not one of them")


@dataclass(frozen=True)
class Encoded:
    """A model as the bytes of a file. verify: raises FileError for bytes that do not read as the same triangles."""

    data: bytes
    verify: Callable[[bytes], None]
    written: Written


def encode_model(path: Path, mesh: Mesh, *, parts: Parts | None = None, text: bool = False) -> Encoded:
    """What `write_model` would write to a path. Raises FileError."""
    check_suffix(path)
    suffix = path.suffix.lower()
    if not len(mesh.faces):
        raise FileError(f"{path}: there is nothing to write, the model has no faces")
    if float(np.abs(mesh.bounds).max()) > 1e30:
        raise FileError(f"{path}: coordinates of {np.abs(mesh.bounds).max():.3g} mm do not fit a model file")
    as_text = text and suffix == ".stl"
    grouped = parts if keeps_parts(suffix, text=text) else None
    data = stl_text(mesh, grouped) if as_text else FORMATS[suffix].write(mesh, grouped)
    order = slice(None) if grouped is None else np.argsort(grouped.part, kind="stable")
    wanted = mesh.vertices[mesh.faces[order]]
    rounded = 0.0
    if suffix == ".stl" and not as_text:
        held = stored(wanted)
        rounded = float(np.abs(held - wanted).max())
        wanted = held

    def verify(back: bytes) -> None:
        soup = FORMATS[suffix].read(back, path)
        if not np.array_equal(soup.vertices[soup.faces], wanted):
            raise FileError(f"{path}: the written model does not read back as the same triangles")

    lost = len(parts.names) if parts is not None and grouped is None else 0
    return Encoded(data, verify, Written(len(data), rounded, lost))


def write_model(
    path: Path,
    mesh: Mesh,
    *,
    parts: Parts | None = None,
    text: bool = False,
    replace: bool = False,
    announce: Callable[[bytes], None] | None = None,
) -> Written:
    """Write in the format of the suffix; the file is parsed again and compared before it gets its name.

    text writes STL as ASCII. parts are kept by OBJ, 3MF and ASCII STL. Binary STL holds float32; all else holds every
    float64. announce is called with the bytes when all that is left is to give them their name. Raises FileError, also
    for coordinates beyond what the format holds.
    """
    made = encode_model(path, mesh, parts=parts, text=text)
    write_bytes(path, made.data, replace=replace, verify=made.verify, announce=announce)
    return made.written
