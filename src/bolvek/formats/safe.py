"""Writing without losing anything: beside the target, read back, compared, renamed."""

import os
import tempfile
from collections.abc import Callable, Iterable
from pathlib import Path

import numpy as np

from bolvek.errors import FileError
from bolvek.formats.stl import read_stl, stl_bytes
from bolvek.mesh import Mesh


def check_target(path: Path, inputs: Iterable[Path] = (), *, replace: bool = False) -> None:
    """Raise FileError when `path` may not be written: before the heavy work, not after it."""
    for source in inputs:
        if path.resolve() == Path(source).resolve():
            raise FileError(f"{path} is the input itself; inputs are never changed, choose another name")
    if path.is_dir():
        raise FileError(f"{path} is a folder; name a file")
    if path.exists() and not replace:
        raise FileError(f"{path} exists already; choose another name or pass --replace")
    if path.parent.exists() and not path.parent.is_dir():
        raise FileError(f"{path.parent} is not a folder")


def write_bytes(path: Path, data: bytes, *, replace: bool, verify: Callable[[bytes], None] | None = None) -> None:
    """Write beside `path`, read back, check, rename. No partial file is ever left. Raises FileError."""
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


def write_model(path: Path, mesh: Mesh, *, replace: bool = False) -> int:
    """Write binary STL; the file is parsed again and compared before it gets its name. Bytes written.

    Raises FileError, also for a suffix other than .stl and for coordinates beyond float32.
    """
    if path.suffix.lower() != ".stl":
        raise FileError(f"{path}: models are written as .stl; '{path.suffix}' is not known")
    if len(mesh.faces) and float(np.abs(mesh.bounds).max()) > 1e30:
        raise FileError(f"{path}: coordinates of {np.abs(mesh.bounds).max():.3g} mm do not fit an STL file")
    data = stl_bytes(mesh)

    def verify(back: bytes) -> None:
        found, _ = read_stl(back, path)
        if not np.array_equal(found, mesh.vertices.astype(np.float32)[mesh.faces]):
            raise FileError(f"{path}: the written model does not read back as the same triangles")

    write_bytes(path, data, replace=replace, verify=verify)
    return len(data)
