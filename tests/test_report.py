"""Words, records, pictures and the library calls behind the commands."""

import json
import os
import subprocess
import sys

import numpy as np
import pytest

from bolvek.analyses.proof import prove
from bolvek.errors import BolvekError, FileError, UsageError, WorkError
from bolvek.formats import write_model
from bolvek.jobs.prep import prep_file
from bolvek.report.pictures.plain import model_caption, picture
from bolvek.report.pictures.raster import render
from bolvek.report.pictures.view import CutPlane, View, cut_through
from bolvek.report.words import proof as words
from bolvek.report.words.prep import STEPS
from bolvek.settings.measures import ProofSettings
from bolvek.settings.parts import ScaleSettings
from bolvek.settings.shape import HollowSettings, PlaceSettings, PrepSettings
from bolvek.units import length_text, point_text
from support import ball, blob, box, pixels, shell_box


def test_errors_carry_their_exit_codes():
    assert [e.exit_code for e in (UsageError(), FileError(), WorkError())] == [2, 3, 4]
    assert all(issubclass(e, BolvekError) for e in (UsageError, FileError, WorkError))


def test_lengths_and_places_for_people():
    assert length_text(1.23456) == "1.235 mm" and length_text(90.0) == "90.00 mm"
    assert point_text((-0.001, 2, 3.456)) == "(0.00, 2.00, 3.46)"


def test_proof_rows_hold_the_record_and_nothing_else():
    record = prove(shell_box(), ProofSettings(wall_mm=2.5))
    rows = dict(words.proof_text(record))
    assert rows["solid"].startswith("1 part, 24 triangles, 3.90 cm3")
    assert "no way out" in rows["cavity"] and "min 2.000 mm" in rows["measured"]
    assert rows["wall"].startswith("no") and "asked 2.500 mm" in rows["measured"]
    assert "sound, 0 self-intersections, 1 cavity, 0 openings" in words.proof_line(record)
    crossing = words.proof_line(prove(box().joined(box((5, 5, 5), (15, 15, 15))), ProofSettings()))
    assert crossing.startswith("not sound") and " 0 self-intersections" not in crossing


def test_prep_as_a_library_tells_each_step(tmp_path):
    source, target = tmp_path / "blob.stl", tmp_path / "out.stl"
    write_model(source, blob())
    told = {}

    def step(name, work):
        done = work()
        told[name] = STEPS[name](done) if name in STEPS else ""
        return done

    settings = PrepSettings(
        hollow=HollowSettings(wall_mm=1.5),
        drains=PlaceSettings(count=1, diameter_mm=2.0),
        scale=ScaleSettings(by=1.25),
    )
    result = prep_file(source, target, settings, step)
    assert list(told) == ["read", "scale", "check", "hollow", "place", "drain", "proof", "write"]
    assert "1 cavity" in told["hollow"] and "drain at" in told["place"]
    assert result.proof.verdict == "fit" and [f.code for f in result.proof.findings] == ["no_vent"]
    assert result.scale.factor == 1.25 and len(result.drain.holes) == 1
    with pytest.raises(FileError, match="exists already"):
        prep_file(source, target, settings)


def test_prep_without_drains_writes_the_model_and_calls_it_unfit(tmp_path):
    source, target = tmp_path / "ball.stl", tmp_path / "out.stl"
    write_model(source, ball(8.0))
    result = prep_file(source, target, PrepSettings(hollow=HollowSettings(wall_mm=1.5), drains=PlaceSettings(count=0)))
    assert result.proof.verdict == "unfit" and target.exists() and result.drain is None


@pytest.mark.parametrize("eye", [(0, -1, 0), (1, 0, 0), (0, 0, 1), (0.3, -0.8, 0.5)])
def test_a_picture_shows_the_right_outline(eye):
    view = View.from_eye(np.array(eye, float))
    cuboid = box(high=(10, 20, 40))
    image = render(cuboid, view, 200, 200)
    shown = image.alpha.sum() * image.mm_per_pixel**2
    # the outline of a box has the area of its three visible sides, foreshortened
    exact = np.abs(np.array(eye) / np.linalg.norm(eye)) @ [800, 400, 200]
    assert shown == pytest.approx(exact, rel=0.01)
    rows, columns = np.nonzero(image.alpha > 0.5)
    flat = view.project(cuboid.vertices)
    assert (np.ptp(columns) + 1) * image.mm_per_pixel == pytest.approx(np.ptp(flat[:, 0]), rel=0.03)
    assert (np.ptp(rows) + 1) * image.mm_per_pixel == pytest.approx(np.ptp(flat[:, 1]), rel=0.03)


def test_nearer_faces_hide_farther_ones():
    pair = box((0, 0, 0), (10, 1, 10)).joined(box((0, 5, 0), (10, 6, 10)))
    mark = np.arange(24) >= 12
    seen = render(pair, View.from_eye(np.array([0.0, -1.0, 0.0])), 100, 100, inner=mark)
    hidden = render(pair, View.from_eye(np.array([0.0, 1.0, 0.0])), 100, 100, inner=mark)
    assert seen.rgb[50, 50, 0] > seen.rgb[50, 50, 2] and hidden.rgb[50, 50, 0] < hidden.rgb[50, 50, 2]


def test_the_cut_goes_through_the_drains():
    bounds = np.array([[0, 0, 0], [40.0, 20.0, 60.0]])
    plain = cut_through(bounds, [])
    assert plain.normal.tolist() == [0, -1, 0] and abs(plain.value(np.array([[1.0, 10.0, 5.0]]))[0]) < 0.01
    two = cut_through(bounds, [(5.0, 8.0, 0.0), (35.0, 13.0, 60.0)])
    assert np.abs(two.value(np.array([[5.0, 8.0, 0.0], [35.0, 13.0, 60.0]]))).max() < 0.01
    one = cut_through(bounds, [(20.0, 6.0, 0.0)])
    assert abs(one.value(np.array([[0.0, 6.0, 9.0]]))[0]) < 0.01
    assert CutPlane(np.array([0, -1.0, 0]), 0.0).view().eye[1] < -0.9


def test_pictures_of_open_and_cut_models(tmp_path):
    for name, mesh, cut in (
        ("open", box().picked(slice(2, None)), True),
        ("shell", shell_box(), True),
        ("ball", ball(), False),
    ):
        path = tmp_path / f"{name}.png"
        path.write_bytes(picture(mesh, model_caption(path, mesh), cut_open=cut))
        image = pixels(path)
        assert image.shape[:2] == (800, 1280)
        assert (np.abs(image[..., :3] - image[0, 0, :3]).max(axis=2) > 0.1).mean() > 0.05


def test_kernels_are_kept_where_told_and_fall_back(tmp_path):
    code = "from bolvek.kernels.cache import cache_folder; print(cache_folder())"

    def where(cache):
        done = subprocess.run(
            [sys.executable, "-c", code], env={**os.environ, "BOLVEK_CACHE": str(cache)}, capture_output=True, text=True
        )
        assert done.returncode == 0, done.stderr
        return done.stdout.strip()

    assert where(tmp_path / "kept").startswith(str(tmp_path / "kept"))
    (tmp_path / "file").write_text("no folder")
    assert not where(tmp_path / "file" / "below").startswith(str(tmp_path / "file"))


def test_schema_names_units_in_its_keys():
    from bolvek.report.record import Record

    text = json.dumps(Record.model_json_schema(mode="serialization"))
    for key in ("size_mm", "volume_mm3", "min_mm", "where_mm", "cavity_volume_mm3", "slim_deviation_mm"):
        assert f'"{key}"' in text
