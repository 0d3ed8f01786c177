"""Wall thickness against shapes with known walls, against brute force, and under what must not change it."""

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from bolvek.analyses.thickness import carried, measure, measure_walls, sample_surface, wall_at
from bolvek.demo.measured import GOURD_WALL_MM, gourd
from bolvek.demo.pieces import block, globe, sheet, turned
from bolvek.errors import UsageError, WorkError
from bolvek.mesh import Mesh
from bolvek.operations.pose import rotation
from bolvek.settings.measures import WallSettings
from support import ball, blob, box, shell_box

FINE = 128


def walls(mesh, **asked):
    return measure_walls(mesh, WallSettings(**asked))[0]


def near(value):
    """Within 0.5% or 0.01 mm, the larger."""
    return pytest.approx(value, rel=0.005, abs=0.01)


def wedge(degrees, length=20.0):
    """A prism whose edge along z has this angle."""
    t = np.radians(degrees)
    ends = np.array([[0, 0], [length, 0], [length * np.cos(t), length * np.sin(t)]])
    points = np.concatenate([np.c_[ends, np.zeros(3)], np.c_[ends, np.full(3, length)]])
    return Mesh(points, [(0, 2, 1), (3, 4, 5), (0, 1, 4), (0, 4, 3), (1, 2, 5), (1, 5, 4), (2, 0, 3), (2, 3, 5)])


def tube(outer, inner, height=20.0):
    return turned([(outer, 0), (outer, height), (inner, height), (inner, 0)], FINE, ring=True)


def hollow_ball(outer, inner, off=0.0):
    return globe(outer, (0, 0, 0), FINE).joined(globe(inner, (off, 0, 0), FINE).turned())


@pytest.mark.parametrize(
    ("mesh", "least", "median"),
    [
        (block((0, 0, 0), (40, 30, 2)), 2.0, 2.0),
        (block((0, 0, 0), (40, 30, 0.4)), 0.4, 0.4),
        (shell_box(1.5, 20), 1.5, 1.5),
        (tube(10, 8.5), 1.5, 1.5),
        (hollow_ball(10, 8), 2.0, 2.0),
        (hollow_ball(10, 8, 1.0), 1.0, None),
        (hollow_ball(10, 8, 1.7), 0.3, None),
    ],
)
def test_known_walls(mesh, least, median):
    found = walls(mesh, min_mm=2.5)
    assert found.ray.min_mm == near(least) and found.ball.min_mm == near(least) and found.wall.min_mm == near(least)
    if median is not None:
        assert found.wall.percentiles_mm["50"] == near(median)
    assert found.zones[0].min_mm == near(least) and found.zones[0].kind == "thin"
    assert found.prints_at["thinnest"] == pytest.approx(2.5 / least, rel=0.03)


@pytest.mark.parametrize("degrees", [10, 20, 30])
def test_a_wedge_by_rays_and_by_balls(degrees):
    """At a distance d from the edge a ray is d tan(a) long, a ball d 2 tan(a / 2) wide."""
    mesh = wedge(degrees)
    at = np.array([[d, 0.0, 10.0] for d in (2.0, 5.0, 9.0)])
    bottom = next(f for f in range(8) if (mesh.corners[f][:, 1] == 0).all())
    found = measure(mesh, at, np.full(3, bottom), np.ones(8))
    angle = np.radians(degrees)
    np.testing.assert_allclose(found.ray, at[:, 0] * np.tan(angle), rtol=1e-9)
    np.testing.assert_allclose(found.ball, 2 * at[:, 0] * np.tan(angle / 2), rtol=0.005)


def test_edges_are_no_walls():
    # a cube of 10 mm is 10 mm thick up to its edges, whatever the balls there say
    found = walls(block((0, 0, 0), (10, 10, 10)), min_mm=3.0)
    assert not found.zones and found.ray.min_mm == 10 and found.wall.below_share == 0
    # a cone's side leans 70 degrees from the bottom: no edge to tell; at 20 it tapers to one
    blunt, sharp = turned([(8, 0), (0, 8 * np.tan(np.radians(70)))], FINE), turned([(8, 0), (0, 3)], FINE)
    assert not [z for z in walls(blunt, min_mm=0.5).zones if abs(z.where_mm[2]) < 0.3]
    assert all(e.centre_mm[2] > 10 for e in walls(blunt, min_mm=0.5).edges)  # its tip
    assert any(e.centre_mm[2] < 0.3 for e in walls(sharp, min_mm=0.5).edges)


