"""Mending: what was hurt comes back sound, what was sound is not touched, what cannot be done is said."""

import json

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

import dirt
from bolvek.analyses.deviation import compare, matching_faces
from bolvek.analyses.shells import enclosing_shells, find_openings
from bolvek.analyses.soundness import find_defects
from bolvek.errors import UsageError, WorkError
from bolvek.formats import read_model, write_model
from bolvek.mesh import Mesh
from bolvek.operations.mend import mend
from bolvek.operations.mend.close import caps
from bolvek.operations.solid import plan_solid
from bolvek.settings.repairs import MendSettings, SolidSettings
from fool import turned
from support import assert_sound, ball, box, field
from wounds import SHAPES, WOUNDS, judge


@pytest.fixture(scope="module")
def shapes():
    """Sound models as a binary STL holds them."""
    return {name: make().as_stored() for name, make in SHAPES.items()}


def fine_box(cells=10):
    """A cube of 10 mm whose sides are squares of a grid, two triangles each; its corners are vertices."""
    axis = np.linspace(0, 10, cells + 1)
    corners = []
    for k in range(3):
        for side in (0.0, 10.0):
            for a in range(cells):
                for b in range(cells):
                    quad = np.array([[axis[a + i], axis[b + j]] for i, j in ((0, 0), (1, 0), (1, 1), (0, 1))])
                    points = np.insert(quad, k, side, axis=1)
                    inward = (side == 0.0) != (k == 1)
                    order = ((0, 2, 1), (0, 3, 2)) if inward else ((0, 1, 2), (0, 2, 3))
                    corners += [points[list(t)] for t in order]
    return Mesh.from_corners(np.array(corners))


@pytest.mark.parametrize("name", WOUNDS)
def test_every_wound_heals(shapes, name):
    for seed in range(2):
        for shape, sound in shapes.items():
            hurt, place = WOUNDS[name](sound, np.random.default_rng(seed))
            assert judge(sound, hurt.as_stored(), [place]) == "", f"{name} {seed} on {shape}"


@settings(max_examples=25)
@given(
    shape=st.sampled_from(sorted(SHAPES)),
    names=st.lists(st.sampled_from(sorted(WOUNDS)), min_size=2, max_size=5),
    seed=st.integers(0, 10_000),
)
def test_mixed_wounds_leave_nothing_worse(shapes, shape, names, seed):
    """Wounds may fall onto each other so that nothing local heals them; but never is it worse, or told wrongly."""
    rng = np.random.default_rng(seed)
    mesh = shapes[shape]
    for name in names:
        mesh, _ = WOUNDS[name](mesh, rng)
    mesh = mesh.as_stored()
    out, record, origin = mend(mesh, MendSettings(close_ends=True))
    before, after = ({d.code: d.count for d in find_defects(m)} for m in (mesh, out))
    pinched = before.get("split_vertices", 0) + before.get("nonmanifold_edges", 0)
    assert all(n <= (pinched if code == "split_vertices" else before.get(code, 0)) for code, n in after.items())
    assert (record.verdict == "sound") == (not after and not record.after.inside_out and not record.after.buried)
    # what is said to be a face of the input is one, bit for bit or with welded corners
    assert len(origin) == len(out.faces) and origin.max() < len(mesh.faces)


def test_sound_models_come_back_bit_for_bit(shapes, bolvek, tmp_path):
    for name, mesh in shapes.items():
        out, record, _ = mend(mesh)
        assert record.unchanged and record.verdict == "sound", name
        assert np.array_equal(out.faces, mesh.faces) and np.array_equal(out.vertices, mesh.vertices)
    write_model(tmp_path / "blob.stl", shapes["blob"])
    done = bolvek("mend", "blob.stl", "-o", "out.stl")
    assert "nothing to mend" in done.stdout
    assert (tmp_path / "out.stl").read_bytes() == (tmp_path / "blob.stl").read_bytes()


def _cut(mesh, keep):
    return mesh.picked(keep(mesh.corners.mean(axis=1)))


