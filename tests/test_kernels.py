"""Kernels against slow plain references."""

import glob
import json
import os
import subprocess
import sys
from fractions import Fraction

import numba
import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from bolvek.arrays import frozen
from bolvek.formats import write_model
from bolvek.kernels import cache
from bolvek.kernels.cache import module_folder
from bolvek.kernels.exact import predicates, triangles
from bolvek.kernels.tree import lanes
from bolvek.kernels.tree.spheres import pieces_on_spheres
from bolvek.kernels.warm import all_modules
from bolvek.mesh import Mesh
from bolvek.spatial.tree import WINDING_ACCURACY, Tree
from bolvek.spatial.voxels import distance_to, label_regions, region_boxes, surface_voxels
from support import ball, blob, box, closest_on_triangles, slow_meet, slow_pairs

near_grid = st.builds(
    lambda whole, ulps: float(np.float64(whole) + ulps * 2.0**-50), st.integers(-3, 3), st.integers(-2, 2)
)


# helpers are called by kernels only: these call them as one does, with the very types: no second variant is made
_orient3d, _orient2d = predicates.orient3d.dispatcher, predicates.orient2d.dispatcher
_triangles_meet = triangles.triangles_meet.dispatcher
_ROWS = tuple(np.int32(k) for k in range(4))
_X, _Y = np.int64(0), np.int64(1)


@numba.njit
def orient3d(v):
    return _orient3d(v, *_ROWS)


@numba.njit
def orient2d(v):
    return _orient2d(v, _X, _Y, *_ROWS[:3])


@numba.njit
def triangles_meet(v, faces, f, g):
    return _triangles_meet(v, faces, f, g)


@numba.njit
def bounds(box, disc, node, x, y, z, low):
    lanes.child_bounds(box, disc, node, x, y, z, low)


@numba.njit
def slabs(box, node, x, y, z, i, j, k, t_in, t_out):
    lanes.child_slabs(box, node, x, y, z, i, j, k, t_in, t_out)


@numba.njit
def overlaps(box, node, a, b, c, d, e, f):
    return lanes.child_overlaps(box, node, a, b, c, d, e, f)


def exact_sign(rows):
    a, b, c = rows
    det = sum(a[i] * (b[(i + 1) % 3] * c[(i + 2) % 3] - b[(i + 2) % 3] * c[(i + 1) % 3]) for i in range(3))
    return (det > 0) - (det < 0)


@given(st.lists(near_grid, min_size=12, max_size=12))
def test_orient3d_is_exact_where_floats_fail(numbers):
    v = np.array(numbers).reshape(4, 3)
    f = [[Fraction(x) for x in row] for row in v.tolist()]
    assert orient3d(frozen(v)) == exact_sign([[x - y for x, y in zip(row, f[3], strict=True)] for row in f[:3]])


@given(st.lists(near_grid, min_size=6, max_size=6))
def test_orient2d_is_exact_where_floats_fail(numbers):
    v = np.zeros((3, 3))
    v[:, :2] = np.array(numbers).reshape(3, 2)
    a, b, c = ([Fraction(x) for x in row] for row in v[:, :2].tolist())
    det = (a[0] - c[0]) * (b[1] - c[1]) - (a[1] - c[1]) * (b[0] - c[0])
    assert orient2d(frozen(v)) == (det > 0) - (det < 0)


