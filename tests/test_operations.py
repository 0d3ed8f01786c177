"""Hollow, drain, scale, cavities and proof on shapes whose answers are known by hand."""

import dataclasses

import numpy as np
import pytest

from bolvek.analyses.cavities import find_cavities
from bolvek.analyses.proof import prove
from bolvek.analyses.soundness import find_defects
from bolvek.errors import UsageError, WorkError
from bolvek.mesh import Mesh
from bolvek.operations.convex import prism, subtract
from bolvek.operations.drain import cut_bores, drain, place_drains
from bolvek.operations.hollow import hollow
from bolvek.operations.scale import scale
from bolvek.settings.measures import ProofSettings
from bolvek.settings.parts import ScaleSettings
from bolvek.settings.shape import Drain, DrainSettings, HollowSettings, PlaceSettings
from support import assert_sound, ball, blob, box, field, shell_box


@pytest.fixture(scope="module")
def hollow_blob():
    return hollow(blob(), HollowSettings(wall_mm=1.6))[0]


def faults(record):
    return {f.code for f in record.findings if f.severity == "fault"}


def test_hollow_cube_keeps_its_outside_and_leaves_the_wall():
    cube = box(high=(20, 20, 20))
    result, record = hollow(cube, HollowSettings(wall_mm=2.0, grid_mm=0.5))
    np.testing.assert_array_equal(result.corners[:12], cube.corners)
    assert_sound(result)
    assert record.cavities == 1 and record.least_wall_mm >= 1.99
    # edges and corners as round as the room
    assert record.cavity_volume_mm3 == pytest.approx(16**3 - 12 * 16 * (1 - np.pi / 4), rel=0.03)
    assert record.slim_deviation_mm <= record.slim_allowed_mm
    assert not find_defects(result) and not find_defects(result.as_stored())


@pytest.mark.parametrize("wall", [1.0, 2.3])
def test_hollow_organic_wall_holds_everywhere(wall):
    mesh = blob()
    result, record = hollow(mesh, HollowSettings(wall_mm=wall))
    inner = result.picked(slice(len(mesh.faces), None))
    rng = np.random.default_rng(0)
    weights = rng.dirichlet([1, 1, 1], (3, len(inner.faces)))
    points = np.einsum("rfk,fkx->rfx", weights, inner.corners).reshape(-1, 3)
    distance = mesh.tree.nearest(points)[0]
    assert distance.min() >= wall - max(0.005 * wall, 0.01)
    assert np.median(distance) == pytest.approx(wall, rel=0.03)
    assert (mesh.tree.winding(points) > 0.5).all()


def test_hollow_turns_what_is_inside_out_and_hollows_each_part():
    two = ball(6.0).joined(ball(7.0).moved(ball(7.0).vertices + [30, 0, 0]))
    result, record = hollow(two.turned(), HollowSettings(wall_mm=1.5))
    assert record.turned_shells == 2 and record.cavities == 2
    assert result.volume > 0 and prove(result, ProofSettings(wall_mm=1.5)).bodies == 2


def test_hollow_leaves_small_pockets_solid_unless_told():
    dumbbell = field(
        lambda x, y, z: np.minimum(
            np.minimum(np.sqrt(x**2 + y**2 + (z + 6) ** 2) - 7, np.sqrt(x**2 + y**2 + (z - 9) ** 2) - 2.6),
            np.maximum(np.hypot(x, y) - 1.2, np.abs(z) - 8),
        ),
        14.0,
    )
    _, record = hollow(dumbbell, HollowSettings(wall_mm=1.2, grid_mm=0.3))
    assert (record.cavities, record.pockets_left_solid) == (1, 1)
    assert hollow(dumbbell, HollowSettings(wall_mm=1.2, grid_mm=0.3, keep_pockets=True))[1].cavities == 2


@pytest.mark.parametrize(
    ("mesh", "wall", "said"),
    [
        (
            box(high=(20, 20, 20)).picked(slice(1, None)),
            2.0,
            "3 open edges in 1 opening, first near",
        ),
        (box(high=(20, 20, 20)), 11.0, "leaves no cavity 11.00 mm wide; the largest that does is about 6"),
        (box().joined(box((5, 5, 5), (15, 15, 15))), 1.0, "cross or touch.*near"),
        (shell_box(), 0.5, "hollow already"),
        (box(high=(20, 20, 20)).joined(box((8, 8, 8), (12, 12, 12))), 1.0, "lie inside another"),
        (Mesh(np.zeros((0, 3)), np.zeros((0, 3))), 1.0, "no triangles"),
    ],
)
def test_hollow_says_why_it_cannot(mesh, wall, said):
    with pytest.raises(WorkError, match=said):
        hollow(mesh, HollowSettings(wall_mm=wall))