@pytest.mark.parametrize("top", [9.68, 9.0, 7.0, 5.5])
def test_a_cap_of_a_ball_comes_back(top):
    hurt = _cut(ball(10, 0.6), lambda p: p[:, 2] < top)
    out, record, _ = mend(hurt, MendSettings(style="curved", close_ends=True, at=((0, 0, top),)))
    assert record.verdict == "sound"
    new = out.vertices[~np.isin(out.vertices.view("f8,f8,f8"), hurt.vertices.view("f8,f8,f8")).ravel()]
    span = 2 * np.sqrt(100 - top**2)
    assert np.abs(np.linalg.norm(new, axis=1) - 10).max() < 0.02 * span
    assert out.vertices[:, 2].max() == pytest.approx(10, abs=0.02 * span)


def test_caps_of_a_torus_and_an_ellipsoid_come_back():
    ring = field(lambda x, y, z: np.hypot(np.hypot(x, y) - 8, z) - 3, 12, 0.4)
    egg = field(lambda x, y, z: np.sqrt((x / 11) ** 2 + (y / 8) ** 2 + (z / 7) ** 2) - 1, 12, 0.4)

    def off_ring(p):
        return np.hypot(np.hypot(p[:, 0], p[:, 1]) - 8, p[:, 2]) - 3

    def off_egg(p):
        q = p / [11, 8, 7]
        f = np.linalg.norm(q, axis=1)
        return (f - 1) * f / np.linalg.norm(q / [11, 8, 7], axis=1)

    for mesh, off, places, radius in (
        (ring, off_ring, [(11, 0, 0), (5, 0, 0), (8, 0, 3)], 0.75),
        (egg, off_egg, [(11, 0, 0), (0, 8, 0), (0, 0, 7), (6, 5, 3.5)], 1.75),
    ):
        for place in places:
            hurt = _cut(mesh, lambda p, place=place, radius=radius: np.linalg.norm(p - place, axis=1) > radius)
            out, record, origin = mend(hurt, MendSettings(style="curved"))
            assert record.verdict == "sound"
            points = out.vertices[np.unique(out.faces[origin < 0])]
            assert np.abs(off(points)).max() < 0.02 * 2 * radius


def test_a_cut_corner_and_an_edge_are_restored_exactly():
    cube = fine_box()
    for place in ((10, 10, 10), (0, 0, 10), (10, 5, 10), (0, 5, 0)):
        near = np.linalg.norm(cube.corners.mean(axis=1) - place, axis=1)
        hurt = cube.picked(near > 2.6)
        out, record, _ = mend(hurt)
        assert record.verdict == "sound"
        assert [s.counts for s in record.steps if s.step == "close"] == [{"corner": 1}]
        assert out.volume == pytest.approx(1000, abs=1e-9)
        assert_sound(out)
    # a prism of three sides: its corner is not square
    angle = 2 * np.pi * np.arange(3) / 3
    ends = np.stack([8 * np.cos(angle), 8 * np.sin(angle)], axis=1)
    rows = [np.insert(ends, 2, z, axis=1) for z in (0.0, 3.0, 6.0, 9.0)]
    middle = [[[0, 0, 0.0]], [[0, 0, 9.0]]]
    steps = [np.concatenate([r + (np.roll(r, -1, axis=0) - r) * t for t in (0, 0.25, 0.5, 0.75)]) for r in rows]
    order = [4 * 0 + k for k in range(12)]
    ring = [s.reshape(4, 3, 3).transpose(1, 0, 2).reshape(12, 3)[order] for s in steps]
    corners = []
    for low, high in zip(ring[:-1], ring[1:], strict=True):
        for k in range(12):
            a, b, c, d = low[k], low[(k + 1) % 12], high[(k + 1) % 12], high[k]
            corners += [(a, b, c), (a, c, d)]
    for k in range(12):
        corners.append((middle[0][0], ring[0][(k + 1) % 12], ring[0][k]))
        corners.append((middle[1][0], ring[3][k], ring[3][(k + 1) % 12]))
    prism = Mesh.from_corners(np.array(corners, float)).as_stored()
    assert not find_defects(prism)
    tip = ring[3][0]
    hurt = prism.picked((np.linalg.norm(prism.corners - tip, axis=2) > 1e-4).all(axis=1))
    out, record, _ = mend(hurt)
    assert record.verdict == "sound"
    assert np.linalg.norm(out.vertices - tip, axis=1).min() < 1e-5
    assert out.volume == pytest.approx(prism.volume, rel=1e-6)