@pytest.mark.parametrize("shared", [0, 1, 2])
@pytest.mark.parametrize("flat", [False, True])
@pytest.mark.parametrize("ulp", [0.0, 2.0**-50])
def test_triangles_meet_agrees_with_rational_arithmetic(shared, flat, ulp):
    """On a coarse grid, where touching is common, and a few last bits off it, where floats see no difference."""
    rng = np.random.default_rng(10 * shared + flat)
    met = 0
    for _ in range(250):
        v = rng.integers(0, 4, (6, 3)) + ulp * rng.integers(-2, 3, (6, 3))
        if flat:
            v[:, 2] = v[:, 0]
        faces = np.array([[0, 1, 2], [3, 4, 5]], np.int32)
        faces[1, :shared] = faces[0, rng.permutation(3)[:shared]]
        faces = np.stack([np.roll(f, rng.integers(3)) for f in faces])
        exact = [[Fraction(x) for x in row] for row in v.tolist()]
        corners = [[tuple(v[i]) for i in f] for f in faces]
        if any(np.linalg.matrix_rank(v[f[1:]] - v[f[0]]) < 2 for f in faces):
            continue  # slivers are a defect of their own
        if len(set(corners[0]) & set(corners[1])) != shared:
            continue  # equal points are welded before they come here
        expected = slow_meet(exact, faces[0], faces[1])
        met += expected
        assert triangles_meet(frozen(v), frozen(faces), _ROWS[0], _ROWS[1]) == expected, v[faces].tolist()
        assert triangles_meet(frozen(v), frozen(faces), _ROWS[1], _ROWS[0]) == expected
    assert met > 5 or (ulp and shared == 2)  # a fold exactly onto the same plane hardly ever happens there


def test_meeting_pairs_agree_with_all_against_all():
    rng = np.random.default_rng(3)
    soup = Mesh.from_corners(rng.integers(0, 6, (70, 3, 3)) + 0.25 * rng.integers(0, 2, (70, 3, 3)))
    proper = soup.picked(soup.face_areas > 0)
    pairs, count = proper.tree.meeting_pairs()
    assert count == len(pairs) > 30
    assert {tuple(p) for p in pairs.tolist()} == slow_pairs(proper)


@pytest.fixture(scope="module")
def model():
    return blob()


def test_nearest_agrees_with_all_faces(model):
    rng = np.random.default_rng(0)
    points = rng.uniform(-20, 20, (60, 3))
    distance, face = model.tree.nearest(points)
    a, b, c = (model.corners[:, k] for k in range(3))
    for p, d, f in zip(points, distance, face, strict=True):
        gaps = np.linalg.norm(closest_on_triangles(np.broadcast_to(p, a.shape), a, b, c) - p, axis=1)
        assert d == pytest.approx(gaps.min(), abs=1e-9)
        assert gaps[f] == pytest.approx(gaps.min(), abs=1e-9)
    assert (model.tree.nearest(points, limit=0.5)[0][distance > 0.5] == np.inf).all()


def dipole_bound(mesh, point):
    """How far the winding number may be off at a point: a group of faces of area A within r of its centre, d away, is
    replaced by one dipole there; a dipole's field changes by at most 2 / (d - r)^3 a millimetre."""
    tree, area = mesh.tree.arrays, mesh.face_areas[mesh.tree.order]
    total, todo = 1e-5, [0]
    while todo:
        node = todo.pop()
        for k in np.flatnonzero(tree.child[node] != -2):
            d = np.linalg.norm(tree.disc[node, :3, k] + tree.origin - point)
            r = tree.moment[node, 3, k]
            if d > WINDING_ACCURACY * r:
                total += below(tree, area, node, k) * r * 2 / (d - r) ** 3 / (4 * np.pi)
            elif tree.child[node, k] >= 0:
                todo.append(tree.child[node, k])
    return total


def below(tree, area, node, k):
    """Area of all faces under a child."""
    if tree.child[node, k] == -1:
        return area[tree.first[node, k] : tree.first[node, k] + tree.count[node, k]].sum()
    child = tree.child[node, k]
    return sum(below(tree, area, child, m) for m in range(8) if tree.child[child, m] != -2)


def test_winding_and_rays_agree_with_solid_angles(model):
    rng = np.random.default_rng(1)
    points = rng.uniform(-12, 12, (80, 3))
    corners = model.corners[None] - points[:, None, None]
    lengths = np.linalg.norm(corners, axis=3)
    a, b, c = (corners[:, :, k] for k in range(3))
    la, lb, lc = (lengths[:, :, k] for k in range(3))
    det = np.einsum("pfx,pfx->pf", a, np.cross(b, c))
    below = la * lb * lc + (a * b).sum(2) * lc + (b * c).sum(2) * la + (c * a).sum(2) * lb
    exact = (2 * np.arctan2(det, below)).sum(axis=1) / (4 * np.pi)
    wound = model.tree.winding(points)
    bounds = np.array([dipole_bound(model, point) for point in points])
    assert (np.abs(wound - exact) <= bounds).all() and np.abs(wound - exact).max() < 0.05
    assert ((wound > 0.5) == (exact > 0.5)).all()
    hits = model.tree.rays(points, np.broadcast_to([0.3, 0.5, 0.81], points.shape), most=32)
    assert (hits.found % 2 == (exact > 0.5)).all()
    assert (np.diff(np.where(hits.face >= 0, hits.distance, 1e9), axis=1) >= 0).all()


