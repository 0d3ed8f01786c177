"""PLY, ASCII and binary of both byte orders; unknown elements and properties are stepped over."""

import re
from dataclasses import dataclass, field
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from bolvek.arrays import Bytes, Floats, Ints
from bolvek.errors import FileError
from bolvek.formats.soup import Parts, Soup, make_soup
from bolvek.formats.text import as_array, line_of, quoted
from bolvek.kernels.files import ply_rows, text
from bolvek.mesh import Mesh

_TYPES = {
    **{"char": "i1", "uchar": "u1", "short": "i2", "ushort": "u2", "int": "i4", "uint": "u4", "float": "f4"},
    **{"int8": "i1", "uint8": "u1", "int16": "i2", "uint16": "u2", "int32": "i4", "uint32": "u4", "float32": "f4"},
    **{"double": "f8", "float64": "f8", "int64": "i8", "uint64": "u8"},
}
_ORDERS = {"ascii": "", "binary_little_endian": "<", "binary_big_endian": ">"}
_INDICES = ("vertex_indices", "vertex_index")
_HEADER_END = re.compile(rb"(?:^|[\r\n])end_header[ \t]*(\r\n|\r|\n)")


@dataclass
class _Property:
    name: str
    kind: str  # numpy type of an item, without byte order
    counter: str = ""  # of a list's count, empty for a scalar


@dataclass
class _Element:
    name: str
    count: int
    properties: list[_Property] = field(default_factory=list)

    @property
    def lists(self) -> list[_Property]:
        return [p for p in self.properties if p.counter]

    @property
    def least(self) -> int:
        """Bytes of a row whose lists are empty."""
        return sum(np.dtype(p.counter or p.kind).itemsize for p in self.properties)

    def find(self, *names: str) -> int:
        return next((k for k, p in enumerate(self.properties) if p.name in names), -1)


def read_ply(data: bytes, path: Path) -> Soup:
    """Vertices and polygons of a PLY file. Raises FileError with the element and row."""
    end = _HEADER_END.search(data)
    if not end:
        raise FileError(f"{path}: the PLY header has no 'end_header'; the file is cut short or damaged")
    order, elements = _header(data[: end.start()], path)
    rows = _Rows(data, end.end(), order, path)
    vertices = start = corners = None
    for element in elements:
        rows.check_room(element)  # before any array is made: a count may lie
        if element.name == "vertex":
            vertices = rows.scalars(element, ("x", "y", "z"))
        elif element.name == "face" and element.find(*_INDICES) >= 0:
            start, corners = rows.list(element, element.find(*_INDICES))
        elif element.name == "tristrips" and element.find(*_INDICES) >= 0 and start is None:
            start, corners = _unstrip(*rows.list(element, element.find(*_INDICES)))
        else:
            rows.skip(element)
    if vertices is None:
        raise FileError(f"{path}: the PLY file has no vertices")
    if start is None or corners is None or len(start) < 2:
        raise FileError(
            f"{path}: the model is empty: {len(vertices):,} points, no faces; a point cloud is not a surface"
        )
    left = rows.left
    return make_soup(path, vertices, start, corners, warnings=[left] if left else [])


def _header(head: bytes, path: Path) -> tuple[str, list[_Element]]:
    order: str | None = None
    elements: list[_Element] = []
    for number, line in enumerate(re.split(rb"\r\n|\r|\n", head), 1):
        words = line.decode("latin-1").split()
        bad = FileError(
            f"{path}: line {number} of the PLY header makes no sense: '{line[:60].decode('latin-1').strip()}'"
        )
        if not words or words[0] in ("ply", "comment", "obj_info"):
            continue
        if words[0] == "format" and len(words) >= 2 and words[1] in _ORDERS:
            order = _ORDERS[words[1]]
        elif words[0] == "element" and len(words) == 3 and words[2].isdecimal() and len(words[2]) < 16:
            elements.append(_Element(words[1], int(words[2])))
        elif words[0] == "property" and elements and len(words) == 3 and words[1] in _TYPES:
            elements[-1].properties.append(_Property(words[2], _TYPES[words[1]]))
        elif words[0] == "property" and elements and len(words) == 5 and words[1] == "list" and words[3] in _TYPES:
            if _TYPES.get(words[2], "f4")[0] == "f":
                raise bad
            elements[-1].properties.append(_Property(words[4], _TYPES[words[3]], _TYPES[words[2]]))
        else:
            raise bad
    if order is None:
        raise FileError(f"{path}: the PLY header names no format (ascii, binary_little_endian, binary_big_endian)")
    return order, elements


