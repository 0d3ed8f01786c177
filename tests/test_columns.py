"""Columns, what stays in them, and layers: against exact volumes, brute force and independent sections."""

import heapq

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy import ndimage

from bolvek.analyses.columns import hole_beneath, let_stand, list_cups, list_pools, make_columns
from bolvek.analyses.layers import Stack, read_layers
from bolvek.demo.pieces import blocks, globe, turned
from bolvek.mesh import Mesh
from bolvek.settings.measures import LayerSettings
from support import ball, box, shell_box

AXES = [(1, 0, 0), (-1, 0, 0), (0, 1, 0), (0, -1, 0), (0, 0, 1), (0, 0, -1)]


def stays_slowly(material: np.ndarray, up: tuple[int, int, int]) -> float:
    """Cells of air that stay full, up along an axis: a cell empties when a way to the outside never climbs above its
    own floor (Dijkstra over the highest floor on the way)."""
    axis = int(np.argmax(np.abs(up)))
    cells = np.moveaxis(material, axis, 2)
    if sum(up) < 0:
        cells = cells[:, :, ::-1]
    cells = np.pad(cells, 1)
    level = np.full(cells.shape, np.inf)
    level[0, 0, 0] = 0
    queue = [(0, (0, 0, 0))]
    while queue:
        here, at = heapq.heappop(queue)
        if here > level[at]:
            continue
        for step in np.concatenate([np.eye(3, dtype=int), -np.eye(3, dtype=int)]):
            to = tuple(np.add(at, step))
            if min(to) < 0 or any(t >= n for t, n in zip(to, cells.shape, strict=True)) or cells[to]:
                continue
            high = max(here, to[2] if step[2] == 0 else max(to[2], at[2]) if step[2] > 0 else here)
            if high < level[to]:
                level[to] = high
                heapq.heappush(queue, (high, to))
    floor = np.broadcast_to(np.arange(cells.shape[2]), cells.shape)
    return float((~cells & (floor < level)).sum())


@settings(max_examples=40, deadline=None)
@given(st.integers(0, 2**32 - 1), st.sampled_from(AXES), st.sampled_from([1.0, 0.5]))
def test_what_stays_in_random_cavities_is_what_brute_force_says(seed, up, pixel):
    rng = np.random.default_rng(seed)
    shape = rng.integers(3, 8, 3)
    material = rng.random(shape) < rng.uniform(0.35, 0.75)
    material[tuple(rng.integers(0, n) for n in shape)] = True
    mesh = blocks(material, 1.0)
    columns = make_columns(mesh, up, pixel)
    assert not columns.unclosed.any()
    assert columns.volume_mm3 == pytest.approx(material.sum())
    still = let_stand(columns)
    assert still.volume_mm3 == pytest.approx(stays_slowly(material, up))
    upside_down = tuple(-u for u in up)
    assert let_stand(columns, down=False).volume_mm3 == pytest.approx(stays_slowly(material, upside_down))
    # another hole never makes more stay
    nodes = np.flatnonzero(still.held_mm > 0)
    if len(nodes):
        more = let_stand(columns, outlets=rng.choice(nodes, 1)).volume_mm3
        assert more <= still.volume_mm3 + 1e-9


def cup(radius=10.0, depth=20.0, wall=2.0) -> Mesh:
    outside, floor = radius + wall, wall
    return turned(
        [(0, 0), (outside, 0), (outside, depth + floor), (radius, depth + floor), (radius, floor), (0, floor)], 96
    )


def polygon(radius: float, sides: int = 96) -> float:
    return 0.5 * sides * radius**2 * np.sin(2 * np.pi / sides)


