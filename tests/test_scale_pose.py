"""Scaling and posing: exact where they can be, sets that keep fitting, profiles and what a user puts over them."""

import json

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from bolvek.demo.lantern_set import lantern_set
from bolvek.errors import FileError, UsageError, WorkError
from bolvek.formats import read_model, write_model
from bolvek.mesh import Mesh
from bolvek.operations.pose import largest_flat, pose, rotation, turn_onto
from bolvek.operations.scale import scale, scale_together
from bolvek.profiles import load_profiles
from bolvek.settings.parts import PoseSettings, ScaleSettings
from support import ball, blob, box

PLANK = box((1, 2, 3), (11, 42, 8))
direction = st.tuples(*[st.floats(-5, 5)] * 3).filter(lambda d: np.linalg.norm(d) > 1e-3)


def inside_room(mesh, room, margin):
    return (mesh.size <= np.array(room) - margin * np.array([2, 2, 1]) + 1e-9).all()


@pytest.mark.parametrize(
    ("settings", "factors"),
    [
        (ScaleSettings(by=(1.015, 1.015, 1.008)), (1.015, 1.015, 1.008)),
        (ScaleSettings(width_mm=5), 0.5),
        (ScaleSettings(depth_mm=10), 0.25),
        (ScaleSettings(volume_mm3=8 * 2000), 2.0),
        (ScaleSettings(fit_mm=(30, 50, 200), margin_mm=5), 1.0),
        (ScaleSettings(fit_mm=(1000, 1000, 12.5), margin_mm=2.5), 2.0),
    ],
)
def test_factors(settings, factors):
    result, record = scale(PLANK, settings)
    assert record.factors == pytest.approx(np.broadcast_to(factors, 3))
    np.testing.assert_array_equal(result.vertices, PLANK.vertices * np.array(record.factors))
    assert record.after_mm == pytest.approx(PLANK.size * np.array(record.factors))
    assert (record.factor is None) == (np.ndim(factors) > 0)


def test_a_set_is_scaled_by_one_factor_and_keeps_its_places():
    parts = list(lantern_set().values())
    room = (130.0, 80.0, 160.0)
    results = scale_together(parts, ScaleSettings(fit_mm=room, margin_mm=2))
    factors = {record.factors for _, record in results}
    assert len(factors) == 1
    factor = factors.pop()[0]
    assert all(inside_room(mesh, room, 2) for mesh, _ in results)
    assert any((mesh.size >= np.array(room) - [4, 4, 2] - 1e-9).any() for mesh, _ in results)
    for part, (mesh, _) in zip(parts, results, strict=True):
        np.testing.assert_array_equal(mesh.vertices, part.vertices * factor)
    # height is that of the whole set, not of its largest part
    tall = scale_together(parts, ScaleSettings(height_mm=100))
    low, high = min(m.bounds[0, 2] for m, _ in tall), max(m.bounds[1, 2] for m, _ in tall)
    assert high - low == pytest.approx(100)


def test_what_cannot_be_scaled_says_why():
    for settings in (
        ScaleSettings(by=(1.0, -1.0, 1.0)),
        ScaleSettings(fit_mm=(10, 10, 10), margin_mm=6),
        ScaleSettings(height_mm=5, margin_mm=-1),
    ):
        with pytest.raises(UsageError):
            scale(PLANK, settings)
    with pytest.raises(WorkError, match="closed"):
        scale(box().picked(slice(1, None)), ScaleSettings(volume_mm3=10))
    with pytest.raises(WorkError, match="no volume"):
        scale(Mesh(np.eye(3), [(0, 1, 2), (0, 2, 1)]), ScaleSettings(volume_mm3=10))  # a sheet with two sides


@given(
    st.lists(
        st.sampled_from(["x", "y", "z"]).flatmap(lambda a: st.tuples(st.just(a), st.integers(-5, 5))),
        min_size=1,
        max_size=8,
    )
)
def test_quarter_turns_are_exact_and_come_back_bit_for_bit(turns):
    axes = {"x": (1.0, 0.0, 0.0), "y": (0.0, 1.0, 0.0), "z": (0.0, 0.0, 1.0)}
    mesh = Mesh(box().vertices * 0.1 + 1 / 3, box().faces)
    there = tuple((axes[a], 90.0 * k) for a, k in turns)
    moved, _ = pose(mesh, PoseSettings(turns=there))
    assert set(np.abs(moved.vertices).ravel()) == set(np.abs(mesh.vertices).ravel())
    back, _ = pose(moved, PoseSettings(turns=tuple((a, -d) for a, d in reversed(there))))
    np.testing.assert_array_equal(back.vertices, mesh.vertices)


