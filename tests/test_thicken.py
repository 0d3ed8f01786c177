"""Thickening skins, reliefs on a foot, thin walls; and the union beneath it."""

import json

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from bolvek.analyses.soundness import find_defects
from bolvek.demo.leaf import maple_leaf
from bolvek.errors import UsageError, WorkError
from bolvek.formats import read_model, write_model
from bolvek.mesh import Mesh
from bolvek.operations.convex import prism, subtract
from bolvek.operations.fuse import fuse_parts, parts_of
from bolvek.operations.fuse.arrange import COMMON, DIFFERENCE, UNION
from bolvek.operations.fuse.unite import unite
from bolvek.operations.refine import refine
from bolvek.operations.thicken import thicken
from bolvek.operations.thicken.cover import cover
from bolvek.operations.thicken.fit import as_solid
from bolvek.operations.thicken.offset import offset
from bolvek.operations.thicken.solid import depth_of
from bolvek.settings.repairs import ThickenSettings
from skins import bowl, creased, grid, hairpin, made_thick, moebius, noisy, ragged, spiral
from support import assert_sound, ball, box, field


def flat(size=20.0, cells=9):
    """A plane sheet."""
    return grid(cells, cells, lambda u, v: (size * u, size * v, 0 * u))


@pytest.mark.parametrize(
    ("name", "skin", "share"),
    [
        ("bowl, back within", bowl(5.0), 0.999),
        ("bowl, back without", bowl(5.0).turned(), 0.999),
        ("crease of 120", creased(120), 0.99),
        ("crease of 60", creased(60), 0.98),
        ("crease of 20, back without", creased(20).turned(), 0.99),
        ("noise", noisy(0.2), 0.99),
        ("ragged", ragged(3), 0.99),
        ("spiral", spiral(1.5), 0.99),
        ("hairpin, backs meet", hairpin(1.0).turned(), 0.85),
    ],
)
def test_skins_become_solids_and_keep_their_front(name, skin, share):
    made, record = made_thick(name, skin)
    assert_sound(made)
    assert record.share_full >= share, name
    if record.filled == 0:  # the front by its own points, the back farther off by the thickness
        assert made.volume > 0.5 * 1.2 * skin.area


def test_a_sheet_has_exactly_the_volume_it_should():
    for side, low, high in (("in", -1.5, 0.0), ("out", 0.0, 1.5), ("both", -0.75, 0.75)):
        made, record = thicken(flat(), ThickenSettings(by_mm=1.5, side=side))
        assert made.volume == pytest.approx(600)
        assert made.bounds[:, 2] == pytest.approx([low, high])
        assert record.least_mm == pytest.approx(1.5) and record.share_full == 1.0
    made, record = thicken(flat(), ThickenSettings(by_mm=2.0, along=(0, 0.6, -0.8)))
    assert made.volume == pytest.approx(400 * 1.6)
    assert record.steep_mm2 == 0


def test_a_thickness_is_what_it_is_however_near_the_next_sheet():
    rng = np.random.default_rng(4)
    for _ in range(30):
        wall, gap = rng.uniform(0.03, 1.3), rng.uniform(0.02, 2.0)
        one = flat()
        stack = one.joined(*(one.moved(one.vertices - [0, 0, k * (wall + gap)]) for k in (1, 2)))
        double = cover(stack)
        solid = as_solid(double, offset(double, 0.0, wall), 0.0, wall)
        found = depth_of(stack, solid, 1.2, -1)
        # beyond what was asked for it need not look: there another sheet may be nearer than the back
        assert np.abs(found.depth - wall).max() < 1e-5 or wall > 1.2, (wall, gap, found.depth.min(), found.depth.max())


def test_one_side_only_and_flipped_patches():
    band = moebius()
    with pytest.raises(WorkError, match="one side only"):
        thicken(band, ThickenSettings(by_mm=1.0))
    made, _ = thicken(band, ThickenSettings(by_mm=1.0, side="both"))
    assert_sound(made)
    assert made.topology.shells == 1 and made.volume == pytest.approx(band.area, rel=0.03)
    skin = flat()
    patch = (skin.corners.mean(axis=1)[:, :2] < 8).all(axis=1)
    mixed = Mesh(skin.vertices, np.where(patch[:, None], skin.faces[:, ::-1], skin.faces))
    made, record = thicken(mixed, ThickenSettings(by_mm=1.0))
    assert record.turned == patch.sum() and made.volume == pytest.approx(400)