def test_bowls_cups_and_closed_voids_hold_their_exact_volume():
    whole = polygon(10) * 20
    still = let_stand(make_columns(cup()))
    (pool,) = list_pools(still)
    assert still.volume_mm3 == pytest.approx(whole, rel=0.003)
    assert pool.level_mm == pytest.approx(22) and pool.sill_mm[2] == pytest.approx(22) and not pool.enclosed
    assert 9.9 < np.hypot(*pool.sill_mm[:2]) < 12.1 and pool.lowest_mm[2] == pytest.approx(2)
    assert pool.covered_share == 0 and pool.area_mm2 == pytest.approx(polygon(10), rel=0.003)
    (closed,) = list_pools(let_stand(make_columns(shell_box())))
    assert closed.enclosed and closed.sill_mm is None and closed.volume_mm3 == pytest.approx(16**3, rel=0.02)
    nested = box((0, 0, 0), (30, 30, 30)).joined(
        box((2, 2, 2), (28, 28, 28)).turned(), shell_box().moved(shell_box().vertices + 5)
    )
    stays = let_stand(make_columns(nested))
    assert stays.pools == 2 and stays.volume_mm3 == pytest.approx(26**3 - 20**3 + 16**3, rel=0.01)


@pytest.mark.parametrize("degrees", [5, 20, 35])
def test_a_tilted_trough_holds_a_wedge_less(degrees):
    trough = blocks(
        np.array([[[1, 1], [1, 1], [1, 1]], [[1, 1], [1, 0], [1, 1]], [[1, 1], [1, 1], [1, 1]]], bool), 20.0
    )
    lean = np.radians(degrees)
    full = let_stand(make_columns(trough))
    assert full.volume_mm3 == pytest.approx(20.0**3, rel=0.01)
    tilted = let_stand(make_columns(trough, (np.sin(lean), 0, np.cos(lean))))
    assert tilted.volume_mm3 == pytest.approx(20 * (400 - 0.5 * 400 * np.tan(lean)), rel=0.01)


def test_a_siphon_a_bend_and_a_chamber_behind_a_neck():
    cells = np.ones((9, 3, 9), bool)
    cells[1:4, 1, 1:6] = False  # a tank
    cells[3:8, 1, 5] = False  # its way out, high up
    cells[7, 1, :6] = False  # and down to the outside
    siphon = let_stand(make_columns(blocks(cells, 2.0), pixel_mm=0.2))
    assert siphon.volume_mm3 == pytest.approx(3 * 4 * 8)
    (pool,) = list_pools(siphon)
    assert pool.level_mm == pytest.approx(10) and pool.sill_mm[2] == pytest.approx(10)
    assert 6 <= pool.sill_mm[0] <= 14
    place, freed = hole_beneath(siphon, pool)
    assert place[2] == pytest.approx(0) and freed == pytest.approx(pool.volume_mm3)
    bend = np.ones((5, 3, 6), bool)
    bend[1, 1, 1:] = bend[3, 1, 1:4] = bend[1:4, 1, 1] = False  # a U, one arm closed
    stays = let_stand(make_columns(blocks(bend, 1.0), pixel_mm=0.1))
    assert stays.volume_mm3 == pytest.approx(5 + 3 + 1)
    (cup_,) = list_cups(stays, 1.0, 0.5, 0.1)
    assert (
        (cup_.from_mm, cup_.to_mm) == pytest.approx((1, 6))
        and (cup_.from_layer, cup_.to_layer) in ((10, 60), (9, 60), (10, 59), (9, 59))
        and cup_.area_mm2 == pytest.approx(3)
    )


def test_parts_that_overlap_are_one_and_what_does_not_close_is_told():
    both = box().joined(box((5, 5, 5), (15, 15, 15)))
    columns = make_columns(both)
    assert columns.volume_mm3 == pytest.approx(1875, rel=0.003)
    record, _ = read_layers(both, LayerSettings(layer_mm=0.5))
    assert record.disagreeing_mm3 == pytest.approx(125, rel=0.01) and record.disagreeing_layers == 10
    assert not record.exact and record.volume_mm3 == pytest.approx(1875, rel=0.003)
    lid = box().picked(np.arange(12) >= 2)
    open_box, _ = read_layers(lid, LayerSettings(layer_mm=0.5))
    assert open_box.unclosed_columns > 0 and open_box.pool_mm3 is None and not open_box.ok


