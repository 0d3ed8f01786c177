"""Every format read: corners of the grammars, encodings, lies and damage; and what is written reads back the same."""

import io
import zipfile
from pathlib import Path

import numba
import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from bolvek.errors import FileError
from bolvek.formats import Parts, read_model, write_model
from bolvek.formats.obj import read_obj
from bolvek.formats.ply import read_ply
from bolvek.formats.registry import recognise
from bolvek.formats.threemf import threemf_bytes
from bolvek.kernels.files import decimals
from bolvek.mesh import Mesh
from support import assert_sound, box

HERE = Path("model")


_parse_number = decimals.parse_number.dispatcher  # a helper is called by kernels only: as one calls it


@numba.njit
def parse_number(data, at, end):
    return _parse_number(data, at, end)


def put(folder, data, name):
    path = folder / name
    path.write_bytes(data if isinstance(data, bytes) else data.encode())
    return path


def read(folder, data, name="model.obj"):
    return read_model(put(folder, data, name))


# --- numbers -----------------------------------------------------------------------------------------


@given(
    st.one_of(
        st.floats(allow_nan=False, allow_infinity=False).map(repr),
        st.from_regex(r"[-+]?[0-9]{1,11}(\.[0-9]{0,8})?", fullmatch=True),
        st.from_regex(r"[-+]?[0-9]{0,8}\.[0-9]{1,11}([eE][-+]?[0-9]{1,3})?", fullmatch=True),
    )
)
def test_numbers_are_read_to_the_last_bit(text):
    if 0 < abs(float(text)) < 2.3e-308 or abs(float(text)) == np.inf:
        return  # subnormal: stated as not exact; infinite: refused
    value, end, fine = parse_number(np.frombuffer(text.encode(), np.uint8), 0, len(text))
    assert fine and end == len(text) and value == float(text)


@pytest.mark.parametrize("text", ["", "-", ".", "e5", "1e", "1e+", "nan", "inf", "1e999", "0x10", "--1"])
def test_what_is_no_finite_number_is_refused_or_left_over(text):
    value, end, fine = parse_number(np.frombuffer(text.encode() + b" ", np.uint8), 0, len(text))
    assert not fine or end < len(text) or not np.isfinite(value)


# --- OBJ ---------------------------------------------------------------------------------------------

CUBE = """mtllib none.mtl
o Laterne \u00fc
v 0 0 0
v 1 0 0
v 1 1 0 1.0
v 0 1 0 0.5 0.5 0.5
v 0 0 1
v 1 0 1
v 1 1 1
v 0 1 1
vn 0 0 1
vt 0 0
usemtl brass
s off
f 4 3 2 1
f 5//1 6//1 7//1 8//1
g sides
f 1/1 2/1 6/1 5/1
f -7 -6 -2/1/1 -3
f 3 4 \\
  8 7 # back
f 4 1 5 8
"""


def test_obj_polygons_parts_comments_and_continuation(tmp_path):
    model = read(tmp_path, CUBE)
    assert_sound(model.mesh)
    assert model.mesh.volume == pytest.approx(1) and not model.warnings
    assert model.polygons.count == 6 and model.polygons.concave == model.polygons.bent == 0
    assert model.parts.names == ("Laterne \u00fc", "Laterne \u00fc/sides") and np.bincount(
        model.parts.part
    ).tolist() == [4, 8]


@pytest.mark.parametrize(
    "encode",
    [
        lambda t: t.encode(),
        lambda t: b"\xef\xbb\xbf" + t.encode(),
        lambda t: t.encode("utf-16"),
        lambda t: t.encode("utf-16-le"),
        lambda t: t.encode("utf-16-be"),
        lambda t: t.replace("\n", "\r\n").encode(),
        lambda t: t.replace("\n", "\r").encode(),
        lambda t: t.replace(" ", "\t ").encode(),
        lambda t: t.encode().rstrip(),
    ],
)
def test_encodings_and_line_ends_change_nothing(tmp_path, encode):
    plain, other = read(tmp_path, CUBE), read(tmp_path, encode(CUBE), "lampe \u00e9\u706f.obj")
    np.testing.assert_array_equal(plain.mesh.corners, other.mesh.corners)
    assert other.parts.names == plain.parts.names


