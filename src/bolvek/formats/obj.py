"""OBJ text: vertices and polygons, objects and groups as parts; materials are ignored."""

from pathlib import Path

import numpy as np

from bolvek.arrays import Ints
from bolvek.errors import FileError
from bolvek.formats.soup import Parts, Soup, make_soup
from bolvek.formats.text import as_array, line_of, quoted, rest_of_line
from bolvek.formats.write_text import number_lines, printable
from bolvek.kernels.files import text as kernels
from bolvek.mesh import Mesh

_WHAT = {1: "'v' with three finite numbers", 2: "'f' with vertex numbers, as in f 1 2 3 or f 1/1/1 2/2/2 3/3/3"}


def read_obj(data: bytes, path: Path) -> Soup:
    """Vertices and polygons of OBJ text (UTF-8 bytes). Raises FileError with the line."""
    raw = as_array(data)
    totals = np.zeros(4, np.int64)
    nothing = np.zeros((0, 3)), np.zeros(0, np.int64), np.zeros(0, np.int64), np.zeros((0, 2), np.int64)
    kernels.read_obj(raw, len(raw), False, *nothing, totals)
    v, p, c, m = (int(t) for t in totals)
    if not v:
        raise FileError(f"{path}: the model is empty: an OBJ file without a vertex")
    vertices, start = np.empty((v, 3)), np.zeros(p + 1, np.int64)
    corners, marks = np.zeros(c, np.int64), np.zeros((m, 2), np.int64)
    fault, kind = kernels.read_obj(raw, len(raw), True, vertices, start, corners, marks, totals)
    if fault >= 0:
        raise FileError(f"{path}: line {line_of(data, fault)}: expected {_WHAT[kind]}, found {quoted(data, fault)}")
    return make_soup(path, vertices, start, corners, marks=_names(data, marks), by_name=True)


def _names(data: bytes, marks: Ints) -> list[tuple[str, int]]:
    """Name and first face of each stretch: of its object, of its group, or of both ("lid/hinge")."""
    names, thing, group = [], "", ""
    for k, (at, first) in enumerate(marks.tolist()):
        name = rest_of_line(data, at) or f"part {k + 1}"
        thing, group = (name, "") if data[at - 1] == ord("o") else (thing, name)
        both = f"{thing}/{group}" if thing and group and thing != group else thing or group
        names.append((both, first))
    return names


def obj_bytes(mesh: Mesh, parts: Parts | None) -> bytes:
    """OBJ text; every coordinate with as many digits as its float64 needs."""
    pieces = ["# triangles in millimetres\n", number_lines("v %r %r %r\n", mesh.vertices)]
    if parts is None:
        pieces.append(number_lines("f %d %d %d\n", mesh.faces + 1))
    else:
        for k, name in enumerate(parts.names):
            pieces.append(f"o {printable(name)}\n")
            pieces.append(number_lines("f %d %d %d\n", mesh.faces[parts.part == k] + 1))
    return "".join(pieces).encode()