@settings(max_examples=6, deadline=None)
@given(st.integers(0, 2**32 - 1))
def test_layers_are_the_sections_of_blocks_and_balls(seed):
    rng = np.random.default_rng(seed)
    sizes = rng.uniform(2, 8, (4, 3))
    places = [np.array([20.0 * k, 0, 0]) + rng.uniform(0, 6, 3) for k in range(4)]
    mesh = Mesh.from_corners(np.concatenate([box(p, p + s).corners for p, s in zip(places, sizes, strict=True)]))
    up = tuple(rng.normal(size=3))
    layer = 0.37
    record, view = read_layers(mesh, LayerSettings(layer_mm=layer, up=up, pixel_mm=0.1))
    areas = np.array(record.table.area_mm2)
    assert areas.sum() * layer == pytest.approx(sizes.prod(axis=1).sum(), rel=0.02)
    frame = view.columns.frame
    for k in rng.choice(record.count, 5):
        z = view.stack.floor_mm + (k + 0.5) * layer
        assert areas[k] == pytest.approx(section_slowly(mesh, frame, z), rel=1e-6, abs=1e-5)
        cut = (view.columns.low <= z) & (view.columns.high > z)
        assert cut.sum() * 0.01 == pytest.approx(areas[k], rel=0.05, abs=1.0)
    size = float(rng.uniform(3, 9))
    ball_record, _ = read_layers(globe(size, (0, 0, 0), 48), LayerSettings(layer_mm=0.1))
    assert ball_record.area_max_mm2 == pytest.approx(np.pi * size**2, rel=0.01)
    assert ball_record.count == int(np.ceil(20 * size - 0.5 - 1e-6))


def section_slowly(mesh: Mesh, frame: np.ndarray, z: float) -> float:
    """The area of a section, by cutting each tetrahedron between a face and the origin of the plane: independent of
    any chain of lines (Green's theorem on the clipped faces)."""
    total = 0.0
    for corner in mesh.corners @ frame.T:
        ends = []
        for a, b in zip(corner, np.roll(corner, -1, axis=0), strict=True):
            if (a[2] > z) != (b[2] > z):
                ends.append(a + (z - a[2]) / (b[2] - a[2]) * (b - a))
        if len(ends) == 2:
            normal = np.cross(corner[1] - corner[0], corner[2] - corner[0])
            p, q = ends
            if np.cross([0, 0, 1], normal) @ (q - p) < 0:
                p, q = q, p
            total += 0.5 * (p[0] * q[1] - q[0] * p[1])
    return total


def test_membranes_islands_and_outlines():
    cells = np.ones((7, 7, 8), bool)
    cells[2:5, 2:5, 1:] = False
    plate = box((3.9, 3.9, 9.0), (10.1, 10.1, 9.3))  # a membrane across the well, in its walls
    mesh = blocks(cells, 2.0).joined(plate)
    record, view = read_layers(mesh, LayerSettings(layer_mm=0.1))
    membrane = record.membranes[0]
    assert membrane.area_mm2 == pytest.approx(36, rel=0.02) and membrane.least_mm == pytest.approx(0.3)
    assert len(record.membranes) == 1 and 9.0 < membrane.where_mm[2] < 9.3
    outlines = Stack(blocks(cells, 2.0), (0, 0, 1), 0.1).outlines_at(5.0)
    turns = sorted(
        0.5 * np.sum(o.points[:, 0] * np.roll(o.points[:, 1], -1) - np.roll(o.points[:, 0], -1) * o.points[:, 1])
        for o in outlines
    )
    assert all(o.closed for o in outlines) and turns == pytest.approx([-36, 196])
    hanging = box((0, 0, 0), (10, 10, 10)).joined(box((20, 0, 5.02), (22, 2, 8)))
    islands, _ = read_layers(hanging, LayerSettings(layer_mm=0.1))
    assert islands.islands == 1 and islands.table.islands[50] == 1 and not islands.ok