def test_a_ragged_rim_is_refused_or_trimmed():
    leaf = maple_leaf()
    with pytest.raises(WorkError, match="hang by a corner"):
        thicken(leaf, ThickenSettings(by_mm=1.2))
    made, record = thicken(leaf, ThickenSettings(by_mm=1.2, trim=True))
    assert_sound(made)
    assert 0 < record.trimmed_mm2 < 0.015 * leaf.area and record.share_full > 0.99
    coarse = Mesh(
        [[0, 0, 0], [40, 0, 0], [40, 40, 0], [0, 40, 0], [80, 40, 0], [80, 79, 0]], [[0, 1, 2], [0, 2, 3], [2, 4, 5]]
    )
    made, record = thicken(coarse, ThickenSettings(by_mm=1.0, trim=True))
    # of the large face that hangs by a corner only the corner goes, or all of it when it hangs alone
    assert_sound(made)
    assert record.trimmed_mm2 < 5


def test_a_relief_stands_on_its_foot():
    made, record = thicken(flat(), ThickenSettings(foot=("z", -4.0)))
    assert made.volume == pytest.approx(1600) and record.kept_faces == len(flat().faces)
    made, _ = thicken(flat().turned(), ThickenSettings(foot=("z", -4.0)))
    assert made.volume == pytest.approx(1600)
    made, _ = thicken(noisy(0.05), ThickenSettings(foot=("z", 9.0)))
    assert_sound(made)
    made, _ = thicken(flat(), ThickenSettings(foot=("z", -8.0), beneath="hollow", by_mm=2.0))
    assert_sound(made)
    assert made.volume == pytest.approx(20 * 20 * 8 - 16 * 16 * 6, rel=0.05)
    with pytest.raises(WorkError, match="lies within the skin"):
        thicken(noisy(0.05), ThickenSettings(foot=("z", 0.0)))


def test_thin_walls_grow_and_the_rest_stays():
    made, record = thicken(box(high=(30, 20, 0.5)), ThickenSettings(at_least_mm=1.0, side="both"))
    assert_sound(made)
    assert made.volume == pytest.approx(600, rel=0.065) and record.thin_after_mm2 < 0.01
    cup = subtract(box(high=(20, 20, 20)), [prism(np.array([10.3, 10, 1.0]), np.array([10.3, 10, 25]), 13, 4, 45.3)])
    made, record = thicken(cup, ThickenSettings(at_least_mm=1.2, side="out"))
    assert_sound(made)
    assert record.thin_after_mm2 < 0.01 * record.thin_before_mm2
    thick = box()
    same, record = thicken(thick, ThickenSettings(at_least_mm=1.0))
    assert same.faces is thick.faces or np.array_equal(same.faces, thick.faces)
    with pytest.raises(WorkError, match="sound model"):
        thicken(flat(), ThickenSettings(at_least_mm=1.0))


def test_struts_grow_all_round():
    """A frame of round struts, 0.6 mm thick, between balls: a strut has no side to keep."""

    def frame(x, y, z):
        ends = np.array([(-8.0, -8, 0), (8, -8, 0), (8, 8, 0), (-8, 8, 0)])
        balls = np.min([np.sqrt((x - a) ** 2 + (y - b) ** 2 + (z - c) ** 2) for a, b, c in ends], axis=0) - 2.5
        bars = np.maximum(np.minimum(np.hypot(np.abs(x) - 8, z), np.hypot(np.abs(y) - 8, z)) - 0.3, -balls - 20)
        return np.minimum(balls, np.maximum(bars, np.maximum(np.abs(x), np.abs(y)) - 8.3))

    mesh = field(frame, 12.0, 0.15)
    made, record = thicken(mesh, ThickenSettings(at_least_mm=1.2))
    assert not find_defects(made) and record.thin_before_mm2 > 50 and record.thin_after_mm2 < 0.1
    least = 4 * 11 * np.pi * (0.6**2 - 0.3**2)  # four bars of 11 mm between the balls; more where they go into those
    assert least < made.volume - mesh.volume < 1.4 * least
    assert made.bounds[1, 2] == pytest.approx(2.5, abs=0.05)


