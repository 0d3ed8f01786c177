"""Folders of files: all of them or none."""

import os
import shutil
import tempfile
from collections.abc import Iterable
from pathlib import Path

from bolvek.errors import FileError


def check_folder(path: Path, *, replace: bool) -> None:
    """Raise FileError when a folder of files may not be written there: it is a file, or holds something already."""
    if path.exists() and not path.is_dir():
        raise FileError(f"{path} is a file; name a folder")
    if path.is_dir() and any(path.iterdir()) and not replace:
        raise FileError(f"{path} holds files already; choose another folder or pass --replace")


def write_folder(path: Path, files: Iterable[tuple[str, bytes]], *, replace: bool) -> int:
    """Write files into a folder, which gets its name when all are there; returns how many.

    replace: into one that holds others, which stay. Raises FileError.
    """
    check_folder(path, replace=replace)
    beside: Path | None = None
    count = 0
    try:
        path.parent.mkdir(parents=True, exist_ok=True)
        beside = Path(tempfile.mkdtemp(prefix=f".{path.name}.", suffix=".part", dir=path.parent))
        for name, data in files:
            (beside / name).write_bytes(data)
            if (beside / name).stat().st_size != len(data):
                raise FileError(f"{path}: what was written does not read back; the disk may be full or failing")
            count += 1
        mask = os.umask(0)
        os.umask(mask)
        os.chmod(beside, 0o777 & ~mask)
        if path.is_dir() and any(path.iterdir()):
            for file in sorted(beside.iterdir()):
                os.replace(file, path / file.name)
        else:
            if path.is_dir():
                path.rmdir()
            os.rename(beside, path)
    except OSError as error:
        raise FileError(f"{path} cannot be written: {error.strerror or error}") from None
    finally:
        if beside is not None and beside.exists():
            shutil.rmtree(beside)
    return count
