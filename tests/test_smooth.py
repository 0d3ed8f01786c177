"""Smoothing against surfaces that are known, and plinths worked out by hand."""

import json

import numpy as np
import pytest

from bolvek.analyses.soundness import find_defects
from bolvek.errors import WorkError
from bolvek.formats import read_model, write_model
from bolvek.operations.fuse import fuse_parts
from bolvek.operations.plinth import add_plinth, smallest_circle
from bolvek.operations.refine import refine
from bolvek.operations.smooth import smooth
from bolvek.report.record import Record
from bolvek.settings.parts import PlinthSettings
from bolvek.settings.repairs import Region, SmoothSettings
from support import assert_sound, ball, box


def noisy(mesh, size, seed=4):
    return mesh.moved(mesh.vertices + np.random.default_rng(seed).normal(size=mesh.vertices.shape) * size).as_stored()


def fine_box():
    return refine(box((-10, -10, -10), (10, 10, 10)), np.ones(12, bool), 1.0)[0]


def off_box(points):
    out = np.abs(points) - 10
    return np.linalg.norm(np.maximum(out, 0), axis=1) + np.minimum(out.max(axis=1), 0)


@pytest.mark.parametrize(
    ("mesh", "off", "left"),
    [(ball(10, 0.6), lambda p: np.linalg.norm(p, axis=1) - 10, 0.5), (fine_box(), off_box, 0.4)],
)
def test_noise_goes_and_the_shape_stays(mesh, off, left):
    rough = noisy(mesh, 0.05)
    calm, record = smooth(rough, SmoothSettings(most_mm=0.5, passes=12))
    rms = [float(np.sqrt((off(m.vertices) ** 2).mean())) for m in (rough, calm)]
    assert rms[1] < left * rms[0] and record.rough_mm < record.rough_before_mm
    assert calm.volume == pytest.approx(mesh.volume, rel=0.003), "it does not shrink"
    assert np.array_equal(calm.faces, rough.faces) and calm.meeting[1] <= rough.meeting[1]
    taut = calm.vertices[np.abs(np.abs(mesh.vertices).max(axis=1) - 10) < 1e-9] if off is off_box else calm.vertices
    assert np.abs(off(taut)).max() < 0.2, "creases stay too"


def test_nothing_goes_farther_than_allowed_and_rims_stay():
    whole = noisy(ball(10, 0.6), 0.08)
    cup = whole.picked(whole.vertices[whole.faces][:, :, 2].max(axis=1) < 5)
    calm, record = smooth(cup, SmoothSettings(most_mm=0.03))
    moved = np.linalg.norm(calm.vertices - cup.vertices, axis=1)
    assert 0 < moved.max() <= 0.03 + 1e-6 and record.at_limit > 0
    assert record.deviation_mm <= 0.03 + 1e-6 and record.deviation_back_mm <= 0.03 + 1e-6
    rim = np.unique(np.concatenate(cup.edge_ends(np.flatnonzero(cup.topology.opposite < 0))))
    assert len(rim) and not moved[rim].any() and record.volume_mm3 is None
    calm, _ = smooth(cup, SmoothSettings(within=(Region(ball=((-10, 0, 0), 4)),)))
    moved = np.linalg.norm(calm.vertices - cup.vertices, axis=1)
    far = np.linalg.norm(cup.vertices - [-10, 0, 0], axis=1) > 4
    assert moved.any() and not moved[far].any()
    calm, _ = smooth(cup, SmoothSettings(within=(Region(rim_mm=1.0),)))
    assert not np.linalg.norm(calm.vertices - cup.vertices, axis=1)[cup.vertices[:, 2] < 2].any()
    with pytest.raises(WorkError, match="nothing to smooth"):
        smooth(cup, SmoothSettings(within=(Region(box=((50, 0, 0), (60, 1, 1))),)))


def test_walls_are_not_made_thinner_than_asked():
    plate = refine(box((0, 0, 0), (20, 20, 1)), np.ones(12, bool), 0.8)[0]
    inner = (np.abs(plate.vertices[:, :2] - 10) < 9).all(axis=1)
    bump = 0.06 * np.random.default_rng(4).normal(size=len(plate.vertices)) * inner
    rough = plate.moved(plate.vertices + np.outer(bump, [0, 0, 1])).as_stored()
    assert not find_defects(rough)
    _, free = smooth(rough, SmoothSettings(most_mm=0.3))
    calm, kept = smooth(rough, SmoothSettings(most_mm=0.3, least_mm=0.95))
    assert free.thin_kept == 0 and kept.thin_kept > 0 and kept.moved > 0
    assert not find_defects(calm)


def test_folds_of_a_thin_sheet_do_not_cross():
    sheet = refine(box((0, 0, 0), (10, 10, 0.05)), np.ones(12, bool), 0.5)[0]
    bent = sheet.moved(sheet.vertices + np.outer(np.sin(3 * sheet.vertices[:, 0]), [0, 0, 1]) * 0.6).as_stored()
    assert not find_defects(bent)
    calm, _ = smooth(bent, SmoothSettings(most_mm=1.0, passes=60, keep_edges_deg=120))
    assert not find_defects(calm)


