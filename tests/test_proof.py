"""What the proof stands on: nesting, signed distances, widths of ways, walls through material, origins."""

from fractions import Fraction

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

import fool_walls  # noqa: F401
from bolvek.analyses.cavities import find_cavities, find_ways
from bolvek.analyses.cavities.openness import every_room_opens
from bolvek.analyses.proof import BORE, INNER, OUTER, origin_from, prove
from bolvek.analyses.proof.liquid import judge_liquid, liquid_clause, measure_liquid
from bolvek.analyses.shells import nest_exactly
from bolvek.analyses.survey import survey
from bolvek.analyses.thickness import edges_of, measure, measure_walls, sample_surface, wall_at
from bolvek.analyses.thickness.samples import points_along
from bolvek.demo.twin_lamp import BUBBLE_MM, LEFT_MM, NECK_MM, WALL_MM, twin_lamp
from bolvek.errors import WorkError
from bolvek.kernels.grid import watershed
from bolvek.mesh import Mesh
from bolvek.mesh.surroundings import Farther, surroundings
from bolvek.operations.drain import cut_and_trace, drain, plan_bore
from bolvek.operations.hollow import hollow
from bolvek.settings.measures import ProofSettings, WallSettings
from bolvek.settings.shape import Drain, DrainSettings, HollowSettings
from bolvek.spatial.air import AirLattice
from bolvek.spatial.isosurface import dense_surface
from bolvek.spatial.slopes import Slopes
from fool import bore, brick, composed, drained, hollow_block, sphere, turned, without
from support import ball, blob, box, shell_box

seeds = st.integers(0, 10_000)


@given(seeds)
def test_lines_from_vertices_go_through_the_faces_that_fractions_say(seed):
    """On a small grid, where lines meet edges and corners all the time."""
    rng = np.random.default_rng(seed)
    mesh = Mesh(rng.integers(0, 4, (12, 3)), rng.integers(0, 12, (14, 3)))
    starts = rng.integers(0, 12, 5).astype(np.int64)
    found = {tuple(row) for row in mesh.tree.stab(starts).tolist()}
    # the line moved by a tiny (e, e squared), in exact numbers
    e = Fraction(1, 10**6)
    expected = set()
    for q, p in enumerate(starts):
        x, y, z = (Fraction(float(c)) for c in mesh.vertices[p])
        y, z = y + e, z + e * e
        for f, face in enumerate(mesh.faces):
            a, b, c = ([Fraction(float(v)) for v in mesh.vertices[i]] for i in face)
            turns = [(s[1] - r[1]) * (z - r[2]) - (s[2] - r[2]) * (y - r[1]) for r, s in ((a, b), (b, c), (c, a))]
            if not (all(t > 0 for t in turns) or all(t < 0 for t in turns)):
                continue
            total = sum(turns)
            meets = (turns[1] * a[0] + turns[2] * b[0] + turns[0] * c[0]) / total
            # a face through the vertex itself is neither ahead nor behind
            u, w = [m - k for m, k in zip(b, a, strict=True)], [m - k for m, k in zip(c, a, strict=True)]
            n = [u[i - 2] * w[i - 1] - u[i - 1] * w[i - 2] for i in range(3)]
            level = sum(k * (Fraction(float(v)) - m) for k, v, m in zip(n, mesh.vertices[p], a, strict=True))
            if meets > x and level != 0:
                expected.add((q, f, 1 if total > 0 else -1))
    assert found == expected