def test_flat_caps_keep_every_rim_vertex_and_go_around_islands():
    # a tube without its upper end: two rims, one in the other
    angle = 2 * np.pi * np.arange(24) / 24
    rings = [
        np.stack([r * np.cos(angle), r * np.sin(angle), np.full(24, z)], axis=1)
        for r, z in ((8, 0), (8, 12), (5, 12), (5, 0))
    ]
    corners = []
    for low, high in ((0, 1), (2, 3), (3, 0)):
        for k in range(24):
            a, b = rings[low][k], rings[low][(k + 1) % 24]
            c, d = rings[high][(k + 1) % 24], rings[high][k]
            corners += [(a, b, c), (a, c, d)]
    tube = Mesh.from_corners(np.array(corners)).as_stored()
    out, record, origin = mend(tube, MendSettings(close_ends=True))
    assert record.verdict == "sound" and len(out.vertices) == len(tube.vertices)
    new = out.faces[origin < 0]
    assert len(new) == 48 and np.unique(new).size == 48
    assert out.volume == pytest.approx(24 / 2 * np.sin(2 * np.pi / 24) * (64 - 25) * 12, rel=1e-6)


def test_large_rims_are_closed():
    """A bowl with a wavy rim of 900 edges."""
    angle = 2 * np.pi * np.arange(900) / 900
    rim = np.stack([20 * np.cos(angle), 20 * np.sin(angle), 2 * np.sin(5 * angle)], axis=1)
    half = np.stack([16 * np.cos(angle), 16 * np.sin(angle), np.full(900, -12.0)], axis=1)
    foot = np.array([0, 0, -14.0])
    k, n = np.arange(900), (np.arange(900) + 1) % 900
    corners = np.concatenate(
        [
            np.stack([half[k], half[n], rim[n]], axis=1),
            np.stack([half[k], rim[n], rim[k]], axis=1),
            np.stack([np.broadcast_to(foot, (900, 3)), half[n], half[k]], axis=1),
        ]
    )
    bowl = Mesh.from_corners(corners).as_stored()
    out, record, _ = mend(bowl, MendSettings(at=((20.0, 0, 0),)))
    assert record.verdict == "sound"
    assert not find_defects(out.as_stored())


def test_rims_of_skins_are_left_and_places_choose(bolvek, tmp_path):
    axis = np.linspace(0, 20, 21)
    x, y = np.meshgrid(axis, axis, indexing="ij")
    z = np.sin(x / 3) * np.cos(y / 4)
    number = np.arange(441).reshape(21, 21)
    a, b, c, d = (part.ravel() for part in (number[:-1, :-1], number[1:, :-1], number[1:, 1:], number[:-1, 1:]))
    skin = Mesh(
        np.stack([x, y, z], axis=2).reshape(-1, 3),
        np.concatenate([np.stack(t, axis=1) for t in ((a, b, c), (a, c, d))]),
    )
    middles = skin.corners.mean(axis=1)
    hurt = skin.picked(
        (np.linalg.norm(middles - [6, 6, 0.9], axis=1) > 1.2) & (np.linalg.norm(middles - [14, 13, -1], axis=1) > 2.6)
    )
    write_model(tmp_path / "skin.ply", hurt)
    done = bolvek("mend", "skin.ply", "-o", "all.ply", "--json", "all.json", expect=1)
    assert "open: 1 rim left" in done.stdout and "thickness" in done.stdout
    record = json.loads((tmp_path / "all.json").read_text())
    assert record["verdict"] == "open" and not record["ok"] and record["findings"][0]["code"] == "open_edges"
    assert (
        sum(
            s["counts"].get(k, 0)
            for s in record["models"][0]["mend"]["steps"]
            if s["step"] == "close"
            for k in ("flat", "curved", "plain", "corner")
        )
        == 2
    )
    few = read_model(tmp_path / "all.ply").mesh
    assert few.topology.open_edges == 80
    bolvek("mend", "skin.ply", "-o", "small.ply", "--up-to", "4mm", expect=1)
    assert read_model(tmp_path / "small.ply").mesh.topology.open_edges > 80
    bolvek("mend", "skin.ply", "-o", "one.ply", "--at", "14,13,-1", expect=1)
    one = read_model(tmp_path / "one.ply").mesh
    small = read_model(tmp_path / "small.ply").mesh
    assert one.topology.open_edges != small.topology.open_edges
    assert one.topology.open_edges + small.topology.open_edges == hurt.topology.open_edges + 80