class _Rows:
    """Takes one element after the other from the body."""

    def __init__(self, data: bytes, at: int, order: str, path: Path) -> None:
        self.data, self.path, self.order = data, path, order
        self.raw: Bytes = as_array(data)
        self.at = at
        self.values: Floats | None = None
        if not order:
            n, rows, _ = text.read_numbers(self.raw, at, len(data), 0, False, np.zeros(0), np.zeros(0, np.int64))
            self.values, lines = np.empty(n), np.empty(rows, np.int64)
            _, _, fault = text.read_numbers(self.raw, at, len(data), 0, True, self.values, lines)
            if fault >= 0:
                raise FileError(f"{path}: line {line_of(data, fault)}: expected a number, found {quoted(data, fault)}")
            self.at = 0

    @property
    def left(self) -> str:
        """A word about what stands after the last element."""
        if self.values is not None:
            n = len(self.values) - self.at
            return f"{n:,} numbers after the last element were ignored" if n else ""
        n = len(self.data) - self.at
        return f"{n:,} bytes after the last element were ignored" if n else ""

    def _short(self, element: _Element, rows: int) -> FileError:
        return FileError(
            f"{self.path}: the file is cut short or damaged: its header promises {element.count:,} of "
            f"'{element.name}', the data ends or breaks after {rows:,}; get a whole copy of the file"
        )

    def check_room(self, element: _Element) -> None:
        """Raise FileError when the rest of the body cannot hold the element."""
        if not element.properties:
            return
        if self.values is not None:
            room = (len(self.values) - self.at) // max(1, len(element.properties))
        else:
            room = (len(self.data) - self.at) // max(1, element.least)
        if element.count > room:
            raise self._short(element, room)

    def _walk(self, element: _Element, wanted: list[int]) -> tuple[Ints, Ints]:
        """Place and length of properties, row by row; moves on behind the element."""
        first = np.zeros((element.count, len(wanted)), np.int64)
        length = np.zeros((element.count, len(wanted)), np.int64)
        begin = self.at
        if self.values is not None:
            is_list = np.array([bool(p.counter) for p in element.properties])
            rows = element.count
            for k, w in enumerate(wanted or [-1]):
                one, many = np.zeros(element.count, np.int64), np.zeros(element.count, np.int64)
                self.at, rows = ply_rows.walk_values(self.values, begin, element.count, is_list, w, one, many)
                if wanted:
                    first[:, k], length[:, k] = one, many
        else:
            item = np.array([np.dtype(p.kind).itemsize for p in element.properties], np.int64)
            counter = np.array([np.dtype(p.counter).itemsize if p.counter else 0 for p in element.properties], np.int64)
            self.at, rows = ply_rows.walk_bytes(
                self.raw,
                begin,
                element.count,
                item,
                counter,
                self.order == ">",
                np.array(wanted, np.int64),
                first,
                length,
            )
        if rows < element.count:
            raise self._short(element, rows)
        return first, length

    def _gather(self, places: Ints, kind: str) -> Floats | Ints:
        """Items that stand at given places (bytes, or numbers of the text)."""
        if self.values is not None:
            return self.values[places]
        size = np.dtype(kind).itemsize
        packed = np.ascontiguousarray(self.raw[places[:, None] + np.arange(size)])
        return packed.view(self.order + kind)[:, 0]

    def _table(self, element: _Element) -> NDArray[np.void]:
        """All rows of an element without lists, from bytes."""
        kind = np.dtype([(f"p{k}", self.order + p.kind) for k, p in enumerate(element.properties)])
        table = np.frombuffer(self.data, kind, element.count, self.at) if element.count else np.zeros(0, kind)
        self.at += element.count * kind.itemsize
        return table

    def scalars(self, element: _Element, names: tuple[str, ...]) -> Floats:
        """Columns (R, len(names)) float64 of an element."""
        columns = [element.find(n) for n in names]
        if min(columns) < 0 or any(element.properties[c].counter for c in columns):
            raise FileError(f"{self.path}: the PLY file's {element.name} has no {', '.join(names)}")
        out = np.empty((element.count, len(names)))
        if element.lists:
            first, _ = self._walk(element, columns)
            for k, c in enumerate(columns):
                out[:, k] = self._gather(first[:, k], element.properties[c].kind)
        elif self.values is not None:
            width = len(element.properties)
            end = self.at + element.count * width
            out[:] = self.values[self.at : end].reshape(-1, width)[:, columns]
            self.at = end
        else:
            table = self._table(element)
            for k, c in enumerate(columns):
                out[:, k] = table[f"p{c}"]
        return out

    def list(self, element: _Element, which: int) -> tuple[Ints, Ints]:
        """Starts (R + 1,) and items of a list property."""
        wanted = element.properties[which]
        if not wanted.counter:
            raise FileError(f"{self.path}: the PLY file's {element.name} {wanted.name} is no list")
        if self.values is None and len(element.lists) == 1:
            threes = self._all_threes(element, which)
            if threes is not None:
                return np.arange(0, 3 * element.count + 1, 3), threes
        first, length = (a[:, 0] for a in self._walk(element, [which]))
        start = np.concatenate([[0], np.cumsum(length)])
        step = np.arange(start[-1]) - np.repeat(start[:-1], length)
        size = 1 if self.values is not None else np.dtype(wanted.kind).itemsize
        items = self._gather(np.repeat(first, length) + step * size, wanted.kind)
        with np.errstate(invalid="ignore"):
            return start, np.clip(items, -1, 2**62).astype(np.int64)

    def _all_threes(self, element: _Element, which: int) -> Ints | None:
        """Items when every list of the element has three, which is nearly always so; else None."""
        parts: list[tuple[str, str] | tuple[str, str, int]] = []
        for k, p in enumerate(element.properties):
            if k == which:
                parts += [("count", self.order + p.counter), ("items", self.order + p.kind, 3)]
            else:
                parts.append((f"p{k}", self.order + p.kind))
        kind = np.dtype(parts)
        if self.at + element.count * kind.itemsize > len(self.data):
            return None
        table = np.frombuffer(self.data, kind, element.count, self.at) if element.count else np.zeros(0, kind)
        if (table["count"] != 3).any():
            return None
        self.at += element.count * kind.itemsize
        with np.errstate(invalid="ignore"):
            return np.clip(table["items"].astype(np.float64), -1, 2.0**62).astype(np.int64).ravel()

    def skip(self, element: _Element) -> None:
        """Step over an element."""
        if not element.properties:
            return
        if element.lists:
            self._walk(element, [])
        elif self.values is not None:
            self.at += element.count * len(element.properties)
        else:
            self._table(element)