@pytest.mark.parametrize("degrees", [6, 15, 25, 44, 46])
def test_a_tapering_edge_is_an_edge_that_ends_short_and_no_hole(degrees):
    found = walls(wedge(degrees), min_mm=1.0)
    (edge,) = found.edges
    assert edge.angle_deg == pytest.approx(degrees, abs=1.0) and edge.size_mm[2] == pytest.approx(20, abs=0.5)
    assert edge.recedes_mm == pytest.approx(1 / (2 * np.tan(np.radians(degrees / 2))), rel=0.05)
    assert edge.length_mm == pytest.approx(20, rel=0.35)
    # nothing but the edge is thin: what is 20 mm wide prints
    assert not found.zones and found.verdict == "thick enough" and found.prints_at["thinnest"] <= 1


def test_doubled_and_flipped_faces_break_nothing_through():
    mesh = hollow_ball(10, 8)
    faces = np.concatenate([mesh.faces, mesh.faces[100:103, ::-1], mesh.faces[500:502]])
    faces[4000:4003] = faces[4000:4003, ::-1]
    found = walls(Mesh(mesh.vertices, faces), min_mm=1.5)
    assert not [z for z in found.zones if z.kind == "breakthrough"]
    assert found.wall.percentiles_mm["50"] == near(2.0)


def stepped(low=0.8, high=3.0):
    """A plate of 30 x 20 with two thicknesses, half each."""
    profile = [(0, 0), (30, 0), (30, high), (15, high), (15, low), (0, low)]
    n = len(profile)
    points = [(x, y, z) for y in (0, 20) for x, z in profile]
    faces = [(0, 4, 5), (0, 1, 4), (1, 2, 3), (1, 3, 4)]
    faces = faces + [tuple(n + i for i in f[::-1]) for f in faces]
    for k in range(n):
        a, b = k, (k + 1) % n
        faces += [(a, n + b, b), (a, n + a, n + b)]
    mesh = Mesh(np.array(points, float), faces)
    return mesh if mesh.volume > 0 else mesh.turned()


def test_a_step_is_thin_by_its_share():
    found = walls(stepped(), min_mm=1.2)
    (zone,) = found.zones
    assert zone.min_mm == near(0.8) and zone.mean_mm == near(0.8)
    assert zone.area_mm2 == pytest.approx(2 * 15 * 20, rel=0.05) and zone.size_mm[0] == pytest.approx(15, abs=0.8)
    assert found.wall.below_share == pytest.approx(600 / found.area_mm2, rel=0.05)
    assert found.prints_at["thinnest"] == pytest.approx(1.5)


def subdivided(mesh):
    """Every face cut into four."""
    points, number, faces = [*map(tuple, mesh.vertices)], {}, []
    for f in mesh.faces.tolist():
        mid = []
        for k in range(3):
            key = tuple(sorted((f[k], f[(k + 1) % 3])))
            if key not in number:
                number[key] = len(points)
                points.append(tuple(0.5 * (mesh.vertices[key[0]] + mesh.vertices[key[1]])))
            mid.append(number[key])
        faces += [(f[0], mid[0], mid[2]), (f[1], mid[1], mid[0]), (f[2], mid[2], mid[1]), tuple(mid)]
    return Mesh(np.array(points), faces)


def coarse_hollow_ball():
    return globe(4, (0, 0, 0), 24).joined(globe(3, (0.3, 0, 0), 24).turned())


@pytest.mark.parametrize("make", [stepped, lambda: shell_box(1.0, 6), coarse_hollow_ball])
def test_cutting_faces_turning_and_moving_far_away_change_little(make):
    mesh = make()
    plain = walls(mesh, min_mm=1.2)
    turn = rotation((1, 2, 3), 33.0)
    for other in (
        subdivided(mesh),
        mesh.moved(mesh.vertices @ turn.T),
        mesh.moved(mesh.vertices + np.array([5000.0, -3000.0, 8000.0])),
        *([mesh.turned()] if mesh.topology.shells == 1 else []),
    ):
        found = walls(other, min_mm=1.2)
        assert found.wall.min_mm == pytest.approx(plain.wall.min_mm, rel=0.01)
        assert found.wall.percentiles_mm["50"] == pytest.approx(plain.wall.percentiles_mm["50"], rel=0.01)
        assert found.wall.below_share == pytest.approx(plain.wall.below_share, abs=0.01)
        assert len(found.zones) == len(plain.zones)