def test_concave_and_bent_polygons_are_cut_inside_their_outline(tmp_path):
    # an arrow head: three of its ten fans would leave the outline
    arrow = "v 0 0 0\nv 4 2 0\nv 0 4 0\nv 1 2 0\nf 1 2 3 4\n"
    model = read(tmp_path, arrow)
    assert model.polygons.concave == 1 and model.mesh.area == pytest.approx(6)
    assert (model.mesh.area_vectors[:, 2] > 0).all()
    comb = [(0, 0), (9, 0), (9, 5), (8, 1), (7, 5), (6, 1), (5, 5), (4, 1), (3, 5), (2, 1), (1, 5)]
    text = "".join(f"v {x} 0 {y}\n" for x, y in comb) + "f " + " ".join(str(k + 1) for k in range(len(comb)))
    model = read(tmp_path, text)
    shoelace = 0.5 * abs(sum(a[0] * b[1] - b[0] * a[1] for a, b in zip(comb, comb[1:] + comb[:1], strict=True)))
    assert model.mesh.area == pytest.approx(shoelace) and len(model.mesh.faces) == len(comb) - 2
    saddle = "v 0 0 0\nv 1 0 1\nv 1 1 0\nv 0 1 1\nf 1 2 3 4\n"
    assert read(tmp_path, saddle).polygons.bent == 1
    bow = "v 0 0 0\nv 1 1 0\nv 1 0 0\nv 0 1 0\nf 1 2 3 4\n"
    model = read(tmp_path, bow)
    assert model.polygons.crossed == 1 and "crosses itself" in model.warnings[0]


@given(st.integers(3, 40), st.integers(0, 10**6))
def test_star_polygons_keep_every_vertex_and_their_area(corners, seed):
    rng = np.random.default_rng(seed)
    turn = np.sort(rng.uniform(0, 2 * np.pi, corners))
    radius = rng.uniform(0.2, 1, corners)
    if np.diff(np.r_[turn, turn[0] + 2 * np.pi]).max() > 3:
        return  # the middle must see every corner
    points = np.c_[radius * np.cos(turn), radius * np.sin(turn), 0.3 * radius * np.sin(turn)]
    text = (
        "".join(f"v {x!r} {y!r} {z!r}\n" for x, y, z in points.tolist())
        + "f "
        + " ".join(map(str, range(1, corners + 1)))
    )
    soup = read_obj(text.encode(), HERE)
    mesh = Mesh(soup.vertices, soup.faces)
    assert len(mesh.faces) == corners - 2 and set(mesh.faces.ravel()) == set(range(corners))
    total = mesh.area_vectors.sum(axis=0)
    assert mesh.area == pytest.approx(float(np.linalg.norm(total)))
    assert mesh.topology.open_edges == corners and not mesh.topology.badly_oriented_edges


# --- PLY ---------------------------------------------------------------------------------------------

PLY_HEAD = """ply
format {} 1.0
comment made in the workshop
obj_info nothing
element tool 2
property list uchar short marks
property uchar kind
element vertex 4
property uchar red
property list uint8 float32 spare
property double x
property float y
property int16 z
element face 2
property list uchar int vertex_indices
property list ushort uchar colours
element edge 1
property int a
property int b
end_header
"""
TOOLS = [([1, -2], 7), ([], 9)]
POINTS = [(1, [], 0.1, 0.5, 0), (2, [1.5, 2.5], 10.0, 0.25, -3), (3, [9], 10.0, 10.0, 2), (4, [], 0.0, 10.0, 0)]
FACES = [([0, 1, 2], [5, 6]), ([0, 2, 3], [])]