def test_vector_code_equals_the_plain_code(model):
    tree = model.tree.arrays
    rng = np.random.default_rng(2)
    low, t_in, t_out = (np.empty(8, np.float32) for _ in range(3))
    full = np.flatnonzero((tree.child != -2).all(axis=1))[:40]
    for node in full:
        p, q = rng.uniform(-12, 12, (2, 3)).astype(np.float32)
        bounds(tree.box, tree.disc, node, *p, low)
        np.testing.assert_allclose(low, lanes.plain_bounds(tree.box, tree.disc, node, p), rtol=2e-5, atol=1e-5)
        slabs(tree.box, node, *p, *q, t_in, t_out)
        expected = lanes.plain_slabs(tree.box, node, p, q)
        np.testing.assert_allclose([t_in, t_out], expected, rtol=1e-5)
        a, b = np.minimum(p, q), np.maximum(p, q)
        assert overlaps(tree.box, node, *a, *b) == lanes.plain_overlaps(tree.box, node, a, b)


def test_a_joined_tree_answers_like_a_new_one(model):
    other = box((-30, -30, -30), (-20, -25, -22))
    tree = Tree.joined(model.tree, Tree(other.vertices, other.faces, model.tree.origin), *_arrays(model.joined(other)))
    points = np.random.default_rng(5).uniform(-30, 15, (200, 3))
    np.testing.assert_allclose(tree.nearest(points)[0], model.joined(other).tree.nearest(points)[0], atol=1e-9)
    assert tree.meeting_pairs()[1] == 0


def _arrays(mesh):
    return mesh.vertices, mesh.faces


def test_an_empty_tree_finds_nothing():
    tree = Tree(np.zeros((0, 3)), np.zeros((0, 3), np.int32))
    assert tree.nearest(np.zeros((2, 3)))[1].tolist() == [-1, -1]
    assert tree.meeting_pairs()[1] == 0


def test_regions_agree_with_a_plain_flood():
    mask = np.random.default_rng(6).random((9, 8, 7)) < 0.35
    steps = [d for d in np.ndindex(3, 3, 3) if d != (1, 1, 1)]
    for corners in (False, True):
        label, count = label_regions(mask, corners=corners)
        seen = np.zeros(mask.shape, int)
        regions = 0
        for start in map(tuple, np.argwhere(mask)):
            if seen[start]:
                continue
            regions += 1
            seen[start] = regions
            todo = [start]
            while todo:
                at = todo.pop()
                for step in steps:
                    move = np.subtract(step, 1)
                    near = tuple(np.add(at, move))
                    if (corners or abs(move).sum() == 1) and all(
                        0 <= x < n for x, n in zip(near, mask.shape, strict=True)
                    ):
                        if mask[near] and not seen[near]:
                            seen[near] = regions
                            todo.append(near)
        assert count == regions
        np.testing.assert_array_equal(label, seen)
        boxes = region_boxes(label, count)
        assert all((label[box] == n).sum() == (label == n).sum() for n, box in enumerate(boxes, 1))


def test_distance_transform_and_surface_voxels():
    rng = np.random.default_rng(4)
    mask = rng.random((9, 7, 11)) < 0.05
    at = np.argwhere(mask)
    grid = np.argwhere(np.ones(mask.shape, bool))
    exact = np.linalg.norm(grid[:, None] - at, axis=2).min(axis=1).reshape(mask.shape)
    np.testing.assert_allclose(distance_to(mask), exact, rtol=1e-6)
    sphere = ball(6.0, 0.8)
    voxels = surface_voxels(sphere.vertices, sphere.faces, np.full(3, -8.0), 0.5, (33, 33, 33)).astype(bool)
    centres = np.stack(np.meshgrid(*(np.arange(33) * 0.5 - 8.0,) * 3, indexing="ij"), -1)
    distance = sphere.tree.nearest(centres.reshape(-1, 3))[0].reshape(33, 33, 33)
    assert voxels[distance < 0.24].all()  # the surface reaches into the cube around the centre
    assert not voxels[distance > 0.45].any()  # farther than half the cube's diagonal


