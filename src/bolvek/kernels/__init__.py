"""Numba kernels: loops over flat arrays that know nothing of files, options or words.

Numba's on-disk cache does not notice an edited callee in another file, so the cache folder is
keyed by the version and by a hash of every kernel's source. The folder has to be set before the
first kernel is decorated, which is why it happens here, when the package is imported.
"""

import hashlib
import os
import stat
import tempfile
from pathlib import Path

import numba
import platformdirs

from bolvek import __version__


def source_digest() -> str:
    """A short hash of the source of all kernels (hex, 16 digits)."""
    digest = hashlib.sha256()
    for path in sorted(Path(__file__).parent.rglob("*.py")):
        digest.update(path.read_bytes())
    return digest.hexdigest()[:16]


def cache_folder() -> Path:
    """The folder for compiled kernels; a temporary one where the usual place cannot be written.

    Compiled code is run as it is found, so a folder in the common temporary directory is used only when it is
    ours and nobody else can write there; else a fresh one.
    """
    chosen = os.environ.get("BOLVEK_CACHE")
    base = Path(chosen) if chosen else Path(platformdirs.user_cache_dir("bolvek"))
    name = f"kernels-{__version__}-numba{numba.__version__}-{source_digest()}"
    folder = base / name
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


def is_ours(folder: Path) -> bool:
    """Whether a folder (no link to one) belongs to this user and nobody else can write in it."""
    found = folder.lstat()
    ours = not hasattr(os, "getuid") or found.st_uid == os.getuid()
    return stat.S_ISDIR(found.st_mode) and ours and not found.st_mode & 0o022


CACHE_FOLDER = cache_folder()
numba.config.CACHE_DIR = str(CACHE_FOLDER)

kernel = numba.njit(cache=True, nogil=True, error_model="numpy")
