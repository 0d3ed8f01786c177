"""What holds in a build: closed forms at any turn, a slow measure on voxels, and tips without which something hangs."""

import heapq
import json

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from bolvek.analyses.held import cut_in_layers, find_held, hold, place_tips
from bolvek.demo.pieces import block, blocks, in_one, turned
from bolvek.formats import write_model
from bolvek.mesh import Mesh
from bolvek.operations.pose import rotation
from bolvek.settings.supports import HeldSettings

PIXEL, LAYER = 0.25, 0.25
COVERING = 2 * np.pi / 27**0.5
"""Discs that cover a plane take at least so many times its area (Kershner 1939)."""
TURNS = (0, 10, 22.5, 45)


def extruded(outline, depth, turn):
    """A convex outline (x, z) drawn out along y, turned about z."""
    flat, n = np.array(outline, float), len(outline)
    corners = np.concatenate([np.insert(flat, 1, y, axis=1) for y in (0, depth)])
    sides = [f for i in range(n) for f in ([i, (i + 1) % n, n + i], [(i + 1) % n, n + (i + 1) % n, n + i])]
    caps = [f for i in range(1, n - 1) for f in ([0, i + 1, i], [n, n + i, n + i + 1])]
    mesh = Mesh(corners @ rotation(np.array([0.0, 0, 1]), turn).T, np.array(sides + caps))
    return mesh if mesh.volume > 0 else Mesh(mesh.vertices, mesh.faces[:, ::-1])


def cot(degrees):
    return 1 / np.tan(np.radians(degrees))


@pytest.mark.parametrize("turn", TURNS)
@pytest.mark.parametrize(("slope", "reach"), [(10, 1.0), (20, 1.0), (25, 1.0), (27, 0.5), (31, 1.0), (45, 1.0)])
def test_a_slope_holds_up_to_its_height(slope, reach, turn):
    fails = reach / (cot(slope) - cot(30)) if slope < 30 else np.inf
    tall = min(1.4 * fails + 0.5, 8.0)
    mesh = extruded([(-2, 0), (0, 0), (tall * cot(slope), tall), (-2, tall)], 8, turn)
    found = find_held(mesh, HeldSettings(reach_mm=reach, pixel_mm=0.1))
    assert found.held == (slope >= 30)
    if slope < 30:
        ledge = found.places[0]
        # a column either way of the reach
        within = 0.12 / (cot(slope) - cot(30)) + 0.05
        assert ledge.kind == "ledge" and ledge.height_mm == pytest.approx(fails, abs=within)
    assert found.held_by_tips and (len(found.tips) > 0) == (slope < 30)


@pytest.mark.parametrize("turn", (0, 7.3, 30, 45))
def test_a_bridge_is_as_long_as_it_may_be(turn):
    def arch(span):
        parts = [block((0, 0, 0), (3, 4, 5)), block((3 + span, 0, 0), (6 + span, 4, 5))]
        lintel = block((0, 0, 5), (6 + span, 4, 7))
        mesh = in_one([*parts, lintel])
        return mesh.moved(mesh.vertices @ rotation(np.array([0.0, 0, 1]), turn).T)

    asked = HeldSettings(angle_deg=45, layer_mm=0.2, bridge_most_mm=12, pixel_mm=0.1)
    assert find_held(arch(11.6), asked).held
    for mesh, how in ((arch(12.4), asked), (arch(11.6), HeldSettings(angle_deg=45, layer_mm=0.2, pixel_mm=0.1))):
        found = find_held(mesh, how)
        span = 12.4 if how is asked else 11.6
        assert found.ledges and found.area_mm2 == pytest.approx(4 * (span - 2), rel=0.08)


def test_what_hangs_is_an_island_and_a_tip_holds_each():
    """Stalactites under a roof on a wall: each begins alone, and hangs together with the others through the roof."""
    rng = np.random.default_rng(3)
    roof, wall = block((0, 0, 20), (40, 12, 22)), block((0, 0, 0), (4, 12, 20))
    at = [(10 + 8 * k, rng.uniform(3, 9)) for k in range(4)]
    hanging = [
        block((x - 1, y - 1, z), (x + 1, y + 1, 20)) for (x, y), z in zip(at, rng.uniform(5, 15, 4), strict=True)
    ]
    found = find_held(in_one([roof, wall, *hanging]))
    (place,) = found.places
    assert place.kind == "island" and place.area_mm2 == pytest.approx(35 * 12, rel=0.02) and found.held_by_tips
    low = [t for t in found.tips if t.height_mm < 19]
    assert len(low) == 4  # one for each, all others beneath the roof
    for (x, y), tip in zip(sorted(at), sorted(low, key=lambda t: t.where_mm[0]), strict=True):
        assert abs(tip.where_mm[0] - x) <= 1 and abs(tip.where_mm[1] - y) <= 1


def test_tips_are_few_and_each_is_needed():
    """A round table: beyond the reach of its leg everything hangs."""
    table = turned([(2, 0), (2, 8), (14, 8), (14, 10)], 96)
    asked = HeldSettings()
    stretches = cut_in_layers(table, asked)
    _, tips, held = place_tips(stretches, asked)
    ring = np.pi * (14**2 - 3**2)
    least = ring / (np.pi * asked.carry_mm**2)  # discs that did not lie over each other
    assert least < len(tips) < 1.35 * COVERING * least
    assert not any(p.counts(asked) for p in held.places()[1])
    for row in np.random.default_rng(1).choice(len(tips), 12, replace=False):
        left = hold(stretches, tips.chosen(np.arange(len(tips)) != row)).places()[1]
        assert any(p.counts(asked) for p in left)


