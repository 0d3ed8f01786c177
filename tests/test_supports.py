"""Supports: that they hold, by measures of their own; as few as may be; ways down; what is told and written."""

import json
from dataclasses import replace

import numpy as np
import pytest
from scipy.ndimage import label

from bolvek.analyses.held import prove_supports
from bolvek.analyses.held.tips import cover
from bolvek.analyses.soundness import find_defects
from bolvek.demo.pieces import block
from bolvek.errors import UsageError, WorkError
from bolvek.formats import read_model, write_model
from bolvek.mesh import Mesh
from bolvek.operations.fuse import fuse_parts
from bolvek.operations.pose import rotation
from bolvek.operations.supports import SupportSettings, find_supports, with_model
from bolvek.operations.supports.place import is_shown
from bolvek.settings.supports import HeldSettings
from support import box

FILAMENT = SupportSettings(
    held=HeldSettings(angle_deg=45, layer_mm=0.2, bridge_most_mm=20),
    tip_mm=0.8,
    column_mm=2.0,
    foot_mm=0.6,
    clearance_mm=0.6,
    gap_mm=0.2,
)
BLOCK = 27**0.5 / 2
"""What a disc of radius 1 covers of a plane at most, without two covering the same (Kershner 1939)."""


def scene(rng):
    """A post with arms to all sides, some with what hangs from them, some over a base that is in the way."""
    bodies = [block((-3, -3, 0.5), (3, 3, rng.uniform(15, 30)))]
    wide = rng.uniform(4, 10) if rng.random() < 0.4 else 3.5
    bodies.append(block((-wide, -wide, 0), (wide, wide, 1.5)))
    for _ in range(rng.integers(1, 5)):
        z, long, half = rng.uniform(4, 14), rng.uniform(4, 14), rng.uniform(0.3, 2)
        arm = [block((2.5, -half, z), (3 + long, half, z + rng.uniform(0.6, 2)))]
        if rng.random() < 0.5:
            deep, thin = rng.uniform(1, min(z - 1, 6)), rng.uniform(0.2, 0.6)
            arm.append(block((3 + long - thin, -thin, z - deep), (3 + long, thin, z + 0.3)))
        turn = rotation(np.array([0.0, 0, 1]), 90.0 * rng.integers(4))
        bodies += [part.moved(part.vertices @ turn.T) for part in arm]
    mesh = fuse_parts(bodies)
    return mesh.moved(mesh.vertices @ rotation(np.array([0.0, 0, 1]), rng.uniform(0, 90)).T).as_stored()


def islands(*parts, layer=0.25, pixel=0.1):
    """How many pieces of the layers of bodies lie over nothing of the layer below, on a raster of winding numbers."""
    low = np.min([p.bounds[0] for p in parts], axis=0) - 0.3
    high = np.max([p.bounds[1] for p in parts], axis=0) + 0.3
    x, y = np.meshgrid(*(np.arange(low[k], high[k], pixel) for k in (0, 1)), indexing="ij")
    found, below = 0, None
    for z in np.arange(low[2] + 0.3 + layer / 2, high[2], layer):
        points = np.stack([x.ravel(), y.ravel(), np.full(x.size, z)], axis=1)
        here = np.any([p.tree.winding(points) > 0.5 for p in parts], axis=0).reshape(x.shape)
        if below is not None:
            piece, count = label(here, np.ones((3, 3)))
            over = np.bincount(piece[here & below], minlength=count + 1)
            found += int(((over == 0) & (np.bincount(piece.ravel(), minlength=count + 1) > 6))[1:].sum())
        below = here
    return found


def nearest(mesh, points):
    """How far points (N, 3) are from a densely sampled surface, without the project's trees."""
    rng = np.random.default_rng(1)
    corner = mesh.vertices[mesh.faces]
    area = np.linalg.norm(np.cross(corner[:, 1] - corner[:, 0], corner[:, 2] - corner[:, 0]), axis=1)
    face = rng.choice(len(area), 40_000, p=area / area.sum())
    u, v = np.sqrt(rng.random(len(face))), rng.random(len(face))
    weight = np.stack([1 - u, u * (1 - v), u * v], axis=1)
    from scipy.spatial import cKDTree

    return cKDTree(np.einsum("ni,nik->nk", weight, corner[face])).query(points)[0]