@pytest.mark.parametrize(
    "settings",
    [
        HollowSettings(wall_mm=0.0),
        HollowSettings(wall_mm=-1.0),
        HollowSettings(wall_mm=2.0, grid_mm=0.0),
        HollowSettings(wall_mm=2.0, grid_mm=1.5),
    ],
)
def test_hollow_refuses_settings_without_sense(settings):
    with pytest.raises(UsageError, match="wall_mm|grid_mm"):
        hollow(box(), settings)


def test_drain_a_cube_through_and_blind():
    shell = shell_box()
    settings = DrainSettings(drains=(Drain((10, 10, 0), 3.0), Drain((10, 9, 20), 2.0, depth_mm=1.0)), sides=16)
    result, record = drain(shell, settings)
    assert_sound(result)
    area = 0.5 * 16 * np.sin(2 * np.pi / 16)
    assert record.volume_removed_mm3 == pytest.approx(area * (1.5**2 * 2.0 + 1.0**2 * 1.0), rel=1e-4)
    assert [h.blind for h in record.holes] == [False, True]
    proof = prove(result, ProofSettings(wall_mm=2.0))
    assert proof.drains == 1 and "no_vent" in {f.code for f in proof.findings}


@pytest.mark.parametrize(
    ("hole", "said"),
    [
        (Drain((10, 10, 30)), "from the surface"),
        (Drain((10, 10, 0), 30.0), "wider than the wall patch"),
        (Drain((1, 10, 0), 1.0, (1, 10, 20)), "meets no cavity"),
        (Drain((10, 10, 0), 2.0, (30, 10, 0)), "too flat"),
        (Drain((10, 10, 0), 2.0, depth_mm=2.0), "leave a skin: its far side lies 2.000 mm"),
        (Drain((10, 10, 0), 2.0, depth_mm=1.3), "or leave 0.800 mm at least"),
        (Drain((10, 10, 0), 2.0, depth_mm=19.0), "cut its far wall|far wall"),
    ],
)
def test_drain_says_why_it_cannot(hole, said):
    with pytest.raises(WorkError, match=said):
        drain(shell_box(), DrainSettings(drains=(hole,)))


def test_drain_is_all_or_nothing_and_wants_sound_models():
    with pytest.raises(WorkError, match="run into each other"):
        drain(shell_box(), DrainSettings(drains=(Drain((10, 10, 0)), Drain((11, 10, 0)))))
    with pytest.raises(WorkError, match="sound models only"):
        drain(shell_box().picked(slice(1, None)), DrainSettings(drains=(Drain((10, 10, 0)),)))
    for settings in (
        DrainSettings(drains=()),
        DrainSettings(drains=(Drain((0, 0, 0), 0.0),)),
        DrainSettings(drains=(Drain((0, 0, 0)),), sides=2),
    ):
        with pytest.raises(UsageError):
            drain(shell_box(), settings)


def test_placed_drains_are_lowest_and_highest(hollow_blob):
    settings = PlaceSettings(count=3, diameter_mm=2.0)
    placed, _ = place_drains(hollow_blob, settings)
    assert [p.role for p in placed] == ["drain", "vent", "drain"]
    assert placed[0].bore.mouth[2] < placed[2].bore.mouth[2] < placed[1].bore.mouth[2]
    assert all(p.above_extreme_mm < 1.0 for p in placed[:2])
    holes = DrainSettings(drains=tuple(p.drain for p in placed))
    drained, _ = cut_bores(hollow_blob, holes, [p.bore for p in placed])
    proof = prove(drained, ProofSettings(wall_mm=1.6))
    assert proof.verdict == "fit" and proof.drains == 3 and len(proof.cavities) == 1
    tipped, _ = place_drains(hollow_blob, dataclasses.replace(settings, up=(1, 0, 0)))
    assert tipped[0].bore.mouth[0] < -5 < 5 < tipped[1].bore.mouth[0]
    none, given_up = place_drains(hollow_blob, PlaceSettings(count=1, diameter_mm=11.0))
    assert not none and len(given_up) == 1 and sum(given_up[0].reasons.values()) >= given_up[0].tried > 10
    some, given_up = place_drains(hollow_blob, PlaceSettings(count=1, diameter_mm=11.0, least_mm=2.0))
    assert 2.0 <= some[0].drain.diameter_mm < 11.0 and not given_up
    with pytest.raises(WorkError, match="no closed cavity"):
        place_drains(blob(), settings)
    with pytest.raises(UsageError, match="zero direction"):
        place_drains(hollow_blob, PlaceSettings(up=(0, 0, 0)))


