"""`survey` as a preparer runs it: one model, many, broken ones, pictures, isolated faces, the record, damaged bytes."""

import json
import subprocess
import sys
from pathlib import Path

import numpy as np
import pytest

from bolvek.demo.troubled import cloud_tile, finial
from bolvek.formats import Parts, read_model, write_model
from bolvek.report.record import Record
from support import box, pixels, pricked_ball, shell_box


@pytest.fixture
def workshop(tmp_path):
    """A folder of models: sound, faulty, deeper down, and one that is no model."""
    write_model(tmp_path / "shop" / "box.stl", box((0, 0, 0), (20, 20, 20)))
    write_model(tmp_path / "shop" / "deep" / "finial.obj", finial()[0])
    write_model(tmp_path / "shop" / "cup.3mf", box().picked(slice(1, None)))
    (tmp_path / "shop" / "broken.ply").write_text(
        "ply\nformat ascii 1.0\nelement vertex 9\nproperty float x\nend_header\n1 2\n"
    )
    (tmp_path / "shop" / "notes.txt").write_text("the lid is too tight")
    return tmp_path / "shop"


def plain(text):
    """The text with its columns closed up."""
    return " ".join(text.split())


def test_one_sound_model(bolvek, tmp_path):
    write_model(tmp_path / "box.stl", box((0, 0, 0), (20, 20, 20)))
    said = bolvek("survey", "box.stl").stdout
    for text in ("box.stl: STL, 12 triangles, 8 vertices", "20.00 x 20.00 x 20.00 mm", "8.000 cm3", "verdict"):
        assert text in said
    assert "to slice yes" in plain(said) and "to hollow yes" in plain(said)


def test_the_finial_is_told_in_full(bolvek, tmp_path):
    mesh, plan = finial()
    write_model(tmp_path / "finial.stl", mesh)
    said = bolvek("survey", "finial.stl", expect=1).stdout
    for text in (
        "4 outer, 1 outer turned in, 1 buried",
        "in 1 region",
        f"{plan.nonmanifold_edges} edges used by more than two faces",
        f"{plan.flipped_faces} flipped faces in 1 region",
        "inside out",
        "buried",
        "not sound",
    ):
        assert text in said, text
    for _, name in ((0, "to slice"), (1, "to hollow"), (2, "to measure")):
        assert f"{name}" in said


def test_openings_come_largest_first_and_rims_are_no_holes(bolvek, tmp_path):
    write_model(tmp_path / "tile.ply", cloud_tile()[0])
    done = bolvek("survey", "tile.ply", "--json", "-", expect=1)
    openings = json.loads(done.stdout)["models"][0]["survey"]["openings"]
    spans = [o["span_mm"] for o in openings]
    assert spans == sorted(spans, reverse=True) and openings[0]["kind"] == "rim"
    assert "rim of an open skin" in done.stderr and "hole" in done.stderr


def test_the_first_lines_help(bolvek, tmp_path):
    write_model(tmp_path / "box.stl", box((0, 0, 0), (2, 2, 2)))
    lines = bolvek("survey", "box.stl").stdout.splitlines()
    assert [line.split()[0] for line in lines[:5]] == ["verdict", "unit", "next", "next", "file"]
    assert (
        "50.80 mm in inches" in lines[1]
        and "Settle that first" in lines[1]
        and "bolvek scale box.stl --unit in" in lines[2]
        and "bolvek scale box.stl --unit cm" in lines[3]
    )
    write_model(tmp_path / "in.stl", box((0, 0, 0), (20, 20, 20)).turned())
    lines = bolvek("survey", "in.stl", "--isolate", "wrong.obj", expect=1).stdout.splitlines()
    assert "not sound: inside out" in lines[0] and "bolvek mend in.stl  # turns shells" in lines[1]
    assert read_model(tmp_path / "wrong.obj").parts is None and len(read_model(tmp_path / "wrong.obj").mesh.faces) == 12
    write_model(tmp_path / "far.stl", box((5000, 0, 0), (5020, 150, 20)))
    said = bolvek("survey", "far.stl").stdout
    assert "5 m off the origin" in said and "fits after a quarter turn: small resin printer" in said


def test_names_are_told_kept_and_lost(bolvek, tmp_path):
    pieces = [box((20 * k, 0, 0), (20 * k + 12, 12, 12)) for k in range(3)]
    parts = Parts(("body", "lid", "brace"), np.repeat([0, 1, 2], 12).astype(np.int32), frozenset([2]))
    write_model(tmp_path / "set.3mf", pieces[0].joined(pieces[1].turned(), pieces[2]), parts=parts)
    said = bolvek("survey", "set.3mf", expect=1).stdout
    assert "1 shell turned inside out: lid" in said and "1 part of the file is support" in said
    assert "3.456 cm3" in said  # two of the three
    assert read_model(tmp_path / "set.3mf").parts.support == {2}
    assert "holds no names: 3 parts lost theirs" in bolvek("pose", "set.3mf", "--drop", "-o", "set.ply").stdout
    # groups that take turns stay two parts, an object's groups keep its name
    text = "v 0 0 0\nv 9 0 0\nv 9 9 0\nv 0 9 0\no lamp\n" + "g a\nf 1 2 3\ng b\nf 1 3 4\n" * 2
    (tmp_path / "turns.obj").write_text(text)
    assert read_model(tmp_path / "turns.obj").parts.names == ("lamp/a", "lamp/b")


