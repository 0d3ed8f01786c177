"""Where compiled kernels are kept.

Numba's on-disk cache does not notice an edited callee in another file, so each module of kernels has a folder keyed by
a hash of its source and of all the modules that it calls: an edit has only those compiled anew that it can change.
"""

import functools
import hashlib
import os
import re
import stat
import tempfile
from pathlib import Path

from bolvek import __version__

_ROOM = Path(__file__).parent
_CALLED = re.compile(r"^from bolvek\.kernels\.([\w.]+) import", re.MULTILINE)


def _file(module: str) -> Path:
    return _ROOM.joinpath(*module.split(".")).with_suffix(".py")


@functools.cache
def _source(module: str) -> tuple[bytes, tuple[str, ...]]:
    """What a module's file holds, and the modules that it imports from."""
    data = _file(module).read_bytes()
    return data, tuple(sorted(set(_CALLED.findall(data.decode()))))


@functools.cache
def module_digest(module: str) -> str:
    """A short hash (hex, 16 digits) of what a module's compiled code depends on: how kernels are made, its source, and
    that of the modules that it calls; and where and of when they are, since Numba takes nothing that another copy or an
    older file has left."""
    digest = hashlib.sha256(str(_ROOM).encode() + (_ROOM / "__init__.py").read_bytes())
    found, waiting = set(), [module]
    while waiting:
        one = waiting.pop()
        if one not in found:
            found.add(one)
            waiting += _source(one)[1]
    for one in sorted(found):
        digest.update(_source(one)[0] + str(_file(one).stat().st_mtime_ns).encode())
    return digest.hexdigest()[:16]


def module_folder(module: str) -> Path:
    """The folder for the compiled kernels of a module, as it is now."""
    return cache_folder() / f"{module}-{module_digest(module)}"


def find_cache_folder() -> Path:
    """The folder for compiled kernels; a temporary one where the usual place cannot be written.

    Compiled code is run as it is found, so a folder in the common temporary directory is used only when it is
    ours and nobody else can write there; else a fresh one.
    """
    import numba  # whoever asks for kernels needs it next

    chosen = os.environ.get("BOLVEK_CACHE")
    name = f"kernels-{__version__}-numba{numba.__version__}"
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