@settings(max_examples=15)
@given(st.integers(0, 10**6))
def test_rays_and_balls_agree_with_brute_force(seed):
    mesh = blob()
    rng = np.random.default_rng(seed)
    face = rng.integers(0, len(mesh.faces), 12)
    weight = rng.dirichlet((1, 1, 1), 12)
    points = np.einsum("qk,qkj->qj", weight, mesh.corners[face])
    found = measure(mesh, points, face, np.ones(len(mesh.faces)))
    normal = mesh.area_vectors / mesh.face_areas[:, None]
    a, b, c = np.moveaxis(mesh.corners, 1, 0)
    cloud = np.concatenate([mesh.vertices, mesh.corners.mean(axis=1), 0.5 * (a + b), 0.5 * (b + c)])
    for q in range(12):
        d = -normal[face[q]]
        # every triangle's plane, and whether the hit lies within it
        with np.errstate(divide="ignore", invalid="ignore"):
            t = np.einsum("ij,ij->i", a - points[q], normal) / (normal @ d)
            hit = points[q] + t[:, None] * d
            inside = np.ones(len(t), bool)
            for s, e in ((a, b), (b, c), (c, a)):
                inside &= np.einsum("ij,ij->i", np.cross(e - s, hit - s), normal) >= -1e-9
        t = t[inside & (t > 1e-6) & np.isfinite(t)]
        assert found.ray_mm[q] == pytest.approx(t.min(), rel=1e-9)
        if np.isfinite(found.ball[q]):
            # no point of the surface lies inside the ball
            radius = 0.5 * found.ball[q]
            middle = points[q] + radius * d
            assert np.linalg.norm(cloud - middle, axis=1).min() > radius * (1 - 2e-3)


def test_samples_cover_coarse_faces_as_finely_as_small_ones():
    mesh = block((0, 0, 0), (100, 1, 60))
    found = sample_surface(mesh, 2.0)
    assert found.area.sum() == pytest.approx(mesh.area) and found.area.max() <= 4.0 + 1e-9
    for f in range(12):
        weight = found.area[found.face == f]
        assert weight.sum() == pytest.approx(mesh.face_areas[f])
    top = found.points[np.abs(found.points[:, 1]) < 1e-9]
    grid = np.stack(np.meshgrid(np.arange(2, 98, 3.0), [0], np.arange(2, 58, 3.0), indexing="ij"), -1).reshape(-1, 3)
    gap = np.linalg.norm(grid[:, None] - top, axis=2).min(axis=1)
    assert gap.max() < 2.0
    fine = ball(5, 0.8)
    assert len(sample_surface(fine, 100.0).area) == len(fine.faces)


def test_where_the_cavity_breaks_through_or_comes_too_near():
    outer = block((0, 0, 0), (20, 20, 20))
    broken = walls(outer.joined(block((2, 2, 2), (18, 18, 20.5)).turned()), min_mm=1.0)
    assert broken.zones[0].kind == "breakthrough" and broken.zones[0].shells == (1, 2)
    assert broken.findings[0].code == "wall_broken" and broken.zones[0].centre_mm[2] == pytest.approx(20.25, abs=0.05)
    assert broken.zones[0].area_mm2 == pytest.approx(2 * 16 * 16 + 4 * 16 * 0.5, rel=0.1)
    close = walls(outer.joined(block((2, 2, 2), (18, 18, 19.95)).turned()), min_mm=1.0)
    assert close.zones[0].kind == "hole" and close.zones[0].min_mm == near(0.05)
    assert close.findings[0].code == "wall_hole"


def test_parts_that_cross_are_one_material():
    bar = block((15, 9, 9), (40, 11, 9.8))  # its end lies inside the block
    found = walls(block((0, 0, 0), (20, 20, 20)).joined(bar), min_mm=1.0)
    (zone,) = found.zones
    assert zone.shells == (2,) and zone.min_mm == near(0.8) and zone.size_mm[0] == pytest.approx(20, abs=0.5)
    assert found.hidden_share > 0


def test_open_skins_have_no_thickness_and_open_bodies_have_some():
    x, y = np.meshgrid(np.arange(11.0), np.arange(11.0), indexing="ij")
    skin = sheet(np.stack([x, y, 0.2 * np.sin(x)], axis=-1))
    found = walls(skin)
    assert found.undefined_share == pytest.approx(1) and found.wall.min_mm is None and not found.zones
    assert [f.code for f in found.findings] == ["wall_unmeasured", "wall_undefined"]
    assert found.verdict == "not measured"
    cup = walls(block((0, 0, 0), (20, 20, 20)).picked(slice(2, None)))
    assert cup.undefined_share == pytest.approx(0.2, abs=0.01) and cup.ray.min_mm == 20
    assert cup.verdict == "thick enough where measured"


def test_gaps_across_air():
    parts = block((0, 0, 0), (10, 10, 10)).joined(block((10.25, 2, 2), (20, 8, 8)))
    found = walls(parts, gap_mm=0.4)
    (gap,) = found.gap_zones
    assert gap.kind == "gap" and gap.min_mm == near(0.25) and gap.shells == (1, 2)
    assert gap.area_mm2 == pytest.approx(2 * 36, rel=0.15)
    assert not walls(parts, gap_mm=0.2).gap_zones
    slot = block((0, 0, 0), (10, 10, 10))  # no slot, no gap
    assert walls(slot, gap_mm=3.0).gap.min_mm is None