def test_square_and_round_plinths_by_hand():
    tower = box((0, 0, 0), (10, 10, 40))
    asked = PlinthSettings(shape="square", height_mm=5, margin_mm=3, sink_mm=1, chamfer_mm=0)
    made, record = add_plinth(tower, asked)
    assert_sound(made)
    assert record.size_mm == pytest.approx((16, 16, 5)) and made.bounds[0, 2] == pytest.approx(-4)
    assert made.volume == pytest.approx(4000 + 16 * 16 * 5 - 100, rel=1e-4) and record.carried_mm2 == pytest.approx(100)
    middle = (4000 * 24 + 1280 * 2.5 - 100 * 4.5) / (4000 + 1280 - 100)
    assert record.tips_deg == pytest.approx(np.degrees(np.arctan2(8, middle)), abs=0.01)
    made, record = add_plinth(tower, PlinthSettings(shape="square", height_mm=5, margin_mm=3, sink_mm=1, chamfer_mm=1))
    frustum = (256 + 196 + np.sqrt(256 * 196)) / 3
    assert made.volume == pytest.approx(3900 + 256 * 4 + frustum, rel=1e-4)
    made, record = add_plinth(tower, PlinthSettings(shape="round", height_mm=5, margin_mm=3, sink_mm=1))
    reach = 5 * np.sqrt(2) + 3
    assert record.base_mm2 == pytest.approx(np.pi * reach**2, rel=1e-3) and not find_defects(made.as_stored())
    assert np.linalg.norm(made.vertices[made.vertices[:, 2] < 0][:, :2] - 5, axis=1).min() >= reach - 1e-4


def test_a_plinth_that_follows():
    ell = box((0, 0, 0), (30, 10, 20)), box((0, 9, 0), (10, 30, 20))
    made, record = add_plinth(fuse_parts(list(ell)), PlinthSettings(margin_mm=2, sink_mm=1, chamfer_mm=0.5))
    around = 500 + 120 * 2 + np.pi * 4 * 1.25 - 4  # five corners out, one in
    assert record.base_mm2 == pytest.approx(around, rel=0.01) and not find_defects(made.as_stored())
    assert made.topology.shells == 1
    # two feet, one plinth
    gate = [box((0, 0, 0), (5, 5, 30)), box((25, 0, 0), (30, 5, 30)), box((0, 0, 25), (30, 5, 30))]
    made, record = add_plinth(fuse_parts(gate), PlinthSettings(margin_mm=2))
    assert (
        made.topology.shells == 1
        and record.base_mm2 > 200
        and record.tips_deg > 10
        and not find_defects(made.as_stored())
    )


def test_smallest_circle_by_all_pairs_and_triples():
    rng = np.random.default_rng(2)
    for _ in range(30):
        points = rng.normal(size=(int(rng.integers(2, 9)), 2))
        middle, radius = smallest_circle(points)
        gap = np.linalg.norm(points - middle, axis=1)
        assert gap.max() <= radius * (1 + 1e-7)
        on = points[gap > radius * (1 - 1e-6)]
        # the middle lies among the points on the circle: no smaller circle holds them
        angle = np.sort(np.arctan2(*(on - middle).T))
        assert len(on) >= 2 and np.diff(np.append(angle, angle[0] + 2 * np.pi)).max() <= np.pi + 1e-4


def test_as_a_preparer_does(bolvek, tmp_path):
    write_model(tmp_path / "ball.stl", noisy(ball(8, 0.6), 0.05))
    done = bolvek("smooth", "ball.stl", "--within", "0.2mm", "--picture", "calm.png", "--json", "-")
    Record.model_validate_json(done.stdout)
    told = json.loads(done.stdout)["models"][0]["smooth"]
    assert told["rough_mm"] < told["rough_before_mm"] and (tmp_path / "calm.png").exists()
    calm = read_model(tmp_path / "ball.smooth.stl").mesh
    assert calm.meeting[1] <= read_model(tmp_path / "ball.stl").mesh.meeting[1]
    again = bolvek("smooth", "ball.stl", "--region", "0,0,8:3mm", "--region", "0,0,0:1,1,1", "-o", "part.stl")
    assert "roughness" in again.stdout
    assert "closed" in bolvek("smooth", "ball.stl", "--region", "rim:2mm", "-o", "x.stl", expect=4).stderr
    for wrong in ("3mm", "0,0,0", "rim:", "0,0,0:x"):
        bolvek("smooth", "ball.stl", "--region", wrong, "-o", "x.stl", expect=2)
    write_model(tmp_path / "smooth_ball.stl", ball(8, 0.6))
    stood = bolvek(
        "plinth",
        "smooth_ball.stl",
        "--shape",
        "round",
        "--sink",
        "2mm",
        "--tilt",
        "10,90",
        "-o",
        "stood.stl",
        "--json",
        "-",
    )
    told = json.loads(stood.stdout)
    assert told["verdict"] == "done" and told["models"][0]["plinth"]["tips_deg"] > 20
    write_model(
        tmp_path / "lean.stl",
        box((0, 0, 0), (1, 1, 40)).moved(box((0, 0, 0), (1, 1, 40)).vertices @ [[1, 0, 0], [0, 1, 0], [1, 0, 1]]),
    )
    falls = bolvek("plinth", "lean.stl", "--around", "1mm", "-o", "falls.stl", expect=1)
    assert "falls" in falls.stdout
    bolvek("plinth", "ball.stl", "--sink", "9mm", "-o", "x.stl", expect=2)
    write_model(tmp_path / "open.stl", box().picked(np.arange(10)))
    assert "bolvek solid open.stl" in bolvek("plinth", "open.stl", "-o", "x.stl", expect=4).stderr
    assert not (tmp_path / "x.stl").exists()
