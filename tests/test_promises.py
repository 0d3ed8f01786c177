"""What a run promises whatever happens: exit codes, nothing lost, files that mean harm, words that help."""

import os
import re
import signal
import subprocess
import sys
import zipfile
from pathlib import Path

import numpy as np
import pytest

from bolvek.errors import WorkError
from bolvek.formats import read_model, write_model
from bolvek.formats.safe import check_target
from bolvek.kernels.cache import find_cache_folder, is_ours
from bolvek.operations.drain import drain
from bolvek.report.record import Record
from bolvek.settings.shape import Drain, DrainSettings
from fool import bore, hollow_block, sphere, without
from support import box, field, shell_box

PROGRAM = Path(sys.executable).with_name("bolvek")


def run_python(code, **more):
    return subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, timeout=120, **more)


@pytest.mark.parametrize(
    ("raised", "code", "said"),
    [
        ("ValueError('odd')", 70, "a bug in bolvek"),
        ("MemoryError()", 4, "not enough memory"),
        ("KeyboardInterrupt()", 130, "stopped"),
    ],
)
def test_what_is_not_foreseen_has_its_code_and_no_traceback(tmp_path, raised, code, said):
    done = run_python(
        "import sys; sys.argv = ['bolvek', 'profiles']\n"
        "import bolvek.profiles\n"
        f"def fail(): raise {raised}\n"
        "bolvek.profiles.load_profiles = fail\n"
        "from bolvek.cli.main import main; main()",
        env={**os.environ, "TMPDIR": str(tmp_path)},
    )
    assert done.returncode == code and said in done.stderr and "Traceback" not in done.stderr
    saved = list(tmp_path.glob("bolvek-bug-*.txt"))
    assert len(saved) == (code == 70)
    assert all("ValueError: odd" in f.read_text() and str(f) in done.stderr for f in saved)


def test_ctrl_c_ends_with_130_and_leaves_nothing(tmp_path):
    write_model(tmp_path / "ball.stl", sphere(40, 0.7))
    # whoever starts the tests in the background has it ignored, and children inherit that
    heard = "import os, signal, sys; signal.signal(signal.SIGINT, signal.SIG_DFL); os.execv(sys.argv[1], sys.argv[1:])"
    run = subprocess.Popen(
        [sys.executable, "-c", heard, PROGRAM, "prep", "ball.stl", "--grid", "0.2mm"],
        cwd=tmp_path,
        stdout=subprocess.PIPE,
        stderr=subprocess.PIPE,
    )
    run.stdout.readline()  # the file is read: the work has begun
    run.send_signal(signal.SIGINT)
    _, said = run.communicate(timeout=120)
    assert run.returncode == 130 and b"Traceback" not in said
    assert [p.name for p in tmp_path.iterdir()] == ["ball.stl"]


def test_a_reader_that_goes_away_is_no_error():
    with subprocess.Popen([PROGRAM, "schema"], stdout=subprocess.PIPE, stderr=subprocess.PIPE) as run:
        run.stdout.close()
        said = run.stderr.read()
    assert run.returncode == 0 and b"Traceback" not in said and b"BrokenPipe" not in said


def test_another_name_of_the_input_is_the_input(tmp_path):
    source = tmp_path / "carp.stl"
    source.write_bytes(b"x")
    os.link(source, tmp_path / "Carp.stl")  # as a disk that does not tell capitals apart shows it
    with pytest.raises(Exception, match="is the input itself"):
        check_target(tmp_path / "Carp.stl", [source], replace=True)


def test_compiled_code_is_not_taken_from_a_folder_that_others_can_write(tmp_path, monkeypatch):
    monkeypatch.setenv("BOLVEK_CACHE", "/proc/nowhere")
    monkeypatch.setattr("tempfile.gettempdir", lambda: str(tmp_path))
    monkeypatch.setattr("tempfile.tempdir", str(tmp_path))
    open_to_all = tmp_path / f"bolvek-{os.getuid()}"
    open_to_all.mkdir()
    open_to_all.chmod(0o777)
    assert not is_ours(open_to_all) and not find_cache_folder().is_relative_to(open_to_all)
    open_to_all.chmod(0o700)
    assert is_ours(open_to_all) and find_cache_folder().is_relative_to(open_to_all)
    elsewhere = tmp_path / "link"
    elsewhere.symlink_to(open_to_all)
    assert not is_ours(elsewhere)


