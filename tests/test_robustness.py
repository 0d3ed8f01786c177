"""What must hold whatever comes in: damaged files, far places, turned models, odd shapes."""

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from bolvek.analyses.proof import prove
from bolvek.analyses.soundness import find_defects
from bolvek.errors import FileError, WorkError
from bolvek.formats import read_model
from bolvek.formats.stl import stl_bytes
from bolvek.mesh import Mesh
from bolvek.operations.drain import cut_bores, drain, place_drains
from bolvek.operations.hollow import hollow
from bolvek.settings.measures import ProofSettings
from bolvek.settings.shape import Drain, DrainSettings, HollowSettings, PlaceSettings
from support import assert_sound, ball, blob, box, field, shell_box


def whole_way(mesh, wall, diameter, up=(0, 0, 1)):
    """Hollow, place, drain and prove as prep does."""
    hollowed, _ = hollow(mesh.as_stored(), HollowSettings(wall_mm=wall))
    placed, _ = place_drains(hollowed, PlaceSettings(count=2, diameter_mm=diameter, up=up))
    holes = DrainSettings(drains=tuple(p.drain for p in placed))
    drained, _ = cut_bores(hollowed, holes, [p.bore for p in placed], as_stored=True)
    return drained, prove(
        drained, ProofSettings(wall_mm=wall, ball_mm=max(6.0, 1.6 * diameter), least_drain_mm=min(1.5, diameter))
    )


def rotation(seed):
    q, r = np.linalg.qr(np.random.default_rng(seed).normal(size=(3, 3)))
    q = q * np.sign(np.diag(r))
    return q if np.linalg.det(q) > 0 else -q


@pytest.fixture(scope="module")
def ascii_and_binary():
    mesh = blob().picked(slice(0, 60))
    text = "solid x\n"
    for c in mesh.corners:
        text += "facet normal 0 0 0\nouter loop\n"
        text += "".join(f"vertex {x:.6g} {y:.6g} {z:.6g}\n" for x, y, z in c) + "endloop\nendfacet\n"
    return (text + "endsolid x\n").encode(), stl_bytes(mesh)


@given(st.integers(0, 100_000))
@settings(max_examples=250)
def test_damaged_files_are_read_or_refused_in_one_sentence(tmp_path_factory, ascii_and_binary, seed):
    rng = np.random.default_rng(seed)
    data = bytearray(ascii_and_binary[seed % 2])
    for _ in range(int(rng.integers(1, 6))):
        kind = rng.integers(5)
        at = int(rng.integers(len(data)))
        if kind == 0:
            data[at] = int(rng.integers(256))
        elif kind == 1:
            del data[at : at + int(rng.integers(1, 200))]
        elif kind == 2:
            data[at:at] = bytes(rng.integers(0, 256, int(rng.integers(1, 50)), dtype=np.uint8))
        elif kind == 3 and len(data) > 84:
            data[80:84] = np.uint32(rng.integers(0, 2**32)).tobytes()
        else:
            other = ascii_and_binary[1 - seed % 2]
            data[at : at + 40] = other[at % len(other) : at % len(other) + 40]
        if not data:
            break
    path = tmp_path_factory.getbasetemp() / "mutated.stl"
    path.write_bytes(data)
    try:
        model = read_model(path)
    except FileError as error:
        assert "mutated.stl" in str(error) and "\n" not in str(error)
    else:
        assert np.isfinite(model.mesh.vertices).all() and len(model.mesh.faces)
        prove(model.mesh, ProofSettings())


@pytest.mark.parametrize("seed", [1, 2])
def test_the_answer_does_not_depend_on_pose_or_place(seed):
    mesh = blob()
    moved = mesh.moved(mesh.vertices @ rotation(seed).T + [300.0, -500.0, 200.0])
    drained, proof = whole_way(moved, 1.5, 2.0)
    assert proof.verdict == "fit", proof.findings
    assert proof.wall.min_mm >= 1.49 and proof.drains == 2 and proof.bodies == 1
    _, straight = hollow(mesh, HollowSettings(wall_mm=1.5))
    _, turned = hollow(moved.as_stored(), HollowSettings(wall_mm=1.5))
    assert turned.cavity_volume_mm3 == pytest.approx(straight.cavity_volume_mm3, rel=0.01)


@pytest.mark.parametrize(
    ("shape", "wall"),
    [
        (lambda x, y, z: np.hypot(np.hypot(x, y) - 8, z) - 3.6, 1.0),  # a ring
        (lambda x, y, z: np.max([np.abs(x), np.abs(y), np.abs(z)], axis=0) - 8.03, 1.3),  # flat sides, sharp edges
        (lambda x, y, z: np.maximum(np.hypot(x, y) - 7 + 0.3 * z, np.abs(z) - 9), 1.2),  # a cone frustum
        (  # a bent stem on a disc
            lambda x, y, z: np.minimum(
                np.hypot(x - 3 * np.sin(z / 4), y) - 3.5, np.maximum(np.hypot(x, y) - 9, np.abs(z + 8) - 2.6)
            ),
            0.9,
        ),
    ],
)
def test_shapes_with_holes_edges_and_bends_come_out_fit(shape, wall):
    mesh = field(lambda x, y, z: np.maximum(shape(x, y, z), np.abs(z) - 11), 13.0, 0.5)
    drained, proof = whole_way(mesh, wall, 1.6)
    assert proof.verdict == "fit", proof.findings
    assert proof.wall.min_mm >= wall - 0.01
    assert not find_defects(drained) and drained.as_stored() is drained