def inside(mesh, points):
    """Which points lie in the material: solid angles of all faces added up (van Oosterom and Strackee 1983)."""
    a, b, c = (mesh.corners[None, :, k] - points[:, None] for k in range(3))
    la, lb, lc = (np.linalg.norm(x, axis=2) for x in (a, b, c))
    dot = np.einsum
    below = la * lb * lc + dot("pfk,pfk->pf", a, b) * lc + dot("pfk,pfk->pf", b, c) * la + dot("pfk,pfk->pf", c, a) * lb
    return np.arctan2(dot("pfk,pfk->pf", a, np.cross(b, c)), below).sum(axis=1) > np.pi


@pytest.mark.parametrize("seed", range(6))
def test_what_is_thin_grows_and_what_is_not_does_not(seed):
    """A rod between two balls, in any direction: as thick as asked, told by solid angles, and only there."""
    rng = np.random.default_rng(seed)
    way = rng.normal(size=3)
    way /= np.linalg.norm(way)
    least, thin = 1.2, seed < 4
    radius = rng.uniform(0.3, 0.5) if thin else rng.uniform(0.7, 1.0)

    def rod(x, y, z):
        p = np.stack([x, y, z], axis=-1)
        along = p @ way
        off = np.linalg.norm(p - along[..., None] * way, axis=-1)
        ends = np.minimum(np.linalg.norm(p - 7 * way, axis=-1), np.linalg.norm(p + 7 * way, axis=-1)) - 2.5
        return np.minimum(ends, np.maximum(off - radius, np.abs(along) - 7))

    mesh = field(rod, 11.0, 0.25)
    made, record = thicken(mesh, ThickenSettings(at_least_mm=least))
    assert not find_defects(made) and not find_defects(made.as_stored())
    if not thin:
        assert np.array_equal(made.vertices, mesh.vertices) and record.thin_before_mm2 == 0
        return
    u = np.cross(way, [0.3, 0.5, 0.81])
    u /= np.linalg.norm(u)
    turn = np.linspace(0, 2 * np.pi, 24, endpoint=False)[:, None]
    around = 0.5 * least * (np.cos(turn) * u + np.sin(turn) * np.cross(way, u))
    for along in np.linspace(-4, 4, 9):
        assert inside(made, along * way + 0.98 * around).all()
        assert not inside(made, along * way + 1.5 * around).any()  # chords of facets lie up to 0.2 mm off the axis


@pytest.mark.parametrize(
    "asked",
    [
        {},
        {"by_mm": 0.0},
        {"by_mm": 1.0, "side": "up"},
        {"by_mm": 1.0, "at_least_mm": 1.0},
        {"foot": ("z", 0), "by_mm": 1.0},
    ],
)
def test_what_makes_no_sense_is_refused(asked):
    with pytest.raises(UsageError):
        thicken(flat(), ThickenSettings(**asked))


side = st.floats(0.2, 1.0)
corner = st.tuples(st.floats(0, 1), st.floats(0, 1), st.floats(0, 1))


@settings(max_examples=40, deadline=None)
@given(corner, st.tuples(side, side, side), corner, st.tuples(side, side, side))
def test_boxes_put_together_have_the_volume_they_must(low, size, other, extent):
    a = box(low, tuple(np.add(low, size))).as_stored()
    b = box(other, tuple(np.add(other, extent))).as_stored()
    inner = np.minimum(a.bounds[1], b.bounds[1]) - np.maximum(a.bounds[0], b.bounds[0])
    common = float(np.prod(np.maximum(inner, 0)))
    for keep, volume in (
        (UNION, a.volume + b.volume - common),
        (DIFFERENCE, a.volume - common),
        (COMMON, common),
    ):
        try:
            made, _ = unite(a, b, keep)
        except WorkError:
            assert np.isin(a.bounds, b.bounds).any()  # they touch along whole faces
            continue
        assert made.volume == pytest.approx(volume, abs=1e-3)


