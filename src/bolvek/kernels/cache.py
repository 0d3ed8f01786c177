"""Where compiled kernels are kept.

Numba's on-disk cache does not notice an edited callee in another file, so the folder is keyed by the version and by
a hash of every kernel's source.
"""

import functools
import hashlib
import importlib.metadata
import os
import stat
import tempfile
from pathlib import Path

from bolvek import __version__


def source_digest() -> str:
    """A short hash of the source of all kernels (hex, 16 digits)."""
    digest = hashlib.sha256()
    for path in sorted(Path(__file__).parent.rglob("*.py")):
        digest.update(path.read_bytes())
    return digest.hexdigest()[:16]


def find_cache_folder() -> Path:
    """The folder for compiled kernels; a temporary one where the usual place cannot be written.

    Compiled code is run as it is found, so a folder in the common temporary directory is used only when it is
    ours and nobody else can write there; else a fresh one.
    """
    chosen = os.environ.get("BOLVEK_CACHE")
    name = f"kernels-{__version__}-numba{importlib.metadata.version('numba')}-{source_digest()}"
    folder = (Path(chosen) if chosen else _user_cache()) / name
    try:
        folder.mkdir(parents=True, exist_ok=True)
        if os.access(folder, os.W_OK):
            return folder
    except OSError:
        pass
    root = Path(tempfile.gettempdir()) / f"bolvek-{os.getuid() if hasattr(os, 'getuid') else 0}"
    try:
        root.mkdir(mode=0o700, exist_ok=True)
        if is_ours(root):
            folder = root / name
            folder.mkdir(exist_ok=True)
            return folder
    except OSError:
        pass
    return Path(tempfile.mkdtemp(prefix="bolvek-"))


@functools.cache
def cache_folder() -> Path:
    """`find_cache_folder`, asked once a run."""
    return find_cache_folder()


def _user_cache() -> Path:
    import platformdirs

    return Path(platformdirs.user_cache_dir("bolvek"))


def is_ours(folder: Path) -> bool:
    """Whether a folder (no link to one) belongs to this user and nobody else can write in it."""
    found = folder.lstat()
    ours = not hasattr(os, "getuid") or found.st_uid == os.getuid()
    return stat.S_ISDIR(found.st_mode) and ours and not found.st_mode & 0o022
