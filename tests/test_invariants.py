"""Properties that hold for any input of a kind, sought by hypothesis."""

import numpy as np
import pytest
from hypothesis import assume, given
from hypothesis import strategies as st

from bolvek.analyses.shells import nest_shells, standing
from bolvek.analyses.soundness import find_defects
from bolvek.errors import UsageError
from bolvek.mesh import Mesh
from bolvek.mesh.topology import join_topologies, label_patches
from bolvek.operations.convex import TooClose, prism, subtract
from bolvek.operations.slim import slim
from bolvek.settings.measures import wall_tolerance_mm
from bolvek.spatial.polygons import contains, signed_area, triangulate, turn
from bolvek.spatial.tree import Tree
from bolvek.units import MILLIMETRES, parse_length
from support import ball, box, closest_on_triangles, field

seeds = st.integers(0, 1_000_000)


@given(seeds)
def test_weld_keeps_every_triangle_and_no_point_twice(seed):
    rng = np.random.default_rng(seed)
    corners = rng.integers(-2, 3, (40, 3, 3)) * 0.1
    mesh = Mesh.from_corners(corners)
    np.testing.assert_array_equal(mesh.corners, corners + 0.0)
    assert len(np.unique(mesh.vertices, axis=0)) == len(mesh.vertices)
    np.testing.assert_array_equal(mesh.as_stored().corners, mesh.corners.astype(np.float32))


@given(seeds)
def test_topology_agrees_with_counting(seed):
    rng = np.random.default_rng(seed)
    faces = np.array([rng.permutation(9)[:3] for _ in range(25)], np.int32)
    mesh = Mesh(rng.normal(size=(9, 3)), faces)
    uses: dict[tuple[int, int], list[int]] = {}
    for f in faces.tolist():
        for k in range(3):
            a, b = f[k], f[(k + 1) % 3]
            uses.setdefault((min(a, b), max(a, b)), []).append(1 if a < b else -1)
    topology = mesh.topology
    assert topology.open_edges == sum(len(u) == 1 for u in uses.values())
    assert topology.nonmanifold_edges == sum(len(u) > 2 for u in uses.values())
    assert topology.badly_oriented_edges == sum(len(u) == 2 and abs(sum(u)) == 2 for u in uses.values())
    # shells: flood over common edges
    edges = [{tuple(sorted((f[k], f[(k + 1) % 3]))) for k in range(3)} for f in faces.tolist()]
    group = list(range(len(faces)))
    for _ in group:
        for i in range(len(faces)):
            for j in range(len(faces)):
                if edges[i] & edges[j]:
                    group[i] = group[j] = min(group[i], group[j])
    assert topology.shells == len(set(group))
    assert (topology.shell[topology.first_face] == np.arange(topology.shells)).all()


@given(seeds)
def test_joined_topologies_are_those_of_the_joined_mesh(seed):
    rng = np.random.default_rng(seed)
    parts = [Mesh(rng.normal(size=(7, 3)), [rng.permutation(7)[:3] for _ in range(n)]) for n in (6, 11, 3)]
    joined = parts[0].joined(*parts[1:])
    whole, glued = joined.topology, join_topologies([p.topology for p in parts])
    for name in ("opposite", "same_way", "shell", "fan", "first_face"):
        np.testing.assert_array_equal(getattr(whole, name), getattr(glued, name), err_msg=name)
    assert whole.extra_fans == glued.extra_fans and whole.open_edges == glued.open_edges


@given(seeds, st.floats(0.1, 0.9))
def test_patches_are_connected_pieces_of_what_is_wanted(seed, share):
    mesh = ball(5.0, 1.2)
    wanted = np.random.default_rng(seed).random(len(mesh.faces)) < share
    patch, count = label_patches(mesh.topology, wanted)
    assert ((patch >= 0) == wanted).all()
    assume(wanted.any())
    assert count == mesh.picked(wanted).topology.shells
    twin = mesh.topology.opposite.reshape(-1, 3) // 3
    for f in np.flatnonzero(wanted)[:50]:
        for g in twin[f]:
            assert not wanted[g] or patch[f] == patch[g]


@given(seeds, st.floats(0.05, 3.0))
def test_closest_points_are_on_the_triangle_and_nowhere_nearer(seed, spread):
    rng = np.random.default_rng(seed)
    a, b, c, p = rng.normal(size=(4, 20, 3)) * [[[1.0]], [[spread]], [[1.0]], [[2.0]]]
    tree = Tree(np.concatenate([a, b, c]), np.arange(60).reshape(3, 20).T)
    q = tree.closest_points(p, np.arange(20))
    assert q == pytest.approx(closest_on_triangles(p, a, b, c), abs=1e-9)
    gap = np.linalg.norm(q - p, axis=1)
    weights = rng.dirichlet([1, 1, 1], 200)
    for k in range(20):
        inside = weights @ np.array([a[k], b[k], c[k]])
        assert np.linalg.norm(inside - p[k], axis=1).min() >= gap[k] - 1e-9
    distance, face = tree.nearest(p)
    assert (distance <= gap + 1e-9).all() and (face >= 0).all()