@pytest.mark.parametrize("seed", range(8))
def test_random_arms_are_held_and_all_is_sound(seed):
    rng = np.random.default_rng(seed)
    mesh, settings = scene(rng), FILAMENT if seed % 2 else SupportSettings(lean_deg=float(rng.choice([20, 40])))
    made, record = find_supports(mesh, settings)
    assert record.tips and record.proof is not None
    assert record.ok == (not record.unheld)
    assert record.ok or {u.why for u in record.unheld} == {"no way"}
    assert not find_defects(made)
    assert not find_defects(with_model(mesh, made))
    if not seed % 2 and record.ok:
        assert islands(mesh) or not record.islands
        assert islands(mesh, made) == 0
    # what is not near a tip keeps off the model, by samples
    tips = np.array([t.where_mm for t in record.tips])
    ends = np.array([t.where_mm for t in record.tips if t.on == "model"]).reshape(-1, 3)
    points = made.vertices
    far = np.linalg.norm(points[:, None] - tips, axis=2).min(axis=1) > settings.tip_long_mm + settings.column_mm
    for end in ends:  # nor near where it stands on the model
        far &= np.linalg.norm(points[:, :2] - end[:2], axis=1) > 2 * settings.column_mm
    if far.any() and settings.lean_deg == 40 and not len(ends):
        assert nearest(mesh, points[far]).min() > 0.95 * settings.clearance_mm


def test_a_table_takes_few_tips_and_each_is_needed():
    legs = [block((x, y, 0), (x + 3, y + 3, 10.5)) for x in (0, 21) for y in (0, 21)]
    mesh = fuse_parts([*legs, block((0, 0, 10), (24, 24, 12))])
    made, record = find_supports(mesh)
    assert record.verdict == "held" and record.bare == 1 and record.islands == 0
    # each tip holds 2 mm around it, the legs 1 mm
    area = 24 * 24 - 4 * 4 * 4
    assert area / (np.pi * 4) < len(record.tips) <= 1.6 * area / (4 * BLOCK)
    assert record.trunks < len(record.tips) / 4
    assert len(record.proof.contacts) == len(record.tips)
    assert {round(t.where_mm[2], 6) for t in record.tips} == {10.0}
    shells = made.topology.shell
    assert record.proof.supports == made.topology.shells
    for k in range(made.topology.shells):  # a whole support away: told, and only what it held
        left = made.picked(shells != k)
        proof = prove_supports(mesh, left, SupportSettings())
        assert proof.unheld and len(proof.contacts) < len(record.tips)


@pytest.mark.parametrize("seed", range(5))
def test_discs_cover_all_that_those_that_may_be_chosen_can(seed):
    rng = np.random.default_rng(seed)
    places = rng.random((300, 2)) * (40, 12)
    may = rng.random(300) < (0.02, 0.1, 0.5, 1.0, 0.0)[seed]
    chosen = cover(places, 4.0, may)
    reach = np.linalg.norm(places[:, None] - places, axis=2) <= 4.0
    assert may[chosen].all() and (reach[:, chosen].any(axis=1) == reach[:, may].any(axis=1)).all()


@pytest.mark.parametrize("count", (1, 3, 5))
def test_each_of_what_hangs_gets_its_tip(count):
    post, beam = block((0, 0, 0), (4, 4, 22)), block((-0.5, -0.5, 20), (5 * count + 9.5, 4.5, 24))
    far = block((5 * count + 5, 0, 0), (5 * count + 9, 4, 22))
    hanging = [block((5 * k, 1.7, 12), (5 * k + 0.6, 2.3, 21)) for k in range(1, count + 1)]
    mesh = fuse_parts([post, far, beam, *hanging])
    settings = SupportSettings(held=HeldSettings(bridge_most_mm=40))
    _, record = find_supports(mesh, settings)
    low = [t for t in record.tips if abs(t.where_mm[2] - 12) < 1e-6]
    assert record.islands == count == len(low) and record.ok