@given(direction, st.floats(-720, 720))
def test_turns_are_turns(axis, degrees):
    turn = rotation(axis, degrees)
    np.testing.assert_allclose(turn @ turn.T, np.eye(3), atol=1e-12)
    assert np.linalg.det(turn) == pytest.approx(1)
    np.testing.assert_allclose(turn @ np.array(axis), axis, atol=1e-9)
    assert np.trace(turn) == pytest.approx(1 + 2 * np.cos(np.radians(degrees)))


@given(direction, direction)
def test_turn_onto_takes_one_direction_onto_the_other(start, end):
    start, end = np.array(start), np.array(end)
    turned = turn_onto(start, end) @ start
    np.testing.assert_allclose(turned / np.linalg.norm(start), end / np.linalg.norm(end), atol=1e-9)


def test_the_right_hand_the_order_and_the_record():
    mesh = box((1, 0, 0), (3, 1, 1))
    moved, record = pose(mesh, PoseSettings(turns=(((0, 0, 1), 90),)))
    assert moved.bounds.tolist() == [[-1, 1, 0], [0, 3, 1]]  # +x goes to +y
    moved, _ = pose(mesh, PoseSettings(turns=(((0, 0, 1), 90), ((1, 0, 0), 90)), centre=True, drop=True))
    assert moved.bounds.tolist() == [[-0.5, -0.5, 0], [0.5, 0.5, 2]]
    again = mesh.vertices @ np.array(record.turn).T + record.shift_mm
    np.testing.assert_array_equal(again, pose(mesh, PoseSettings(turns=(((0, 0, 1), 90),)))[0].vertices)
    moved, record = pose(mesh, PoseSettings(tilt=(30, 0)))  # leans towards +x: the top goes to +x
    assert moved.bounds[1, 0] == pytest.approx(3 * np.cos(np.pi / 6) + 0.5)
    assert record.before_mm == (2, 1, 1)


def test_mirrors_keep_the_outside_outside():
    for axis in "xyz":
        moved, record = pose(blob(), PoseSettings(mirror=axis))
        assert moved.volume == pytest.approx(blob().volume) and not moved.topology.badly_oriented_edges
        assert record.turn["xyz".index(axis)]["xyz".index(axis)] == -1
        back, _ = pose(moved, PoseSettings(mirror=axis))
        np.testing.assert_array_equal(back.corners, blob().corners)


def test_laying_on_a_face():
    tilted, _ = pose(PLANK, PoseSettings(turns=(((1, 2, 3), 37.0),)))
    laid, record = pose(tilted, PoseSettings(lay_largest=True))
    assert laid.size[2] == pytest.approx(5) and laid.bounds[0, 2] == pytest.approx(0, abs=1e-12)
    assert record.bed_mm2 == pytest.approx(400) and record.lowest_mm == pytest.approx(0, abs=1e-12)
    end = rotation((1, 2, 3), 37.0) @ np.array([6, 42, 5])  # the middle of its small end
    stood, record = pose(tilted, PoseSettings(lay=tuple(end)))
    assert stood.size[2] == pytest.approx(40) and record.bed_mm2 == pytest.approx(50)
    up, _ = pose(PLANK, PoseSettings(up=(0, 1, 0)))
    assert up.size.tolist() == [10, 5, 40]
    # a bowl stands on its flat side even though its round one is larger
    half = ball(8, 0.8)
    bowl = Mesh(np.maximum(half.vertices, [-99, -99, 0.0]), half.faces)
    normal = largest_flat(bowl)
    assert normal / np.linalg.norm(normal) == pytest.approx((0, 0, -1), abs=1e-6)


def test_directions_are_those_of_the_model_also_when_it_is_mirrored():
    up = (0.3, -0.2, 1.0)
    mesh = blob()
    mirrored, _ = pose(mesh, PoseSettings(mirror="x", up=up))
    plain, _ = pose(mesh, PoseSettings(up=up))
    # what is up in the model is up in its mirror image
    along = mesh.vertices @ np.array(up) / np.linalg.norm(up)
    np.testing.assert_allclose(mirrored.vertices[:, 2], along, atol=1e-9)
    np.testing.assert_allclose(plain.vertices[:, 2], along, atol=1e-9)