def test_proof_of_a_shell_with_a_thin_side():
    thin = box(high=(20, 20, 20)).joined(box((2, 2, 1.2), (18, 18, 18)).turned())
    record = prove(thin, ProofSettings(wall_mm=2.0))
    assert faults(record) == {"wall_thin", "cavity_closed"}
    assert record.wall.min_mm == pytest.approx(1.2, abs=1e-9) and record.wall.where_mm[2] == pytest.approx(1.2)
    assert record.wall.median_mm == pytest.approx(2.0)
    assert prove(thin, ProofSettings(wall_mm=1.2)).wall.holds
    assert prove(thin, ProofSettings()).wall.min_mm == pytest.approx(1.2, abs=1e-9)
    assert record.cavities[0].volume_mm3 == pytest.approx(16 * 16 * 16.8, rel=0.03)


def test_proof_names_each_defect_and_never_says_fit():
    assert faults(prove(box(), ProofSettings())) == set()
    assert prove(box(), ProofSettings()).verdict == "wall not judged"
    solid = prove(box(), ProofSettings(wall_mm=10.0))
    assert solid.verdict == "fit" and solid.wall.min_mm == pytest.approx(10.0) and solid.wall.of.startswith("all faces")
    assert faults(prove(box(), ProofSettings(wall_mm=10.2))) == {"wall_thin"}
    assert "open_edges" in faults(prove(box().picked(slice(1, None)), ProofSettings()))
    assert faults(prove(box().turned(), ProofSettings())) == {"inside_out"}
    assert "self_intersections" in faults(prove(box().joined(box((5, 5, 5), (15, 15, 15))), ProofSettings()))
    assert faults(prove(Mesh(np.zeros((0, 3)), np.zeros((0, 3))), ProofSettings())) == {"empty"}
    # two corners a ten-millionth apart are one corner once stored in float32
    close = box().vertices.copy()
    close[6] = close[7] - [1e-7, 0, 0]
    record = prove(Mesh(close, box().faces), ProofSettings())
    assert record.sound and not record.sound_as_stored and record.verdict == "unfit"
    with pytest.raises(UsageError):
        prove(box(), ProofSettings(wall_mm=0.0))


def _cup(mouth):
    """A cube with a round room that opens upward through a mouth of the given radius."""

    def shape(x, y, z):
        body = np.max([np.abs(x), np.abs(y), np.abs(z)], axis=0) - 9
        room = np.minimum(np.sqrt(x**2 + y**2 + z**2) - 6.5, np.maximum(np.hypot(x, y) - mouth, -z))
        return np.maximum(body, -room)

    return field(shape, 11.0, 0.5)


def test_a_room_is_a_cavity_and_a_bowl_is_not():
    room = find_cavities(_cup(1.4), ball_mm=5.0)
    assert len(room.found) == 1 and len(room.found[0].openings) == 1
    assert room.found[0].openings[0].width_mm == pytest.approx(2.8, abs=0.6)
    assert room.found[0].openings[0].where_mm[2] > 6
    assert not find_cavities(_cup(5.5), ball_mm=5.0).found
    assert not find_cavities(ball(), ball_mm=5.0).found
    pinhole = subtract(shell_box(), [prism(np.array([10, 10, -1.0]), np.array([10, 10, 3.0]), 0.05, 6, 3.0)])
    record = prove(pinhole, ProofSettings())
    assert faults(record) == {"cavity_narrow"}
    # a hexagon of radius 0.05 lets a ball of 0.0866 through
    assert record.ways.chambers[0].neck_mm == pytest.approx(0.0866, abs=0.02)
    assert record.ways.chambers[0].neck_where_mm[:2] == pytest.approx((10, 10), abs=0.1)
    assert record.ways.chambers[0].volume_mm3 == pytest.approx(16**3, rel=0.03)


def test_scale_to_each_measure():
    plank = box(high=(10, 20, 40))
    for settings, factor in (
        (ScaleSettings(by=1.5), 1.5),
        (ScaleSettings(height_mm=20), 0.5),
        (ScaleSettings(longest_mm=80), 2.0),
    ):
        result, record = scale(plank, settings)
        assert record.factor == factor
        np.testing.assert_allclose(result.size, plank.size * factor)
    for settings in (
        ScaleSettings(),
        ScaleSettings(by=1.0, height_mm=2.0),
        ScaleSettings(by=0.0),
        ScaleSettings(by=np.inf),
    ):
        with pytest.raises(UsageError, match="by"):
            scale(plank, settings)
    with pytest.raises(WorkError, match="flat"):
        scale(Mesh([[0, 0, 0], [1, 0, 0], [0, 1, 0]], [[0, 1, 2]]), ScaleSettings(height_mm=5))