def ply(order):
    """The same rows in text or in bytes of one order."""
    if order == "ascii":
        rows = [f"{len(m)} {' '.join(map(str, m))} {k}" for m, k in TOOLS]
        rows += [f"{r} {len(s)} {' '.join(map(str, s))} {x!r} {y!r} {z}" for r, s, x, y, z in POINTS]
        rows += [f"{len(c)} {' '.join(map(str, c))} {len(k)} {' '.join(map(str, k))}" for c, k in FACES]
        return (PLY_HEAD.format("ascii") + "\n".join(rows) + "\n0 1\n").encode()
    e = "<" if order == "binary_little_endian" else ">"

    def pack(kind, *values):
        return np.array(values, e + kind).tobytes()

    body = b"".join(pack("u1", len(m)) + pack("i2", *m) + pack("u1", k) for m, k in TOOLS)
    for r, s, x, y, z in POINTS:
        body += pack("u1", r) + pack("u1", len(s)) + pack("f4", *s) + pack("f8", x) + pack("f4", y) + pack("i2", z)
    body += b"".join(pack("u1", len(c)) + pack("i4", *c) + pack("u2", len(k)) + pack("u1", *k) for c, k in FACES)
    return PLY_HEAD.format(order).encode() + body + pack("i4", 0, 1)


@pytest.mark.parametrize("order", ["ascii", "binary_little_endian", "binary_big_endian"])
def test_ply_with_lists_anywhere(order):
    soup = read_ply(ply(order), HERE)
    np.testing.assert_array_equal(soup.vertices, [(x, y, z) for _, _, x, y, z in POINTS])
    assert soup.faces.tolist() == [[0, 1, 2], [0, 2, 3]] and not soup.warnings


def test_ply_strips_and_quads():
    head = "ply\nformat ascii 1.0\nelement vertex 4\nproperty float x\nproperty float y\nproperty float z\n"
    points = "0 0 0\n1 0 0\n0 1 0\n1 1 0\n"
    strip = head + "element tristrips 1\nproperty list int int vertex_indices\nend_header\n" + points + "4 0 1 2 3\n"
    assert read_ply(strip.encode(), HERE).faces.tolist() == [[0, 1, 2], [2, 1, 3]]
    quad = head + "element face 1\nproperty list uchar int vertex_index\nend_header\n" + points + "4 0 1 3 2\n"
    assert len(read_ply(quad.encode(), HERE).faces) == 2


# --- OFF ---------------------------------------------------------------------------------------------


@pytest.mark.parametrize(
    "head", ["OFF\n4 2 0\n", "# lamp\nOFF # here\n# counts\n4 2 5\n", "OFF 4 2 0\n", "COFF\n4 2 0\n"]
)
def test_off(tmp_path, head):
    text = head + "0 0 0\n1 0 0 # corner\n\n1 1 0 255 0 0\n0 1 0\n4 0 1 2 3 0.5 0.5 0.5\n3 0 2 1\n"
    model = read(tmp_path, text, "model.off")
    assert len(model.mesh.faces) == 3 and model.polygons.count == 1 and model.format == "OFF"


# --- 3MF ---------------------------------------------------------------------------------------------


def threemf(model, **more):
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as archive:
        archive.writestr("3D/3dmodel.model", model)
        for name, text in more.items():
            archive.writestr(name.replace("__", "/") + ".model", text)
    return out.getvalue()


def xml_mesh(mesh):
    vertices = "".join(f'<vertex y="{y!r}" x="{x!r}" z="{z!r}"/>' for x, y, z in mesh.vertices.tolist())
    triangles = "".join(f'<triangle v1="{a}" v2="{b}" v3="{c}" pid="1" />' for a, b, c in mesh.faces.tolist())
    return f"<mesh><vertices>{vertices}</vertices><triangles>{triangles}</triangles></mesh>"


