"""3MF, core specification: units, objects, components and build transforms, also spread over model files.

The archive's XML is parsed by defusedxml without its rows of vertices and triangles, which are most
of it; those are read by a kernel. Nothing in the archive can make Bolvek use more memory than a fixed
amount plus a multiple of the file's size.
"""

import io
import re
import struct
import zipfile
import zlib
from dataclasses import dataclass, field
from pathlib import Path
from xml.etree.ElementTree import Element, ParseError
from xml.sax.saxutils import quoteattr

import numpy as np
from defusedxml.common import DefusedXmlException
from defusedxml.ElementTree import fromstring

from bolvek.arrays import Floats, Ints
from bolvek.errors import FileError
from bolvek.formats.soup import Parts, Soup, make_soup
from bolvek.formats.text import as_array, as_utf8, line_of, quoted
from bolvek.formats.write_text import number_lines, printable
from bolvek.kernels.files import text as kernels
from bolvek.mesh import Mesh
from bolvek.units import count_text

UNITS = {"micron": "um", "millimeter": "mm", "centimeter": "cm", "inch": "in", "foot": "ft", "meter": "m"}
_LEAST_XML, _XML_SHARE = 64_000_000, 16  # XML bytes allowed: a fixed amount and so many times the archive
_LEAST_FACES = 1_000_000  # triangles allowed by repeating components, besides one a byte of the archive
_LEAST_PLACED = 200_000  # objects allowed by repeating components, besides one for forty bytes of the archive
_DEEPEST = 64
_ROWS = re.compile(rb"<(?:[\w.-]+:)?(vertices|triangles)(?=[\s/>])[^>]*?(/?)>")
_END = {kind: re.compile(rb"</(?:[\w.-]{1,100}:)?" + kind + rb"\s{0,100}>") for kind in (b"vertices", b"triangles")}
_NAMES = {
    "vertices": np.array([[ord("x"), 0], [ord("y"), 0], [ord("z"), 0]], np.uint8),
    "triangles": np.array([[ord("v"), ord("1")], [ord("v"), ord("2")], [ord("v"), ord("3")]], np.uint8),
}
_SUPPORT = ("support", "solidsupport")
_TRIANGLE_SHEETS = ("beamlattice", "slicestackid")


@dataclass
class _Object:
    name: str
    vertices: Floats
    triangles: Ints
    support: bool
    components: list[tuple[tuple[str, str], Floats]] = field(default_factory=list)


def read_3mf(data: bytes, path: Path) -> Soup:
    """Everything the build plate holds, in place. Raises FileError."""
    try:
        return _Archive(data, path).read()
    except (
        zipfile.BadZipFile,
        zlib.error,
        EOFError,
        struct.error,
        OverflowError,
        NotImplementedError,  # zipfile's word for a compression it does not know
        RuntimeError,
    ) as e:
        raise FileError(
            f"{path}: the 3MF archive is damaged or uses what is not read ({printable(str(e))[:100]}); get a whole "
            "copy of the file"
        ) from None


