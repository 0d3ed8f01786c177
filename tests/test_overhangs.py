"""Overhangs, islands, bridges and supports on shapes with known answers; build directions; what must not matter."""

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy.spatial import ConvexHull

from bolvek.analyses.overhangs import find_overhangs
from bolvek.analyses.overhangs.directions import compare_directions, flat_sides
from bolvek.demo.measured import lattice_shade
from bolvek.demo.pieces import block, blocks, globe, turned
from bolvek.errors import UsageError, WorkError
from bolvek.mesh import Mesh
from bolvek.operations.pose import pose, rotation
from bolvek.settings.measures import OverhangSettings, RankSettings
from bolvek.settings.parts import PoseSettings
from bolvek.spatial.frames import fibonacci_sphere
from support import assert_sound, blob, box, shell_box

FINE = 128
POLYGON = FINE / 2 * np.sin(2 * np.pi / FINE)  # area of a regular polygon of so many corners on the unit circle


def hangs(mesh, **asked):
    return find_overhangs(mesh, OverhangSettings(**asked))[0]


def near(value):
    return pytest.approx(value, rel=0.005, abs=1e-6)


def mushroom(stem=3.0, cap=12.0, tall=10.0):
    return turned([(stem, 0), (stem, tall), (cap, tall), (cap, tall + 4)], FINE)


def test_a_block_needs_nothing():
    found = hangs(box())
    assert found.area_mm2 == 0 and found.islands == found.minima == 0 and not found.findings
    assert found.bed_contact_mm2 == near(100) and found.height_mm == 10 and found.layers == 50
    assert found.centre_of_mass_mm == pytest.approx((5, 5, 5)) and found.bed_margin_mm == pytest.approx(5)
    assert found.verdict == "prints as it stands"


def test_a_mushroom_is_a_cantilever_all_around():
    found = hangs(mushroom())
    ring = POLYGON * (144 - 9)
    assert found.area_mm2 == near(ring) and found.support_volume_mm3 == near(10 * ring)
    assert found.support_footprint_mm2 == near(ring) and found.footprint_on_part_mm2 == 0
    (zone,) = found.zones
    assert (
        zone.kind == "cantilever"
        and zone.flattest_deg == pytest.approx(0)
        and zone.reach_mm == pytest.approx(9, rel=0.01)
    )
    assert found.islands == 0 and found.bed_contact_mm2 == near(9 * POLYGON)


@pytest.mark.parametrize("degrees", [30, 44, 44.9, 45, 45.1, 46, 60])
def test_cones_beyond_the_angle(degrees):
    """A cone that widens upward, its side so many degrees from the horizontal."""
    rise = 10 * np.tan(np.radians(degrees))
    flat = np.cos(np.pi / FINE)  # the middle of a side lies nearer to the axis than its corners
    profile = [(2 / flat, 0), (12 / flat, rise), (12 / flat, rise + 2)]
    found = hangs(turned(profile, FINE))
    side = POLYGON / flat**2 * (144 - 4) / np.cos(np.radians(degrees))
    assert found.area_mm2 == (near(side) if degrees < 44.94 else 0)
    if degrees < 44.94:
        # between two cones of the same slope: a cylinder less a frustum
        whole = POLYGON / flat**2 * 144 * rise
        frustum = POLYGON / flat**2 * rise / 3 * (144 + 24 + 4)
        assert found.support_volume_mm3 == near(whole - frustum)


@pytest.mark.parametrize("angle", [20, 30, 45, 60])
def test_a_ball_by_its_cap(angle):
    found = hangs(globe(10, (0, 0, 30), 256).joined(block((-15, -15, 0), (15, 15, 2))), angle_deg=angle)
    cap = 2 * np.pi * 100 * (1 - np.cos(np.radians(angle)))
    assert found.area_mm2 == pytest.approx(cap, rel=0.04)  # a ball of polygons has one ring more or less
    assert found.footprint_on_part_mm2 == near(found.support_footprint_mm2)
    assert found.islands == 1 and found.island_list[0].height_mm == pytest.approx(20)