def xml_model(resources, build, unit="millimeter", extra=""):
    return (
        f'<?xml version="1.0" encoding="UTF-8"?><!-- a lantern --><model unit="{unit}" '
        f'xmlns="http://schemas.microsoft.com/3dmanufacturing/core/2015/02" {extra}>'
        f"<resources>{resources}</resources><build>{build}</build></model>"
    )


BOX = f'<object id="1" name="b\u00f6x" type="model">{xml_mesh(box((0, 0, 0), (1, 2, 3)))}</object>'


@pytest.mark.parametrize(
    ("unit", "mm"),
    [("millimeter", 1), ("inch", 25.4), ("centimeter", 10), ("meter", 1000), ("micron", 1e-3), ("foot", 304.8)],
)
def test_3mf_units_are_honoured(tmp_path, unit, mm):
    path = put(tmp_path, threemf(xml_model(BOX, '<item objectid="1"/>', unit)), "m.3mf")
    model = read_model(path)
    assert model.mesh.size == pytest.approx(np.array([1, 2, 3]) * mm) and model.declared
    other = read_model(path, unit="cm")
    assert other.mesh.size == pytest.approx((10, 20, 30)) and bool(other.warnings) == (unit != "centimeter")


def test_3mf_components_transforms_and_mirrors(tmp_path):
    resources = BOX + (
        '<object id="2" name="pair"><components>'
        '<component objectid="1" transform="1 0 0 0 1 0 0 0 1 10 0 0"/>'
        '<component objectid="1" transform="-1 0 0 0 1 0 0 0 1 0 0 0"/></components></object>'
    )
    build = '<item objectid="2" transform="0 1 0 -1 0 0 0 0 1 0 0 5"/><item objectid="1"/>'
    model = read(tmp_path, threemf(xml_model(resources, build)), "m.3mf")
    assert model.parts.names[-1] == "b\u00f6x" and len(model.mesh.faces) == 36
    corners = model.mesh.corners.reshape(3, 12, 9)
    volumes = [Mesh.from_corners(c.reshape(-1, 3, 3)).volume for c in corners]
    assert volumes == pytest.approx([6, 6, 6])  # the mirrored one is turned back
    # row vectors: (x, y, z) becomes (-y, x, z + 5), after the component's own shift
    first = corners[0].reshape(-1, 3)
    assert first.min(axis=0).tolist() == [-2, 10, 5] and first.max(axis=0).tolist() == [0, 11, 8]


def test_3mf_objects_in_other_files_and_a_build_without_items(tmp_path):
    far = xml_model(BOX, "")
    near = xml_model(
        '<object id="7"><components><component objectid="1" p:path="/3D/parts.model"/></components></object>',
        '<item objectid="7"/>',
        extra='xmlns:p="http://schemas.microsoft.com/3dmanufacturing/production/2015/06"',
    )
    model = read(tmp_path, threemf(near, **{"3D__parts": far}), "m.3mf")
    assert model.mesh.volume == pytest.approx(6)
    model = read(tmp_path, threemf(xml_model(BOX, "")), "m.3mf")
    assert len(model.mesh.faces) == 12 and "builds nothing" in model.warnings[0]


LOOP = '<object id="1"><components><component objectid="1"/></components></object>'
BILLIONS = "".join(
    f'<object id="{k}"><components>{f"""<component objectid="{k - 1}"/>""" * 10}</components></object>'
    for k in range(2, 14)
)


