"""What must hold for anything: files written and read, text parsed, minima, spots, labels and words."""

from pathlib import Path

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from bolvek.analyses.overhangs.islands import surface_minima
from bolvek.analyses.survey import survey
from bolvek.analyses.survey.judgement import judge
from bolvek.analyses.thickness.spots import gather_spots
from bolvek.demo.pieces import blocks, globe, sheet
from bolvek.errors import FileError, UsageError
from bolvek.formats.obj import obj_bytes, read_obj
from bolvek.formats.off import off_bytes, read_off
from bolvek.formats.ply import ply_bytes, read_ply
from bolvek.formats.registry import read_model, recognise
from bolvek.formats.stl import read_stl, stl_bytes, stl_text
from bolvek.formats.text import as_utf8, line_of, rest_of_line
from bolvek.formats.threemf import read_3mf, threemf_bytes
from bolvek.formats.write_text import printable
from bolvek.jobs.files import expand
from bolvek.kernels.tree import balls as kernels
from bolvek.mesh import Mesh
from bolvek.report.pictures.callouts import MOST, best_views, choose_spots, spaced
from bolvek.report.pictures.palette import wall_colours
from bolvek.report.words.survey import survey_line
from bolvek.spatial.tree import Tree
from bolvek.units import length_text, parse_volume
from support import blob, box

HERE = Path("model")
number = st.floats(-1e6, 1e6).map(lambda x: x + 0.0)
point = st.tuples(number, number, number)


# --- files -------------------------------------------------------------------------------------------


@st.composite
def meshes(draw):
    """Any few points and faces of three different ones."""
    points = draw(st.lists(point, min_size=3, max_size=12, unique=True))
    corner = st.integers(0, len(points) - 1)
    face = st.tuples(corner, corner, corner).filter(lambda f: len(set(f)) == 3)
    return Mesh(np.array(points), draw(st.lists(face, min_size=1, max_size=12)))


@given(meshes())
def test_any_mesh_survives_every_format(mesh):
    for write, read in (
        (lambda m: obj_bytes(m, None), read_obj),
        (lambda m: ply_bytes(m, None), read_ply),
        (lambda m: off_bytes(m, None), read_off),
        (lambda m: threemf_bytes(m, None), read_3mf),
        (lambda m: stl_text(m, None), read_stl),
    ):
        soup = read(write(mesh), HERE)
        np.testing.assert_array_equal(soup.vertices[soup.faces], mesh.corners)
    soup = read_stl(stl_bytes(mesh), HERE)
    np.testing.assert_array_equal(soup.vertices[soup.faces], mesh.corners.astype(np.float32))
    assert {recognise(w(mesh, None)) for w in (obj_bytes, ply_bytes, off_bytes, threemf_bytes, stl_bytes)} == {
        "OBJ",
        "PLY",
        "OFF",
        "3MF",
        "STL",
    }


def slow_obj(text):
    """Vertices and polygons of OBJ text, line by line."""
    vertices, polygons = [], []
    for line in text.replace("\\\n", " ").split("\n"):
        words = line.split("#")[0].split() if not line.startswith("v ") else line.split()
        if words[:1] == ["v"]:
            vertices.append([float(w) for w in words[1:4]])
        elif words[:1] == ["f"]:
            numbers = [int(w.split("/")[0]) for w in words[1:]]
            polygons.append([n - 1 if n > 0 else len(vertices) + n for n in numbers])
    return vertices, polygons


