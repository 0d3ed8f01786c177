"""Reading by content, clear errors, and writing that loses nothing."""

import os

import numpy as np
import pytest

from bolvek.errors import FileError, UsageError
from bolvek.formats import check_target, read_model, write_model
from bolvek.formats.stl import stl_bytes
from bolvek.mesh import Mesh
from bolvek.units import parse_length, parse_point
from support import box

FACET = "facet normal 0 0 1\nouter loop\nvertex 0 0 {z}\nvertex 1 0 {z}\nvertex 0 1 {z}\nendloop\nendfacet\n"


def ascii_stl(*heights, name="leaf"):
    return f"solid {name}\n" + "".join(FACET.format(z=z) for z in heights) + f"endsolid {name}\n"


def put(folder, data, name="model.stl"):
    path = folder / name
    path.write_bytes(data if isinstance(data, bytes) else data.encode())
    return path


@pytest.mark.parametrize(
    ("data", "faces", "warned"),
    [
        (stl_bytes(box()), 12, ""),
        (b"solid lantern".ljust(80) + stl_bytes(box())[80:], 12, ""),
        (stl_bytes(box()) + b"made in the workshop", 12, "20 bytes after"),
        (b"solid".ljust(80) + stl_bytes(box())[80:] + bytes(7), 12, "7 bytes after"),
        (ascii_stl(0, 1), 2, ""),
        (ascii_stl(0, 1).replace("\n", "\r\n"), 2, ""),
        (ascii_stl(0, name="a") + ascii_stl(1, 2, name="b"), 3, ""),
        ("\n  " + ascii_stl(0).upper(), 1, ""),
        (ascii_stl("1e-3", "-2.5E+1"), 2, ""),
        (ascii_stl(0).replace("endsolid leaf\n", ""), 1, "endsolid"),
    ],
)
def test_read_by_content(tmp_path, data, faces, warned):
    model = read_model(put(tmp_path, data))
    assert len(model.mesh.faces) == faces
    assert warned in " ".join(model.warnings) if warned else not model.warnings


def nan_stl():
    data = bytearray(stl_bytes(box()))
    data[84 + 50 * 3 + 12 : 84 + 50 * 3 + 16] = np.float32(np.nan).tobytes()
    return bytes(data)


@pytest.mark.parametrize(
    ("data", "said"),
    [
        (b"", "empty"),
        (b"PNG not a model at all" * 9, "not an STL"),
        (b"\x00" * 40, "not an STL"),
        (stl_bytes(box())[:-30], "promises 12 triangles, the data ends after 11"),
        (stl_bytes(Mesh(np.zeros((0, 3)), np.zeros((0, 3)))), "0 triangles"),
        (nan_stl(), "triangle 4 of 12"),
        ("solid x\nendsolid x\n", "empty"),
        (ascii_stl(0).replace("vertex 1 0 0", "vertex 1 zero 0"), "line 5.*zero"),
        (ascii_stl(0).replace("vertex 1 0 0", "vertex 1 0"), "line 5"),
        (ascii_stl("nan"), "line 4"),
        (ascii_stl(0, 1)[:-60], "cut short|line"),
    ],
)
def test_damaged_files_get_one_clear_sentence(tmp_path, data, said):
    with pytest.raises(FileError, match=said) as error:
        read_model(put(tmp_path, data))
    assert "model.stl" in str(error.value) and "\n" not in str(error.value)


def test_missing_files_folders_and_units(tmp_path):
    with pytest.raises(FileError, match="cannot be read"):
        read_model(tmp_path / "none.stl")
    with pytest.raises(FileError, match="folder"):
        read_model(tmp_path)
    path = put(tmp_path, stl_bytes(box()))
    assert read_model(path, unit="in").mesh.size[0] == pytest.approx(254)
    with pytest.raises(FileError, match="not a unit"):
        read_model(path, unit="furlong")


def test_write_reads_back_and_keeps_what_is_there(tmp_path):
    path = tmp_path / "new" / "box.stl"
    write_model(path, box())
    np.testing.assert_array_equal(read_model(path).mesh.corners, box().corners)
    assert os.listdir(path.parent) == ["box.stl"]
    before = path.read_bytes()
    with pytest.raises(FileError, match="--replace"):
        write_model(path, box(high=(1, 1, 1)))
    assert path.read_bytes() == before
    write_model(path, box(high=(1, 1, 1)), replace=True)
    assert read_model(path).mesh.size[0] == 1
    with pytest.raises(FileError, match="input itself"):
        check_target(path, [path], replace=True)
    with pytest.raises(FileError, match="as .stl"):
        write_model(tmp_path / "box.step", box())
    with pytest.raises(FileError, match="do not fit"):
        write_model(tmp_path / "far.stl", box(high=(1e33, 1, 1)))
    (tmp_path / "dir.stl").mkdir()
    with pytest.raises(FileError, match="folder"):
        write_model(tmp_path / "dir.stl", box())
    assert sorted(os.listdir(tmp_path)) == ["dir.stl", "new"]


def test_a_failing_disk_leaves_nothing(tmp_path, monkeypatch):
    def fail(*_):
        raise OSError(28, "No space left on device")

    monkeypatch.setattr(os, "fsync", fail)
    with pytest.raises(FileError, match="No space left"):
        write_model(tmp_path / "box.stl", box())
    assert os.listdir(tmp_path) == []


@pytest.mark.parametrize(
    ("text", "mm"),
    [("2mm", 2.0), ("2", 2.0), ("0.08in", 2.032), ("12cm", 120.0), (" .5 mm ", 0.5), ("1e-1cm", 1.0), ("1ft", 304.8)],
)
def test_lengths(text, mm):
    assert parse_length(text) == pytest.approx(mm)


@pytest.mark.parametrize("text", ["", "mm", "2 miles", "1,5", "nan", "1e999", "2mm3"])
def test_no_lengths(text):
    with pytest.raises(UsageError):
        parse_length(text)


def test_points():
    assert parse_point("1cm,-2,0.5in") == pytest.approx((10, -2, 12.7))
    with pytest.raises(UsageError, match="three lengths"):
        parse_point("1,2")
