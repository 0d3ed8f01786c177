"""`walls`, `overhangs` and `pose --best` as a preparer runs them: text, record, pictures, values, refusals."""

import csv
import json

import numpy as np
import pytest

from bolvek.demo.measured import gourd, lattice_shade
from bolvek.demo.pieces import block
from bolvek.formats import read_model, write_model
from bolvek.mesh import Mesh
from bolvek.report.record import Record
from support import box, pixels, shell_box


@pytest.fixture
def shop(tmp_path):
    """Small models to measure."""
    write_model(tmp_path / "plate.stl", block((0, 0, 0), (40, 30, 2)))
    write_model(tmp_path / "tee.stl", block((0, 0, 0), (10, 10, 20)).joined(block((-10, 0, 19), (20, 10, 25))))
    write_model(tmp_path / "flat.ply", Mesh([[0, 0, 0], [10, 0, 0], [0, 10, 0]], [[0, 1, 2]]))
    return tmp_path


def record_of(done):
    """The record on stdout, checked against its schema."""
    Record.model_validate_json(done.stdout)
    return json.loads(done.stdout)


def test_walls_at_any_size(bolvek, shop):
    done = bolvek("walls", "plate.stl", "--least-wall", "1.2mm", "--json", "-")
    section = record_of(done)["models"][0]["walls"]
    assert section["ray"]["min_mm"] == pytest.approx(2) and section["ball"]["min_mm"] == pytest.approx(2, rel=0.002)
    assert "thick enough" in done.stderr
    done = bolvek("walls", "plate.stl", "--least-wall", "1.2mm", "--longest", "20mm", "--json", "-", expect=1)
    record = record_of(done)
    assert record["models"][0]["walls"]["wall"]["min_mm"] == pytest.approx(1)
    assert record["models"][0]["scale"]["factor"] == 0.5 and record["verdict"] == "thin"
    assert record["findings"][0]["code"] == "wall_thin"
    said = bolvek("walls", "plate.stl", "--printer", "small-resin", "--by", "0.2", expect=1).stdout
    assert "minimum" in said and "0.800 mm" in said and "200.0% of its size everything" in said


def test_the_gourd_in_words_picture_and_values(bolvek, tmp_path):
    mesh, plan = gourd(80, 76)
    write_model(tmp_path / "gourd.stl", mesh)
    done = bolvek("walls", "gourd.stl", "--least-wall", "1.2mm", "--picture", "g.png", "--values", "g.csv", expect=1)
    assert f"{len(plan)} zones thinner than 1.200 mm" in done.stdout
    image = pixels(tmp_path / "g.png")[..., :3]
    body = image[100:740, 40:890]
    orange = (body[..., 0] > body[..., 2] + 0.25) & (body[..., 0] > 0.3)
    blue = body[..., 2] > body[..., 0] + 0.12
    assert 500 < orange.sum() < 0.2 * blue.sum()
    rows = list(csv.DictReader((tmp_path / "g.csv").read_text().splitlines()))
    assert len(rows) == len(mesh.faces)
    values = np.array([float(r["wall_mm"] or "nan") for r in rows])
    assert 0.45 < np.nanmin(values) < 0.6 and np.nanmedian(values) == pytest.approx(2.4, abs=0.05)


def test_walls_call_out_what_broke_through_first(bolvek, tmp_path):
    outer, inner = block((0, 0, 0), (20, 20, 20)), block((0.5, 2, 2), (18, 18, 20.5))
    write_model(tmp_path / "hollow.stl", outer.joined(inner.turned()))
    done = bolvek("walls", "hollow.stl", "--least-wall", "1mm", "--gap", "1mm", expect=1)
    lines = [line for line in done.stdout.splitlines() if line.startswith("fault")]
    assert "broken through" in lines[0]
    zones = [line for line in done.stdout.splitlines() if line.startswith("  1")]
    assert "broken through" in zones[0]


def test_overhangs_in_words_and_record(bolvek, shop):
    done = bolvek("overhangs", "tee.stl", "--json", "-", "--picture", "tee.png", expect=1)
    section = record_of(done)["models"][0]["overhangs"]
    assert section["area_mm2"] == pytest.approx(200, rel=0.005) and section["islands"] == 0
    assert section["support_volume_mm3"] == pytest.approx(3800, rel=0.005)
    assert section["zones"][0]["kind"] == "cantilever"
    assert "1 zone overhangs" in done.stderr and (shop / "tee.png").stat().st_size > 10_000
    assert bolvek("overhangs", "tee.stl", "--up", "0,1,0").stdout.count("prints as it stands") == 1
    resin = record_of(bolvek("overhangs", "plate.stl", "--printer", "small-resin", "--json", "-"))
    asked = resin["settings"]
    assert (asked["habit"], asked["angle_deg"], asked["layer_mm"]) == ("hangs", 30, 0.05)
    assert resin["models"][0]["overhangs"]["layers"] == 40