class _Archive:
    def __init__(self, data: bytes, path: Path) -> None:
        self.path, self.size = path, len(data)
        try:
            self.zip = zipfile.ZipFile(io.BytesIO(data))
        except ValueError as error:  # offsets that point before the file
            raise zipfile.BadZipFile(str(error)) from None
        self.room = _LEAST_XML + _XML_SHARE * len(data)
        self.objects: dict[tuple[str, str], _Object] = {}
        self.models: set[str] = set()
        self.units: dict[str, str] = {}
        self.warnings: list[str] = []
        self.vertices: list[Floats] = []
        self.triangles: list[Ints] = []
        self.marks: list[tuple[str, int]] = []
        self.support: list[bool] = []
        self.placed = self.count = self.offset = 0

    def _entry(self, name: str) -> bytes:
        names = {n.lower(): n for n in self.zip.namelist()}
        found = names.get(name.lstrip("/").lower())
        if found is None:
            raise FileError(f"{self.path}: the 3MF archive has no '{name}'")
        try:
            with self.zip.open(found) as file:
                data = file.read(self.room + 1)
        except ValueError as error:
            raise zipfile.BadZipFile(str(error)) from None
        if len(data) > self.room:
            raise FileError(
                f"{self.path}: '{found}' unpacks to more than {self.room / 1e6:.0f} MB, which no model packed into "
                f"{self.size / 1e6:.3f} MB does; it is not unpacked"
            )
        self.room -= len(data)
        return data

    def _root_model(self) -> str:
        names = self.zip.namelist()
        if "_rels/.rels" in names:
            for link in self._xml(self._entry("_rels/.rels"), "_rels/.rels"):
                if link.get("Type", "").endswith("/3dmodel") and link.get("Target"):
                    return link.get("Target", "")
        models = sorted(n for n in names if n.lower().endswith(".model"))
        if not models:
            raise FileError(f"{self.path}: a zip archive without a 3D model, not a 3MF file")
        return models[0]

    def _xml(self, data: bytes, name: str) -> Element:
        try:
            root: Element = fromstring(data, forbid_dtd=True)
        except DefusedXmlException:
            raise FileError(
                f"{self.path}: '{name}' declares a document type or entities; that is not read, for safety"
            ) from None
        except (ParseError, ValueError, LookupError, RecursionError) as error:
            raise FileError(f"{self.path}: '{name}' is not well-formed XML: {error}") from None
        return root

    def _load(self, name: str) -> Element:
        """Read a model file of the archive: its objects are kept, its root is returned."""
        self.models.add(name.lstrip("/").lower())
        data = as_utf8(self._entry(name))
        if b"<!--" in data:
            data = _without_comments(data)
        if data[:200].lstrip().startswith(b"<?xml"):  # the text is UTF-8 by now, whatever it says
            data = data[data.index(b"?>") + 2 :] if b"?>" in data[:400] else data
        blocks: list[tuple[str, int, int]] = []
        pieces = []
        at = 0
        while match := _ROWS.search(data, at):
            kind = match.group(1)
            if match.group(2):
                pieces.append(data[at : match.end()])
                at = match.end()
                continue
            closing = _END[kind].search(data, match.end())
            if closing is None:
                raise FileError(
                    f"{self.path}: '{name}' ends inside its {kind.decode()}; the file is cut short or damaged"
                )
            open_at = closing.start()
            pieces += [data[at : match.end()], str(len(blocks)).encode()]
            blocks.append((kind.decode(), match.end(), open_at))
            at = open_at
        pieces.append(data[at:])
        root = self._xml(b"".join(pieces), name)
        unit = root.get("unit", "millimeter")
        if unit not in UNITS:
            raise FileError(f"{self.path}: '{unit}' is no 3MF unit; known are {', '.join(UNITS)}")
        self.units[name.lstrip("/").lower()] = UNITS[unit]
        if root.get("requiredextensions", "").split() and any(_local(e.tag) in _TRIANGLE_SHEETS for e in root.iter()):
            self.warnings.append("beam lattices or slice stacks in the file are not read")
        for element in _children(root, "resources", "object"):
            self._keep(element, name, data, blocks)
        return root

    def _keep(self, element: Element, name: str, data: bytes, blocks: list[tuple[str, int, int]]) -> None:
        key = (name.lstrip("/").lower(), element.get("id", ""))
        if key in self.objects:
            raise FileError(f"{self.path}: two objects in '{name}' have the id {key[1]}")
        title = element.get("name") or element.get("partnumber") or f"object {key[1]}"
        vertices = np.zeros((0, 3))
        triangles = np.zeros((0, 3))
        for mesh in _children(element, "mesh"):
            for rows in mesh:
                kind = _local(rows.tag)
                if kind in _NAMES and rows.text and rows.text.strip().isdecimal() and int(rows.text) < len(blocks):
                    found = self._rows(data, *blocks[int(rows.text)], name)
                    vertices, triangles = (found, triangles) if kind == "vertices" else (vertices, found)
        if ((triangles < 0) | (triangles != np.floor(triangles))).any():
            raise FileError(
                f"{self.path}: object {key[1]} in '{name}' has a triangle whose corners are no vertex numbers"
            )
        support = element.get("type", "model") in _SUPPORT
        item = _Object(title, vertices, np.minimum(triangles, 2.0**62).astype(np.int64), support)
        for part in _children(element, "components", "component"):
            target = (_attribute(part, "path") or name).lstrip("/").lower(), part.get("objectid", "")
            item.components.append((target, self._transform(part)))
        self.objects[key] = item

    def _rows(self, data: bytes, kind: str, begin: int, end: int, name: str) -> Floats:
        raw = as_array(data)
        count, _ = kernels.read_xml_rows(raw, begin, end, _NAMES[kind], False, np.zeros((0, 3)))
        values = np.empty((count, 3))
        _, fault = kernels.read_xml_rows(raw, begin, end, _NAMES[kind], True, values)
        if fault >= 0:
            raise FileError(
                f"{self.path}: '{name}' line {line_of(data, fault)}: among the {kind}, a row without its three "
                f"numbers: {quoted(data, fault)}"
            )
        return values

    def _transform(self, element: Element) -> Floats:
        """4 x 3: rows are the images of x, y, z and of the origin; a point is a row vector."""
        text = element.get("transform")
        if text is None:
            return np.vstack([np.eye(3), np.zeros(3)])
        try:
            numbers = np.array([float(w) for w in text.split()])
        except ValueError:
            numbers = np.zeros(0)
        if len(numbers) != 12 or not np.isfinite(numbers).all():
            raise FileError(f"{self.path}: a 3MF transform needs twelve finite numbers, found '{text[:60]}'")
        return numbers.reshape(4, 3)

    def read(self) -> Soup:
        root_name = self._root_model()
        root = self._load(root_name)
        home = root_name.lstrip("/").lower()
        items = [
            ((_attribute(i, "path") or home).lstrip("/").lower(), i.get("objectid", ""), self._transform(i))
            for i in _children(root, "build", "item")
        ]
        if not items and self.objects:
            used = {target for o in self.objects.values() for target, _ in o.components}
            items = [(*key, np.vstack([np.eye(3), np.zeros(3)])) for key in self.objects if key not in used]
            self.warnings.append("the file builds nothing; all its objects were read")
        for file, number, transform in items:
            self._place((file, number), transform, "", 0)
        if not self.count:
            raise FileError(f"{self.path}: the model is empty: the 3MF file places no triangles")
        corners = np.concatenate(self.triangles).ravel()
        return make_soup(
            self.path,
            np.concatenate(self.vertices),
            np.arange(0, len(corners) + 1, 3),
            corners,
            marks=self.marks,
            warnings=self.warnings,
            unit=self.units[home],
            support=self.support,
        )

    def _place(self, key: tuple[str, str], transform: Floats, name: str, depth: int) -> None:
        if key not in self.objects and key[0] not in self.models:
            self._load(key[0])
        if key not in self.objects:
            raise FileError(f"{self.path}: the 3MF file places object {key[1]}, which it does not have")
        if depth > _DEEPEST:
            raise FileError(f"{self.path}: the 3MF components of object {key[1]} contain themselves, or nest too deep")
        item = self.objects[key]
        name = name or item.name
        self.placed += 1
        for number, most, what in (
            (self.placed, _LEAST_PLACED + self.size // 40, "object"),
            (self.count + len(item.triangles), _LEAST_FACES + self.size, "triangle"),
        ):
            if number > most:
                raise FileError(
                    f"{self.path}: the 3MF file repeats its components to more than {count_text(most, what)}; "
                    "it is not read"
                )
        if len(item.triangles):
            # one matrix product would round x + 0 y + 0 z no differently, but keep the plain case bit for bit
            moved = item.vertices
            if not np.array_equal(transform, np.vstack([np.eye(3), np.zeros(3)])):
                with np.errstate(over="ignore", invalid="ignore"):
                    moved = moved @ transform[:3] + transform[3]
            faces = item.triangles
            bad = faces >= len(item.vertices)
            if bad.any():
                self.warnings.append(
                    f"{count_text(int(bad.any(axis=1).sum()), 'triangle')} of '{item.name}' dropped: "
                    "vertices that do not exist"
                )
                if bad.any(axis=1).mean() > 0.1:
                    raise FileError(f"{self.path}: damaged: object '{item.name}' names vertices it does not have")
                faces = faces[~bad.any(axis=1)]
            if np.linalg.det(transform[:3]) < 0:
                faces = faces[:, ::-1]
            self.marks.append((name, self.count))
            self.support.append(item.support)
            self.count += len(faces)
            self.vertices.append(moved)
            self.triangles.append(faces + self.offset)
            self.offset += len(moved)
        for target, inner in item.components:
            joined = np.vstack([inner[:3] @ transform[:3], inner[3] @ transform[:3] + transform[3]])
            self._place(target, joined, name if len(item.components) == 1 else "", depth + 1)


def _without_comments(data: bytes) -> bytes:
    """XML without its comments; one that never ends stays, for the parser to find."""
    kept, at = [], 0
    while (begin := data.find(b"<!--", at)) >= 0 and (end := data.find(b"-->", begin + 4)) >= 0:
        kept.append(data[at:begin])
        at = end + 3
    return b"".join([*kept, data[at:]])


def _local(tag: str) -> str:
    return tag.rsplit("}", 1)[-1]


def _attribute(element: Element, name: str) -> str | None:
    return next((v for k, v in element.attrib.items() if _local(k) == name), None)


def _children(element: Element, *names: str) -> list[Element]:
    """Elements along a path of local names."""
    found = [element]
    for name in names:
        found = [child for e in found for child in e if _local(child.tag) == name]
    return found


_TYPES = (
    '<?xml version="1.0" encoding="UTF-8"?>\n'
    '<Types xmlns="http://schemas.openxmlformats.org/package/2006/content-types">'
    '<Default Extension="rels" ContentType="application/vnd.openxmlformats-package.relationships+xml"/>'
    '<Default Extension="model" ContentType="application/vnd.ms-package.3dmanufacturing-3dmodel+xml"/></Types>\n'
)
_LINKS = (
    '<?xml version="1.0" encoding="UTF-8"?>\n'
    '<Relationships xmlns="http://schemas.openxmlformats.org/package/2006/relationships">'
    '<Relationship Target="/3D/3dmodel.model" Id="rel0" '
    'Type="http://schemas.microsoft.com/3dmanufacturing/2013/01/3dmodel"/></Relationships>\n'
)


def threemf_bytes(mesh: Mesh, parts: Parts | None) -> bytes:
    """A 3MF archive in millimetres, an object a part; the same mesh gives the same bytes."""
    chosen = (
        [("model", mesh)] if parts is None else [(n, mesh.picked(parts.part == k)) for k, n in enumerate(parts.names)]
    )
    body = [
        '<?xml version="1.0" encoding="UTF-8"?>\n'
        '<model unit="millimeter" xml:lang="en-US" xmlns="http://schemas.microsoft.com/3dmanufacturing/core/2015/02">\n'
        "<resources>\n"
    ]
    for k, (name, piece) in enumerate(chosen, 1):
        kind = "support" if parts is not None and k - 1 in parts.support else "model"
        body += [
            f'<object id="{k}" type="{kind}" name={quoteattr(printable(name))}><mesh><vertices>\n',
            number_lines('<vertex x="%r" y="%r" z="%r"/>\n', piece.vertices),
            "</vertices><triangles>\n",
            number_lines('<triangle v1="%d" v2="%d" v3="%d"/>\n', piece.faces),
            "</triangles></mesh></object>\n",
        ]
    items = "".join(f'<item objectid="{k}"/>' for k in range(1, len(chosen) + 1))
    body.append(f"</resources>\n<build>{items}</build>\n</model>\n")
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w") as archive:
        entries = (("[Content_Types].xml", _TYPES), ("_rels/.rels", _LINKS), ("3D/3dmodel.model", "".join(body)))
        for name, text in entries:
            entry = zipfile.ZipInfo(name, (1980, 1, 1, 0, 0, 0))
            entry.compress_type = zipfile.ZIP_DEFLATED
            archive.writestr(entry, text.encode(), compresslevel=4)
    return out.getvalue()
