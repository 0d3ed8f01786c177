"""STL, binary and ASCII, told apart by content: many binary files begin with the word "solid".

Binary: 80 bytes of header, a uint32 count, 50 bytes a face (normal, three corners as float32, two
attribute bytes). ASCII: `facet`, `outer loop`, three `vertex` lines, one or more `solid` blocks.
"""

import re
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from bolvek.errors import FileError
from bolvek.mesh import Mesh

_RECORD = np.dtype([("normal", "<f4", 3), ("corners", "<f4", (3, 3)), ("attribute", "<u2")])
_HEADER = 84
_VERTEX = re.compile(rb"\bvertex\b([^\r\n]*)", re.IGNORECASE)


def read_stl(data: bytes, path: Path) -> tuple[NDArray[np.float64], list[str]]:
    """Corners (F, 3, 3) float64 in file units, and warnings. Raises FileError."""
    if _is_binary(data):
        return _read_binary(data, path)
    if re.match(rb"\s*solid\b", data, re.IGNORECASE) and re.search(
        rb"\b(facet|endsolid)\b", data[:2000], re.IGNORECASE
    ):
        return _read_ascii(data, path)
    if len(data) < _HEADER:
        raise FileError(f"{path}: not an STL model: {len(data)} bytes, a binary STL needs at least {_HEADER}")
    count = int(np.frombuffer(data, "<u4", 1, 80)[0])
    have = (len(data) - _HEADER) // 50
    if 0 < count < 2**31 and have < count and _plausible(data, min(have, 1000)):
        raise FileError(
            f"{path}: the file is cut short: its header promises {count} triangles, the data ends after {have}; "
            "get a whole copy of the file"
        )
    raise FileError(f"{path}: not an STL model: neither facets in text nor a binary triangle list that fits its size")


def _is_binary(data: bytes) -> bool:
    if len(data) < _HEADER:
        return False
    count = int(np.frombuffer(data, "<u4", 1, 80)[0])
    needed = _HEADER + 50 * count
    if len(data) == needed:
        return True
    if len(data) < needed:
        return False
    # trailing bytes: accept unless it reads as text
    return b"\0" in data[: _HEADER + 50] or not re.match(rb"\s*solid\b", data, re.IGNORECASE)


def _plausible(data: bytes, faces: int) -> bool:
    """Whether the first faces hold numbers a model could hold."""
    if faces == 0:
        return True
    corners = np.frombuffer(data, _RECORD, faces, _HEADER)["corners"]
    with np.errstate(invalid="ignore", over="ignore"):
        return bool((np.abs(corners) < 1e9).mean() > 0.9)


def _read_binary(data: bytes, path: Path) -> tuple[NDArray[np.float64], list[str]]:
    count = int(np.frombuffer(data, "<u4", 1, 80)[0])
    warnings = []
    extra = len(data) - _HEADER - 50 * count
    if count == 0:
        raise FileError(f"{path}: the model is empty: a binary STL with 0 triangles")
    if extra and not _plausible(data, min(count, 1000)):
        raise FileError(f"{path}: not an STL model: the bytes where triangles should be are not coordinates")
    if extra:
        warnings.append(f"{extra} bytes after the last triangle were ignored")
    corners = np.frombuffer(data, _RECORD, count, _HEADER)["corners"].astype(np.float64)
    bad = ~np.isfinite(corners).all(axis=(1, 2))
    if bad.any():
        first = int(np.argmax(bad))
        raise FileError(
            f"{path}: triangle {first + 1} of {count} (byte {_HEADER + 50 * first}) has a coordinate that is not a "
            f"finite number, and so have {int(bad.sum())} triangles in all; export the model again"
        )
    return corners, warnings


def _read_ascii(data: bytes, path: Path) -> tuple[NDArray[np.float64], list[str]]:
    rows = _VERTEX.findall(data)
    facets = len(re.findall(rb"\bfacet\s+normal\b|(?<!end)\bfacet\s*[\r\n]", data, re.IGNORECASE))
    if not rows:
        raise FileError(f"{path}: the model is empty: an ASCII STL without a vertex")
    try:
        numbers = np.array(b" ".join(rows).split(), np.float64)
    except ValueError:
        numbers = np.zeros(0)
    if len(numbers) != 3 * len(rows):
        raise _bad_vertex(data, path)
    if len(rows) % 3 or facets != len(rows) // 3:
        raise FileError(
            f"{path}: the file is cut short or damaged: {facets} facets need {3 * facets} vertex lines, "
            f"it has {len(rows)}"
        )
    if not np.isfinite(numbers).all():
        raise _bad_vertex(data, path)
    tail = data[-200:].lower()
    warnings = [] if b"endsolid" in tail else ["the text ends without 'endsolid'"]
    return numbers.reshape(-1, 3, 3), warnings


def _bad_vertex(data: bytes, path: Path) -> FileError:
    """The error for the first vertex line that does not hold three finite numbers."""
    for match in _VERTEX.finditer(data):
        words = match.group(1).split()
        try:
            fine = len(words) == 3 and all(np.isfinite(float(w)) for w in words)
        except ValueError:
            fine = False
        if not fine:
            line = data.count(b"\n", 0, match.start()) + 1
            text = match.group(0).decode("latin-1").strip()[:60]
            return FileError(f"{path}: line {line}: expected 'vertex' with three finite numbers, found '{text}'")
    return FileError(f"{path}: a vertex line is damaged")


def stl_bytes(mesh: Mesh) -> bytes:
    """Binary STL of a mesh in float32, with its normals and zero attributes."""
    records = np.zeros(len(mesh.faces), _RECORD)
    records["corners"] = mesh.vertices.astype(np.float32)[mesh.faces]
    records["normal"] = mesh.area_vectors / np.maximum(mesh.face_areas, 1e-300)[:, None]
    header = b"binary STL, millimetres".ljust(80, b" ")
    return header + np.uint32(len(records)).tobytes() + records.tobytes()
