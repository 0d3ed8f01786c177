"""The installed program on files in a temporary folder."""

import json
import subprocess
import sys

import numpy as np
import pytest

from bolvek.cli.verbs import VERBS
from bolvek.formats import read_model, write_model
from bolvek.report.record import Record
from support import ball, blob, box, closest_on_triangles, shell_box


def small(tmp_path, mesh=None, name="model.stl"):
    write_model(tmp_path / name, mesh if mesh is not None else blob())
    return name


def test_help_is_quick_and_complete(bolvek):
    text = bolvek("-h").stdout
    for verb in VERBS:
        assert verb in text
        page = bolvek(verb, "-h").stdout
        assert page.count(f"bolvek {verb}") >= 2, f"{verb} -h shows no two examples"
    code = (
        "import sys; from bolvek.cli.main import run; from bolvek.cli.verbs import VERBS; "
        "[run([v, '-h']) for v in VERBS]; "
        "sys.exit(any(m in sys.modules for m in ('numpy', 'numba', 'rich', 'PIL', 'pydantic', 'scipy')))"
    )
    assert subprocess.run([sys.executable, "-c", code], stdout=subprocess.DEVNULL).returncode == 0


@pytest.mark.xdist_group("demo")  # it is run once
def test_the_whole_way_on_the_carp(bolvek, demo_folder):
    done, folder = demo_folder
    for word in ("read", "scale", "check", "hollow", "flood", "drain", "plugs", "proof", "write", "verdict"):
        assert word in done.stdout
    record = Record.model_validate_json((folder / "carp.prep.json").read_text())
    proof = record.models[0].proof
    assert record.verdict == "fit" and proof.sound and proof.sound_as_stored
    assert proof.drains == 2 and len(proof.cavities) == 1 and proof.bodies == 1
    assert proof.wall.min_mm >= 1.99 and proof.wall.median_mm == pytest.approx(2.0, abs=0.05)
    assert record.models[0].size_mm[2] == pytest.approx(90, abs=1e-4)
    # outer triangles are untouched except around the drains
    before = read_model(folder / "carp.stl").mesh
    scaled = (before.vertices * record.models[0].scale.factor).astype(np.float32)[before.faces]
    after = read_model(folder / "carp.prep.stl").mesh.corners.astype(np.float32)
    kept = {c.tobytes() for c in after}
    gone = np.array([c for c in scaled if c.tobytes() not in kept], float)
    assert 0 < len(gone) < 0.02 * len(scaled)
    mouths = [h.at_mm for h in record.models[0].drain.holes]
    reach = [
        np.linalg.norm(closest_on_triangles(np.tile(m, (len(gone), 1)), *np.moveaxis(gone, 1, 0)) - m, axis=1)
        for m in mouths
    ]
    assert np.min(reach, axis=0).max() < 3.5
    # the file says the same about itself
    again = bolvek("proof", folder / "carp.prep.stl", "--wall", "2mm", "--json", "-")
    assert json.loads(again.stdout)["models"][0]["proof"]["wall"]["min_mm"] == pytest.approx(proof.wall.min_mm)
    assert "fit to print" in again.stderr


def test_same_bytes_whatever_the_thread_count(bolvek, tmp_path):
    name = small(tmp_path)
    for threads in ("1", "3"):
        bolvek(
            "prep",
            name,
            "--wall",
            "1.5mm",
            "--diameter",
            "2mm",
            "-o",
            f"{threads}/x.stl",
            "--picture",
            f"{threads}/x.png",
            BOLVEK_THREADS=threads,
        )
    assert len({(tmp_path / f"{t}/x.stl").read_bytes() for t in "13"}) == 1
    assert len({(tmp_path / f"{t}/x.png").read_bytes() for t in "13"}) == 1