def test_a_face_is_laid_by_its_outside_and_what_lies_there_instead_is_told():
    end = (6, 42, 5)
    for mesh in (PLANK, PLANK.turned()):  # inside out, its faces look the wrong way
        laid, record = pose(mesh, PoseSettings(lay=end))
        assert np.argmin(laid.vertices[:, 2]) in np.flatnonzero(PLANK.vertices[:, 1] == 42)
        assert record.laid_above_mm == pytest.approx(0, abs=1e-12)
    hooked = PLANK.joined(box((30, 30, 3), (40, 50, 8)))
    _, record = pose(hooked, PoseSettings(lay=end))
    assert record.laid_above_mm == pytest.approx(8)  # the hook reaches lower
    with pytest.raises(WorkError, match="is 958.* mm from the model"):
        pose(PLANK, PoseSettings(lay=(6, 1000, 5)))


def test_a_volume_is_that_of_the_material():
    hollow = box((0, 0, 0), (20, 20, 20)).joined(box((5, 5, 5), (15, 15, 15)).turned())
    for mesh in (hollow, hollow.turned(), Mesh(hollow.vertices, np.concatenate([hollow.faces, hollow.faces]))):
        _, record = scale(mesh, ScaleSettings(volume_mm3=56_000))
        assert record.factors == pytest.approx((2, 2, 2))
        assert record.volume_before_mm3 == pytest.approx(7000) and record.volume_after_mm3 == pytest.approx(56_000)


def test_poses_that_make_no_sense():
    for settings in (
        PoseSettings(),
        PoseSettings(up=(0, 0, 0)),
        PoseSettings(up=(0, 0, 1), lay_largest=True),
        PoseSettings(turns=(((0, 0, 0), 90),)),
        PoseSettings(turns=(((0, 0, 1), float("nan")),)),
        PoseSettings(mirror="w"),
    ):
        with pytest.raises(UsageError):
            pose(PLANK, settings)
    flat = Mesh([[0, 0, 0], [1, 0, 0], [0, 1, 0]], [[0, 1, 2]])
    with pytest.raises(WorkError, match="flat"):
        pose(flat, PoseSettings(lay_largest=True))


def test_chains_on_the_command_line(bolvek, tmp_path):
    write_model(tmp_path / "plank.ply", PLANK)
    bolvek("scale", "plank.ply", "--by", "3")
    bolvek("scale", "plank.scale.ply", "--percent", "33.333333333333336", "-o", "back.ply")
    np.testing.assert_allclose(read_model(tmp_path / "back.ply").mesh.vertices, PLANK.vertices, rtol=1e-15)
    said = bolvek("pose", "plank.ply", "--turn", "z:90", "--turn", "1,0,0:180", "--drop", "-o", "turned.3mf").stdout
    assert "10.00 x 40.00 x 5.00 mm" in said and "40.00 x 10.00 x 5.00 mm" in said
    assert read_model(tmp_path / "turned.3mf").mesh.bounds[0, 2] == 0
    bolvek("pose", "plank.ply", "--lay", "0,2,0", "--centre", "--json", "pose.json", "-o", "laid.stl", "--ascii")
    section = json.loads((tmp_path / "pose.json").read_text())["models"][0]
    assert section["pose"]["bed_mm2"] > 0 and section["pose"]["lowest_mm"] == 0
    assert (tmp_path / "laid.stl").read_bytes().startswith(b"solid")


def test_a_set_in_inches_on_the_command_line(bolvek, tmp_path):
    for name, mesh in lantern_set().items():
        write_model(tmp_path / f"{name}.stl", mesh)
    said = bolvek("scale", "body.stl", "lid.stl", "hook.stl", "--unit", "in", "-o", "mm").stdout
    assert "66.04 x 66.04 x 66.04 mm" in said
    bolvek("scale", "body.stl", "lid.stl", "hook.stl", "--unit", "in", "--fit", "small-resin", "-o", "fit/")
    sizes = {p.name: read_model(p).mesh.size for p in sorted((tmp_path / "fit").iterdir())}
    plain = {p.name: read_model(p).mesh.size for p in sorted((tmp_path / "mm").iterdir())}
    assert list(sizes) == ["body.scale.stl", "hook.scale.stl", "lid.scale.stl"]
    ratios = np.concatenate([sizes[n] / plain[n] for n in sizes])
    np.testing.assert_allclose(ratios, ratios[0], rtol=1e-5)