def test_support_stands_on_the_part_beneath():
    table = block((0, 0, 0), (20, 20, 2)).joined(block((8, 8, 1), (12, 12, 21))).joined(block((0, 0, 20), (30, 20, 22)))
    found = hangs(table)
    over_part, over_bed = 20 * 20 - 16, 10 * 20
    assert found.support_volume_mm3 == near(over_part * 18 + over_bed * 20)
    assert found.footprint_on_part_mm2 == near(over_part) and found.support_footprint_mm2 == near(over_part + over_bed)


def portal(span=20.0):
    posts = block((0, 0, 0), (5, 5, 20)).joined(block((5 + span, 0, 0), (10 + span, 5, 20)))
    return posts.joined(block((0, 0, 19), (10 + span, 5, 25)))


def test_bridges_are_told_from_cantilevers():
    found = hangs(portal())
    (zone,) = found.zones
    assert zone.kind == "bridge" and zone.span_mm == pytest.approx(20, abs=0.4) and found.bridges == 1
    assert found.islands == 0 and found.verdict == "prints as it stands"
    assert hangs(portal(), habit="hangs").verdict == "needs support"
    one_leg = block((0, 0, 0), (5, 5, 20)).joined(block((0, 0, 19), (30, 5, 25)))
    found = hangs(one_leg)
    assert [z.kind for z in found.zones] == ["cantilever"] and found.zones[0].reach_mm == pytest.approx(25, rel=0.02)
    assert {f.code for f in found.findings} == {"overhangs", "topples"} and found.bed_margin_mm < 0
    # the ceiling of a cavity hangs between its walls
    assert [z.kind for z in hangs(shell_box(2, 20)).zones] == ["bridge"]
    # the underside of an arch is no flat bridge
    t = np.linspace(0, np.pi, 40)
    arch = [(20 * np.cos(a), 20 * np.sin(a)) for a in t] + [(-26, 0), (-26, 27), (26, 27), (26, 0)]
    assert hangs(prism(arch)).bridges == 0


def prism(outline, depth=8.0):
    """An outline (x, z) drawn out along y; its caps are cut by ear clipping as a file's polygons are."""
    from pathlib import Path

    from bolvek.formats.obj import read_obj

    n = len(outline)
    text = "".join(f"v {x!r} {y!r} {z!r}\n" for y in (0.0, depth) for x, z in np.array(outline).tolist())
    text += (
        "f " + " ".join(str(k + 1) for k in range(n)) + "\nf " + " ".join(str(n + k) for k in range(n, 0, -1)) + "\n"
    )
    text += "".join(f"f {k + 1} {n + k + 1} {n + (k + 1) % n + 1} {(k + 1) % n + 1}\n" for k in range(n))
    soup = read_obj(text.encode(), Path("prism"))
    mesh = Mesh(soup.vertices, soup.faces)
    return mesh if mesh.volume > 0 else mesh.turned()


def test_islands_are_those_that_a_layer_shows():
    saw = [(0, 0), (60, 0), (60, 30), (0, 30)]
    teeth = [(4.0, 1.0), (3.0, 0.15), (2.0, 0.5), (1.0, 0.05)]  # width and depth of teeth below an arm
    arm = [(60, 20)]
    x = 62.0
    for width, deep in teeth:
        arm += [(x, 20), (x + 0.5 * width, 20 - deep), (x + width, 20)]
        x += width + 2
    outline = saw[:2] + [(60, 20)] + arm[1:] + [(x, 20), (x, 30), (0, 30)]
    found = hangs(prism(outline), layer_mm=0.2)
    # layers are cut at 19.1, 19.3, ..., 19.9: the smallest tooth joins the arm before one shows it
    assert found.islands == 3 and found.minima == 4
    assert sorted(round(i.height_mm, 2) for i in found.island_list) == [19.0, 19.5, 19.85]
    assert hangs(prism(outline), layer_mm=1.0).islands == 1 and hangs(prism(outline), layer_mm=0.01).islands == 4