def test_columns_of_a_ball_are_watertight_from_anywhere():
    mesh = ball(10, 1.2)
    for up in np.random.default_rng(4).normal(size=(12, 3)):
        columns = make_columns(mesh, tuple(up), 0.15)
        assert not columns.unclosed.any()
        assert columns.volume_mm3 == pytest.approx(mesh.volume, rel=2e-3)
        assert let_stand(columns).volume_mm3 < 1e-3


@settings(max_examples=10, deadline=None)
@given(st.integers(0, 2**32 - 1))
def test_islands_of_overhangs_are_those_of_the_columns(seed):
    rng = np.random.default_rng(seed)
    parts = [box((0, 0, 0), (30, 30, 2))]
    for k in range(4):
        low = np.array([2 + 7 * k, rng.uniform(2, 20), rng.choice([1.5, 6.0, 9.0]) + rng.uniform(0, 0.4)])
        parts.append(box(low, low + rng.uniform(2, 6, 3)))
    mesh = parts[0].joined(*parts[1:])
    layer = 0.3
    record, view = read_layers(mesh, LayerSettings(layer_mm=layer, pixel_mm=0.1))
    c, begun = view.columns, 0
    before = np.zeros(c.shape, bool)
    for k in range(record.count):
        z = view.stack.floor_mm + (k + 0.5) * layer
        here = np.zeros(len(c.unclosed), bool)
        here[c.column_of[(c.low <= z) & (c.high > z)]] = True
        label, count = ndimage.label(here.reshape(c.shape))
        begun += count - len(np.unique(label[(label > 0) & before])) if k else 0
        before = here.reshape(c.shape)
    assert record.islands == begun


@settings(max_examples=12, deadline=None)
@given(st.integers(0, 2**32 - 1))
def test_membranes_and_slits_are_told_from_what_looks_like_them(seed):
    rng = np.random.default_rng(seed)
    least, parts, thin = 0.8, [], 0
    for k in range(3):  # wells with a floor in them, too thin or thick enough
        well = np.ones((5, 5, 6), bool)
        well[1:4, 1:4, 1:] = False
        thick = float(rng.choice([rng.uniform(0.2, 0.7), rng.uniform(0.95, 3.0)]))
        thin += thick < least
        at, low = np.array([14.0 * k, 0, 0]), rng.uniform(3, 7)
        walls = blocks(well, 2.0)
        parts += [walls.moved(walls.vertices + at), box(at + [1.9, 1.9, low], at + [8.1, 8.1, low + thick])]
    # thin, but held on one side, on two, by nothing, or running out to an edge
    parts += [box((0, 20, 0), (3, 26, 8)), box((2.9, 20, 4), (9, 26, 4.4)), box((14, 20, 3), (22, 26, 3.4))]
    cone = turned([(0, 0), (4, 0), (0, 3)], 40)
    parts.append(cone.moved(cone.vertices * [1, 1, rng.uniform(0.2, 1.5)] + [30, 24, 0]))
    gaps = [float(rng.choice([rng.uniform(0.02, 0.08), rng.uniform(0.13, 0.5)])) for _ in range(3)]
    for k, gap in enumerate(gaps):
        parts += [box((14 * k, 40, 0), (14 * k + 5, 46, 8)), box((14 * k + 5 + gap, 40, 0), (14 * k + 10, 46, 8))]
    parts += [box((45, 40, 0), (50, 46, 3)), box((45, 40, 3.04), (50, 46, 6))]  # a gap that lies flat is no slit
    mesh = parts[0].joined(*parts[1:])
    asked = LayerSettings(layer_mm=0.1, least_wall_mm=least, pixel_mm=0.1)
    record, _ = read_layers(mesh, asked)
    assert len(record.membranes) == thin and all(m.area_mm2 == pytest.approx(36, rel=0.05) for m in record.membranes)
    narrow = sorted(g for g in gaps if g < 0.1)
    assert [s.width_mm for s in record.slits] == pytest.approx(narrow, abs=1e-9)