def test_the_gourd_has_its_planned_thin_spots_and_no_others():
    mesh, plan = gourd()
    found = walls(mesh, min_mm=1.2)
    assert len(found.zones) == len(plan) == found.zone_count
    for zone, spot in zip(found.zones, plan, strict=True):
        assert zone.min_mm == near(spot.wall_mm)
        if spot.ring:
            assert zone.where_mm[2] == pytest.approx(spot.where_mm[2], abs=0.4) and zone.size_mm[0] > 14
        else:
            assert np.linalg.norm(np.subtract(zone.where_mm, spot.where_mm)) < 0.5 + spot.wall_mm
            assert max(zone.size_mm) < 4
    assert found.wall.percentiles_mm["50"] == near(GOURD_WALL_MM)


def test_values_by_face_and_vertex_and_at_any_point():
    mesh = subdivided(subdivided(stepped()))
    _, found = measure_walls(mesh, WallSettings(min_mm=1.2))
    middle = mesh.corners.mean(axis=1)
    flat = np.abs(mesh.area_vectors[:, 2]) > 0.9 * mesh.face_areas
    thin = flat & (mesh.corners[..., 0].max(axis=1) < 15)
    np.testing.assert_allclose(found.face_mm[thin], 0.8, rtol=1e-6)
    assert (found.vertex_mm[np.unique(mesh.faces[thin])] <= 0.8 + 1e-6).all()
    np.testing.assert_allclose(wall_at(mesh, middle[thin], np.flatnonzero(thin), WallSettings()), 0.8, rtol=1e-6)


def test_what_was_measured_is_carried_to_any_place():
    """On faces with many samples and on those with one: what is told of a place is what is measured there."""
    rng = np.random.default_rng(4)
    finely = subdivided(subdivided(subdivided(subdivided(stepped()))))
    for mesh, asked in (
        (stepped(), WallSettings(min_mm=1.2, spacing_mm=0.3)),
        (finely, WallSettings(min_mm=1.2, spacing_mm=9.0)),
    ):
        _, found = measure_walls(mesh, asked)
        face = rng.choice(len(mesh.faces), 2000, p=mesh.face_areas / mesh.area)
        share = rng.dirichlet(np.ones(3), 2000)
        places = np.einsum("nk,nkj->nj", share, mesh.corners[face])
        told, true = carried(mesh, found.samples, found.wall, places, face), wall_at(mesh, places, face, asked)
        assert not np.isnan(told).any() and ((told < 1.2) == (true < 1.2)).mean() > 0.95
        assert (np.abs(told - true) < 0.1 * true).mean() > 0.85


def test_copies_of_faces_change_no_wall_anywhere():
    mesh = subdivided(stepped())
    twice = Mesh(mesh.vertices, np.concatenate([mesh.faces[::-1], mesh.faces]))
    face = np.arange(len(twice.faces))
    middle = twice.corners.mean(axis=1)
    expected = wall_at(mesh, mesh.corners.mean(axis=1), np.arange(len(mesh.faces)), WallSettings())
    found = wall_at(twice, middle, face, WallSettings())
    np.testing.assert_allclose(found, np.concatenate([expected[::-1], expected]), rtol=1e-9)
    assert walls(twice).area_mm2 == pytest.approx(mesh.area)


@pytest.mark.parametrize("size", [(0.1, 0.1, 0.1), (0.4, 0.3, 0.2), (1.0, 0.1, 0.1), (3.9, 3.9, 3.9)])
def test_what_is_smaller_than_the_wall_all_over_is_no_speck(size):
    mesh = block((0, 0, 0), size)
    record = walls(mesh, min_mm=4.0)
    assert [f.code for f in record.findings if f.severity == "fault"] == ["wall_thin"]
    assert record.wall.min_mm == pytest.approx(min(size)) and record.specks == 0
    # beside a body that is thick enough, so small a thing is one
    both = walls(mesh.joined(block((9, 9, 9), (30, 30, 30))), min_mm=4.0)
    assert both.specks == (size[0] < 3)


def test_asks_and_models_that_make_no_sense():
    for asked in ({"min_mm": 0.0}, {"min_mm": np.inf}, {"gap_mm": -1.0}, {"spacing_mm": 0.0}, {"hole_mm": -0.1}):
        with pytest.raises(UsageError):
            walls(box(), **asked)
    with pytest.raises(WorkError, match="no surface"):
        walls(Mesh(np.zeros((0, 3)), np.zeros((0, 3), np.int32)))
    for far in (0.0, 1000.0):  # flat, and not along an axis
        with pytest.raises(WorkError, match="flat"):
            walls(Mesh(np.array([[0, 0, 0], [1, 0, 0.3], [0, 1, 0.7], [1, 1, 1.0]]) + far, [[0, 1, 2], [1, 3, 2]]))
