"""STL, binary and ASCII, told apart by content: many binary files begin with the word "solid".

Binary: 80 bytes of header, a uint32 count, 50 bytes a face (normal, three corners as float32, two
attribute bytes). ASCII: `facet`, `outer loop`, three `vertex` lines, one or more `solid` blocks.
"""

import re
from pathlib import Path

import numpy as np

from bolvek.errors import FileError
from bolvek.formats.soup import Parts, Soup, make_soup
from bolvek.formats.text import as_array, as_utf8, line_of, quoted, rest_of_line
from bolvek.formats.write_text import number_lines, printable
from bolvek.kernels.files import text as kernels
from bolvek.mesh import Mesh

_RECORD = np.dtype([("normal", "<f4", 3), ("corners", "<f4", (3, 3)), ("attribute", "<u2")])
_HEADER = 84
_SOLID = re.compile(rb"\s*solid\b", re.IGNORECASE)
_FACET = re.compile(rb"\b(facet|endsolid)\b", re.IGNORECASE)


def read_stl(data: bytes, path: Path) -> Soup:
    """Triangles of either kind of STL; vertices are not welded. Raises FileError."""
    if is_binary(data):
        return _read_binary(data, path)
    text = as_utf8(data)
    if is_text(text):
        return _read_ascii(text, path)
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


def is_text(text: bytes) -> bool:
    """Whether the bytes begin like an ASCII STL."""
    return bool(_SOLID.match(text) and _FACET.search(text, 0, 4000))


def fits_exactly(data: bytes) -> bool:
    """Whether the count in the header and the length of the file agree: surely a binary STL."""
    return len(data) > _HEADER and len(data) == _HEADER + 50 * int(np.frombuffer(data, "<u4", 1, 80)[0])


def is_binary(data: bytes) -> bool:
    """Whether the bytes read as a binary STL, perhaps with more bytes behind."""
    if len(data) < _HEADER:
        return False
    count = int(np.frombuffer(data, "<u4", 1, 80)[0])
    needed = _HEADER + 50 * count
    if len(data) == needed:
        return True
    if len(data) < needed:
        return False
    # trailing bytes: accept unless it reads as text
    return b"\0" in data[: _HEADER + 50] or not _SOLID.match(data)


def _plausible(data: bytes, faces: int) -> bool:
    """Whether the first faces hold numbers a model could hold."""
    if faces == 0:
        return True
    corners = np.frombuffer(data, _RECORD, faces, _HEADER)["corners"]
    with np.errstate(invalid="ignore", over="ignore"):
        return bool((np.abs(corners) < 1e9).mean() > 0.9)


def _read_binary(data: bytes, path: Path) -> Soup:
    count = int(np.frombuffer(data, "<u4", 1, 80)[0])
    warnings = []
    extra = len(data) - _HEADER - 50 * count
    if count == 0:
        raise FileError(f"{path}: the model is empty: a binary STL with 0 triangles")
    if extra and not _plausible(data, min(count, 1000)):
        raise FileError(f"{path}: not an STL model: the bytes where triangles should be are not coordinates")
    if extra:
        warnings.append(f"{extra} bytes after the last triangle were ignored")
    with np.errstate(invalid="ignore"):  # a signalling NaN is told below, like any other
        corners = np.frombuffer(data, _RECORD, count, _HEADER)["corners"].astype(np.float64)
    bad = ~np.isfinite(corners).all(axis=(1, 2))
    if bad.any():
        first = int(np.argmax(bad))
        raise FileError(
            f"{path}: triangle {first + 1} of {count} (byte {_HEADER + 50 * first}) has a coordinate that is not a "
            f"finite number, and so have {int(bad.sum())} triangles in all; export the model again"
        )
    return Soup(corners.reshape(-1, 3), np.arange(3 * count, dtype=np.int32).reshape(-1, 3), warnings)


def _read_ascii(data: bytes, path: Path) -> Soup:
    raw = as_array(data)
    words = [as_array(w) for w in (b"facet", b"vertex", b"solid", b"endsolid")]
    totals = np.zeros(4, np.int64)
    kernels.read_stl(raw, len(raw), *words, False, np.zeros((0, 3)), np.zeros((0, 2), np.int64), totals)
    count, facets, solids, ends = (int(t) for t in totals)
    if not count:
        raise FileError(f"{path}: the model is empty: an ASCII STL without a vertex")
    corners, marks = np.empty((count, 3)), np.empty((solids, 2), np.int64)
    fault = kernels.read_stl(raw, len(raw), *words, True, corners, marks, totals)
    if fault >= 0:
        raise FileError(
            f"{path}: line {line_of(data, fault)}: expected 'vertex' with three finite numbers, "
            f"found {quoted(data, fault)}"
        )
    if count % 3 or facets != count // 3:
        raise FileError(
            f"{path}: the file is cut short or damaged: {facets:,} facets need {3 * facets:,} vertex lines, "
            f"it has {count:,}"
        )
    names = [(rest_of_line(data, int(at)) or f"solid {k + 1}", int(first) // 3) for k, (at, first) in enumerate(marks)]
    warnings = [] if ends else ["the text ends without 'endsolid'"]
    start = np.arange(0, count + 1, 3)
    return make_soup(path, corners, start, np.arange(count), marks=names, warnings=warnings)


def stl_text(mesh: Mesh, parts: Parts | None) -> bytes:
    """ASCII STL; every coordinate with as many digits as its float64 needs, a solid a part."""
    rows = np.concatenate([mesh.unit_normals.round(6) + 0.0, mesh.corners.reshape(-1, 9)], axis=1)
    facet = "facet normal %r %r %r\nouter loop\n" + 3 * "vertex %r %r %r\n" + "endloop\nendfacet\n"
    if parts is None:
        return f"solid model\n{number_lines(facet, rows)}endsolid model\n".encode()
    names = [printable(n) for n in parts.names]
    pieces = [f"solid {n}\n{number_lines(facet, rows[parts.part == k])}endsolid {n}\n" for k, n in enumerate(names)]
    return "".join(pieces).encode()


def stl_bytes(mesh: Mesh, parts: Parts | None = None) -> bytes:
    """Binary STL of a mesh in float32, with its normals and zero attributes. Parts have no place in it."""
    stored = mesh.as_stored()
    records = np.zeros(len(stored.faces), _RECORD)
    records["corners"] = stored.vertices.astype(np.float32)[stored.faces]
    records["normal"] = stored.unit_normals
    header = b"binary STL, millimetres".ljust(80, b" ")
    return header + np.uint32(len(records)).tobytes() + records.tobytes()