def test_up_decides_where_drains_go():
    hollowed, _ = hollow(blob(), HollowSettings(wall_mm=1.5))
    for up in np.vstack([np.eye(3), -np.eye(3)]):
        (low, high), _ = place_drains(hollowed, PlaceSettings(count=2, diameter_mm=2.0, up=tuple(up)))
        levels = hollowed.vertices @ up
        assert np.dot(low.bore.mouth, up) < levels.min() + 1.5
        assert np.dot(high.bore.mouth, up) > levels.max() - 1.5


def test_every_cavity_gets_its_own_drains():
    two = ball(6.0).joined(ball(7.0).moved(ball(7.0).vertices + [30, 0, 0]))
    _, proof = whole_way(two, 1.2, 1.5)
    assert proof.verdict == "fit" and proof.bodies == 2
    assert [len(c.openings) for c in proof.cavities] == [2, 2]


def test_outer_triangles_stay_as_they_are():
    mesh = blob()
    drained, _ = whole_way(mesh, 1.5, 2.0)
    kept = {c.tobytes() for c in drained.corners}
    gone = [c for c in mesh.corners if c.tobytes() not in kept]
    assert 0 < len(gone) < 0.02 * len(mesh.faces)


def test_hollow_without_slimming_and_on_a_finer_grid():
    mesh = ball(8.0)
    plain = hollow(mesh, HollowSettings(wall_mm=1.5, slim=False))[1]
    assert plain.inner_triangles == plain.inner_triangles_before_slim and plain.slim_deviation_mm == 0
    slimmed = hollow(mesh, HollowSettings(wall_mm=1.5))[1]
    assert slimmed.inner_triangles < plain.inner_triangles
    fine = hollow(mesh, HollowSettings(wall_mm=1.5, grid_mm=0.2))[1]
    assert fine.inner_triangles_before_slim > 2 * plain.inner_triangles
    exact = 4 / 3 * np.pi * 6.5**3
    for record in (plain, slimmed, fine):
        assert record.cavity_volume_mm3 == pytest.approx(exact, rel=0.03)
        assert record.least_wall_mm >= 1.49


@pytest.mark.parametrize("tilt", [0.0, 15.0, 35.0])
def test_tilted_drains_through_a_flat_wall(tilt):
    shell = shell_box(size=30.0)
    away = np.tan(np.radians(tilt))
    hole = Drain((15.0, 15.0, 0.0), 2.0, (15.0 + away, 15.0, 1.0))
    result, record = drain(shell, DrainSettings(drains=(hole,), sides=24))
    assert_sound(result)
    area = 0.5 * 24 * np.sin(2 * np.pi / 24)
    # a slanted prism through a plate of thickness t takes area / cos(tilt) * t
    assert record.volume_removed_mm3 == pytest.approx(area / np.cos(np.radians(tilt)) * 2.0, rel=1e-3)
    assert prove(result, ProofSettings(wall_mm=2.0)).cavities[0].openings[0].width_mm == pytest.approx(2.0, abs=0.5)


def test_many_holes_in_one_call():
    shell = shell_box(size=40.0)
    spots = [(x, y, 0.0) for x in (10, 20, 30) for y in (10, 20, 30)]
    result, record = drain(shell, DrainSettings(drains=tuple(Drain(s, 3.0) for s in spots)))
    assert_sound(result)
    assert len(record.holes) == 9 and prove(result, ProofSettings(wall_mm=2.0)).drains == 9


@given(st.integers(0, 10_000))
@settings(max_examples=8)
def test_soup_is_never_called_sound(seed):
    rng = np.random.default_rng(seed)
    soup = Mesh.from_corners(rng.normal(size=(30, 3, 3)) * 5)
    record = prove(soup, ProofSettings(wall_mm=1.0))
    assert record.verdict == "unfit" and not record.sound
    with pytest.raises(WorkError):
        hollow(soup, HollowSettings(wall_mm=1.0))


def test_twins_folds_and_touching_parts_are_found():
    cube = box()
    twins = Mesh(cube.vertices, np.vstack([cube.faces, cube.faces[:1]]))
    assert {"nonmanifold_edges", "self_intersections"} <= {d.code for d in find_defects(twins)}
    touching = cube.joined(box((10, 2, 2), (12, 4, 4)))
    assert [d.code for d in find_defects(touching)] == ["self_intersections"]
    hovering = cube.joined(box((10 + 1e-9, 2, 2), (12, 4, 4)))
    assert not find_defects(hovering)
    assert [d.code for d in find_defects(hovering.as_stored())] == ["self_intersections"]
    fold = Mesh([[0, 0, 0], [4, 0, 0], [2, 3, 0], [2, 1, 0]], [[0, 1, 2], [1, 0, 3]])
    assert "self_intersections" in {d.code for d in find_defects(fold)}
    flat = Mesh([[0, 0, 0], [4, 0, 0], [2, 3, 0], [2, -1, 0]], [[0, 1, 2], [1, 0, 3]])
    assert "self_intersections" not in {d.code for d in find_defects(flat)}