@pytest.mark.parametrize(
    ("args", "code", "said"),
    [
        (["scale", "a.stl", "b.stl", "--by", "2", "-o", "one.stl"], 2, "need a folder"),
        (["scale", "a.stl", "--by", "2,3"], 2, "three with commas"),
        (["scale", "a.stl", "--by", "2", "--percent", "50"], 2, "not both"),
        (["scale", "a.stl", "--fit", "smal-resin"], 2, "Did you mean 'small-resin'"),
        (["scale", "a.stl", "--volume", "0"], 2, "--volume must be more than 0"),
        (["scale", "a.stl", "--by", "2", "-o", "x.obj", "--ascii"], 2, "--ascii is for STL"),
        (["scale", "a.stl", "--by", "2", "-o", "x.step"], 3, "written as"),
        (["scale", "a.stl", "sub/a.stl", "--by", "2", "-o", "out/"], 2, "would both be written"),
        (["pose", "a.stl", "--angle", "30", "--drop"], 2, "go with --best"),
        (["pose", "a.stl", "--weigh", "islands=2", "--drop"], 2, "go with --best"),
        (["pose", "a.stl"], 2, "nothing to do"),
        (["pose", "a.stl", "--turn", "w:90"], 2, "AXIS:DEGREES"),
        (["pose", "a.stl", "--tilt", "1,2,3"], 2, "DEGREES,TOWARDS"),
        (["profiles", "brass-foundry"], 2, "no profile"),
    ],
)
def test_bad_asks(bolvek, tmp_path, args, code, said):
    write_model(tmp_path / "a.stl", PLANK)
    write_model(tmp_path / "b.stl", PLANK)
    assert said in bolvek(*args, expect=code).stderr
    assert sorted(p.name for p in tmp_path.iterdir()) == ["a.stl", "b.stl"]


def test_profiles_are_listed_explained_and_overridden(bolvek, tmp_path):
    mine = tmp_path / "config" / "profiles" / "mine.toml"
    mine.parent.mkdir(parents=True)
    home = {"BOLVEK_CONFIG": str(tmp_path / "config")}
    mine.write_text(
        "[printer.small-resin]\nbuild_mm = [50, 60, 70]\n"
        '[material.amber]\ntitle = "amber resin"\nkind = "resin"\ndensity_g_cm3 = 1.5\n'
    )
    listing = bolvek("profiles", **home).stdout
    for word in (
        "small-resin",
        "large-resin",
        "filament-bed",
        "standard-resin",
        "plain-filament",
        "amber",
        "mine.toml",
    ):
        assert word in listing
    assert "50 x 60 x 70" in bolvek("profiles", "small-resin", **home).stdout
    write_model(tmp_path / "p.stl", PLANK)
    bolvek("scale", "p.stl", "--fit", "small-resin", "--margin", "0", "-o", "q.stl", **home)
    assert read_model(tmp_path / "q.stl").mesh.size[1] == pytest.approx(60, abs=1e-4)
    assert "3.0 g" in bolvek("survey", "p.stl", "--material", "amber", **home).stdout


@pytest.mark.parametrize(
    ("text", "said"),
    [
        ("[printer.x]\ntitle = 1", "must be a text|is missing"),
        ("[printer.small-resin]\nbuild_mm = [1, 2]", "three numbers"),
        ("[printer.small-resin]\nlayer_mm = -1", "above 0"),
        ("[printer.small-resin]\ncolour = 'red'", "not known"),
        ("[printer.small-resin]\noverhang_deg = 91", "90 at most"),
        ("[material.y]\ntitle = 'y'\nkind = 'wood'\ndensity_g_cm3 = 1", "resin or filament"),
        ("[lamp.z]\na = 1", "expected tables"),
        ("[printer.small-resin", "not TOML"),
    ],
)
def test_profiles_that_are_wrong_name_file_and_key(tmp_path, monkeypatch, text, said):
    monkeypatch.setenv("BOLVEK_CONFIG", str(tmp_path))
    (tmp_path / "profiles").mkdir()
    (tmp_path / "profiles" / "mine.toml").write_text(text)
    with pytest.raises(FileError, match=said) as error:
        load_profiles()
    assert "mine.toml" in str(error.value)