def test_step_by_step_gives_a_fit_model(bolvek, tmp_path):
    small(tmp_path, ball(10.0))
    bolvek("scale", "model.stl", "--longest", "24mm")
    assert read_model(tmp_path / "model.scale.stl").mesh.size.max() == pytest.approx(24, abs=1e-4)
    bolvek("hollow", "model.scale.stl", "--wall", "2mm", "-o", "hollow.stl")
    closed = bolvek("proof", "hollow.stl", "--wall", "2mm", expect=1)
    assert "no way out" in closed.stdout and "unfit" in closed.stdout
    bolvek("drain", "hollow.stl", "--at", "0,0,-12", "--at", "0,0,12mm", "--diameter", "3mm", "-o", "drained.stl")
    fit = bolvek("proof", "drained.stl", "--wall", "2mm", "--picture", "proof.png")
    assert "2 openings" in fit.stdout or fit.stdout.count(" mm at (") >= 2
    bolvek("picture", "drained.stl", "--cut-open")
    assert (tmp_path / "drained.picture.png").exists()


@pytest.mark.parametrize(
    ("args", "code", "said"),
    [
        (["prep", "none.stl"], 3, "none.stl cannot be read"),
        (["prep", "model.stl", "--wall", "2 parsecs"], 2, "not a length"),
        (["prep", "model.stl", "--wall", "0"], 2, "--wall must be more than 0"),
        (["hollow", "model.stl", "--wall", "40mm"], 4, "largest that does"),
        (["prep", "model.stl", "-o", "model.xyz"], 3, "models are written as"),
        (["prep", "model.stl", "-o", "taken.json/x.stl"], 3, "is not a folder"),
        (["pose", "model.stl", "--best", "1", "--turn", "q:1"], 2, "turn"),
        (["overhangs", "model.stl", "--compare-up", "9", "--sheet", "a.png", "--picture", "a.png"], 3, "two outputs"),
        (["walls", "model.stl", "--least-wall", "1mm", "--spacing", "1um"], 4, "mm apart would fit"),
        (["prep", "model.stl", "--height", "1e9mm"], 4, "mm would fit"),
        (["prep", "model.stl", "--height", "5", "--by", "2"], 2, "exactly one"),
        (["prep", "model.stl", "-o", "model.stl", "--replace"], 3, "input itself"),
        (["prep", "model.stl", "--drain-up", "0,0,0"], 2, "zero direction"),
        (["prep", "open.stl", "--wall", "1mm"], 4, "3 open edges"),
        (["hollow", "model.stl", "--wall", "1mm", "--json", "taken.json"], 3, "exists already"),
        (["drain", "model.stl", "--at", "1,2"], 2, "three lengths"),
        (["drain", "model.stl", "--at", "0,0,11"], 4, "meets no cavity"),
        (["picture", "model.stl", "-o", "x.jpg"], 3, ".png"),
        (["survey", "model.stl", "--picture", "x.jpg"], 2, "pictures are written as .png"),
        (["slim", "model.stl", "-o", "x.stl", "--ratio", "5"], 2, "--ratio must be more than 0 and at most 1, not 5"),
        (["compare", "model.stl", "model.stl", "--within=-1mm"], 2, "--within must be 0 mm or more"),
        (["drain", "model.stl", "-o", "x.stl", "--auto", "--at", "0,0,0"], 2, "one of the two"),
        (["scale", "model.stl"], 2, "exactly one"),
        (["polish", "model.stl"], 2, "no verb 'polish'"),
        (["proff", "model.stl"], 2, "Did you mean 'proof'"),
    ],
)
def test_bad_asks_have_a_reason_a_code_and_write_nothing(bolvek, tmp_path, args, code, said):
    small(tmp_path)
    small(tmp_path, box().picked(slice(1, None)), "open.stl")
    (tmp_path / "taken.json").write_text("{}")
    before = {p.name: p.read_bytes() for p in tmp_path.iterdir()}
    done = bolvek(*args, expect=code)
    assert said in done.stderr
    assert {p.name: p.read_bytes() for p in tmp_path.iterdir()} == before


def test_json_on_stdout_is_clean_and_fits_the_schema(bolvek, tmp_path):
    small(tmp_path, shell_box())
    done = bolvek("proof", "model.stl", "--json", "-", expect=1)
    record = Record.model_validate_json(done.stdout)
    assert record.verb == "proof" and record.verdict == "unfit"
    assert record.findings[0].code == "cavity_closed"
    assert "verdict" in done.stderr
    schema = json.loads(bolvek("schema").stdout)
    assert set(json.loads(done.stdout)) <= set(schema["properties"])
    assert {"sound", "wall", "cavities"} <= set(schema["$defs"]["ProofRecord"]["properties"])