def test_plan_steps_and_several_models(bolvek, tmp_path, shapes):
    hurt, _ = WOUNDS["flipped"](shapes["ball"], np.random.default_rng(3))
    holed, _ = WOUNDS["hole"](hurt, np.random.default_rng(4))
    (tmp_path / "in").mkdir()
    write_model(tmp_path / "in" / "hurt.stl", holed)
    write_model(tmp_path / "in" / "sound.stl", shapes["ball"])
    done = bolvek("mend", "in/hurt.stl", "--plan")
    assert "sound once mended" in done.stdout and "orient" in done.stdout
    assert sorted(p.name for p in tmp_path.rglob("*.stl")) == ["hurt.stl", "sound.stl"]
    done = bolvek("mend", "in", "-o", "out/", "--json", "-")
    record = json.loads(done.stdout)
    assert [m["mend"]["verdict"] for m in record["models"]] == ["sound", "sound"]
    assert [m["mend"]["unchanged"] for m in record["models"]] == [False, True]
    assert "2 models: 2 sound" in done.stderr
    bolvek("mend", "in/hurt.stl", "-o", "only.stl", "--only", "orient", expect=1)
    only = read_model(tmp_path / "only.stl").mesh
    assert only.topology.badly_oriented_edges == 0 and only.topology.open_edges == holed.topology.open_edges
    bolvek("mend", "in/hurt.stl", "-o", "without.stl", "--without", "orient,close", expect=1)
    assert read_model(tmp_path / "without.stl").mesh.topology.open_edges == holed.topology.open_edges
    for wrong in (
        ["--only", "paint"],
        ["--close", "round"],
        ["--mirror", "w"],
        ["--try", "square"],
        ["--sheet", "s.png"],
    ):
        bolvek("mend", "in/hurt.stl", *wrong, expect=2)
    bolvek("mend", "in/hurt.stl", "--plan", "-o", "x.stl", expect=2)


def test_ways_are_tried_side_by_side(bolvek, tmp_path):
    write_model(tmp_path / "cap.stl", _cut(ball(10, 0.8), lambda p: p[:, 2] < 8.5))
    done = bolvek("mend", "cap.stl", "--try", "flat,curved", "--sheet", "ways.png", "--json", "ways.json")
    assert "least bend      curved" in done.stdout
    tries = json.loads((tmp_path / "ways.json").read_text())["models"][0]["tries"]
    assert [t["name"] for t in tries] == ["flat", "curved"] and tries[0]["bend_deg"] > tries[1]["bend_deg"]
    assert (tmp_path / "ways.png").stat().st_size > 10_000 and not (tmp_path / "cap.mend.stl").exists()


def test_the_better_half_is_mirrored():
    ell = field(lambda x, y, z: np.sqrt((x / 9) ** 2 + (y / 7) ** 2 + (z / 5) ** 2) - 1, 12, 0.7)
    bump = field(
        lambda x, y, z: np.minimum(
            np.sqrt((x / 9) ** 2 + (y / 7) ** 2 + (z / 5) ** 2) - 1,
            np.sqrt((abs(x) - 7) ** 2 + y**2 + (z - 3) ** 2) - 2.5,
        ),
        13,
        0.7,
    )
    for sound in (ell, bump):
        turn = np.array([[0.8, 0.6, 0], [-0.6, 0.8, 0], [0, 0, 1]])
        for mesh, axis in ((sound, "x"), (Mesh(sound.vertices @ turn.T + [3, 2, 1], sound.faces).as_stored(), "auto")):
            middles = mesh.corners.mean(axis=1)
            normal = np.array([1.0, 0, 0]) if axis == "x" else turn @ [1.0, 0, 0]
            offset = 0.0 if axis == "x" else float(normal @ [3, 2, 1])
            bad = middles @ normal - offset < -6.5
            hurt = mesh.picked(~bad)
            out, record, _ = mend(hurt, MendSettings(mirror=axis, close_ends=True))
            assert record.verdict == "sound", record
            assert out.volume == pytest.approx(sound.volume, rel=0.01)
            match, _ = matching_faces(mesh, out)
            assert (match[middles @ normal - offset > 1.5] == 1).all()
    lopsided = field(lambda x, y, z: np.maximum(np.hypot(x, z) - (8 - y) / 3, np.abs(y) - 7), 12)
    cut = lopsided.picked(np.arange(len(lopsided.faces) - 40))
    _, record, _ = mend(cut, MendSettings(mirror="y", close_ends=True))
    step = next(s for s in record.steps if s.step == "mirror")
    assert step.count == 0 and "not symmetric" in step.left[0].why