def test_cups_and_buried_bottoms_are_no_islands():
    cup = turned([(10, 0), (10, 20), (8, 20), (8, 3), (0, 1)], FINE)
    assert hangs(cup).islands == 0 and hangs(shell_box()).islands == 0
    sunk = block((0, 0, 0), (20, 20, 10)).joined(globe(5, (10, 10, 12), 32))
    assert hangs(sunk).islands == 0
    resting = block((0, 0, 0), (20, 20, 10)).joined(block((5, 5, 9), (40, 15, 12)))
    assert hangs(resting).islands == 0 and [z.kind for z in hangs(resting).zones] == ["cantilever"]
    floating = block((0, 0, 0), (20, 20, 10)).joined(block((5, 5, 10.5), (15, 15, 12)))
    assert hangs(floating).islands == 1 and [z.kind for z in hangs(floating).zones] == ["free"]


@settings(max_examples=12)
@given(st.integers(0, 10**6))
def test_islands_of_random_blocks_are_counted_as_layers_show_them(seed):
    """Of cells, an island is a patch of a layer with nothing beneath: counted here layer by layer."""
    from scipy.ndimage import label

    rng = np.random.default_rng(seed)
    cells = rng.random((5, 5, 6)) < 0.55
    cells[:, :, 0] = True
    # cells that touch in an edge or a corner only make no manifold: fill them up
    for _ in range(60):
        before = cells.sum()
        for axes in ((0, 1), (0, 2), (1, 2)):
            c = np.moveaxis(cells, axes, (0, 1))
            a, b, d, e = c[:-1, :-1], c[1:, 1:], c[1:, :-1], c[:-1, 1:]
            bad = (a & b & ~d & ~e) | (d & e & ~a & ~b)
            d |= bad
            b |= bad
            a |= bad
        if cells.sum() == before:
            break
    mesh = blocks(cells, 2.0)
    if not mesh.topology.sound:
        return
    expected = 0
    for z in range(1, 6):
        patches, count = label(cells[:, :, z])
        expected += sum(not cells[:, :, z - 1][patches == k].any() for k in range(1, count + 1))
    found = hangs(mesh, layer_mm=1.0)
    assert found.islands == expected
    down = (cells[:, :, 1:] & ~cells[:, :, :-1]).sum()
    assert found.area_mm2 == near(4.0 * down) if down else found.area_mm2 == 0
    drop = 0
    for x, y, z in np.argwhere(cells[:, :, 1:] & ~cells[:, :, :-1]):
        below = np.flatnonzero(cells[x, y, : z + 1])
        drop += 2.0 * (z - below.max()) if len(below) else 2.0 * (z + 1)
    held = sum(z.support_mm3 for z in found.zones if z.kind == "bridge")
    assert found.support_volume_mm3 + held == near(4.0 * drop) if drop else found.support_volume_mm3 + held == 0


def test_the_lattice_shade_has_what_is_planned():
    mesh, plan = lattice_shade()
    assert_sound(mesh)
    found = hangs(mesh)
    assert (found.islands, found.bridges, found.cantilevers) == (plan.islands, plan.bridges, plan.cantilevers)
    assert found.area_mm2 == near(plan.overhang_mm2) and found.bed_contact_mm2 == near(plan.bed_contact_mm2)