def _archive(path, body):
    with zipfile.ZipFile(path, "w", zipfile.ZIP_DEFLATED) as z:
        z.writestr("3D/3dmodel.model", body)


def test_a_crafted_3mf_is_refused_at_once_and_many_tiny_objects_are_read(tmp_path):
    path = tmp_path / "bad.3mf"
    for body in (
        "<model><resources><object id='1'><mesh><vertices>" + "vertices " * 1_000_000,
        "<model>" + "<!--" * 2_000_000,
    ):
        _archive(path, body)
        with pytest.raises(Exception, match=r"bad\.3mf"):
            read_model(path)
    rows = "".join(f"<vertex x='{x}' y='{y}' z='{z}'/>" for x, y, z in box((0, 0, 0), (1, 1, 1)).vertices)
    faces = "".join(f"<triangle v1='{a}' v2='{b}' v3='{c}'/>" for a, b, c in box().faces)
    items = "".join(f"<item objectid='1' transform='1 0 0 0 1 0 0 0 1 {2 * k} 0 0'/>" for k in range(40_000))
    good = tmp_path / "good.3mf"
    _archive(
        good,
        "<model xmlns='http://schemas.microsoft.com/3dmanufacturing/core/2015/02' unit='millimeter'><resources>"
        f"<object id='1'><mesh><vertices>{rows}</vertices><triangles>{faces}</triangles></mesh></object></resources>"
        f"<build>{items}</build></model>",
    )
    assert len(read_model(good).mesh.faces) == 12 * 40_000


def test_numbers_beyond_a_float_get_a_sentence_and_no_warning(bolvek, tmp_path):
    text = "ply\nformat ascii 1.0\nelement vertex 3\nproperty double x\nproperty double y\nproperty double z\n"
    text += "element face 1\nproperty list uchar int vertex_index\nend_header\n0 0 0\n1e999 0 0\n0 1 0\n"
    (tmp_path / "far.ply").write_text(text + "3 0 1 99999999999999999999999999\n")
    said = bolvek("survey", "far.ply", expect=3).stderr
    assert "far.ply" in said and "Warning" not in said


def test_prep_leaves_solid_what_is_not_worth_hollowing_and_proves_it(bolvek, tmp_path):
    write_model(tmp_path / "plate.stl", box((0, 0, 0), (30, 20, 3)))
    done = bolvek("prep", "plate.stl", "--wall", "2mm", "--json", "r.json")
    record = Record.model_validate_json((tmp_path / "r.json").read_text())
    assert record.ok and record.verdict == "fit" and record.models[0].hollow is None
    assert "left_solid" in {f.code for f in record.findings} and "solid, no cavity" in done.stdout
    assert (
        read_model(tmp_path / "plate.prep.stl").mesh.corners == read_model(tmp_path / "plate.stl").mesh.corners
    ).all()


@pytest.mark.parametrize("shape", ["cube", "ball"])
def test_prep_drains_walls_thicker_than_the_drain(bolvek, tmp_path, shape):
    write_model(tmp_path / "m.stl", box((0, 0, 0), (24, 24, 24)) if shape == "cube" else sphere(14, 1.0))
    done = bolvek("prep", "m.stl", "--wall", "4mm", "--diameter", "3.5mm", "--json", "r.json")
    proof = Record.model_validate_json((tmp_path / "r.json").read_text()).models[0].proof
    assert proof.verdict == "fit" and proof.drains == 2 and proof.kept.cut > 0 and "outer surface" in done.stdout