def test_a_thin_icicle_counts_and_which_way_faces_look_does_not():
    """An icicle of 0.16 mm2 hangs 7 mm down from a ledge that holds; a bump as thin, 0.3 mm; both are closed shells."""
    wall, ledge = block((0, 0, 0), (10, 10, 20)), block((10, 0, 19), (10.8, 10, 20))
    icicle, bump = block((10.3, 5, 12), (10.7, 5.4, 19.5)), block((10.3, 2, 18.7), (10.7, 2.4, 19.5))
    assert find_held(wall.joined(ledge)).held
    assert find_held(wall.joined(ledge, bump)).held
    mesh = wall.joined(ledge, icicle)
    for one in (mesh, Mesh(mesh.vertices, mesh.faces[:, ::-1])):
        found = find_held(one)
        assert not found.held and found.islands == 1 and len(found.tips) == 1 and found.held_by_tips


OCTILE = 1 / np.cos(np.pi / 8)
"""Steps to the eight around are longer than a straight line, by no more than this factor."""


def slow_debts(cells, reach, pay, shorter=1.0):
    """Debts (X, Y, K) mm on pixels of a heap of cells 1 mm wide, by layer, steps to the eight around, so much shorter:
    inf where nothing holds, -1 where there is no material."""
    fine = np.repeat(np.repeat(np.repeat(cells, 4, 0), 4, 1), 4, 2)
    debt = np.where(fine, np.inf, -1.0)
    debt[:, :, 0][fine[:, :, 0]] = 0
    steps = [(i, j, PIXEL * np.hypot(i, j) / shorter) for i in (-1, 0, 1) for j in (-1, 0, 1) if i or j]
    for k in range(1, fine.shape[2]):
        now, below = debt[:, :, k], debt[:, :, k - 1]
        best = np.where(fine[:, :, k] & (below >= 0) & (below <= reach), below - pay, np.inf)
        heap = [(best[p], *p) for p in zip(*np.nonzero(best < np.inf), strict=True)]
        heapq.heapify(heap)
        while heap:
            d, x, y = heapq.heappop(heap)
            if d > best[x, y]:
                continue
            for i, j, step in steps:
                u, v = x + i, y + j
                if 0 <= u < best.shape[0] and 0 <= v < best.shape[1] and fine[u, v, k] and d + step < best[u, v]:
                    best[u, v] = d + step
                    heapq.heappush(heap, (d + step, u, v))
        now[fine[:, :, k]] = np.maximum(best, 0)[fine[:, :, k]]
    return debt


@settings(max_examples=25, deadline=None)
@given(st.integers(0, 10**6))
def test_heaps_of_cells_hold_as_on_voxels(seed):
    rng = np.random.default_rng(seed)
    cells = rng.random((7, 7, 5)) < rng.uniform(0.3, 0.8)
    cells[:, :, 0] |= rng.random((7, 7)) < 0.5
    cells[0, 0] = cells[6, 6] = cells[0, 6] = cells[6, 0] = True  # so that pixels lie on cells
    reach, angle = rng.uniform(0.8, 2.5), rng.uniform(25, 60)
    asked = HeldSettings(reach_mm=reach, angle_deg=angle, layer_mm=LAYER, pixel_mm=PIXEL)
    stretches = cut_in_layers(blocks(cells, 1.0), asked)
    unheld = hold(stretches).unheld
    i, j = np.divmod(stretches.build.column, stretches.columns.shape[1])
    at = i - 1, j - 1, stretches.build.span[:, 0]
    most, least = (slow_debts(cells, reach, LAYER * cot(angle), shorter)[at] for shorter in (1.0, OCTILE))
    assert (least >= 0).all() and not unheld[most <= reach].any() and unheld[least > reach].all()


def test_overhangs_tells_what_holds_and_what_does_not(bolvek, tmp_path):
    shelf = block((0, 0, 0), (4, 10, 10)).joined(block((4, 0, 8), (4.8, 10, 10)))
    path = tmp_path / "shelf.stl"
    write_model(path, shelf)
    asked = ["overhangs", path, "--printer", "small-resin"]
    bolvek(*asked, expect=1)  # it overhangs, by its angle
    assert "every layer holds without supports" in bolvek(*asked, "--tips").stdout
    done = bolvek(*asked, "--tips", "--reach", "0.5mm", "--json", "-", "--picture", tmp_path / "tips.png", expect=1)
    record = json.loads(done.stdout)
    held = record["models"][0]["held"]
    assert not held["held"] and held["ledges"] == 1 and held["held_by_tips"] and held["tips"]
    assert record["settings"]["held"]["reach_mm"] == 0.5
    assert {f["code"] for f in record["findings"] if f["severity"] == "fault"} == {"unheld"}
    assert "--tips" in bolvek(*asked, "--carry", "3mm", expect=2).stderr
    write_model(path, Mesh(shelf.vertices, shelf.faces[1:]), replace=True)
    told = bolvek(*asked, "--tips", expect=4).stderr
    assert "not closed" in told and "bolvek solid" in told