@pytest.mark.parametrize("make", [mushroom, portal, lambda: lattice_shade()[0], lambda: shell_box(2, 20)])
def test_turning_both_model_and_up_and_moving_far_away_change_little(make):
    mesh = make()
    plain = hangs(mesh)
    turn = rotation((2, -1, 0.5), 71.0)
    up = tuple(turn @ np.array([0.0, 0.0, 1.0]))
    far = np.array([4000.0, 9000.0, -2000.0])
    for other, asked in ((mesh.moved(mesh.vertices @ turn.T), {"up": up}), (mesh.moved(mesh.vertices + far), {})):
        found = hangs(Mesh(other.vertices.astype(np.float32), other.faces) if not asked else other, **asked)
        assert found.area_mm2 == pytest.approx(plain.area_mm2, rel=0.01)
        assert found.support_volume_mm3 == pytest.approx(plain.support_volume_mm3, rel=0.01)
        assert found.bed_contact_mm2 == pytest.approx(plain.bed_contact_mm2, rel=0.01)
        assert (found.islands, found.bridges, found.cantilevers) == (plain.islands, plain.bridges, plain.cantilevers)
        assert found.height_mm == pytest.approx(plain.height_mm, rel=1e-4)


def test_directions_are_even_and_ranked_by_what_they_cost():
    spread = fibonacci_sphere(500)
    np.testing.assert_allclose(np.linalg.norm(spread, axis=1), 1)
    closest = np.sort(spread @ spread.T, axis=1)[:, -2]
    assert np.degrees(np.arccos(closest)).min() > 3.5  # 500 even ones are about 9 degrees apart
    assert {tuple(np.abs(n).round(6)) for n in flat_sides(box())} == {(1, 0, 0), (0, 1, 0), (0, 0, 1)}
    tee = block((0, 0, 0), (10, 10, 20)).joined(block((-10, 0, 19), (20, 10, 25)))
    compared = compare_directions(tee, OverhangSettings(), RankSettings(count=60))
    best = compared.best[0]
    assert abs(best.up[1]) == pytest.approx(1) and best.overhang_mm2 == 0 and best.support_volume_mm3 == 0
    assert compared.now.up == (0, 0, 1) and compared.now.score > best.score
    scores = [d.score for d in compared.best]
    assert scores == sorted(scores) and compared.tried > 60
    # what it says of a direction is what a closer look says
    whole = hangs(tee, up=(0.0, 1.0, 0.0))
    assert best.height_mm == pytest.approx(whole.height_mm) and best.bed_contact_mm2 == pytest.approx(
        whole.bed_contact_mm2
    )
    support = compare_directions(blob(), OverhangSettings(), RankSettings(count=20, weights={"support": 1.0}))
    closer = hangs(blob(), up=support.best[0].up)
    assert support.best[0].support_volume_mm3 == pytest.approx(closer.support_volume_mm3, rel=0.05, abs=5)


def test_a_turned_copy_is_answered_alike():
    mesh = blob().joined(block((4, -2, -6), (16, 3, -2)))
    turn = rotation((1, -2, 0.7), 77.0)
    best = [
        compare_directions(m, OverhangSettings(up=tuple(u)), RankSettings(count=60)).best[0]
        for m, u in ((mesh, (0.0, 0.0, 1.0)), (mesh.moved(mesh.vertices @ turn.T), turn @ [0.0, 0.0, 1.0]))
    ]
    assert best[1].overhang_mm2 == pytest.approx(best[0].overhang_mm2, rel=0.05)
    assert turn @ np.array(best[0].up) == pytest.approx(np.array(best[1].up), abs=0.1)


def test_what_falls_ranks_last_and_the_side_to_show_stays_free():
    # an arm far out: lying it stands, upright it falls
    arm = block((0, 0, 0), (6, 20, 30)).joined(block((5, 0, 26), (50, 20, 30)))
    compared = compare_directions(arm, OverhangSettings(), RankSettings(count=30, best=100))
    assert compared.now.falls and not compared.best[0].falls
    order = [d.falls for d in compared.best]
    assert order == sorted(order)
    assert not any(
        d.falls for d in compare_directions(arm, OverhangSettings(habit="hangs"), RankSettings(count=5)).best
    )
    plate = mushroom(6.0, 14.0, 6.0)
    shown = compare_directions(plate, OverhangSettings(), RankSettings(count=40, weights={"show": 1.0}, show=(0, 0, 1)))
    assert shown.best[0].shown_mm2 == 0 and shown.best[0].up[2] > -0.9