def test_pieces_of_material_on_a_sphere():
    """By hand: around the middle of a cube of 10 mm, on a side, an edge and a corner; through its corners only; between
    two bars; in a wall, where material is a ring with air on both sides. In a few large faces a sphere leaves up to
    three arcs each."""
    cube, plate = box(), box((0, 0, 0), (20, 20, 1))
    bars = box((0, 0, 0), (5, 20, 5)).joined(box((6, 0, 0), (11, 20, 5)))
    skin = ball(10.0, 0.8).joined(ball(8.0, 0.8).turned())
    for mesh, place, radius, least, expected in (
        (cube, (5, 5, 5), 4.0, 0.0, 1),
        (cube, (5, 5, 5), 6.0, 0.0, 1),
        (cube, (5, 5, 5), 8.0, 0.0, 8),
        (cube, (5, 5, 5), 8.0, 0.02, 0),  # each a 75th of the sphere
        (cube, (5, 5, 5), 20.0, 0.0, 1),
        (cube, (0, 5, 5), 4.0, 0.0, 1),
        (cube, (0, 0, 5), 4.0, 0.0, 1),
        (cube, (0, 0, 0), 4.0, 0.0, 1),
        (cube, (5, 5, 0.5), 3.0, 0.0, 1),
        (plate, (3, 3, 0.5), 2.0, 0.0, 1),
        (plate, (0.5, 10, 0.5), 2.0, 0.0, 1),
        (bars, (5.5, 10, 2.5), 2.0, 0.0, 2),
        (bars, (5.5, 10, 5), 2.0, 0.1, 2),
        (skin, (0, 0, 9), 4.0, 0.0, 1),
        (skin, (0, 0, 0), 9.0, 0.0, 1),
    ):
        found = np.empty(1, np.int32)
        middle, opposite = np.array([place], float), mesh.topology.opposite
        pieces_on_spheres(
            mesh.tree.arrays, mesh.vertices, mesh.faces, opposite, mesh.unit_normals, middle, radius, least, 0, 1, found
        )
        assert found[0] == expected, (place, radius)


# --- how kernels are compiled ------------------------------------------------------------------------


def test_every_kernel_and_helper_is_compiled_for_one_signature():
    """Of what was compiled so far, tests included: one file of code for each index."""
    indexes = [index for module in all_modules() for index in module_folder(module).rglob("*.nbi")]
    assert len(indexes) > 50
    several = {i.stem: n for i in indexes if (n := len(list(i.parent.glob(f"{glob.escape(i.stem)}.*.nbc")))) != 1}
    assert several == {}


def test_an_edit_has_only_those_compiled_anew_that_it_can_change(monkeypatch):
    before = {module: cache.module_digest(module) for module in all_modules()}
    source = cache._source
    monkeypatch.setattr(cache, "_source", lambda m: (source(m)[0] + b"#" * (m == "tree.lanes"), source(m)[1]))
    cache.module_digest.cache_clear()
    changed = {module for module in before if cache.module_digest(module) != before[module]}
    cache.module_digest.cache_clear()
    assert {"tree.rays", "tree.distance", "tree.signed"} <= changed  # what calls it, and what calls those
    assert not {"exact.polygons", "files.text", "grid.voxels", "raster"} & changed