def test_bodies_in_each_other_are_left_and_said(bolvek, tmp_path):
    write_model(tmp_path / "two.stl", box().joined(Mesh(box().vertices + [5, 5, 5], box().faces)))
    done = bolvek("mend", "two.stl", "-o", "out.stl", expect=1)
    assert "closed but crossing" in done.stdout and "bolvek fuse out.stl" in done.stdout
    inner = box().joined(Mesh(box().vertices * 0.3 + 2, box().faces))
    write_model(tmp_path / "in.stl", inner)
    done = bolvek("mend", "in.stl", "-o", "kept.stl", expect=1)
    assert "--drop-buried" in done.stdout
    bolvek("mend", "in.stl", "-o", "gone.stl", "--drop-buried")
    assert len(read_model(tmp_path / "gone.stl").mesh.faces) == 12


def test_dirt_of_every_day(shapes):
    """Coordinates rounded to a coarse grid, noise, faces flipped at random, nothing welded, every face twice."""
    blob, rng = shapes["blob"], np.random.default_rng(1)
    noise = rng.normal(0, 0.12, blob.vertices.shape)
    flips = np.where(rng.random(len(blob.faces))[:, None] < 0.3, blob.faces[:, ::-1], blob.faces)
    cubes = [
        box((i, j, k), (i + 1, j + 1, k + 1))
        for i in range(3)
        for j in range(3)
        for k in range(3)
        if (i + 2 * j + k) % 3
    ]
    dirty = {
        "rounded": Mesh.from_indexed(np.round(blob.vertices / 0.5) * 0.5, blob.faces),
        "noisy": Mesh(blob.vertices + noise, blob.faces),
        "flipped": Mesh(blob.vertices, flips),
        "unwelded": Mesh.from_corners(blob.corners + rng.uniform(-1e-4, 1e-4, (len(blob.faces), 3, 3))),
        "with backs": Mesh(blob.vertices, np.concatenate([blob.faces, blob.faces[:, ::-1]])),
        "cubes": Mesh.from_corners(np.concatenate([c.corners for c in cubes])),
    }
    for name, mesh in dirty.items():
        mesh = mesh.as_stored()
        assert find_defects(mesh), name
        out, record, _ = mend(mesh)
        assert record.verdict == "sound" and not find_defects(out.as_stored()), name
        assert abs(out.volume) == pytest.approx(len(cubes) if name == "cubes" else blob.volume, rel=0.03), name


def test_thin_walls_are_not_welded_shut():
    """The sides of a wall thinner than the tolerance stay apart where its rim is missing."""
    outer = fine_box(4)
    inner = Mesh(outer.vertices * 0.998 + 0.01, outer.faces[:, ::-1])
    whole = Mesh(outer.vertices, outer.faces).joined(inner)
    hurt = whole.picked(
        (
            np.abs(whole.corners[:, :, 2] - np.where(np.arange(len(whole.faces)) < len(outer.faces), 10, 9.99)[:, None])
            > 1e-9
        ).any(axis=1)
    )
    out, record, _ = mend(hurt, MendSettings(near_mm=0.05, close_ends=True))
    weld = next(s for s in record.steps if s.step == "weld")
    assert weld.count == 0
    assert record.verdict == "sound" and out.volume == pytest.approx(1000 - 998**3 / 1e6 - 99.6004 * 0.01, abs=0.5)


def test_names_are_kept(bolvek, tmp_path, shapes):
    hurt, _ = WOUNDS["hole"](shapes["two"], np.random.default_rng(1))
    model = read_model_with_parts(hurt, tmp_path)
    done = bolvek("mend", model.name, "-o", "out.3mf", "--close-ends")
    out = read_model(tmp_path / "out.3mf")
    assert out.parts is not None and set(out.parts.names) == {"lamp", "hook"} and "sound" in done.stdout