def test_what_needs_nothing_gets_nothing():
    made, record = find_supports(block((0, 0, 0), (10, 10, 10)))
    assert made is None and record.verdict == "held" and not record.tips and record.volume_mm3 == 0
    _, asked = find_supports(block((0, 0, 3), (10, 10, 10)), SupportSettings(held=HeldSettings(lift_mm=4)))
    assert asked.ok and len(asked.tips) > 5
    assert [f.code for f in asked.findings] == ["off_bed"]


def test_a_room_is_supported_only_where_that_is_asked():
    outer, inner = block((0, 0, 0), (16, 16, 16)), block((2, 2, 2), (14, 14, 14))
    hollow = outer.joined(Mesh(inner.vertices, inner.faces[:, ::-1]))
    made, record = find_supports(hollow)
    assert made is None and record.verdict == "not held" and [u.why for u in record.unheld] == ["inside"]
    assert "1 in rooms of the model" in record.findings[0].text
    assert [r.verb for r in record.findings[0].remedies] == [""]
    made, record = find_supports(hollow, SupportSettings(inside=True))
    assert record.ok and record.on_model == len(record.tips) > 4 and not find_defects(made)


def test_ways_lean_out_from_over_a_base():
    base, post = block((-4, -9, 0), (9, 9, 2)), block((-4, -4, 1), (-1, 4, 30))
    mesh = fuse_parts([base, post, block((-2, -4, 25), (8, 4, 28))])
    made, record = find_supports(mesh)
    assert record.ok and record.on_model == 0 and record.trunks
    low = made.vertices[made.vertices[:, 2] < 1.5]
    assert (np.abs(low[:, 1]) > 9).any() or (low[:, 0] > 9).any()
    _, upright = find_supports(mesh, SupportSettings(lean_deg=0))
    assert upright.ok and upright.on_model == len(upright.tips)


def test_tips_keep_off_and_go_where_they_are_asked():
    mesh = fuse_parts([block((0, 0, 0), (4, 20, 12)), block((3, 0, 10), (16, 20, 12))])
    at, ball = (9.0, 10.0, 10.0), ((14.0, 3.0, 10.0), 3.5)
    _, record = find_supports(mesh, SupportSettings(at_mm=(at,), keep_off=(ball,)))
    places = np.array([t.where_mm for t in record.tips])
    assert np.linalg.norm(places - at, axis=1).min() < 0.1
    assert np.linalg.norm(places - ball[0], axis=1).min() > ball[1]
    assert {u.why for u in record.unheld} == {"kept off"} and not record.ok
    _, dense = find_supports(mesh, SupportSettings(density=2))
    _, plain = find_supports(mesh)
    assert 1.5 < len(dense.tips) / len(plain.tips) < 2.6 and dense.carry_mm == pytest.approx(2 / 2**0.5)
    with pytest.raises(UsageError, match="no underside is near"):
        find_supports(mesh, SupportSettings(at_mm=((40, 0, 0),)))


def test_the_shown_side_is_spared():
    half = [block((-2, -6, 0), (2, 6, 14)), block((-8, -6, 12), (8, 6, 16))]
    # a rib that hangs on one side: its bottom can be seen from there
    mesh = fuse_parts([*half, block((-8.5, -0.6, 9), (-7, 0.6, 15))])
    _, record = find_supports(mesh, SupportSettings(show=(-0.3, 0, -1.0)))
    seen = is_shown(mesh, np.array([t.where_mm for t in record.tips]), (-0.3, 0, -1.0))
    assert [t.shown for t in record.tips] == seen.tolist() and 0 < record.shown < len(record.tips) and record.ok
    assert "scars_shown" in [f.code for f in record.findings]
    _, record = find_supports(mesh, SupportSettings(show=(0, 0, 1.0)))
    assert record.shown == 0


@pytest.mark.parametrize("lift", (1.2, 2.0, 5.0))
def test_a_plate_carries_all_that_stands(lift):
    mesh = fuse_parts([block((0, 0, 0), (4, 4, 12)), block((3, 0, 10), (8, 4, 12))])
    made, record = find_supports(mesh, SupportSettings(foot="plate", held=HeldSettings(lift_mm=lift)))
    assert record.ok and made.topology.shells == 1 and not find_defects(made)
    assert made.bounds[0, 2] == pytest.approx(-lift, abs=0.01) and made.size[0] > 8