@given(seeds)
def test_boxes_nest_as_they_were_nested(seed):
    rng = np.random.default_rng(seed)
    depth = int(rng.integers(1, 6))
    nest = [box((k,) * 3, (20 - k,) * 3) for k in range(depth)]
    nest = [b if k % 2 == 0 else b.turned() for k, b in enumerate(nest)]
    order = rng.permutation(depth)
    mesh = nest[order[0]].joined(*(nest[k] for k in order[1:]))
    nested = nest_shells(mesh)
    assert nested.depth.tolist() == order.tolist()
    assert len(nested.cavities) == depth // 2 and not standing(mesh).inverted.any()


@given(seeds)
def test_a_cut_takes_out_what_its_body_and_the_box_share(seed):
    rng = np.random.default_rng(seed)
    start, end = rng.uniform(-4, 14, (2, 3))
    assume(np.linalg.norm(end - start) > 2)
    body = prism(start, end, rng.uniform(0.5, 4), int(rng.integers(3, 12)), rng.uniform(0, 90))
    try:
        result = subtract(box(), [body])
    except (TooClose, ValueError):
        assume(False)
    assert not find_defects(result)
    points = np.random.default_rng(1).uniform(0, 10, (20_000, 3))
    shared = (points @ body.normal.T - body.offset < 0).all(axis=1).mean() * 1000
    assert 1000 - result.volume == pytest.approx(shared, abs=4 * np.sqrt(shared / 20) + 1)


@given(seeds, st.floats(0.005, 0.2))
def test_slimming_never_breaks_what_was_whole(seed, allowed):
    rng = np.random.default_rng(seed)
    waves, phase = rng.normal(size=(3, 3)), rng.uniform(0, 6, 3)

    def bumpy(x, y, z):
        ripple = sum(np.sin(w[0] * x + w[1] * y + w[2] * z + f) for w, f in zip(waves, phase, strict=True))
        return np.sqrt(x * x + y * y + z * z) - 6 + 0.4 * ripple

    mesh = field(bumpy, 9.0, 0.9)
    small, record = slim(mesh, allowed)
    assert record.deviation_mm <= allowed and record.triangles_after <= record.triangles_before
    assert not find_defects(small) and small.topology.shells == mesh.topology.shells


@given(seeds, st.floats(0.01, 2.0))
def test_triangles_are_as_near_to_a_surface_as_a_plane_holds_them_apart(seed, flat):
    """Of the pair that is told a plane proves the distance; of all others samples of the triangle do."""
    rng = np.random.default_rng(seed)
    mesh = Mesh.from_corners(rng.normal(size=(60, 3, 3)) * [1, 1, flat])
    some = rng.normal(size=(20, 3, 3)) * [1, 1, flat] + [0, 0, 8 * flat]
    distance, face, places = mesh.tree.nearest_to_triangles(some)
    apart = places[:, 0] - places[:, 1]
    assert np.allclose(np.linalg.norm(apart, axis=1), distance, atol=1e-12)
    clear = distance > 1e-3
    way = apart[clear] / distance[clear, None]
    held = np.einsum("nkx,nx->nk", some[clear], way).min(axis=1)
    held -= np.einsum("nkx,nx->nk", mesh.corners[face[clear]], way).max(axis=1)
    assert np.abs(held - distance[clear]).max(initial=0.0) < 1e-9
    weights = rng.dirichlet([1, 1, 1], 50)
    seen = mesh.tree.nearest(np.einsum("sk,nkx->nsx", weights, some).reshape(-1, 3))[0].reshape(20, -1)
    assert (distance <= seen.min(axis=1) + 1e-9).all()
    near = mesh.tree.nearest_to_triangles(some, 0.9 * distance)
    assert (near[1] == -1).all() and np.allclose(near[0], 0.9 * distance)


@given(st.integers(4, 40), seeds)
def test_spiky_polygons_are_filled_exactly(corners, seed):
    rng = np.random.default_rng(seed)
    angle = 2 * np.pi * (np.arange(corners) + rng.uniform(0, 0.8, corners)) / corners
    radius = np.where(np.arange(corners) % 2 == 0, 9.0, rng.uniform(1.0, 8.0, corners))
    points = list(zip((radius * np.cos(angle)).tolist(), (radius * np.sin(angle)).tolist(), strict=True))
    faces = triangulate(points, [range(corners)])
    assert len(faces) == corners - 2
    assert sum(signed_area(points, f) for f in faces) == pytest.approx(signed_area(points, range(corners)))
    assert all(turn(*(points[i] for i in f)) > 0 for f in faces)
    for p in rng.uniform(-9, 9, (30, 2)).tolist():
        inside = sum(contains(points, f, tuple(p)) for f in faces)
        assert inside == contains(points, range(corners), tuple(p))


@given(st.floats(1e-6, 1e6), st.sampled_from(sorted(MILLIMETRES)))
def test_lengths_round_trip(value, unit):
    assert parse_length(f"{value!r}{unit}") == pytest.approx(value * MILLIMETRES[unit])


@given(st.text(max_size=12))
def test_any_text_is_a_length_or_a_clear_refusal(text):
    try:
        assert np.isfinite(parse_length(text))
    except UsageError as error:
        assert "not a length" in str(error) or "too large" in str(error)


@given(st.floats(0.1, 50))
def test_the_tolerance_is_the_larger_of_two(wall):
    assert wall_tolerance_mm(wall) == max(0.01, 0.005 * wall)