def _unstrip(start: Ints, items: Ints) -> tuple[Ints, Ints]:
    """Triangles of strips; -1 in a strip starts a new one, every other triangle runs the other way."""
    faces = [np.zeros((0, 3), np.int64)]
    for b, e in zip(start[:-1], start[1:], strict=True):
        for strip in np.split(items[b:e], np.flatnonzero(items[b:e] < 0)):
            strip = strip[strip >= 0]
            if len(strip) >= 3:
                rows = np.stack([strip[:-2], strip[1:-1], strip[2:]], axis=1)
                rows[1::2] = rows[1::2, [1, 0, 2]]
                faces.append(rows)
    joined = np.concatenate(faces)
    return np.arange(0, 3 * len(joined) + 1, 3), joined.ravel()


def ply_bytes(mesh: Mesh, parts: Parts | None) -> bytes:
    """Binary little-endian PLY with float64 coordinates. Parts have no place in it."""
    head = (
        "ply\nformat binary_little_endian 1.0\ncomment millimetres\n"
        f"element vertex {len(mesh.vertices)}\nproperty double x\nproperty double y\nproperty double z\n"
        f"element face {len(mesh.faces)}\nproperty list uchar int vertex_indices\nend_header\n"
    )
    rows = np.empty(len(mesh.faces), np.dtype([("count", "u1"), ("items", "<i4", 3)]))
    rows["count"] = 3
    rows["items"] = mesh.faces
    return head.encode() + mesh.vertices.astype("<f8").tobytes() + rows.tobytes()