@st.composite
def obj_texts(draw):
    """OBJ text with all the liberties the format takes."""
    count = draw(st.integers(3, 8))
    space = st.sampled_from([" ", "  ", "\t", " \\\n "])
    lines = [f"v {draw(number)!r} {draw(number)!r} {draw(number)!r}" for _ in range(count)]
    for _ in range(draw(st.integers(1, 6))):
        corners = draw(st.lists(st.integers(1, count), min_size=3, max_size=3, unique=True))
        words = []
        for c in corners:
            c = c if draw(st.booleans()) else c - count - 1
            words.append(f"{c}{draw(st.sampled_from(['', '/1', '//2', '/1/2']))}")
        line = "f"
        for word in words:
            line += draw(space) + word
        lines.append(line + draw(st.sampled_from(["", " ", " # a comment", "\t"])))
        if draw(st.booleans()):
            lines.append(draw(st.sampled_from(["", "# f 1 2 3", "vn 0 0 1", "vt 0.5", "usemtl brass", "s 1", "l 1 2"])))
    return "\n".join(lines) + draw(st.sampled_from(["", "\n"]))


@given(obj_texts())
def test_obj_text_is_read_as_a_slow_reader_reads_it(text):
    vertices, polygons = slow_obj(text)
    soup = read_obj(text.encode(), HERE)
    np.testing.assert_array_equal(soup.vertices, vertices)
    assert soup.faces.tolist() == polygons


KINDS = {
    "char": "i1",
    "uchar": "u1",
    "short": "i2",
    "ushort": "u2",
    "int": "i4",
    "uint": "u4",
    "float": "f4",
    "double": "f8",
}


@settings(max_examples=60)
@given(st.data(), st.sampled_from(["ascii", "binary_little_endian", "binary_big_endian"]))
def test_ply_with_any_properties(data, order):
    """Properties of any type in any place, lists among them; the same rows are written by hand."""
    rng = np.random.default_rng(data.draw(st.integers(0, 10**6)))
    extra = data.draw(st.lists(st.tuples(st.sampled_from(sorted(KINDS)), st.booleans()), max_size=3))
    place = data.draw(st.integers(0, len(extra)))
    end = "<" if "little" in order else ">"

    def scalar(kind, value):
        return f"{value:g}".encode() + b" " if order == "ascii" else np.array(value, end + KINDS[kind]).tobytes()

    def row(columns):
        out = b""
        for kind, value in columns:
            if isinstance(value, list):
                out += scalar("uchar", len(value)) + b"".join(scalar(kind, v) for v in value)
            else:
                out += scalar(kind, value)
        return out + (b"\n" if order == "ascii" else b"")

    def filler():
        made = []
        for kind, is_list in extra:
            value = [int(v) for v in rng.integers(0, 100, rng.integers(0, 3))] if is_list else int(rng.integers(0, 100))
            made.append((kind, value))
        return made

    points = rng.integers(-90, 90, (5, 3)).tolist()
    faces = [rng.permutation(5)[:3].tolist() for _ in range(4)]
    names = [
        f"property list uchar {k} e{i}" if is_list else f"property {k} e{i}" for i, (k, is_list) in enumerate(extra)
    ]
    xyz = [f"property {k} {n}" for k, n in zip(("float", "short", "double"), "xyz", strict=True)]
    head = ["ply", f"format {order} 1.0", "element vertex 5", *names[:place], *xyz, *names[place:]]
    head += ["element face 4", *names[:place], "property list uchar int vertex_indices", *names[place:], "end_header"]
    body = b""
    for x, y, z in points:
        more = filler()
        body += row([*more[:place], ("float", x), ("short", y), ("double", z), *more[place:]])
    for face in faces:
        more = filler()
        body += row([*more[:place], ("int", face), *more[place:]])
    soup = read_ply(("\n".join(head) + "\n").encode() + body, HERE)
    assert soup.vertices.tolist() == points and soup.faces.tolist() == faces and not soup.warnings


@given(st.text(max_size=40), st.sampled_from(["utf-8-sig", "utf-16", "utf-16-le", "utf-16-be"]))
def test_text_comes_out_as_utf8(text, codec):
    text = "solid " + text.replace("\0", "")  # begins in ASCII, as every format's text does
    assert as_utf8(text.encode(codec, "surrogatepass")).decode("utf-8", "replace").startswith("solid ")
    if text.isprintable():
        assert as_utf8(text.encode(codec)).decode() == text