def test_the_shade_and_its_ways(bolvek, tmp_path):
    mesh, plan = lattice_shade()
    write_model(tmp_path / "shade.stl", mesh)
    done = bolvek(
        "overhangs",
        "shade.stl",
        "--compare-up",
        "12",
        "--tell",
        "3",
        "--weigh",
        "height=1",
        "--sheet",
        "w.png",
        "--json",
        "-",
        expect=1,
    )
    record = record_of(done)
    assert record["models"][0]["overhangs"]["islands"] == plan.islands
    ways = record["models"][0]["directions"]
    assert len(ways["best"]) == 3 and ways["weights"]["height"] == 1 and ways["tried"] > 12
    assert (tmp_path / "w.png").read_bytes().startswith(b"\x89PNG")
    assert f"{plan.islands} islands" in done.stderr and "as it is" in done.stderr


def test_pose_applies_the_best_direction(bolvek, shop):
    bolvek("pose", "tee.stl", "--best", "1", "-o", "laid.stl")
    laid = read_model(shop / "laid.stl").mesh
    assert laid.size[2] == pytest.approx(10) and laid.bounds[0, 2] == pytest.approx(0, abs=1e-6)
    assert bolvek("overhangs", "laid.stl").stdout.count("prints as it stands") == 1
    assert "goes with none" in bolvek("pose", "tee.stl", "--best", "1", "--up", "0,0,1", expect=2).stderr


@pytest.mark.parametrize(
    ("args", "code", "said"),
    [
        (["walls", "plate.stl", "--least-wall", "0"], 2, "--least-wall must be more than 0"),
        (["walls", "plate.stl", "--least-wall", "1", "--printer", "small-resin"], 2, "not both"),
        (["walls", "plate.stl", "--printer", "smal-resin"], 2, "Did you mean"),
        (["walls", "plate.stl", "--height", "5", "--by", "2"], 2, "exactly one of --by, --height, --longest; found"),
        (["walls", "plate.stl", "--by", "0"], 2, "more than 0"),
        (["walls", "flat.ply"], 4, "flat"),
        (["overhangs", "flat.ply"], 4, "flat"),
        (["overhangs", "plate.stl", "--up", "0,0,0"], 2, "zero direction"),
        (["overhangs", "plate.stl", "--angle", "0"], 2, "--angle"),
        (["overhangs", "plate.stl", "--compare-up", "0"], 2, "--compare-up"),
        (["overhangs", "plate.stl", "--compare-up", "3", "--weigh", "speed=1"], 2, "no measure 'speed'"),
        (["overhangs", "plate.stl", "--sheet", "x.png"], 2, "--compare-up"),
        (["overhangs", "none.stl"], 3, "cannot be read"),
    ],
)
def test_bad_asks_write_nothing(bolvek, shop, args, code, said):
    before = sorted(p.name for p in shop.iterdir())
    assert said in bolvek(*args, expect=code).stderr
    assert sorted(p.name for p in shop.iterdir()) == before


def test_the_same_bytes_whatever_the_threads(bolvek, tmp_path):
    write_model(tmp_path / "shade.stl", lattice_shade()[0])
    write_model(tmp_path / "hollow.stl", shell_box(0.8, 12).joined(box((20, 0, 0), (26, 6, 6))))
    texts = set()
    for threads in ("1", "3"):
        parts = []
        for verb, name, more in (
            ("walls", "hollow.stl", ["--gap", "1mm", "--spacing", "0.5mm"]),
            ("overhangs", "shade.stl", ["--compare-up", "9"]),
        ):
            done = bolvek(
                verb, name, *more, "--json", "-", "--picture", f"{verb}{threads}.png", expect=1, BOLVEK_THREADS=threads
            )
            record = json.loads(done.stdout)
            del record["seconds"], record["outputs"], record["models"][0]["outputs"]
            parts.append(record)
        texts.add(json.dumps(parts))
    assert len(texts) == 1
    for verb in ("walls", "overhangs"):
        assert (tmp_path / f"{verb}1.png").read_bytes() == (tmp_path / f"{verb}3.png").read_bytes()