def test_inside_out_input_is_turned_and_said(bolvek, tmp_path):
    small(tmp_path, blob().turned())
    done = bolvek("prep", "model.stl", "--wall", "1.5mm", "--diameter", "2mm")
    assert "inside out, turned" in done.stdout
    assert read_model(tmp_path / "model.prep.stl").mesh.volume > 0


def test_a_cut_picture_shows_the_wall_in_proportion():
    from bolvek.report.pictures.raster import render
    from bolvek.report.pictures.view import CutPlane, View

    plane = CutPlane(np.array([0.0, -1.0, 0.0]), -10.013)
    image = render(shell_box(wall=3.0), View.from_eye(np.array([0.0, -1.0, 0.0])), 300, 300, cut=plane)
    red = (image.rgb[..., 0] > 1.35 * image.rgb[..., 2]) & (image.rgb[..., 1] < 0.75 * image.rgb[..., 0])
    shown = image.alpha > 0.5
    assert (red & shown).sum() / shown.sum() == pytest.approx(1 - (14 / 20) ** 2, abs=0.03)


@pytest.mark.xdist_group("demo")
def test_demo_leaves_models_record_and_pictures(bolvek, demo_folder):
    done, folder = demo_folder
    told = [line.split()[0] for line in done.stdout.splitlines()]
    assert told[0] == "demo" and told[-3:] == ["open", "look", "next"] and told.index("carp") < told.index("walls")
    names = {str(p.relative_to(folder)) for p in folder.rglob("*") if p.is_file()}
    carp = {"carp.stl", "carp.png", "carp.prep.stl", "carp.prep.png", "carp.prep.json"}
    carp |= {f"carp.plugs/carp.plug{k}.stl" for k in (1, 2)}
    proven = {"twin_lamp.stl", "twin_lamp.proof.png", "twin_lamp.drain.stl", "twin_lamp.drain.png"}
    looked = {"finial.stl", "cloud_tile.ply", "dragon_bracket.obj", "survey.json"}
    pictures = {f"{name}.survey.png" for name in ("finial", "cloud_tile", "dragon_bracket")}
    lanterns = {f"lantern_set/{n}{s}" for n in ("body", "lid", "hook") for s in (".stl", ".sized.stl")}
    measured = {"gourd.stl", "gourd.walls.png"}
    measured |= {f"lattice_shade{s}" for s in (".stl", ".overhangs.png", ".ways.png", ".layers.png")}
    mended = {"finial.mend.stl", "finial.mend.png", "cloud_tile.mend.ply", "cloud_tile.mend.png"}
    solids = {
        f"{name}{s}"
        for name in ("maple_leaf.thick", "cloud_tile.foot", "dragon_bracket.recast")
        for s in (".stl", ".png")
    }
    mended |= solids | {"maple_leaf.stl", "finial.fuse.stl", "finial.fuse.png", "finial.drain.stl"}
    parts = {"lantern_post.stl", "lantern_post.cut.png", *(f"lantern_post.{k}of3.stl" for k in (1, 2, 3))}
    parts |= {"cloud_tile.smooth.ply", "cloud_tile.smooth.png", "carp.plinth.stl", "carp.plinth.png"}
    assert names == {"index.html"} | carp | proven | looked | pictures | lanterns | measured | mended | parts
    assert all(p.read_bytes().startswith(b"\x89PNG") for p in folder.rglob("*.png"))
    bolvek("demo", folder, expect=3)