@given(st.integers(1, 6), st.booleans(), seeds)
def test_nesting_of_shells_a_hair_apart_is_exact(deep, turn, seed):
    rng = np.random.default_rng(seed)
    shells, low, high = [], np.zeros(3), np.full(3, 10.0)
    for _ in range(deep):
        shells.append(box(low, high))
        # the next float64 is enough
        low, high = np.nextafter(low, 20), np.nextafter(high, -20)
    order = rng.permutation(deep)
    mesh = shells[order[0]].joined(*(shells[k] for k in order[1:]))
    if turn:
        mesh = mesh.turned()
    nested = nest_exactly(mesh)
    first = [np.flatnonzero(mesh.topology.shell == s)[0] // 12 for s in range(mesh.topology.shells)]
    assert nested.depth.tolist() == [int(order[k]) for k in first]
    assert (nested.volume < 0).all() == turn


@given(seeds)
def test_signed_distance_agrees_with_the_winding_number(seed):
    rng = np.random.default_rng(seed)
    mesh = (box(), shell_box(), blob(), without(box(), brick((2, 2, 2), (5, 5, 12))))[seed % 4]
    corner = mesh.vertices[rng.integers(0, len(mesh.vertices), 60)]
    points = np.concatenate(
        [corner + rng.normal(0, 0.2, corner.shape), rng.uniform(*(mesh.bounds + [[-1], [1]]), (60, 3))]
    )
    signed = mesh.signed_distance.at(points)
    assert np.abs(signed) == pytest.approx(mesh.tree.nearest(points)[0])
    far = np.abs(signed) > 1e-9
    assert ((signed < 0) == (mesh.tree.winding(points) > 0.5))[far].all()


@given(seeds)
def test_widest_ways_are_those_of_a_slow_search(seed):
    """Against the spanning tree of all neighbours by width, joined one by one."""
    rng = np.random.default_rng(seed)
    n = 3
    block = np.arange(n**3, dtype=np.int32).reshape(n, n, n)
    block[rng.random(block.shape) < 0.15] = -1
    kept = np.flatnonzero(block.ravel() >= 0)
    block.ravel()[kept] = np.arange(len(kept))
    place = np.argwhere(block >= 0).astype(np.int32)
    value = rng.integers(-2, 6, (len(kept), 8)).astype(np.float32)
    before, following = np.full((2, value.size), -2, np.int64)
    level = np.zeros(value.size, np.int32)
    none = np.zeros((0, 3), np.int32), np.zeros(1, np.int64)
    start = int(np.argmax(value.ravel()))
    watershed.widest_ways(block, place, value, *none, 6.0, start, -1, 1.0, before, level, following)
    some = np.setdiff1d(rng.choice(value.size, 3), start)
    earlier, asked = np.full(value.size, -2, np.int64), np.zeros(value.size, np.int32)
    earlier[some] = -3
    watershed.widest_ways(block, place, value, *none, 6.0, start, len(some), 1.0, earlier, asked, following)
    assert (asked[some] == level[some]).all() and (earlier > -2).sum() <= (before > -2).sum()
    at = {}
    for b, (x, y, z) in enumerate(place.tolist()):
        for c in range(8):
            at[2 * x + (c & 1), 2 * y + (c >> 1 & 1), 2 * z + (c >> 2)] = 8 * b + c
    width = value.ravel()
    best = np.zeros(value.size)
    best[start] = 6
    for w in range(6, 0, -1):  # everything reached over cells at least so wide
        todo = [k for k in at if at[k] == start]
        seen = set(todo)
        while todo:
            x, y, z = todo.pop()
            best[at[x, y, z]] = max(best[at[x, y, z]], w)
            for o in ((x - 1, y, z), (x + 1, y, z), (x, y - 1, z), (x, y + 1, z), (x, y, z - 1), (x, y, z + 1)):
                if o in at and o not in seen and width[at[o]] >= w:
                    seen.add(o)
                    todo.append(o)
    assert level.tolist() == best.tolist()


@pytest.mark.parametrize("neck", [0.5, 0.8, 1.3])
def test_a_neck_has_the_width_of_the_circle_in_it(neck):
    rng = np.random.default_rng(3)
    mesh = box((0, 0, 0), (40, 20, 20)).joined(
        box((3, 3, 3), (17, 17, 17)).turned(), box((23, 3, 3), (37, 17, 17)).turned()
    )
    mesh = without(mesh, bore((16, 10, 9), (24, 10, 9), neck, rng), bore((10, 10, -2), (10, 10, 4), 3, rng))
    ways = find_ways(turned(mesh, rng), 1.5)
    assert len(ways.chambers) == 1
    chamber = ways.chambers[0]
    assert chamber.neck_mm == pytest.approx(neck * np.cos(np.pi / 32), abs=0.03)
    assert chamber.neck_mm <= chamber.neck_most_mm
    assert chamber.volume_mm3 == pytest.approx(14**3, rel=0.03)
    assert not find_ways(mesh, 0.9 * neck).chambers


@given(seeds)
@settings(max_examples=10)
def test_the_surroundings_of_a_place_answer_as_the_whole_does_or_not_at_all(seed):
    rng = np.random.default_rng(seed)
    mesh = turned(blob(), rng)
    middle, half = mesh.vertices[rng.integers(len(mesh.vertices))], rng.uniform(2, 8)
    part, number = surroundings(mesh, middle - half, middle + half)
    assert np.array_equal(part.corners, mesh.corners[number])
    told = 0
    for place in middle + half * rng.uniform(-1.2, 1.2, (60, 3)):
        try:
            found = part.signed_distance.at(place), part.tree.winding(place), part.tree.nearest(place)[0]
        except Farther:
            assert abs(mesh.signed_distance.at(place)[0]) > half - np.abs(place - middle).max() - 1e-9
            continue
        told += 1
        whole = mesh.signed_distance.at(place), np.round(mesh.tree.winding(place)), mesh.tree.nearest(place)[0]
        assert np.concatenate(found) == pytest.approx(np.concatenate(whole), abs=1e-9)
    assert told


def _two_rooms(rng, neck, mouth):
    """A block with two balls of air, joined by a bent neck of a radius, the second open through a mouth of another."""
    low, high, cell = np.zeros(3), np.array([26.0, 18.0, 16.0]), 0.4
    p = np.stack(np.meshgrid(*(np.arange(-1, h + 1, cell) for h in high), indexing="ij"), -1)
    first, second = np.array([7, 9, 8]) + rng.uniform(-1, 1, 3), np.array([19, 9, 8]) + rng.uniform(-1, 1, 3)
    bend = 0.5 * (first + second) + rng.uniform(-2, 2, 3)

    def rod(a, b, radius):
        t = np.clip((p - a) @ (b - a) / ((b - a) @ (b - a)), 0, 1)
        return np.linalg.norm(p - a - t[..., None] * (b - a), axis=-1) - radius

    balls = [np.linalg.norm(p - c, axis=-1) - rng.uniform(2.5, 4) for c in (first, second)]
    air = np.min([*balls, rod(first, bend, neck), rod(bend, second, neck), rod(second, second * [1, 1, -1], mouth)], 0)
    solid = np.maximum(low - p, p - high).max(axis=-1)
    found = dense_surface(np.maximum(solid, -air), low - 1, cell)
    return Mesh(found.vertices, found.faces)


@pytest.mark.parametrize("seed", range(3))
def test_that_every_room_opens_is_said_of_those_only_that_do(seed):
    rng = np.random.default_rng(seed)
    radius = 0.75
    for share, opens in ((0.5, False), (0.93, False), (1.05, None), (2.4, True)):
        mesh = _two_rooms(rng, share * radius, 2.4 * radius)
        lattice = AirLattice(mesh.signed_distance, *mesh.bounds, 0.5 * radius, 1.5 * radius)
        said = every_room_opens(lattice, radius, 0.5 * radius)
        assert said is opens or opens is None
    # nowhere in the balls said to have one is the surface left in ways that one direction does not share
    at = mesh.bounds[0] + rng.random((400, 3)) * mesh.size
    grows = Slopes(mesh.signed_distance).surely_grow(at, mesh.signed_distance.at(at), 0.8)
    assert 20 < grows.sum() < 400
    for middle in at[grows]:
        step = rng.normal(size=(200, 3))
        some = middle + 0.8 * rng.random((200, 1)) ** (1 / 3) * step / np.linalg.norm(step, axis=1, keepdims=True)
        some = some[mesh.signed_distance.at(some) > 1e-6]
        away = some - mesh.tree.closest_points(some, mesh.tree.nearest(some)[1])
        away /= np.linalg.norm(away, axis=1, keepdims=True)
        towards = np.zeros(3)
        for _ in range(200):
            fails = away[away @ towards <= 0]
            if not len(fails):
                break
            towards += fails[0]
        assert not len(fails)


@settings(max_examples=12)
@given(st.integers(1, 9), seeds)
def test_collapsed_faces_change_nothing_but_their_own_count(count, seed):
    rng = np.random.default_rng(seed)
    mesh = (box(), shell_box(), box().picked(slice(1, None)), box().joined(box((5, 5, 5), (15, 15, 15))))[seed % 4]
    a, b = rng.integers(0, len(mesh.vertices), (2, count))
    more = np.concatenate([mesh.faces, np.stack([a, b, a], axis=1)])
    order = rng.permutation(len(more))
    plain, _ = survey(Mesh(mesh.vertices, more[order][order < len(mesh.faces)]))
    found, _ = survey(Mesh(mesh.vertices, more[order]))
    assert found.flat_faces == count and found.triangles == plain.triangles + count
    for name in (
        "shell_list", "open_edges", "nonmanifold_edges", "badly_oriented_edges", "split_vertices", "openings",
        "volume_mm3", "hidden", "knives", "twins", "self_intersections",
    ):  # fmt: skip
        assert getattr(found, name) == getattr(plain, name), name


def test_a_wall_is_the_same_in_walls_and_proof_and_creases_find_needle_pits():
    rng = np.random.default_rng(2)
    mesh = drained(hollow_block(2.0), 2.0, rng)
    pit = without(mesh, bore((6, 6, 24), (6, 6, 20.4), 0.3, rng, 8))  # 0.4 mm left
    record = prove(pit, ProofSettings(wall_mm=2.0))
    assert record.wall.min_mm == pytest.approx(0.4, abs=2e-3) and record.wall.thin_spots == 1
    where = np.array([record.wall.where_mm])
    _, face = pit.tree.nearest(where)
    assert wall_at(pit, where, face, WallSettings(min_mm=2.0)) == pytest.approx([record.wall.min_mm], abs=1e-3)
    assert measure_walls(pit, WallSettings(min_mm=2.0))[0].wall.min_mm == pytest.approx(0.4, abs=2e-3)


def test_hollowing_leaves_no_fin_thinner_than_the_wall():
    """Folds like those of a brain: walls of void that nearly meet, where plain offsets leave burrs."""
    axis = np.arange(-14, 14.6, 0.6)
    x, y, z = np.meshgrid(axis, axis, axis, indexing="ij")
    folds = 0.9 * np.sin(1.1 * x + 0.6 * np.sin(0.7 * y)) * np.cos(0.9 * z) * np.sin(0.8 * y + 1)
    s = dense_surface(np.sqrt(x * x + y * y + z * z) - 11 + folds, np.full(3, -14.0), 0.6)
    mesh = Mesh(s.vertices, s.faces).as_stored()
    result, record = hollow(mesh, HollowSettings(wall_mm=1.5))
    walls, field = measure_walls(result, WallSettings(min_mm=1.4925))
    inner = field.samples.face >= len(mesh.faces)
    assert not (field.wall[inner] < 1.4925).any() or not any(z.kind in ("hole", "breakthrough") for z in walls.zones)
    proof = prove(result, ProofSettings(wall_mm=1.5))
    assert {f.code for f in proof.findings if f.severity == "fault"} == {"cavity_closed"}
    assert record.least_wall_mm >= 1.49 and proof.wall.min_mm >= 1.49


def test_origins_are_carried_through_a_cut_and_told_by_comparing():
    shell = hollow_block(2.0).as_stored()
    hole = Drain((15, 13, 0), 3.0)
    cut, _, source = cut_and_trace(shell, DrainSettings(drains=(hole,)), [plan_bore(shell, hole)], as_stored=True)
    kinds = np.where(source < 0, BORE, np.where(source < 12, OUTER, INNER))
    assert cut.face_areas[kinds == BORE].sum() == pytest.approx(32 * 2 * 1.5 * np.sin(np.pi / 32) * 2.0, rel=1e-3)
    told = origin_from(cut, box((0, 0, 0), (30, 26, 22)))
    assert ((told.face == OUTER) == (kinds == OUTER)).all()
    assert (told.kept.faces, told.kept.of) == (10, 12)
    disc = 0.5 * 32 * np.sin(2 * np.pi / 32) * 1.5**2
    assert told.kept.taken_out_mm2 == pytest.approx(disc, rel=1e-3)
    with pytest.raises(WorkError, match="another size or place"):
        origin_from(cut, box((1, 0, 0), (31, 26, 22)))


def test_only_what_was_made_is_held_against_the_wall_when_the_original_is_known():
    fin = box((0, 0, 0), (30, 26, 22)).corners  # a plate of 0.6 mm stands on the block
    plain = without(
        box((0, 0, 0), (30, 26, 40)), brick((-1, -1, 22), (15, 30, 50)), brick((15.6, -1, 22), (40, 30, 50))
    )
    assert len(fin) == 12
    made = plain.joined(box((2, 2, 2), (28, 24, 20)).turned())
    made = drained(made, 2.0, np.random.default_rng(1), count=1)
    asked = ProofSettings(wall_mm=2.0, least_wall_mm=0.8, features_told=True)
    record = prove(made, asked, origin_from(made, plain))
    assert record.verdict == "fit", [f.text for f in record.findings]
    assert record.features.thin == 1 and record.features.min_mm == pytest.approx(0.6, abs=1e-3)
    assert {f.code: f.severity for f in record.findings}["thin_features"] == "note"
    strict = prove(made, ProofSettings(wall_mm=2.0, least_wall_mm=0.8), origin_from(made, plain))
    assert strict.verdict == "unfit" and [f.code for f in strict.findings if f.severity == "fault"] == ["thin_features"]


def test_the_twin_lamp_has_the_faults_it_was_made_with():
    record = prove(twin_lamp(), ProofSettings(wall_mm=WALL_MM))
    assert {f.code for f in record.findings if f.severity == "fault"} == {
        *("cavity_closed", "cavity_narrow", "liquid_stays", "wall_thin")
    }
    assert record.ways.chambers[0].neck_mm == pytest.approx(NECK_MM * np.cos(np.pi / 32), abs=0.03)
    assert record.wall.min_mm == pytest.approx(LEFT_MM, abs=1e-3)
    assert record.voids[0].size_mm == pytest.approx((BUBBLE_MM,) * 3, rel=0.02)


def test_two_blind_holes_may_meet_in_the_material():
    block = box((0, 0, 0), (30, 30, 30))
    holes = DrainSettings(drains=(Drain((15, 15, 0), 4.0, depth_mm=16.0), Drain((0, 15, 15), 4.0, depth_mm=14.0)))
    result, record = drain(block, holes)
    assert result.topology.sound and len(record.holes) == 2
    # two bores of 32 sides, less what they have in common
    area = 0.5 * 32 * np.sin(2 * np.pi / 32) * 2.0**2
    assert 0.9 * area * 30 - 30 < record.volume_removed_mm3 < area * 30


def test_parts_that_stand_near_each_other_are_never_one_room():
    rng = np.random.default_rng(0)
    one = sphere(10, 0.9).joined(sphere(8, 0.9).turned())
    one = without(one, bore((0, 0, -14), (0, 0, -6), 3, rng))
    both = one.joined(one.moved(one.vertices + [20.4, 0, 0]))
    found = find_cavities(both).found
    assert [len(c.openings) for c in found] == [1, 1]
    assert not find_cavities(ball(8).joined(ball(8).moved(ball(8).vertices + [16.4, 0, 0]))).found


def test_samples_are_as_near_as_asked_on_a_coarse_model_and_too_many_are_refused():
    plank = box((0, 0, 0), (200, 3, 1))
    samples = sample_surface(plank, 0.5)
    points, _ = points_along(plank, edges_of(plank, np.arange(12)), 0.5)
    every = np.concatenate([samples.points, points])
    probe = np.random.default_rng(0).uniform(0, 1, (400, 3)) * [200, 3, 0]
    assert np.linalg.norm(probe[:, None] - every, axis=2).min(axis=1).max() <= 0.5
    assert samples.area.sum() == pytest.approx(plank.area)
    with pytest.raises(WorkError, match="mm apart would fit"):
        sample_surface(plank, 1e-4)
    found = measure(plank, samples.points, samples.face, np.ones(12), far_mm=2.0)
    assert np.nanmin(found.ray) == pytest.approx(1.0)


def test_what_columns_are_too_coarse_for_is_not_called_fit():
    mesh = box((0, 0, 0), (700, 700, 40)).joined(box((0.3,) * 3, (699.7, 699.7, 39.7)).turned())
    rng = np.random.default_rng(0)
    mesh = without(mesh, bore((300, 300, -5), (300, 300, 5), 8, rng))
    liquid = measure_liquid(mesh, find_cavities(mesh), ((0.0, 0.0, 1.0),), 6.0, 0.3)
    assert liquid.pixel_mm > 0.3 and not liquid.judged
    for needed, severity in ((True, "fault"), (False, "note")):
        told = {f.code: f.severity for f in judge_liquid(liquid, needed=needed)}
        assert told["liquid_unjudged"] == severity
        clause = liquid_clause(liquid, judge_liquid(liquid, needed=needed))
        assert clause.state == ("fails" if needed else "not judged")
    # with walls it can tell it drains
    assert measure_liquid(mesh, find_cavities(mesh), ((0.0, 0.0, 1.0),), 6.0, 2.0).judged


def test_a_void_behind_a_groove_is_a_room_that_keeps_what_it_holds():
    mesh = composed("void_behind_a_groove", 2).mesh
    record = prove(mesh, ProofSettings(wall_mm=2.0, drain_poses=((0.0, 0.0, 1.0),)))
    assert [c.name for c in record.clauses if c.state == "fails"] == ["liquid"]
    assert len(record.cavities) == 1 and record.liquid.stays_mm3 == pytest.approx(30 * 30 * 3.5, rel=0.03)
