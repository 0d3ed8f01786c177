"""Mesh, level surfaces, polygons, slimming and the convex cut: known answers and invariants."""

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from bolvek.analyses.shells import nest_shells, standing
from bolvek.analyses.soundness import find_defects
from bolvek.analyses.thickness import sample_surface
from bolvek.errors import WorkError
from bolvek.mesh import Mesh
from bolvek.operations.convex import TooClose, prism, subtract
from bolvek.operations.drain import drain
from bolvek.operations.hollow.lift import lift_to_wall
from bolvek.operations.slim import deviations, slim
from bolvek.operations.untangle import untangle
from bolvek.settings.shape import Drain, DrainSettings
from bolvek.spatial.isosurface import dense_surface, lipschitz_surface
from bolvek.spatial.points import PointTree
from bolvek.spatial.polygons import PolygonError, signed_area, triangulate
from support import assert_sound, ball, blob, box, crossing_pairs, shell_box, slow_pairs


def polygon_area(radius, sides):
    return 0.5 * sides * radius**2 * np.sin(2 * np.pi / sides)


def test_weld_numbers_points_by_first_sight_and_joins_both_zeros():
    corners = [[[0, 0, 0], [1, 0, 0], [0, 1, 0]], [[1, 0, 0], [-0.0, 0, 0], [0, 0, 1]]]
    mesh = Mesh.from_corners(corners)
    assert mesh.faces.tolist() == [[0, 1, 2], [1, 0, 3]]
    assert len(mesh.vertices) == 4


def test_topology_counts_every_class():
    cube = box()
    assert cube.topology.sound and cube.topology.shells == 1
    assert cube.volume == pytest.approx(1000) and cube.area == pytest.approx(600)
    assert cube.picked(slice(1, None)).topology.open_edges == 3
    flipped = cube.faces.copy()
    flipped[0] = flipped[0][::-1]
    assert Mesh(cube.vertices, flipped).topology.badly_oriented_edges == 3
    fin = Mesh(np.vstack([cube.vertices, [[-5, -5, 5]]]), np.vstack([cube.faces, [[0, 4, 8]]]))
    assert (fin.topology.nonmanifold_edges, fin.topology.open_edges) == (1, 2)
    tips = Mesh(
        np.vstack([cube.vertices, box((10, 10, 10), (12, 12, 12)).vertices[1:]]),
        np.vstack([cube.faces, np.where(box().faces == 0, 7, box().faces + 7)]),
    )
    assert tips.topology.extra_fans == 1 and tips.topology.shells == 2
    assert {d.code for d in find_defects(tips)} == {"split_vertices"}
    assert [d.count for d in find_defects(cube.joined(cube)) if d.code == "self_intersections"][0] >= 12
    sliver = Mesh([[0, 0, 0], [1, 1, 1], [3, 3, 3]], [[0, 1, 2]])
    assert {d.code: d.count for d in find_defects(sliver)}["flat_faces"] == 1


def test_bad_arrays_are_refused():
    with pytest.raises(ValueError, match="finite"):
        Mesh([[0, 0, np.nan]], np.zeros((0, 3)))
    with pytest.raises(ValueError, match="index"):
        Mesh([[0, 0, 0]], [[0, 0, 1]])


def test_shells_nest():
    matryoshka = shell_box().joined(box((5, 5, 5), (15, 15, 15)), box((40, 0, 0), (50, 5, 5)))
    nested = nest_shells(matryoshka)
    assert nested.depth.tolist() == [0, 1, 2, 0]
    assert nested.cavities.tolist() == [1]
    assert standing(box().turned()).inverted.tolist() == [True]
    assert standing(box().joined(box((2, 2, 2), (3, 3, 3)))).roles == ["outer", "buried"]


@given(st.integers(0, 10_000))
def test_level_surfaces_of_any_values_are_sound(seed):
    rng = np.random.default_rng(seed)
    values = rng.choice([-1.0, -0.3, -1e-12, 0.0, 1e-12, 0.4, 1.0], (6, 6, 6))
    values[[0, -1]] = values[:, [0, -1]] = values[:, :, [0, -1]] = 1.0
    surface = dense_surface(values, np.zeros(3), 1.0)
    mesh = Mesh(surface.vertices, surface.faces)
    if len(mesh.faces):
        assert_sound(mesh)
        assert mesh.tree.meeting_pairs()[1] == 0
        assert mesh.volume > 0  # it faces the positive side