def test_named_parts_that_touch_do_not_cross(bolvek, tmp_path):
    """As the survey has it; in a file without names they are one body, and are mended to one."""
    from bolvek.formats import Parts

    def pair(shift):
        return Mesh.from_corners(np.concatenate([box().corners, box().corners + shift]))

    part = np.repeat([0, 1], 12).astype(np.int32)
    for name, shift, verdict in (("touch", [10, 0, 0], "sound"), ("cross", [8, 3, 2], "closed but crossing")):
        write_model(tmp_path / f"{name}.3mf", pair(np.array(shift)), parts=Parts(("a", "b"), part))
        done = bolvek("mend", f"{name}.3mf", "-o", f"{name}.out.3mf", expect=int(verdict != "sound"))
        assert f"verdict         {verdict}" in done.stdout
    done = bolvek("mend", "touch.3mf", "-o", "one.stl")
    one = read_model(tmp_path / "one.stl").mesh
    assert not find_defects(one) and one.volume == pytest.approx(2000, rel=1e-4)


def read_model_with_parts(mesh, folder):
    """A 3MF file in which each shell is a named part."""
    from bolvek.formats import Parts

    part = (mesh.topology.shell > 0).astype(np.int32)
    write_model(folder / "named.3mf", mesh, parts=Parts(("lamp", "hook"), part))
    return folder / "named.3mf"


def test_prep_mends_first(bolvek, tmp_path, shapes):
    hurt, _ = WOUNDS["hole"](ball(12, 0.9).as_stored(), np.random.default_rng(2))
    hurt, _ = WOUNDS["flipped"](hurt, np.random.default_rng(5))
    write_model(tmp_path / "hurt.stl", hurt)
    assert "prep hurt.stl -o no.stl --to-solid" in bolvek("prep", "hurt.stl", "-o", "no.stl", expect=4).stderr
    done = bolvek("prep", "hurt.stl", "--mend", "--wall", "1.5mm", "-o", "out.stl", "--json", "out.json")
    assert "fit to print" in done.stdout and "mend" in done.stdout
    assert json.loads((tmp_path / "out.json").read_text())["models"][0]["mend"]["verdict"] == "sound"


def test_settings_and_nothing_left():
    with pytest.raises(UsageError, match="near_mm"):
        mend(box(), MendSettings(near_mm=-1.0))
    with pytest.raises(WorkError, match="no faces"):
        mend(Mesh(np.zeros((0, 3)), np.zeros((0, 3), int)))
    with pytest.raises(WorkError, match="nothing would be left"):
        mend(Mesh([[0, 0, 0], [1, 0, 0], [2, 0, 0]], [[0, 1, 2]]))


def test_compare_by_hand(bolvek, tmp_path):
    old = box()
    vertices = np.array(old.vertices)
    vertices[old.vertices[:, 2] == 10, 2] = 10.5  # the lid half a millimetre up
    new = Mesh(vertices, old.faces)
    record, found = compare(old, new)
    assert record.max_mm == pytest.approx(0.5) and not record.same
    assert record.kept == 2 and record.gone == record.added == 10
    assert record.volume_new_mm3 == pytest.approx(1050)
    # of the new surface, 620 mm2, only the lid (100 at 0.5) and a strip of the sides (20, 0.25 in the mean) are off
    assert record.to_old.mean_mm == pytest.approx((100 * 0.5 + 20 * 0.25) / 620, rel=0.02)
    # of the old lid, what is nearer to a side than half a millimetre is that near: the integral of min(0.5, distance)
    assert record.to_new.mean_mm == pytest.approx((81 * 0.5 + 4 * (10 / 8 - 2 / 24)) / 600, rel=0.02)
    same, _ = compare(old, Mesh(old.vertices[::-1], 7 - old.faces))
    assert same.same and same.max_mm == 0 and same.kept == 12
    doubled, _ = compare(old, Mesh(old.vertices, np.concatenate([old.faces, old.faces])))
    assert not doubled.same and doubled.kept == 12 and doubled.gone == doubled.added == 0
    turned, _ = compare(old, old.turned())
    assert turned.turned == 12 and not turned.same and turned.max_mm == 0
    write_model(tmp_path / "old.stl", old)
    write_model(tmp_path / "new.stl", new)
    assert "0.500 mm apart at most" in bolvek("compare", "old.stl", "new.stl", "--picture", "c.png").stdout
    bolvek("compare", "old.stl", "new.stl", "--within", "0.6mm")
    done = bolvek("compare", "old.stl", "new.stl", "--within", "0.4mm", "--json", "c.json", expect=1)
    assert "too far off: more than" in done.stdout
    record = json.loads((tmp_path / "c.json").read_text())
    assert record["verdict"] == "too far off" and record["models"][0]["compare"]["max_mm"] == pytest.approx(0.5)