def test_asks_and_models_that_make_no_sense():
    for asked in (
        {"angle_deg": 0.0},
        {"angle_deg": 91.0},
        {"up": (0.0, 0.0, 0.0)},
        {"layer_mm": 0.0},
        {"habit": "floats"},
    ):
        with pytest.raises(UsageError):
            hangs(box(), **asked)
    for compare in (
        RankSettings(count=0),
        RankSettings(count=5, weights={"colour": 1.0}),
        RankSettings(count=5, weights={"islands": 0.0}),
        RankSettings(count=5, best=0),
    ):
        with pytest.raises(UsageError):
            compare_directions(box(), OverhangSettings(), compare)
    for mesh in (
        Mesh(np.zeros((0, 3)), np.zeros((0, 3), np.int32)),
        Mesh([[0, 0, 0], [1, 0, 0], [0, 1, 0]], [[0, 1, 2]]),
    ):
        with pytest.raises(WorkError):
            hangs(mesh)
    cap = 2 * np.pi * 5 * 0.1  # the first half layer of a ball: 2 pi r h
    assert hangs(globe(5, (0, 0, 0), 96)).bed_contact_mm2 == pytest.approx(cap, rel=0.1)


@pytest.mark.parametrize("seed", range(12))
def test_a_foot_of_many_facets_is_one_side_however_it_is_turned_and_rounded(seed):
    """A frustum on a grid of points, noisy by float32, is the largest flat side for directions and for laying."""
    rng = np.random.default_rng(seed)
    steps = np.linspace(0, 1, 9)
    foot = [[60 * x, 40 * y, 0] for x in steps for y in steps]
    points = np.array([*foot, *([20 * x + 20, 10 * y + 15, 30] for x in (0, 1) for y in (0, 1))])
    turn = np.linalg.qr(rng.normal(size=(3, 3)))[0]
    turn *= np.linalg.det(turn)
    points = (points + rng.normal(size=points.shape) * 2e-6) @ turn.T + rng.uniform(-50, 50, 3)
    points = points.astype(np.float32).astype(float)
    hull = ConvexHull(points)
    a, b, c = (points[hull.simplices[:, k]] for k in range(3))
    inward = np.einsum("ij,ij->i", np.cross(b - a, c - a), hull.equations[:, :3]) < 0
    mesh = Mesh(points, np.where(inward[:, None], hull.simplices[:, ::-1], hull.simplices))
    down = turn @ [0, 0, -1.0]
    assert flat_sides(mesh)[0] @ down > np.cos(np.radians(0.05))
    laid, record = pose(mesh, PoseSettings(lay_largest=True))
    assert record.bed_mm2 == pytest.approx(2400, rel=1e-3)
    cosine = np.abs(flat_sides(mesh) @ down)
    assert (cosine > np.cos(np.radians(0.02))).sum() == 2  # the foot and the top, each once


@pytest.mark.parametrize("span", (1.5, 3.0, 19.9, 24.0, 52.0))
def test_spans_are_exact_and_the_limit_is_the_limit(span):
    end = 8 + span
    table = prism([(0, 0), (4, 0), (4, 20), (end - 4, 20), (end - 4, 0), (end, 0), (end, 24), (0, 24)], 12.0)
    found = hangs(table, bridge_most_mm=span * (1 + 1e-4))
    assert [(z.kind, z.span_mm) for z in found.zones] == [("bridge", pytest.approx(span, rel=1e-5))]
    assert [z.kind for z in hangs(table, bridge_most_mm=span * (1 - 1e-3)).zones] == ["cantilever"]