def test_every_verb_takes_several_models_and_a_broken_one_stops_no_other(bolvek, tmp_path):
    small(tmp_path, ball(8.0), "one.stl")
    small(tmp_path, box((0, 0, 0), (9, 9, 9)), "two.obj")
    (tmp_path / "broken.stl").write_text("solid nothing\nendsolid\n")
    ask = {
        "hollow": ["--wall", "1.5mm"],
        "prep": ["--wall", "1.5mm", "--diameter", "2mm"],
        "pose": ["--turn", "x:90"],
        "walls": [],
        "overhangs": [],
        "proof": [],
        "picture": [],
    }
    for verb, more in ask.items():
        writes = ["-o", f"{verb}/"] if verb in ("hollow", "prep", "pose", "picture") else []
        record = [] if verb == "picture" else ["--json", f"{verb}.json"]
        files = ["one.stl", "broken.stl", "two.obj"]
        done = bolvek(verb, *files, *more, *writes, *record, expect=3)
        lines = done.stdout.splitlines()
        assert len(lines) == 4 and lines[-1].startswith("total") and "1 failed" in lines[-1], done.stdout
        assert lines[1].startswith("failed") and "broken.stl" in lines[1]
        if writes:
            assert sorted(p.stem for p in (tmp_path / verb).iterdir()) == [f"one.{verb}", f"two.{verb}"]
        if record:
            told = Record.model_validate_json((tmp_path / f"{verb}.json").read_text())
            assert [m.file for m in told.models] == ["one.stl", "two.obj"] and told.failed[0].file == "broken.stl"
            assert not told.ok
    # a set that cannot be read whole is not scaled to a size; a factor that is given holds for each
    done = bolvek("scale", "one.stl", "broken.stl", "two.obj", "--by", "2", "-o", "twice/", expect=3)
    assert "2 written, 1 failed" in done.stdout
    assert bolvek("scale", "one.stl", "--longest", "5cm").stdout.startswith("read ")
    assert "broken.stl" in bolvek("scale", "one.stl", "broken.stl", "--longest", "5cm", "-o", "s/", expect=3).stderr
    assert not (tmp_path / "s").exists()
    assert "1 model, not for 2" in bolvek("walls", "one.stl", "two.obj", "--values", "v.csv", expect=2).stderr.replace(
        "one model", "1 model"
    )
    assert "need a folder" in bolvek("hollow", "one.stl", "two.obj", "-o", "x.stl", expect=2).stderr


def test_ctrl_c_among_several_tells_what_was_written(bolvek, tmp_path, monkeypatch):
    from bolvek.cli.base import outcome

    small(tmp_path, name="one.stl")
    small(tmp_path, name="two.stl")

    def read(path, **more):
        if path.name == "two.stl":
            raise KeyboardInterrupt
        return read_model(path, **more)

    monkeypatch.setattr(outcome, "read_model", read)
    done = bolvek("pose", "one.stl", "two.stl", "--turn", "z:90", expect=130)
    assert "stopped; 1 file written before that" in done.stderr and (tmp_path / "one.pose.stl").exists()


def test_a_link_to_the_input_is_the_input_and_capitals_are_no_other_format(bolvek, tmp_path):
    small(tmp_path, name="MODEL.STL")
    (tmp_path / "link.stl").symlink_to(tmp_path / "MODEL.STL")
    before = (tmp_path / "MODEL.STL").read_bytes()
    assert "input itself" in bolvek("pose", "MODEL.STL", "--drop", "-o", "link.stl", "--replace", expect=3).stderr
    assert "input itself" in bolvek("pose", "link.stl", "--drop", "-o", "MODEL.STL", "--replace", expect=3).stderr
    bolvek("pose", "link.stl", "--drop", "-o", "OUT.PLY")
    assert read_model(tmp_path / "OUT.PLY").format == "PLY"
    assert (tmp_path / "MODEL.STL").read_bytes() == before and (tmp_path / "link.stl").is_symlink()


def test_a_verb_is_found_by_what_it_is_called_elsewhere(bolvek):
    assert "Did you mean 'pose'" in bolvek("rotate", "x.stl", expect=2).stderr
    assert "Also looked for as" in bolvek("proof", "-h").stdout


def test_long_steps_say_that_they_are_at_work(bolvek, tmp_path, monkeypatch):
    """Without a terminal a plain line on stderr now and then; stdout holds the record alone."""
    monkeypatch.setattr("bolvek.cli.base.console.TELL_EVERY_S", 0.02)
    write_model(tmp_path / "ball.stl", ball(8.0))
    done = bolvek("recast", "ball.stl", "--grid", "0.5mm", "--json", "-")
    lines = [line for line in done.stderr.splitlines() if line.startswith("bolvek: recast ... ")]
    assert lines and lines[0].endswith(" s")
    json.loads(done.stdout)