def test_islands_and_corners_belong_to_the_hole_around_them(bolvek, tmp_path):
    """A ring missing from a block's top, every second square of a side, faces at random: volumes are known."""
    turn = 2 * np.pi * np.arange(48) / 48

    def ring(radius, height):
        return np.stack([radius * np.cos(turn), radius * np.sin(turn), np.full(48, height)], axis=1)

    def fan(points):
        middle = np.broadcast_to(points.mean(axis=0), points.shape)
        return np.stack([middle, points, np.roll(points, -1, axis=0)], axis=1)

    def band(low, high):
        a, b = np.roll(low, -1, axis=0), np.roll(high, -1, axis=0)
        return np.concatenate([np.stack([low, a, b], axis=1), np.stack([low, b, high], axis=1)])

    tub = [fan(ring(18, 0))[:, ::-1], band(ring(18, 0), ring(18, 20))]
    block = Mesh.from_corners(np.concatenate([*tub, fan(ring(18, 20))]))
    for rim in (None, 14):
        top = [] if rim is None else [band(ring(18, 20), ring(rim, 20))]
        open_block = Mesh.from_corners(np.concatenate([*tub, *top, fan(ring(9, 20))]))
        hole = find_openings(open_block).found
        assert [(o.kind, o.islands) for o in hole] == [("hole", 1)]
        made, record, _ = mend(open_block, MendSettings())
        assert record.verdict == "sound" and made.topology.shells == 1
        assert made.volume == pytest.approx(block.volume, rel=1e-9)
        for seed in range(4):  # whichever way it is turned
            made, record, _ = mend(turned(open_block, np.random.default_rng(seed)))
            assert record.verdict == "sound", record.left
            assert made.volume == pytest.approx(block.volume, rel=1e-5)
    # a disc that hovers above the rim is no part of a lid
    hovering = Mesh.from_corners(np.concatenate([*tub, fan(ring(9, 25))]))
    assert sorted(o.kind for o in find_openings(hovering).found) == ["hole or rim", "rim"]
    write_model(tmp_path / "ring.stl", open_block)
    done = bolvek("prep", "ring.stl", "--to-solid", "--wall", "2mm", "-o", "out.stl", "--json", "r.json")
    assert "mended" in done.stdout
    solid = json.loads((tmp_path / "r.json").read_text())["models"][0]["solid"]
    assert solid["way"] == "mended" and solid["thicken"] is None
    cube = fine_box(20)
    middle = cube.corners.mean(axis=1)
    square = np.floor(middle).astype(int)
    rng = np.random.default_rng(5)
    for gone in ((middle[:, 2] > 9.9) & (square[:, :2].sum(axis=1) % 2 == 1), rng.random(len(cube.faces)) < 0.3):
        made, record, _ = mend(Mesh(cube.vertices, cube.faces[~gone]), MendSettings())
        assert record.verdict == "sound" and made.volume == pytest.approx(1000, rel=1e-9)


def test_a_jagged_hole_is_a_hole():
    """Teeth make a rim as long as that of a skin; a hemisphere and a bent sheet stay skins."""
    whole = ball(10.0, 0.5)
    middle = whole.corners.mean(axis=1)
    polar, turn = np.arccos(middle[:, 2] / np.linalg.norm(middle, axis=1)), np.arctan2(middle[:, 1], middle[:, 0])
    star = polar > 0.2 + 0.4 * np.abs((12 * turn / (2 * np.pi)) % 1 * 2 - 1)
    made, record, _ = mend(Mesh(whole.vertices, whole.faces[star]), MendSettings())
    assert record.verdict == "sound" and made.volume == pytest.approx(whole.volume, rel=2e-3)
    half = Mesh(whole.vertices, whole.faces[polar > np.pi / 2])
    assert [o.kind for o in find_openings(half).found] == ["rim"]