@pytest.mark.parametrize(
    ("data", "said"),
    [
        (b"PK\x03\x04 and nothing else", "damaged"),
        (threemf('<!DOCTYPE m [<!ENTITY a "b">]><model>&a;</model>'), "document type"),
        (threemf(xml_model(LOOP, '<item objectid="1"/>')), "contain themselves"),
        (threemf(xml_model(BOX + BILLIONS, '<item objectid="13"/>')), "repeats its components"),
        (threemf(xml_model(BOX, '<item objectid="9"/>')), "places object 9"),
        (threemf(xml_model(BOX.replace('v1="0"', 'v1="99"'), '<item objectid="1"/>')), "does not have"),
        (threemf(xml_model(BOX.replace('x="1.0"', 'x="one"'), '<item objectid="1"/>')), "without its three numbers"),
        (threemf(xml_model(BOX, '<item objectid="1" transform="1 0 0"/>')), "twelve"),
        (threemf(xml_model(BOX, '<item objectid="1"/>', "cubit")), "no 3MF unit"),
        (threemf(" " * 70_000_000), "unpacks to more than"),
        (threemf("<model><resources>"), "well-formed"),
        (threemf(xml_model("", "")), "empty"),
    ],
    ids=lambda value: value if isinstance(value, str) else "file",  # an archive holds the time at which it was made
)
def test_3mf_damage_and_attacks_get_one_sentence(tmp_path, data, said):
    with pytest.raises(FileError, match=said) as error:
        read(tmp_path, data, "bad.3mf")
    assert "bad.3mf" in str(error.value) and "\n" not in str(error.value)


# --- all of them -------------------------------------------------------------------------------------


@pytest.mark.parametrize(
    ("name", "data", "said"),
    [
        ("a.obj", "v 1 2\nf 1 1 1\n", "line 1: expected 'v'"),
        ("a.obj", "v 1 2 3\nv 1 2 x\n", "line 2"),
        ("a.obj", "v 0 0 0\nv 1 0 0\nv 0 1 0\nf 1 2 0\n", "line 4: expected 'f'"),
        ("a.obj", "v 0 0 0\nv 1 0 0\nv 0 1 0\nf 1 2 9\n", "names vertex 8 .*the file has 3"),
        ("a.obj", "v 0 0 0\nv 1 0 0\n", "no faces"),
        ("a.obj", "v 0 0 nan\nv 1 0 0\nv 0 1 0\nf 1 2 3\n", "line 1"),
        ("a.obj", "v 1e40 0 0\nv 1 0 0\nv 0 1 0\nf 1 2 3\n", "as large as"),
        ("a.ply", "ply\nformat ascii 1.0\nelement vertex 99999999999\nproperty float x\nend_header\n1\n", "cut short"),
        ("a.ply", "ply\nformat ascii 1.0\nelement vertex 1" + "0" * 10**6 + "\nend_header\n", "line 3"),
        ("a.ply", "ply\nelement vertex 1\nproperty float x\nend_header\n1\n", "no format"),
        ("a.ply", "ply\nformat ascii 1.0\nelement vertex 1\nproperty float x\n", "no 'end_header'"),
        ("a.ply", "ply\nformat ascii 1.0\nelement vertex 1\nproperty list float int x\nend_header\n1 1\n", "line 4"),
        ("a.ply", ply("binary_big_endian")[:-20], "promises 2 of 'face'|promises 1 of 'edge'"),
        ("a.ply", ply("ascii").replace(b"10.0", b"ten", 1), "expected a number"),
        ("a.off", "OFF\n3 1 0\n0 0 0\n1 0 0\n", "cut short"),
        ("a.off", "OFF\n3 1 0\n0 0 0\n1 0\n0 1 0\n3 0 1 2\n", "vertex 2 of 3"),
        ("a.off", "OFF\n3 1 0\n0 0 0\n1 0 0\n0 1 0\n9 0 1 2\n", "face 1 of 1"),
        ("a.off", "OFF BINARY\n", "binary OFF"),
        ("a.off", "4OFF\n1 1 1\n", "another dimension"),
        ("a.off", "OFF\n99999999999999 1 0\n0 0 0\n", "cut short"),
        ("a.txt", "Dear printer, the lamp is green.", "not a model"),
    ],
)
def test_damage_gets_file_place_and_what_is_wrong(tmp_path, name, data, said):
    with pytest.raises(FileError, match=said) as error:
        read(tmp_path, data, name)
    assert name in str(error.value) and "\n" not in str(error.value) and len(str(error.value)) < 500