def test_layers_as_table_pixels_and_outlines(bolvek, shop):
    import re

    asked = ("--layer", "0.5mm", "--printer", "small-resin", "--price", "35/l", "--material", "standard-resin")
    files = ("--csv", "t.csv", "--pngs", "px", "--svg", "svg", "--picture", "p.png", "--json", "-")
    done = bolvek("layers", "tee.stl", *asked, *files, expect=1)
    layers = record_of(done)["models"][0]["layers"]
    # a post of 10 x 10 x 20 that goes into a beam of 30 x 10 x 6 by one millimetre
    assert layers["count"] == 50 and layers["height_mm"] == pytest.approx(25) and not layers["exact"]
    volume = 100 * 19 + 300 * 6
    assert layers["volume_mm3"] == pytest.approx(volume, rel=0.005)
    assert layers["weight_g"] == pytest.approx(1.13 * layers["volume_mm3"] / 1000)
    assert layers["price"] == pytest.approx(35 * layers["volume_mm3"] / 1e6)
    assert layers["time_s"] == pytest.approx(5 * 28 + 45 * 2.4 + 50 * 7)
    assert layers["disagreeing_layers"] == 2 and layers["disagreeing_mm3"] == pytest.approx(100, rel=0.01)
    assert [j["layer"] for j in layers["jumps"]] == [38] and layers["islands"] == 0 and layers["cups"] == []
    rows = list(csv.DictReader((shop / "t.csv").read_text().splitlines()))
    assert len(rows) == 50 and float(rows[10]["area_mm2"]) == pytest.approx(100, rel=0.01)
    assert float(rows[45]["area_mm2"]) == pytest.approx(300, rel=0.01) and float(rows[38]["disagree_mm2"]) > 90
    shown = pixels(shop / "px" / "layer_00045.png")
    assert shown.shape == (round(80 / 0.035), round(130 / 0.035))
    assert shown.sum() * 0.035**2 == pytest.approx(300, rel=0.005)
    lit = np.argwhere(shown > 0)
    assert np.abs(lit.mean(axis=0) - np.array(shown.shape) / 2).max() < 1
    outline = (shop / "svg" / "layer_00010.svg").read_text()
    points = np.array([[float(x) for x in pair.split()] for pair in re.findall(r"[ML]([-\d.e ]+)", outline)])
    assert np.ptp(points, axis=0) == pytest.approx([10, 10]) and 'viewBox="-10 -10 30 10"' in outline
    assert len(list((shop / "svg").iterdir())) == 50 and pixels(shop / "p.png").shape[:2] == (800, 1280)


def test_layers_at_heights_and_refusals(bolvek, shop):
    write_model(shop / "cup.stl", shell_box(2.0, 20.0).picked(slice(None)))
    done = bolvek(
        "layers", "cup.stl", "--layer-at", "10mm", "--layer-at", "1mm", "--svg", "two", "--json", "-", expect=1
    )
    layers = record_of(done)["models"][0]["layers"]
    assert sorted(p.name for p in (shop / "two").iterdir()) == ["layer_00020.svg", "layer_00200.svg"]
    assert layers["pools"][0]["enclosed"] and layers["pool_mm3"] == pytest.approx(16**3, rel=0.02)
    assert layers["cups"][0]["area_mm2"] == pytest.approx(256, rel=0.02) and layers["cups"][0]["enclosed"]
    assert "no way out" in done.stderr and "suction cup" in done.stderr
    posed = bolvek("layers", "plate.stl", "--drain-up", "1,0,0", "--json", "-")
    assert record_of(posed)["verdict"] == "layers clear"
    assert "holds files" in bolvek("layers", "cup.stl", "--svg", "two", expect=3).stderr
    for wrong in (["--at", "3mm"], ["--at", "30mm", "--svg", "x"], ["--price", "35"], ["--layer", "0"]):
        bolvek("layers", "cup.stl", *wrong, expect=2)
    assert "is flat" in bolvek("layers", "flat.ply", expect=4).stderr
    too_big = bolvek("layers", "plate.stl", "--printer", "small-resin", "--by", "5", "--pngs", "big", expect=4)
    assert "scale or turn it" in too_big.stderr and not (shop / "big").exists()