def test_faces_are_read_as_they_are_meant():
    mesh = fuse_parts([block((0, 0, 0), (4, 4, 12)), block((3, 0, 10), (8, 4, 12))])
    made, record = find_supports(mesh)

    def turned(body):
        return Mesh(body.vertices, body.faces[:, ::-1])

    again, other = find_supports(turned(mesh))
    assert other.tips == record.tips and again.volume == made.volume
    assert prove_supports(turned(mesh), turned(made), SupportSettings()).unheld == []
    assert with_model(turned(mesh), made).volume == pytest.approx(with_model(mesh, made).volume)


def test_bad_models_are_refused():
    with pytest.raises(WorkError, match="only sound models get supports"):
        find_supports(Mesh(box().vertices, box().faces[:-1]))
    with pytest.raises(UsageError, match="lift"):
        find_supports(box(), SupportSettings(foot="plate"))
    with pytest.raises(UsageError, match="must not be wider"):
        find_supports(box(), SupportSettings(tip_mm=2))


def test_the_proof_sees_what_is_wrong_with_bodies():
    mesh = fuse_parts([block((0, 0, 0), (4, 4, 12)), block((3, 0, 10), (8, 4, 12))])
    made, record = find_supports(mesh)
    assert record.ok
    good = prove_supports(mesh, made, SupportSettings())
    assert good == record.proof
    sunk = made.moved(made.vertices - [0, 0, 0.4])
    assert prove_supports(mesh, sunk, SupportSettings()).unheld  # nothing touches any more
    near = made.joined(block((4.1, 1, 0), (4.6, 1.5, 6)))
    assert len(prove_supports(mesh, near, SupportSettings()).too_near) == 1
    loose = made.joined(block((12, 1, 6), (14, 3, 8)))
    assert len(prove_supports(mesh, loose, SupportSettings()).hanging) == 1
    lid = fuse_parts([block((0, 0, 0), (20, 20, 2)), block((0, 0, 1), (2, 20, 12)), block((18, 0, 1), (20, 20, 12)),
                      block((0, 0, 1), (20, 2, 12)), block((0, 18, 1), (20, 20, 12))])  # fmt: skip
    closed = prove_supports(lid, block((-1, -1, 11.9), (21, 21, 14)), SupportSettings()).closed_mm3
    assert closed == pytest.approx(16 * 16 * 9.9, rel=0.1)
    thin = SupportSettings(tip_mm=1.0)
    assert all(c.narrow for c in prove_supports(mesh, made, thin).contacts)


def test_ways_up_say_what_supports_they_take(bolvek, tmp_path):
    mesh = fuse_parts([block((0, 0, 0), (4, 10, 22)), block((3, 0, 20), (18, 10, 22))]).as_stored()
    write_model(tmp_path / "arm.stl", mesh)
    asked = ["overhangs", "arm.stl", "--printer", "small-resin", "--tips", "--compare-up", "20", "--json", "r.json"]
    assert "mm2 of scars" in bolvek(*asked, expect=1).stdout
    found = json.loads((tmp_path / "r.json").read_text())["models"][0]["directions"]
    _, record = find_supports(mesh)
    now = found["now"]["supports"]
    assert len(record.tips) <= now["tips"] <= 2 * len(record.tips)
    assert now["volume_mm3"] == pytest.approx(now["tips"] * np.pi / 4 * 20, rel=0.1)
    # lying on its side it takes none
    assert min(d["supports"]["tips"] for d in found["best"]) == 0


