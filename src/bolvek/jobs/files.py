"""Which files a command line means."""

from collections.abc import Sequence
from pathlib import Path

from bolvek.errors import FileError
from bolvek.formats.kinds import FORMATS


def expand(paths: Sequence[Path]) -> list[Path]:
    """Files as they are, folders as all model files in and below them, sorted. Raises FileError."""
    found: list[Path] = []
    for path in paths:
        if not path.is_dir():
            found.append(path)
            continue
        inside = sorted(p for p in path.rglob("*") if p.suffix.lower() in FORMATS and p.is_file())
        if not inside:
            raise FileError(f"{path}: no model in this folder ({', '.join(FORMATS)})")
        found += inside
    return list(dict.fromkeys(found))