ASKS = {
    "survey": ["open.stl", "two.stl"],
    "walls": ["two.stl", "--gap", "1mm"],
    "overhangs": ["two.stl", "--compare-up", "3"],
    "supports": ["two.stl", "--layer", "0.2mm", "-o", "held.stl"],
    "layers": ["two.stl", "--layer", "0.5mm"],
    "scale": ["two.stl", "--by", "2"],
    "pose": ["two.stl", "--best", "1", "--compare-up", "3"],
    "picture": ["two.stl"],
    "run": ["job.toml"],
    "page": ["two.stl", "-o", "x.html"],
    "mend": ["open.stl"],
    "solid": ["open.stl"],
    "thicken": ["open.stl", "--thick", "1mm", "--trim"],
    "recast": ["open.stl", "--grid", "0.4mm"],
    "fuse": ["two.stl"],
    "carve": ["two.stl", "--with", "bar.stl"],
    "cut": ["two.stl", "--plane", "z=1mm", "--pegs", "1"],
    "split": ["two.stl"],
    "join": ["two.stl", "bar.stl", "-o", "joined.3mf"],
    "plinth": ["bar.stl"],
    "smooth": ["two.stl", "--least-wall", "0.5mm"],
    "slim": ["two.stl", "--within", "0.05mm"],
    "compare": ["two.stl", "bar.stl"],
    "hollow": ["two.stl", "--wall", "1.5mm"],
    "drain": ["two.hollow.stl", "--auto", "--diameter", "2mm"],
    "prep": ["two.stl", "--wall", "1.5mm", "--diameter", "2mm"],
    "proof": ["two.hollow.stl", "--wall", "1.5mm"],
}


def test_the_table_of_verbs_names_the_kernels_they_need(tmp_path, monkeypatch, capsys):
    """Every verb that works on models, and every format that is written."""
    from bolvek.cli.main import run
    from bolvek.cli.verbs import VERBS
    from bolvek.kernels import KERNELS, warm

    monkeypatch.chdir(tmp_path)
    prepared: set[str] = set()
    monkeypatch.setattr(warm, "missing", lambda modules: prepared.update(modules))
    write_model(tmp_path / "two.stl", ball(8.0).joined(box((20, 0, 0), (26, 6, 6))))
    write_model(tmp_path / "open.stl", box().picked(slice(2, None)))
    write_model(tmp_path / "bar.stl", box((-2, -2, -20), (2, 2, 20)))
    before = {kernel: kernel._compiled for kernel in KERNELS}
    written = [("scale", ["two.stl", "--by", "2", "-o", f"x{s}"]) for s in (".obj", ".ply", ".off", ".3mf")]
    (tmp_path / "job.toml").write_text('bolvek = 1\nmodels = ["bar.stl"]\n[[step]]\nverb = "hollow"\nwall = "1mm"\n')
    written.append(("scale", ["two.stl", "--by", "2", "-o", "y.stl", "--page", "y.html"]))
    asked = [*ASKS.items(), *written]
    missing = {}
    for verb, ask in asked:
        for kernel in KERNELS:
            kernel._compiled = None
        prepared.clear()
        code = run([verb, *ask])
        assert code in (0, 1), (verb, capsys.readouterr().err)
        used = {kernel.module for kernel in KERNELS if kernel._compiled is not None}
        missing[f"{verb} {ask[-1]}"] = used - prepared
    for kernel, compiled in before.items():
        kernel._compiled = compiled
    assert {verb: modules for verb, modules in missing.items() if modules} == {}
    assert set(ASKS) == set(VERBS) - {"profiles", "schema", "demo"}


def test_nothing_is_compiled_where_kernels_stay_plain(tmp_path):
    """BOLVEK_PLAIN=1 gives the same record, and leaves no compiled code."""
    write_model(tmp_path / "box.stl", box((0, 0, 0), (4, 4, 1)))
    records = []
    for plain in ("0", "1"):
        environment = {**os.environ, "BOLVEK_PLAIN": plain}
        if plain == "1":
            environment["BOLVEK_CACHE"] = str(tmp_path / "cache")
        done = subprocess.run(
            [
                sys.executable,
                "-m",
                "bolvek",
                "walls",
                "box.stl",
                "--least-wall",
                "0.5mm",
                "--spacing",
                "1mm",
                "--json",
                "-",
            ],
            cwd=tmp_path,
            env=environment,
            capture_output=True,
            text=True,
        )
        assert done.returncode == 0, done.stderr
        record = json.loads(done.stdout)
        del record["seconds"]
        records.append(record)
    assert records[0] == records[1]
    assert not list((tmp_path / "cache").rglob("*.nbi"))