def test_files_hold_model_and_supports(bolvek, tmp_path):
    mesh = fuse_parts([block((0, 0, 0), (4, 4, 22)), block((3, 0, 20), (11, 4, 22))]).as_stored()
    write_model(tmp_path / "arm.stl", mesh)
    said = bolvek("supports", "arm.stl", "--printer", "small-resin", "--json", "r.json").stdout
    assert "verdict         held:" in said and "every layer holds with" in said
    section = json.loads((tmp_path / "r.json").read_text())["models"][0]
    assert section["supports"]["proof"]["unheld"] == [] and section["triangles"] == len(mesh.faces)
    both = read_model(tmp_path / "arm.supports.3mf")
    assert both.parts.names == ("arm", "supports") and both.parts.support == {1}
    model = both.without_support()
    assert np.array_equal(model.mesh.vertices[model.mesh.faces], mesh.vertices[mesh.faces])
    said = bolvek("proof", "arm.supports.3mf", "--printer", "small-resin").stdout
    assert "supports        every layer holds" in said
    # supports that do not close are told, and the model is judged all the same
    part = both.parts.part
    keep = np.arange(len(part)) < len(part) - 3
    write_model(tmp_path / "open.3mf", both.mesh.picked(keep), parts=replace(both.parts, part=part[keep]))
    said = bolvek("proof", "open.3mf", expect=1).stdout
    assert "fault           supports of the file: what holds is not judged: the surface is not closed" in said
    assert "sound           closed, manifold" in said
    # by the rules of another printer its tips are too narrow
    said = bolvek("proof", "arm.supports.3mf", "--printer", "filament-bed", expect=1).stdout
    assert "the supports leave 1 place of the model without hold" in said
    bolvek(
        "supports", "arm.stl", "-o", "one.stl", "--only-supports", "only.stl", "--picture", "p.png", "--page", "p.html"
    )
    one, only = read_model(tmp_path / "one.stl").mesh, read_model(tmp_path / "only.stl").mesh
    assert not find_defects(one) and one.topology.shells == 1 and not find_defects(only)
    assert one.volume == pytest.approx(mesh.volume + only.volume, rel=2e-3)
    assert (tmp_path / "p.png").read_bytes()[:4] == b"\x89PNG" and "supports" in (tmp_path / "p.html").read_text()
    write_model(tmp_path / "cube.stl", block((0, 0, 0), (5, 5, 5)))
    assert "held without supports" in bolvek("supports", "cube.stl").stdout
    assert not (tmp_path / "cube.supports.3mf").exists()


def test_the_same_bytes_at_any_thread_count(installed, tmp_path):
    write_model(tmp_path / "arms.stl", scene(np.random.default_rng(2)))
    for count in ("1", "4"):
        target = f"{count}.3mf"
        installed("supports", "arms.stl", "--printer", "small-resin", "-o", target, BOLVEK_THREADS=count)
    assert (tmp_path / "1.3mf").read_bytes() == (tmp_path / "4.3mf").read_bytes()


def test_a_sheet_makes_supports_last(bolvek, tmp_path):
    mesh = fuse_parts([block((0, 0, 0), (4, 4, 22)), block((3, 0, 20), (11, 4, 22))]).as_stored()
    write_model(tmp_path / "arm.stl", mesh)
    sheet = 'bolvek = 1\nmodels = ["arm.stl"]\noutput = "out/"\n[[step]]\nverb = "scale"\nby = 0.9\n'
    sheet += '[[step]]\nverb = "supports"\nprinter = "small-resin"\n'
    (tmp_path / "job.toml").write_text(sheet)
    assert "every layer holds with" in bolvek("run", "job.toml").stdout
    one = read_model(tmp_path / "out" / "arm.run.stl").mesh
    assert not find_defects(one) and one.topology.shells == 1 and one.volume > mesh.volume * 0.9**3
    (tmp_path / "job.toml").write_text(sheet + '[[step]]\nverb = "smooth"\n')
    said = bolvek("run", "job.toml", expect=3).stderr
    assert "line 10, step 'smooth': 'supports' made supports: no step changes the model after it" in said


def test_prep_turns_and_supports(bolvek, tmp_path):
    mesh = fuse_parts([block((0, 0, 0), (4, 4, 22)), block((3, 0, 20), (14, 4, 22))]).as_stored()
    write_model(tmp_path / "arm.stl", mesh)
    said = bolvek(
        "prep", "arm.stl", "--wall", "1mm", "--supports", "--printer", "small-resin", "--json", "r.json"
    ).stdout
    assert "supports        held:" in said
    section = json.loads((tmp_path / "r.json").read_text())["models"][0]
    assert section["supports"]["tips"] and section["proof"]["ok"]
    assert read_model(tmp_path / "arm.prep.3mf").parts.support == {1}
    said = bolvek("prep", "arm.stl", "--best", "1", "--supports", "-o", "b.3mf", "--printer", "small-resin").stdout
    assert "held" in said
    assert "--inside goes with --supports" in bolvek("prep", "arm.stl", "--inside", expect=2).stderr