def test_the_level_of_a_distance_is_a_smaller_ball_and_too_fine_a_grid_is_refused():
    outer = ball(10.0)
    surface = lipschitz_surface(lambda p: 3.0 + outer.signed_distance.at(p), *outer.bounds, 0.5)
    inner = Mesh(surface.vertices, surface.faces)
    assert inner.topology.sound and inner.topology.shells == 1
    assert inner.volume == pytest.approx(4 / 3 * np.pi * 7**3, rel=0.02)
    with pytest.raises(WorkError, match="would fit"):
        lipschitz_surface(lambda p: p[:, 2] - 5e8, np.zeros(3), np.full(3, 1e9), 0.5)


@given(st.integers(3, 25), st.integers(0, 2), st.integers(0, 10_000))
def test_polygons_with_holes_keep_their_area_and_vertices(corners, holes, seed):
    rng = np.random.default_rng(seed)
    angle = np.sort(rng.choice(360, corners, replace=False)) * np.pi / 180
    if np.diff(np.append(angle, angle[0] + 2 * np.pi)).max() > 2.9:
        return
    radius = rng.uniform(5, 9, corners)
    points = [(r * np.cos(t), r * np.sin(t)) for r, t in zip(radius, angle, strict=True)]
    loops = [list(range(corners))]
    for h in range(holes):
        ring = [(h * 0.9 - 0.45 + 0.3 * np.cos(t), 0.3 * np.sin(t)) for t in (0.3, 2.0, 4.4)]
        loops.append([len(points) + k for k in (2, 1, 0)])
        points += ring
    total = sum(signed_area(points, loop) for loop in loops)
    try:
        faces = triangulate(points, loops)
    except PolygonError:
        pytest.fail("a simple polygon was refused")
    assert {i for f in faces for i in f} == set(range(len(points)))
    assert all(signed_area(points, f) > 0 for f in faces)
    assert sum(signed_area(points, f) for f in faces) == pytest.approx(total)


def test_vertices_on_straight_runs_stay():
    points = [(0, 0), (1, 0), (2, 0), (3, 0), (3, 3), (0, 3)]
    faces = triangulate(points, [range(6)])
    assert {i for f in faces for i in f} == set(range(6)) and len(faces) == 4
    with pytest.raises(PolygonError):
        triangulate([(0, 0), (2, 2), (2, 0), (0, 1)], [range(4)])


def test_slim_keeps_its_word():
    mesh = blob()
    small, record = slim(mesh, 0.03)
    assert len(small.faces) < 0.75 * len(mesh.faces)
    assert not find_defects(small)
    assert max(d.max() for d in deviations(mesh, small)) == record.deviation_mm <= 0.03
    assert small.volume == pytest.approx(mesh.volume, rel=0.005)


@pytest.mark.parametrize(("end", "removed"), [(13.0, 10.0), (6.0, 6.0)])
def test_a_hole_through_and_a_blind_one_take_out_their_volume(end, removed):
    body = prism(np.array([4.1, 5.2, -3.0]), np.array([4.1, 5.2, end]), 2.0, 24, 3.3)
    result = subtract(box(), [body])
    assert_sound(result)
    assert 1000 - result.volume == pytest.approx(polygon_area(2.0, 24) * removed, rel=1e-12)


def test_tilted_cuts_anywhere_are_sound_in_float64_and_float32():
    rng = np.random.default_rng(0)
    meshes = [box(), blob()]
    good = 0
    for i in range(60):
        mesh = meshes[i % 2]
        middle = mesh.bounds.mean(axis=0)
        start, end = middle + rng.normal(size=(2, 3)) * mesh.size * 0.45
        body = prism(start, end, rng.uniform(0.4, 2.5), int(rng.integers(3, 30)), rng.uniform(0, 90))
        try:
            result = subtract(mesh, [body])
        except (TooClose, ValueError):
            continue
        assert not find_defects(result), i
        assert not find_defects(result.as_stored()), i
        good += 1
    assert good > 40


def test_several_bodies_at_once_and_overlapping_ones():
    apart = [prism(np.array([x, 5.03, -1.0]), np.array([x, 5.01, 11.0]), 1.0, 12, 5.0) for x in (2.52, 7.51)]
    result = subtract(box(), apart)
    assert_sound(result)
    assert 1000 - result.volume == pytest.approx(2 * polygon_area(1.0, 12) * 10, rel=1e-5)
    crossing = [apart[0], prism(np.array([-1.0, 5.2, 5.13]), np.array([11.0, 5.1, 5.3]), 1.3, 9, 11.0)]
    assert_sound(subtract(box(), crossing))