def test_many_files_a_folder_and_a_broken_one(bolvek, workshop):
    done = bolvek("survey", workshop, expect=3)
    lines = done.stdout.splitlines()
    assert sum("box.stl" in line for line in lines) == 1
    (broken,) = [line for line in lines if "broken.ply" in line]
    assert broken.startswith("failed") and "promises 9" in broken
    assert "4 models: 2 not sound, 1 sound, 1 failed" in lines[-1]
    assert "notes.txt" not in done.stdout
    assert [line.split()[0] for line in lines] == ["sound", "failed", "not", "not", "total"]
    record = json.loads(bolvek("survey", workshop, "--json", "-", expect=3).stdout)
    assert [Path(m["file"]).name for m in record["models"]] == ["box.stl", "cup.3mf", "finial.obj"]
    assert Path(record["failed"][0]["file"]).name == "broken.ply" and record["verdict"] == "not sound"
    assert {Path(f["file"]).name for f in record["findings"]} == {"cup.3mf", "finial.obj"}
    Record.model_validate(record)
    detailed = bolvek("survey", workshop / "box.stl", workshop / "cup.3mf", "--details", expect=1).stdout
    assert detailed.count("verdict") == 2


def test_isolated_faces_carry_their_class_as_part(bolvek, tmp_path):
    mesh, plan = finial()
    write_model(tmp_path / "finial.stl", mesh)
    bolvek("survey", "finial.stl", "--isolate", "trouble.obj", expect=1)
    model = read_model(tmp_path / "trouble.obj")
    sizes = dict(zip(model.parts.names, np.bincount(model.parts.part), strict=True))
    assert sizes["flipped_faces"] == plan.flipped_faces and sizes["twin_faces"] == 10
    write_model(tmp_path / "box.stl", box())
    assert "was not written" in bolvek("survey", "box.stl", "--isolate", "none.obj").stdout
    assert not (tmp_path / "none.obj").exists()


def test_the_picture_shows_a_hole_of_a_tenth_of_a_millimetre(bolvek, tmp_path):
    write_model(tmp_path / "ball.stl", pricked_ball()[0])
    bolvek("survey", "ball.stl", "--picture", "ball.png", expect=1)
    image = pixels(tmp_path / "ball.png")[..., :3]
    assert image.shape == (800, 1280, 3)
    # the zoom at the top right shows the rim in the colour of open edges, and the hole as a large area
    zoom = image[85:314, 910:1268]
    rim = (zoom[..., 0] > 0.7) & (zoom[..., 2] < 0.2) & (zoom[..., 1] < 0.5)
    assert rim.sum() > 300
    rows, columns = np.nonzero(rim)
    assert np.ptp(rows) > 40 and np.ptp(columns) > 40


def test_parts_of_the_file_are_told(bolvek, tmp_path):
    mesh = box().joined(box((20, 0, 0), (30, 10, 10)).picked(slice(1, None)))
    parts = Parts(("body", "lid"), np.repeat([0, 1], [12, 11]).astype(np.int32))
    write_model(tmp_path / "set.3mf", mesh, parts=parts)
    done = bolvek("survey", "set.3mf", "--json", "-", expect=1)
    found = json.loads(done.stdout)["models"][0]["survey"]["parts"]
    assert [(p["name"], p["triangles"], p["open_edges"]) for p in found] == [("body", 12, 0), ("lid", 11, 3)]
    assert "body" in done.stderr and "lid" in done.stderr


def test_a_hollow_model_in_another_unit(bolvek, tmp_path):
    write_model(tmp_path / "cube.stl", shell_box(0.1, 2))
    said = bolvek("survey", "cube.stl").stdout
    assert "50.80 mm in inches" in said and "cavity" in said and "to hollow no" in plain(said)
    said = bolvek("survey", "cube.stl", "--unit", "in").stdout
    assert "50.80 x 50.80 x 50.80 mm" in said and "was another unit" not in said


@pytest.mark.parametrize(
    ("args", "code", "said"),
    [
        (["survey", "none.stl"], 3, "cannot be read"),
        (["survey", "shop", "--picture", "x.png"], 2, "one model"),
        (["survey", "shop/box.stl", "--near", "-1"], 2, "--near"),
        (["survey", "shop/box.stl", "--knife", "90"], 2, "less than 90"),
        (["survey", "shop/box.stl", "--material", "brass"], 2, "no material"),
        (["survey", "shop/box.stl", "--isolate", "x.txt"], 3, "written as"),
        (["survey", "empty"], 3, "no model in this folder"),
    ],
)
def test_bad_asks(bolvek, workshop, args, code, said):
    (workshop.parent / "empty").mkdir()
    assert said in bolvek(*args, expect=code).stderr


def test_the_same_bytes_whatever_the_threads(bolvek, tmp_path):
    write_model(tmp_path / "finial.stl", finial()[0])
    texts = set()
    for threads in ("1", "3"):
        done = bolvek(
            "survey",
            "finial.stl",
            "--json",
            "-",
            "--picture",
            f"{threads}.png",
            "--isolate",
            f"{threads}.ply",
            expect=1,
            BOLVEK_THREADS=threads,
        )
        record = json.loads(done.stdout)
        del record["seconds"], record["outputs"], record["models"][0]["outputs"]
        texts.add(json.dumps(record))
    assert len(texts) == 1
    for suffix in ("png", "ply"):
        assert (tmp_path / f"1.{suffix}").read_bytes() == (tmp_path / f"3.{suffix}").read_bytes()


def test_mutated_files_bring_no_surprise():
    script = Path(__file__).with_name("fuzz.py")
    done = subprocess.run(
        [sys.executable, script, "--count", "200", "--seed", "77"], capture_output=True, text=True, timeout=120
    )
    assert done.returncode == 0, done.stderr
    assert "200 files, 0 wrong" in done.stdout