def test_damaged_but_usable_says_what_was_dropped(tmp_path):
    many = "".join(f"v {k} 0 0\nv {k} 1 0\nv {k} 0 1\nf {3 * k + 1} {3 * k + 2} {3 * k + 3}\n" for k in range(30))
    model = read(tmp_path, many + "f 1 2 999\nf 1 2\n")
    assert len(model.mesh.faces) == 30
    assert "1 face of fewer than three" in model.warnings[0]
    assert "face 31 of 32 names vertex 998 (from 0), the file has 90" in model.warnings[1]
    model = read(tmp_path, "OFF\n3 1 0\n0 0 0\n1 0 0\n0 1 0\n3 0 1 2\n7 7 7\n", "a.off")
    assert model.warnings == ("1 lines after the last face were ignored",)
    model = read(tmp_path, ply("binary_little_endian") + b"more", "a.ply")
    assert "4 bytes after the last element" in model.warnings[0]


def test_content_decides_and_a_wrong_suffix_is_said(tmp_path):
    for suffix, found in ((".ply", "PLY"), (".off", "OFF"), (".stl", "STL"), (".obj", "OBJ"), (".3mf", "3MF")):
        write_model(tmp_path / f"m{suffix}", box())
        data = (tmp_path / f"m{suffix}").read_bytes()
        assert recognise(data) == found
        wrong = ".obj" if suffix != ".obj" else ".stl"
        model = read(tmp_path, data, f"wrong{wrong}")
        assert model.format == found and f"its content is {found}" in model.warnings[0]
        assert read(tmp_path, data, "bare").warnings[0].startswith("without a suffix")


def shaken(seed=3):
    """A box whose coordinates need all digits of a float64."""
    rng = np.random.default_rng(seed)
    return Mesh(box().vertices + rng.normal(0, 0.3, (8, 3)), box().faces)


@pytest.mark.parametrize("suffix", [".obj", ".ply", ".off", ".3mf", ".stl", "ascii.stl"])
def test_round_trips_keep_every_bit_the_format_can(tmp_path, suffix):
    mesh = shaken()
    text = suffix == "ascii.stl"
    written = write_model(tmp_path / f"m{suffix}", mesh, text=text)
    again = read_model(tmp_path / f"m{suffix}").mesh
    if suffix == ".stl":
        np.testing.assert_array_equal(again.corners, mesh.corners.astype(np.float32))
        assert 0 < written.rounded_mm == np.abs(mesh.corners.astype(np.float32) - mesh.corners).max()
    else:
        np.testing.assert_array_equal(again.corners, mesh.corners)
        assert written.rounded_mm == 0
    assert written.bytes == (tmp_path / f"m{suffix}").stat().st_size
    write_model(tmp_path / f"n{suffix}", again, text=text)
    assert (tmp_path / f"n{suffix}").read_bytes() == (tmp_path / f"m{suffix}").read_bytes()


@pytest.mark.parametrize("suffix", [".obj", ".3mf", ".stl"])
def test_named_parts_survive_where_the_format_has_them(tmp_path, suffix):
    mesh = box().joined(box((20, 0, 0), (30, 5, 5)))
    parts = Parts(("body", "l\u00efd & 'co'"), np.repeat([0, 1], 12).astype(np.int32))
    write_model(tmp_path / f"m{suffix}", mesh, parts=parts, text=suffix == ".stl")
    model = read_model(tmp_path / f"m{suffix}")
    assert model.parts.names == parts.names
    np.testing.assert_array_equal(model.parts.part, parts.part)
    assert threemf_bytes(mesh, parts) == threemf_bytes(mesh, parts)
