"""OFF text: counts, a vertex a line, a face a line. Normals, colours and texture places are ignored."""

from pathlib import Path

import numpy as np

from bolvek.errors import FileError
from bolvek.formats.soup import Parts, Soup, make_soup
from bolvek.formats.text import OFF_HEADER, as_array, line_of, quoted
from bolvek.formats.write_text import number_lines
from bolvek.kernels.files import text as kernels
from bolvek.mesh import Mesh

_HASH = 35


def read_off(data: bytes, path: Path) -> Soup:
    """Vertices and polygons of OFF text (UTF-8 bytes). Raises FileError with the line."""
    match = OFF_HEADER.match(data)
    if match and match.group(2):
        raise FileError(f"{path}: binary OFF is not read; save it as OFF text or as PLY")
    if match and (b"4" in match.group(1) or b"n" in match.group(1)):
        raise FileError(f"{path}: OFF of another dimension than three ({match.group(1).decode()}) is not read")
    begin = match.end() if match else 0
    raw = as_array(data)
    count, lines, _ = kernels.read_numbers(raw, begin, len(raw), _HASH, False, np.zeros(0), np.zeros(0, np.int64))
    values, first = np.empty(count), np.empty(lines + 1, np.int64)
    _, _, fault = kernels.read_numbers(raw, begin, len(raw), _HASH, True, values, first)
    if fault >= 0:
        raise FileError(f"{path}: line {line_of(data, fault)}: expected a number, found {quoted(data, fault)}")
    first[lines] = count
    if lines == 0 or first[1] < 2 or (values[:2] < 0).any() or (values[:2] != np.floor(values[:2])).any():
        raise FileError(f"{path}: the OFF header does not give the number of vertices and faces")
    v, f = (float(x) for x in values[:2])
    if 1 + v + f > lines:
        raise FileError(
            f"{path}: the file is cut short: its header promises {v:,.0f} vertices and {f:,.0f} faces, a line each, "
            f"{lines - 1:,} lines follow"
        )
    v, f = int(v), int(f)
    if (np.diff(first)[1 : 1 + v] < 3).any():
        worst = int(np.argmax(np.diff(first)[1 : 1 + v] < 3))
        raise FileError(f"{path}: vertex {worst + 1} of {v:,} has fewer than three numbers on its line")
    vertices = values[first[1 : 1 + v, None] + np.arange(3)]
    head = first[1 + v : 1 + v + f]
    room = np.diff(first)[1 + v : 1 + v + f]
    size = values[head]
    if (size != np.floor(size)).any() or (size < 0).any() or (size + 1 > room).any():
        worst = int(np.argmax((size != np.floor(size)) | (size < 0) | (size + 1 > room)))
        raise FileError(
            f"{path}: face {worst + 1} of {f:,} says it has {size[worst]:g} corners, its line holds {room[worst] - 1}"
        )
    start = np.concatenate([[0], np.cumsum(size.astype(np.int64))])
    at = np.arange(start[-1]) - np.repeat(start[:-1], np.diff(start)) + np.repeat(head + 1, np.diff(start))
    with np.errstate(invalid="ignore"):
        corners = np.clip(values[at], -1, 2.0**62).astype(np.int64)
    extra = lines - 1 - v - f
    return make_soup(
        path, vertices, start, corners, warnings=[f"{extra:,} lines after the last face were ignored"] if extra else []
    )


def off_bytes(mesh: Mesh, parts: Parts | None) -> bytes:
    """OFF text; every coordinate with as many digits as its float64 needs. Parts have no place in it."""
    head = f"OFF\n{len(mesh.vertices)} {len(mesh.faces)} 0\n"
    return (head + number_lines("%r %r %r\n", mesh.vertices) + number_lines("3 %d %d %d\n", mesh.faces)).encode()