def test_a_place_that_mending_harms_is_left_and_the_others_stay_mended(monkeypatch):
    """Boxes that share faces, holes and fins in them: one place of many comes out worse."""
    rng = np.random.default_rng([0, 5])
    mesh = dirt.quartered(dirt.KINDS["bodies_that_share_faces"](rng)[1])
    mesh = Mesh(mesh.vertices, mesh.faces[rng.random(len(mesh.faces)) > 0.06])
    fin = mesh.corners[rng.integers(0, len(mesh.faces), 6)]
    fin[:, 2] = fin.mean(axis=1) + rng.normal(0, 1, (6, 3))
    hurt = Mesh.from_corners(np.concatenate([mesh.corners, fin])).as_stored()
    _, record, _ = mend(hurt, MendSettings())
    before, after = vars(record.before), vars(record.after)
    assert all(after[name] <= before[name] for name in before)
    assert after["open_edges"] < before["open_edges"] and any(left.what == "place" for left in record.left)
    assert not any(step.undone for step in record.steps)
    monkeypatch.setattr("bolvek.operations.mend.ladder.without_harm", lambda begin, draft: (draft, []))
    assert any(step.undone for step in mend(hurt, MendSettings())[1].steps)


def test_a_room_is_not_closed_over_its_furniture():
    """A room open at the bottom with two things in it: the lid would bury them. Asked for, it is closed."""
    whole = box([0, 0, 0], [30, 30, 20])
    room = whole.picked(whole.unit_normals[:, 2] > -0.5)
    full = room.joined(box([3, 3, 2], [9, 9, 10]), box([18, 18, 4], [22, 24, 9])).as_stored()
    _, record, _ = mend(full, MendSettings(drop_buried=True))
    assert record.verdict == "open" and record.unchanged
    assert [left.why[:28] for step in record.steps for left in step.left] == ["a lid would bury 2 parts tha"]
    assert mend(full, MendSettings(close_ends=True, drop_buried=True))[1].verdict == "sound"
    assert mend(room.as_stored(), MendSettings())[1].verdict == "sound"
    assert caps(full, MendSettings()).topology.open_edges == 4 and caps(room, MendSettings()).topology.sound


def test_a_fill_is_a_dome_only_where_the_surface_around_bends_to_close():
    """Ends of pipes and cones get lids no higher than a tenth of their width; the tip of an ellipsoid comes back."""
    ends = MendSettings(close_ends=True)
    ragged = np.random.default_rng(1).uniform(0, 2, 24)
    for taper in (0.0, 0.15):
        pipe = dirt.lathe([(10 - taper * h, h) for h in np.linspace(0, 40, 21)], 24)
        corners = np.where(pipe.corners[..., 2:] == 40, pipe.corners + [0, 0, 3] + 0 * pipe.corners, pipe.corners)
        angle = np.rint(np.arctan2(corners[..., 1], corners[..., 0]) / (2 * np.pi) * 24).astype(int) % 24
        corners[..., 2] += np.where(corners[..., 2] == 43, ragged[angle], 0.0)
        closed, record, _ = mend(Mesh.from_corners(corners).as_stored(), ends)
        assert record.verdict == "sound" and closed.bounds[1, 2] <= 45 + 0.12 * 20 and closed.bounds[0, 2] == 0
    egg = dirt.lathe([(10 * np.sin(t), -20 * np.cos(t)) for t in np.linspace(0.5, np.pi, 40)], 48)
    closed, record, _ = mend(egg.as_stored(), ends)
    assert record.verdict == "sound" and egg.bounds[0, 2] > -17.6 and closed.bounds[0, 2] == pytest.approx(-20, abs=0.7)


def test_a_solid_with_a_hole_is_told_from_a_skin_by_what_it_encloses():
    """By hand: from the middle of a cube's side the open top takes a ninth of all directions and more."""
    skin = box((0, 0, 0), (20, 20, 20))
    tub = skin.picked(np.abs(skin.corners[..., 2] - 20).max(axis=1) > 0)
    bottle = [(0, 0), *((15, h) for h in np.linspace(0, 40, 20)), (8, 48), (5, 50), (5, 60)]
    vase = [(0, 0), *((12, h) for h in np.linspace(0, 60, 20))]
    for outline, solid in ((bottle, True), (vase, False), (vase[1:], False)):
        assert enclosing_shells(dirt.lathe(outline)).all() == solid
    assert not enclosing_shells(tub).any() and not enclosing_shells(skin).any()
    assert plan_solid(dirt.lathe(bottle).as_stored())[1].way == "mended"
    assert plan_solid(dirt.lathe(bottle).as_stored(), SolidSettings(taken_as="skin"))[1].way == "thickened"