def test_many_boxes_make_one_body():
    rng = np.random.default_rng(2)
    boxes = []
    for _ in range(25):
        turn = np.linalg.qr(rng.normal(size=(3, 3)))[0]
        one = box(tuple(-rng.uniform(2, 7, 3)), tuple(rng.uniform(2, 7, 3)))
        one = Mesh(one.vertices @ turn.T + rng.uniform(-12, 12, 3), one.faces)
        boxes.append((one if one.volume > 0 else one.turned()).as_stored())
    made = fuse_parts(parts_of(boxes[0].joined(*boxes[1:])))
    assert_sound(made)
    points = rng.uniform(-20, 20, (4000, 3))
    inside = np.any([one.tree.winding(points) > 0.5 for one in boxes], axis=0)
    assert np.array_equal(inside, made.tree.winding(points) > 0.5)


def test_what_a_union_does_not_cut_stays():
    a, b = ball(10, 0.8), ball(6, 0.8)
    b = b.moved(b.vertices + [8.03, 1.01, 0.52]).as_stored()
    made, source = unite(a, b)
    assert_sound(made)
    kept = source[(source >= 0) & (source < len(a.faces))]
    whole = np.bincount(kept, minlength=len(a.faces))
    assert (whole == 1).sum() > 0.7 * len(a.faces)
    # the lens that two balls share
    d = float(np.linalg.norm([8.03, 1.01, 0.52]))
    lens = np.pi * (16 - d) ** 2 * (d * d + 2 * d * 16 - 3 * (100 + 36) + 6 * 60) / (12 * d)
    assert made.volume == pytest.approx(4 / 3 * np.pi * (1000 + 216) - lens, rel=0.01)


def test_faces_are_cut_finer_and_the_surface_stays():
    mesh = box()
    chosen = np.zeros(12, bool)
    chosen[:2] = True
    fine, source = refine(mesh, chosen, 2.0)
    assert_sound(fine)
    assert fine.volume == pytest.approx(1000) and fine.area == pytest.approx(600)
    edges = np.linalg.norm(np.roll(fine.corners, -1, axis=1) - fine.corners, axis=2)
    assert edges[chosen[source]].max() <= 2.0


def test_thicken_from_the_command_line(bolvek, tmp_path):
    leaf, target = tmp_path / "leaf.stl", tmp_path / "solid.stl"
    write_model(leaf, maple_leaf())
    done = bolvek("thicken", leaf, "--thick", "1.2mm", "-o", target, expect=4)
    assert "--trim" in done.stderr and not target.exists()
    picture = tmp_path / "leaf.png"
    done = bolvek("thicken", leaf, "--thick", "1.2mm", "--trim", "-o", target, "--json", "-", "--picture", picture)
    told = json.loads(done.stdout)["models"][0]["thicken"]
    assert told["way"] == "skin" and told["share_full"] > 0.99 and picture.stat().st_size > 10_000
    assert not find_defects(read_model(target).mesh)
    done = bolvek("thicken", leaf, "--foot", "w=3", expect=2)
    assert "z=-4mm" in done.stderr
    sheet = tmp_path / "sheet.stl"
    write_model(sheet, noisy(0.05))
    done = bolvek("thicken", sheet, "--thick", "0.9mm", "--along", "0,0,-1", "-o", target, "--replace", expect=1)
    assert "thin" in done.stdout


def test_what_is_written_has_the_size_asked_for_whatever_a_thickness_adds(bolvek, tmp_path):
    write_model(tmp_path / "skin.stl", creased(120))
    asked = ("--to-solid", "--height", "30mm", "--skin", "2mm", "-o", "out.stl", "--wall", "3mm")
    said = bolvek("prep", "skin.stl", *asked).stdout
    size = read_model(tmp_path / "out.stl").mesh.size
    assert size[2] == pytest.approx(30, rel=1e-3) and f"x {size[2]:.2f} mm instead of" in said
    assert "scaled to that and made again" in said
    assert "thick enough" in bolvek("walls", "out.stl", "--least-wall", "1.7mm").stdout