def test_lines_names_and_volumes():
    assert line_of(b"a\nb\nc", 4) == 3 and line_of(b"a\rb\rc", 4) == 3 and line_of(b"abc", 2) == 1
    assert rest_of_line(b"o  lamp\x07 shade \r\nv", 1) == "lamp shade" and rest_of_line(b"o\n", 1) == ""
    assert printable("a\nb\x00  c") == "a b c" and printable(" \n") == "part"
    for text, mm3 in (
        ("20cm3", 20_000),
        ("1500", 1500),
        ("2ml", 2000),
        ("1l", 1e6),
        ("1in^3", 25.4**3),
        ("3 cm\u00b3", 3000),
    ):
        assert parse_volume(text) == pytest.approx(mm3)
    for text in ("", "cm3", "2 cups", "1,5cm3"):
        with pytest.raises(UsageError):
            parse_volume(text)
    assert length_text(1.23456) == "1.235 mm" and length_text(123.456) == "123.46 mm"


def test_folders_are_searched_and_files_kept_as_named(tmp_path):
    for name in ("b.stl", "a.OBJ", "sub/c.3mf", "sub/d.txt"):
        path = tmp_path / name
        path.parent.mkdir(exist_ok=True)
        path.write_text("x")
    names = [p.name for p in expand([tmp_path, tmp_path / "sub" / "d.txt", tmp_path / "b.stl"])]
    assert names == ["a.OBJ", "b.stl", "c.3mf", "d.txt"]
    with pytest.raises(FileError, match="no model"):
        (tmp_path / "empty").mkdir()
        expand([tmp_path / "empty"])
    with pytest.raises(FileError, match="not a model"):
        read_model(tmp_path / "sub" / "d.txt")


# --- kernels against slow ones -----------------------------------------------------------------------


def slow_minima(mesh, height, rise):
    """Minima that look down and whose basin up to `rise` above holds nothing lower; one a plateau."""
    around = {}
    for f in mesh.faces.tolist():
        for k in range(3):
            around.setdefault(f[k], set()).update(f)
    kept, taken = [], set()
    for v in sorted(around, key=lambda v: (height[v], v)):
        if any(height[w] < height[v] for w in around[v]) or v in taken:
            continue
        basin, stack = {v}, [v]
        while stack:
            for w in around[stack.pop()]:
                if w not in basin and height[w] <= height[v] + rise:
                    basin.add(w)
                    stack.append(w)
        if all(height[w] >= height[v] for w in basin) and not basin & taken:
            kept.append(v)
        taken |= {w for w in basin if height[w] == height[v]}
    return kept


@given(st.integers(0, 10**6), st.floats(0, 3))
def test_minima_of_rough_ground_are_those_of_a_slow_search(seed, rise):
    rng = np.random.default_rng(seed)
    x, y = np.meshgrid(np.arange(9.0), np.arange(8.0), indexing="ij")
    mesh = sheet(np.stack([x, y, rng.integers(0, 6, x.shape) * 0.7], axis=-1)).turned()  # looks down
    height = mesh.vertices[:, 2].copy()
    found, owner, number_ = surface_minima(mesh, height, lambda h: h + rise)
    assert set(height[found]) <= set(height[slow_minima(mesh, height, rise)])
    assert len(found) == len(slow_minima(mesh, height, rise))
    assert (owner[found] == number_).all()


@given(st.integers(0, 10**6), st.floats(0.2, 3))
def test_spots_are_what_hangs_together(seed, reach):
    rng = np.random.default_rng(seed)
    points = rng.uniform(0, 10, (30, 3))
    value = rng.uniform(0, 1, 30)
    spots = gather_spots(points, value, np.ones(30), reach)
    rows = np.concatenate([s.rows for s in spots])
    assert sorted(rows.tolist()) == list(range(30))
    label = np.empty(30, int)
    for k, spot in enumerate(spots):
        label[spot.rows] = k
        assert spot.least == value[spot.rows].min() and spot.area_mm2 == len(spot.rows)
    gap = np.abs(points[:, None] - points).max(axis=2)
    far = np.linalg.norm(points[:, None] - points, axis=2)
    assert (label[:, None] == label)[far < reach].all()  # nearer than the reach: always one
    for k in range(len(spots)):  # apart by two reaches along an axis: never
        others = gap[label == k][:, label != k]
        assert not others.size or others.min() > 0