def test_slimming_two_skins_that_lie_close_keeps_them_apart():
    """Either alone may move by more than lies between them: crossings are seen, and the work is done again."""
    outer, inner = ball(10.0, 1.5), ball(9.5, 1.3)
    skins = outer.joined(inner.turned())
    assert not crossing_pairs(skins)
    result, record = slim(skins, 0.7)
    assert record.triangles_after < 0.8 * record.triangles_before and record.deviation_mm <= 0.7
    assert_sound(result)


def test_a_facet_that_cuts_nearer_than_the_wall_is_lifted():
    """A coarse shell around a ball-shaped void: its facets cut corners towards the void."""
    mesh = box((-20, -20, -20), (20, 20, 20)).joined(ball(5.0, 0.5).turned())
    inner = ball(7.02, 2.4)
    assert mesh.tree.nearest(sample_surface(inner, 0.3).points)[0].min() < 1.9
    lifted, least = lift_to_wall(mesh, inner, 2.0)
    seen = mesh.tree.nearest(sample_surface(lifted, 0.1).points)[0].min()
    assert 1.995 <= least <= 2.0 and least <= seen < 2.1
    assert (np.linalg.norm(lifted.vertices, axis=1) >= np.linalg.norm(inner.vertices, axis=1) - 1e-9).all()


def test_untangling_puts_back_what_crosses_and_nothing_far_from_it():
    clean = ball(10.0, 1.0)
    top = int(np.argmax(clean.vertices[:, 2]))
    moved = clean.vertices * 1.02
    moved[top] = [0, 0, -15.0]  # through the whole ball
    result = untangle(clean, clean.moved(moved))
    assert not crossing_pairs(result)
    far = np.linalg.norm(clean.vertices - clean.vertices[top], axis=1) > 4.0
    far &= np.linalg.norm(clean.vertices - [0, 0, -10.0], axis=1) > 4.0
    np.testing.assert_array_equal(result.vertices[far], moved[far])
    np.testing.assert_array_equal(result.vertices[top], clean.vertices[top])


def test_a_cut_through_a_corner_is_moved_a_hair_and_made():
    """Its corners lie on the diagonal of the floor: too close to call for the body as asked, moved by the drain."""
    hollowed = shell_box(2.0, 20.0)
    body = prism(np.array([10.0, 10, -1]), np.array([10.0, 10, 4]), 1.0, 4, 45.0)
    with pytest.raises(TooClose):
        subtract(hollowed, [body])
    made, record = drain(hollowed, DrainSettings(drains=(Drain((10, 10, 0), 2.0),), sides=4))
    assert_sound(made)
    assert record.volume_removed_mm3 == pytest.approx(2 * polygon_area(1.0, 4), rel=1e-3)


@given(st.integers(1, 60), st.sampled_from(["space", "lattice", "flat"]), st.integers(0, 10_000))
def test_points_near_others_agree_with_all_against_all(count, kind, seed):
    rng = np.random.default_rng(seed)
    points = rng.random((count, 3)) if kind != "lattice" else rng.integers(0, 3, (count, 3)).astype(float)
    points = points[:, :2] if kind == "flat" else points
    places = 3 * rng.random((20, points.shape[1]))
    off = np.linalg.norm(places[:, None] - points[None], axis=2)
    tree, few = PointTree(points), min(4, count)
    gap, index = tree.nearest_few(places, few)
    assert np.allclose(gap, np.sort(off, axis=1)[:, :few]) and np.allclose(np.take_along_axis(off, index, axis=1), gap)
    gap, index = tree.nearest(places, 0.8)
    assert np.array_equal(np.isfinite(gap), off.min(axis=1) < 0.8) and (index[np.isinf(gap)] == count).all()
    reach = 2 * rng.random(20)
    each, found = tree.around(places, reach)
    assert np.array_equal(found, np.nonzero(off <= reach[:, None])[1]) and each.sum() == len(found)
    beside = np.linalg.norm(points[:, None] - points[None], axis=2) <= 0.5
    assert np.array_equal(tree.pairs(0.5), np.argwhere(np.triu(beside, 1)))


@given(st.sampled_from(["space", "lattice", "flat"]), st.integers(0, 10_000))
@settings(max_examples=25)
def test_the_references_for_meshes_of_any_size_and_of_few_faces_agree(kind, seed):
    """What a plane tells apart, lest exact arithmetic has to, is apart."""
    rng = np.random.default_rng(seed)
    points = rng.random((12, 3)) if kind == "space" else rng.integers(0, 4, (12, 3)).astype(float)
    points[:, 2] *= kind != "flat"
    soup = Mesh(points, np.array([rng.choice(12, 3, replace=False) for _ in range(14)]))
    assert crossing_pairs(soup) == slow_pairs(soup)