def test_prep_takes_smaller_drains_where_no_other_fits_and_says_so(bolvek, tmp_path):
    def shape(x, y, z):  # a slim bar: a 12 mm drain has no place
        return np.maximum(np.hypot(x, y) - 4.5, np.abs(z) - 11)

    write_model(tmp_path / "bar.stl", field(shape, 13, 0.5))
    bolvek("prep", "bar.stl", "--wall", "1.2mm", "--diameter", "8mm", "--json", "r.json")
    section = Record.model_validate_json((tmp_path / "r.json").read_text()).models[0]
    assert section.proof.verdict == "fit"
    assert {1.5 <= h.diameter_mm < 8.0 for h in section.drain.holes} == {True}


def test_proof_before_tells_what_was_made(bolvek, tmp_path):
    write_model(tmp_path / "block.stl", box((0, 0, 0), (30, 26, 22)))
    made = without(hollow_block(2.0), bore((10, 10, -2), (10, 10, 3), 3, np.random.default_rng(0)))
    write_model(tmp_path / "made.stl", made)
    said = bolvek("proof", "made.stl", "--wall", "2mm", "--before", "block.stl").stdout
    assert re.search(r"outer surface +10 of 12 faces of the original bit for bit, 2 cut", said)
    assert "fit to print" in said
    said = bolvek("proof", "made.stl").stdout
    assert "wall not judged" in said and "fit to print" not in said
    assert "hollow: 1 cavity" in bolvek("survey", "made.stl").stdout
    said = bolvek("proof", "made.stl", "--wall", "2mm", "--printer", "large-resin", expect=1).stdout
    assert "3.500 mm is the least drain" in said


@pytest.mark.parametrize(
    ("mesh", "hole", "said"),
    [
        (shell_box(), Drain((10, 2.8, 0), 2.0), "along a wall"),
        (box((0, 0, 0), (30, 30, 4)), Drain((15, 15, 4), 3.0), "it would come out in the open"),
        (shell_box(), Drain((10, 10, 0), 2.0, depth_mm=1.97), "leave a skin"),
        (shell_box(), Drain((10, 10, 0), 1.0, (10 + 50, 10, 1)), "too flat"),
    ],
)
def test_drain_sends_nobody_the_wrong_way(mesh, hole, said):
    with pytest.raises(WorkError, match=said):
        drain(mesh, DrainSettings(drains=(hole,)))
    steep = Drain((4, 10, 0), 2.0, (4 + 4, 10, 4 * np.tan(np.radians(20))))
    if len(mesh.faces) > 12:
        assert drain(mesh, DrainSettings(drains=(steep,)))[0].topology.sound


def test_what_only_moves_a_model_tells_what_rounding_made_worse(bolvek, tmp_path):
    thin = shell_box()
    write_model(tmp_path / "thin.ply", thin.moved(thin.vertices * 1e-3))
    done = bolvek("pose", "thin.ply", "--turn", "z:30", "-o", "turned.stl", "--json", "-")
    assert Record.model_validate_json(done.stdout).verdict == "written"
    far = thin.moved(thin.vertices * 1e-5 + [900.0, 0, 0])
    write_model(tmp_path / "far.ply", far)
    done = bolvek("scale", "far.ply", "--by", "1", "-o", "far.stl", "--json", "-", expect=1)
    record = Record.model_validate_json(done.stdout)
    assert record.verdict == "worse" and not record.ok and record.findings[0].code == "rounded"
    # its own wall is told, and a fault only where that is asked
    write_model(tmp_path / "thin.stl", box((0, 0, 0), (30, 20, 0.6)))
    told = Record.model_validate_json(bolvek("prep", "thin.stl", "--wall", "2mm", "--json", "-").stdout)
    assert told.ok and [f.severity for f in told.findings if f.code == "own_wall_thin"] == ["note"]
    strict = bolvek("prep", "thin.stl", "--wall", "2mm", "--strict", "--replace", expect=1)
    assert "0.600 mm" in strict.stdout and "unfit" in strict.stdout