@given(st.integers(0, 10**6))
def test_balls_touch_and_hold_nothing(seed):
    mesh = globe(5, (0, 0, 0), 12).joined(blocks(np.ones((2, 1, 3), bool), 1.5).turned())
    rng = np.random.default_rng(seed)
    tree = Tree(mesh.vertices, mesh.faces)
    face = rng.integers(0, len(mesh.faces), 8)
    points = np.einsum("qk,qkj->qj", rng.dirichlet((2, 2, 2), 8), mesh.corners[face])
    inward = -mesh.area_vectors[face] / mesh.face_areas[face][:, None]
    ray = tree.rays(points, inward, near=1e-7).distance[:, 0]
    out = np.empty(8), np.empty(8, np.float32), np.empty(8, np.int32)
    kernels.shrink_balls(tree.arrays, points - tree.origin, inward, ray, 100.0, 1e-3, 0, 8, *out)
    radius = 0.5 * out[0]
    assert (out[0] <= ray * (1 + 1e-9)).all()
    distance, _ = tree.nearest(points + radius[:, None] * inward)
    np.testing.assert_allclose(distance, radius, rtol=2e-3)


# --- pictures and words ------------------------------------------------------------------------------


@given(st.lists(st.floats(-50, 850), max_size=20))
def test_labels_never_meet_and_keep_their_order(wanted):
    placed = spaced(wanted, 12, 780, 24)
    order = np.argsort(wanted, kind="stable")
    assert (np.diff(np.array(placed)[order]) >= 24 - 1e-9).all()
    if (np.diff(np.sort(wanted)) >= 24).all():  # nobody in the way: everybody where wanted
        kept = [w for w in zip(wanted, placed, strict=True) if 60 <= w[0] <= 700]
        assert len(wanted) > 20 or all(p == w for w, p in kept if min(wanted) >= 12 and max(wanted) <= 780)


def test_colours_tell_thin_from_thick_without_hue():
    shares = np.array([0.0, 0.5, 0.9, 1.1, 2.0, 4.0, np.nan])
    colours = wall_colours(shares)
    assert (colours[:3, 0] > colours[:3, 2]).all() and (colours[3:6, 2] > colours[3:6, 0]).all()
    light = colours @ np.array([0.21, 0.72, 0.07])
    assert light[0] < light[1] < light[2] and light[3] > light[4] > light[5]
    assert colours[6, 0] == pytest.approx(colours[6, 2], abs=0.06)


def test_callouts_are_few_numbered_and_on_the_surface():
    mesh = blob().joined(*[globe(0.5, (30 + 3 * k, 0, 0), 6) for k in range(30)])
    found, marks = survey(mesh)
    spots, total = choose_spots(mesh, found, marks)
    assert [s.number for s in spots] == list(range(1, len(spots) + 1)) and len(spots) <= MOST <= total + MOST
    assert len(best_views(spots)) == 2
    for spot in spots:
        assert mesh.tree.nearest(spot.anchor[None])[0][0] < 0.2


def test_a_line_for_one_of_many(tmp_path):
    path = tmp_path / "cup.stl"
    path.write_bytes(stl_bytes(box().picked(slice(1, None))))
    model = read_model(path)
    found, _ = survey(model.mesh)
    line = survey_line(model, found, judge(found))
    assert line.startswith("STL, 10.00 x 10.00 x 10.00 mm, 11 triangles, 1 shell: 3 open edges")
