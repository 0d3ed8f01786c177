"""Recasting, slimming, and the way from any file to a solid."""

import json
from dataclasses import replace

import numpy as np
import pytest

import dirt
from bolvek.analyses.likeness import likeness
from bolvek.analyses.soundness import find_defects
from bolvek.demo.carp import carp
from bolvek.demo.pieces import blocks
from bolvek.demo.troubled import dragon_bracket, finial
from bolvek.errors import UsageError, WorkError
from bolvek.formats import read_model, write_model
from bolvek.mesh import Mesh
from bolvek.operations.convex.body import lofted
from bolvek.operations.recast import recast
from bolvek.operations.recast.lids import with_lids
from bolvek.operations.slim import slim_to
from bolvek.operations.solid import make_solid
from bolvek.settings.repairs import RecastSettings, SlimSettings, SolidSettings
from support import assert_sound, ball, blob, box, shell_box


def square(size=20.0):
    """A sheet of two faces."""
    return Mesh([[0, 0, 0], [size, 0, 0], [size, size, 0], [0, size, 0]], [[0, 1, 2], [0, 2, 3]])


def test_solids_come_back_where_they_were():
    made, record = recast(ball(10, 0.8), RecastSettings(grid_mm=0.4))
    assert np.abs(np.linalg.norm(made.vertices, axis=1) - 10).max() < 0.1  # a quarter of a cell
    assert record.to_new.max_mm < 0.1 and record.to_old.max_mm < 0.1 and not record.lost and not record.leaks
    cube, record = recast(box(), RecastSettings(grid_mm=0.4))
    assert_sound(cube)
    assert cube.volume == pytest.approx(1000, rel=0.02) and len(cube.faces) < 400
    # flat sides lie in their planes, all but what is nearer to an edge than a cell
    off = np.abs(cube.vertices - 5).max(axis=1)
    assert np.abs(off - 5).max() < 0.4 * 1.5
    assert record.parts == 1 and record.grown_mm2 == 0


def test_edges_and_corners_are_kept_when_asked():
    # nowhere along an axis: the lattice helps by nothing
    turn = np.linalg.qr(np.random.default_rng(1).normal(size=(3, 3)))[0]
    mesh = Mesh(box().vertices @ turn.T * np.sign(np.linalg.det(turn)), box().faces).as_stored()
    plain, _ = recast(mesh, RecastSettings(grid_mm=0.4))
    sharp, record = recast(mesh, RecastSettings(grid_mm=0.4, keep_edges=True))
    assert_sound(sharp)
    assert record.edge_points > 300 and record.to_old.mean_mm < 0.02 * 0.4
    assert abs(sharp.volume - 1000) < 0.25 * abs(plain.volume - 1000)
    straight, record = recast(box(), RecastSettings(grid_mm=0.4, keep_edges=True))
    assert straight.volume == pytest.approx(1000, abs=1e-3) and record.to_old.max_mm < 1e-5


def test_voids_are_filled_or_kept():
    filled, record = recast(shell_box(2, 20), RecastSettings(grid_mm=0.5))
    assert filled.volume == pytest.approx(8000, rel=0.01) and record.voids_filled == 1
    kept, record = recast(shell_box(2, 20), RecastSettings(grid_mm=0.5, inside="keep-cavities"))
    assert kept.volume == pytest.approx(8000 - 4096, rel=0.02) and record.cavities == 1
    assert kept.topology.shells == 2


def test_what_is_thin_is_grown_or_vanishes():
    made, record = recast(square(), RecastSettings(grid_mm=0.4, grow_mm=0.6))
    assert record.grown_mm2 == pytest.approx(400)
    inner = np.column_stack([np.random.default_rng(1).uniform(2, 18, (200, 2)), np.zeros(200)])
    assert np.abs(made.tree.nearest(inner)[0] - 0.6).max() < 0.05
    assert made.size == pytest.approx([21.2, 21.2, 1.2], abs=0.15)
    with pytest.raises(WorkError, match="no part is thicker than a cell"):
        recast(square(), RecastSettings(grid_mm=0.4, grow_mm=0.0))
    # a box with its lid a millimetre up: the gap is bridged or not, as asked
    lid = np.abs(box().corners[:, :, 2] - 10).max(axis=1) == 0
    vertices = np.concatenate([box().vertices, box().vertices + [0, 0, 1.0]])
    hovering = Mesh(vertices, np.where(lid[:, None], box().faces + 8, box().faces))
    solid, _ = recast(hovering, RecastSettings(grid_mm=0.4, bridge_mm=1.6))
    assert solid.topology.shells == 1 and solid.volume == pytest.approx(1100, rel=0.06)
    leaky, record = recast(hovering, RecastSettings(grid_mm=0.3, bridge_mm=0.6))
    assert leaky.volume < 700


def test_leaks_are_told_and_the_bridge_that_closes_them():
    sheet = box((0, 0, 0), (20, 20, 20))
    hole = ball(1.2, 0.4)
    outside = np.linalg.norm(sheet.corners.mean(axis=1) - 100, axis=1) > 0
    fine = Mesh(sheet.vertices, sheet.faces[outside])
    for _ in range(4):  # finer faces, so that a hole can be made by taking some out
        corners = fine.corners
        a, b, c = corners[:, 0], corners[:, 1], corners[:, 2]
        ab, bc, ca = (a + b) / 2, (b + c) / 2, (c + a) / 2
        fine = Mesh.from_corners(
            np.concatenate([np.stack(t, axis=1) for t in ((a, ab, ca), (ab, b, bc), (ca, bc, c), (ab, bc, ca))])
        )
    holed = fine.picked(np.linalg.norm(fine.corners.mean(axis=1) - [10, 10, 20], axis=1) > 1.3)
    leaky, record = recast(holed, RecastSettings(grid_mm=0.4))
    assert len(record.leaks) == 1 and record.leaks[0].where_mm == pytest.approx((10, 10, 20), abs=0.6)
    width = record.leaks[0].width_mm
    assert leaky.volume < 3000 and 0.8 < width < 3.5
    closed, record = recast(holed, RecastSettings(grid_mm=0.4, bridge_mm=1.2 * width + 0.8))
    assert not record.leaks and closed.volume == pytest.approx(8000, rel=0.02)
    assert hole.volume > 0


@pytest.mark.parametrize("seed", range(4))
def test_any_soup_becomes_sound(seed):
    rng = np.random.default_rng(seed)
    n = 70
    corners = rng.uniform(0, 10, (n, 1, 3)) + rng.uniform(-2, 2, (n, 3, 3))
    soup = [
        Mesh.from_corners(corners),
        Mesh(rng.uniform(0, 10, (n, 3)), np.array([rng.choice(n, 3, replace=False) for _ in range(n)])),
        finial()[0],
        dragon_bracket()[0],
    ][seed].as_stored()
    cell = float(soup.size.max()) / (60 if seed < 2 else 80)
    made, record = recast(soup, RecastSettings(grid_mm=cell))
    assert not find_defects(made) and not find_defects(made.as_stored())
    assert record.to_new.max_mm < max(2.5 * cell, 1.5 * record.grow_mm + cell)
    assert_sound(made) if len(made.faces) < 20_000 else None


def test_slimming_keeps_its_word(bolvek, tmp_path):
    fish = carp()
    slim, record = slim_to(fish, SlimSettings(within_mm=0.03))
    assert len(slim.faces) < 0.75 * len(fish.faces) and record.deviation_mm <= 0.03
    assert not find_defects(slim)
    # measured another way: random places of either on the other
    rng = np.random.default_rng(1)
    for one, other in ((fish, slim), (slim, fish)):
        face = rng.choice(len(one.faces), 3000, p=one.face_areas / one.area)
        points = np.einsum("nk,nkj->nj", rng.dirichlet(np.ones(3), 3000), one.corners[face])
        assert other.tree.nearest(points)[0].max() <= record.deviation_mm
    write_model(tmp_path / "carp.stl", fish)
    done = bolvek("slim", "carp.stl", "--triangles", 20000, "-o", "light.stl", "--json", "-")
    light = read_model(tmp_path / "light.stl").mesh
    assert 19990 <= len(light.faces) <= 20000 and not find_defects(light)
    assert json.loads(done.stdout)["models"][0]["slim"]["triangles_after"] == len(light.faces)
    bolvek("slim", "carp.stl", expect=2)
    bolvek("slim", "carp.stl", "--triangles", 6, "-o", "x.stl", expect=4)
    for wrong in (SlimSettings(), SlimSettings(ratio=2.0), SlimSettings(within_mm=1.0, triangles=4)):
        with pytest.raises(UsageError):
            slim_to(fish, wrong)


def test_slimming_takes_all_that_is_flat_and_bounds_whole_faces():
    """A cube in 4,800 faces has 12 in truth; on a noisy sheet the corners alone know half of the deviation."""
    grid = np.stack(np.meshgrid(*[np.arange(21.0)] * 2, indexing="ij"), axis=-1).reshape(-1, 2)
    cell = (np.arange(20)[:, None] * 21 + np.arange(20)).ravel()
    square = np.concatenate([np.stack([cell, cell + 21, cell + 22], 1), np.stack([cell, cell + 22, cell + 1], 1)])
    sides = []
    for axis in range(3):
        flat = np.insert(grid, axis, 0.0, axis=1)[square]
        sides += [flat[:, ::-1], flat + 20 * np.eye(3)[axis]] if axis != 1 else [flat, (flat + [0, 20, 0])[:, ::-1]]
    cube = Mesh.from_corners(np.concatenate(sides))
    with pytest.raises(WorkError, match="12 can"):
        slim_to(cube, SlimSettings(triangles=4))
    for settings in (SlimSettings(within_mm=0.001), SlimSettings(triangles=12)):
        made, record = slim_to(cube, settings)
        assert len(made.faces) == 12 and record.deviation_mm < 1e-9 and abs(made.volume - 8000) < 1e-9
    rng = np.random.default_rng(1)
    sheet = Mesh(np.column_stack([grid, 0.05 * rng.standard_normal(len(grid))]), square.astype(np.int32))
    made, record = slim_to(sheet, SlimSettings(within_mm=0.2))
    share = np.stack(np.meshgrid(*[np.linspace(0, 1, 25)] * 2, indexing="ij"), -1).reshape(-1, 2)
    share = share[share.sum(axis=1) <= 1]
    share = np.column_stack([1 - share.sum(axis=1), share])
    far = max(
        other.tree.nearest(np.einsum("kc,fcj->fkj", share, one.corners).reshape(-1, 3))[0].max()
        for one, other in ((sheet, made), (made, sheet))
    )
    assert far <= record.deviation_mm <= 1.1 * far <= 0.22


def test_recast_from_the_command_line(bolvek, tmp_path):
    write_model(tmp_path / "dragon.obj", dragon_bracket()[0])
    done = bolvek("recast", "dragon.obj", "--grid", "1mm", "-o", "out.stl", "--picture", "p.png", "--json", "r.json")
    assert "thick" in done.stdout and "new to old" in done.stdout
    assert not find_defects(read_model(tmp_path / "out.stl").mesh)
    assert json.loads((tmp_path / "r.json").read_text())["models"][0]["recast"]["grid_mm"] == 1.0
    # a ball without its bottom: the lattice makes a foil of it, and says so
    whole = ball(10.0, 1.0)
    write_model(tmp_path / "figure.stl", Mesh(whole.vertices, whole.faces[whole.corners[:, :, 2].mean(axis=1) > -6]))
    done = bolvek("recast", "figure.stl", "--grid", "0.5mm", "-o", "foil.stl", expect=1)
    assert "solid in the file and air now" in done.stdout and "nothing encloses the inside" in done.stdout
    done = bolvek("recast", "dragon.obj", "--grid", "1.5mm", "--try", "bridge=3,6mm", "--sheet", "ways.png")
    assert "suggestion" in done.stdout and (tmp_path / "ways.png").exists()
    for wrong in (["--try", "colour=3"], ["--inside", "maybe"], ["--grid", "0"], ["--sheet", "x.png"]):
        bolvek("recast", "dragon.obj", *wrong, expect=2)


def test_prep_makes_a_solid_of_what_it_gets(bolvek, tmp_path):
    write_model(tmp_path / "finial.stl", finial()[0])
    bolvek("prep", "finial.stl", "-o", "no.stl", expect=4)
    done = bolvek("prep", "finial.stl", "--to-solid", "--longest", "100mm", "-o", "out.stl", "--json", "r.json")
    assert "fit to print" in done.stdout and "fused: mending leaves it" in done.stdout
    section = json.loads((tmp_path / "r.json").read_text())["models"][0]
    assert section["solid"]["way"] == "fused" and section["proof"]["verdict"] == "fit"
    assert section["solid"]["parts"] == 6 and section["solid"]["changes"]["kept"] > 500
    write_model(tmp_path / "bracket.obj", dragon_bracket()[0])
    done = bolvek("prep", "bracket.obj", "--to-solid", "--plan")
    assert "give skins a thickness" in done.stdout and not list(tmp_path.glob("bracket.prep*"))
    asked = ["--to-solid", "--longest", "100mm", "-o", "solid.stl", "--changes", "changes.png"]
    done = bolvek("prep", "bracket.obj", *asked)
    assert "thickened and fused" in done.stdout and (tmp_path / "changes.png").exists()
    assert not find_defects(read_model(tmp_path / "solid.stl").mesh)
    bolvek("prep", "bracket.obj", "--plan", expect=2)
    write_model(tmp_path / "hollow.stl", shell_box(3, 24))
    done = bolvek("prep", "hollow.stl", "--to-solid", "--wall", "2mm", "-o", "again.stl")
    assert "mended" in done.stdout and "1 closed void filled" in done.stdout


def test_a_result_is_held_against_its_file():
    """What is missing, hollow or filled is told; what is only mended, thick or in one body is not."""
    file = Mesh.from_corners(
        np.concatenate([box((0, 0, 0), (20, 20, 20)).corners, box((30, 0, 0), (40, 10, 10)).corners])
    )
    whole = box((0, 0, 0), (20, 20, 20))
    tub = shell_box(1, 20)

    def told(made, of=file, **more):
        return {f.code for f in likeness(of, made, **more).findings}

    assert told(file) == set()
    assert told(whole) == {"shape_off", "parts_gone", "became_hollow"}  # one of two parts
    assert told(tub, whole) == {"became_hollow"}
    assert told(whole, tub) == {"became_solid"}
    # a pin of 0.9% of the surface is told with its place, and is no fault; a thicker one is
    for wide, severity in ((1.1, "note"), (2.2, "fault")):
        pinned = whole.joined(box((5, 5, 22), (5 + wide, 5 + wide, 26)))
        (found,) = (f for f in likeness(pinned, whole).findings if f.code == "shape_off")
        pin = 2 * wide**2 + 4 * wide * 4
        assert found.severity == severity and "of part 2 at" in found.text
        (off,) = likeness(pinned, whole).off
        assert off.area_mm2 == pytest.approx(pin, rel=0.05) and np.allclose(off.where_mm, (5.5, 5.5, 24), atol=2.2)
    void = tub.picked((tub.shell_volumes < 0)[tub.topology.shell])
    assert told(whole, tub, filled=void) == set()
    # two that cross: their insides are not missing from the union
    crossing = Mesh.from_corners(np.concatenate([whole.corners, whole.corners + [10, 10, 10]]))
    made, record = make_solid(crossing.as_stored(), SolidSettings())
    assert record.way == "fused" and not record.findings and made.volume == pytest.approx(15000, rel=1e-5)
    # a room whose ceiling is missing, with a table in it, made one block
    table = box((8, 8, 2), (12, 12, 8))
    room = Mesh.from_corners(
        np.concatenate([tub.corners[np.abs(tub.corners[:, :, 2] - 20).max(axis=1) > 0], table.corners])
    )
    assert "became_solid" in told(whole, room)


@pytest.mark.parametrize("name", dirt.KINDS)
def test_dirty_files_become_what_they_were_made_from(name):
    told = dirt.judged(name, 1)
    assert told.what == "right", told.text


def test_solid_tries_both_ways_where_the_file_does_not_tell(bolvek, tmp_path):
    """A box without a side: 18 cm3 with a lid, a tray of 1.2 mm without."""
    whole = box([0, 0, 0], [30, 30, 20])
    write_model(tmp_path / "tray.stl", whole.picked(whole.unit_normals[:, 0] < 0.5))
    done = bolvek("solid", "tray.stl", "--try", "--sheet", "both.png", "--json", "-")
    solid, skin = json.loads(done.stdout)["models"][0]["tries"]
    assert done.returncode == 0 and (solid["way"], skin["way"]) == ("mended", "thickened")
    assert (tmp_path / "both.png").exists() and not list(tmp_path.glob("tray.solid*"))
    bolvek("solid", "tray.stl", "--try", "--as", "skin", expect=2)


def test_solid_from_the_command_line(bolvek, tmp_path):
    lid_off = box((0, 0, 0), (20, 20, 20))
    lid_off = Mesh(lid_off.vertices, lid_off.faces[np.abs(lid_off.corners[:, :, 2] - 20).max(axis=1) > 0])
    write_model(tmp_path / "lid_off.stl", lid_off)
    write_model(tmp_path / "fine.stl", box())
    # nothing in the file tells: a guess, and exit 1; said, it is right either way
    done = bolvek("solid", "lid_off.stl", "--changes", "c.png", "--json", "r.json", expect=1)
    assert "a guess" in done.stdout and "what was solid is hollow" in done.stdout and (tmp_path / "c.png").exists()
    record = json.loads((tmp_path / "r.json").read_text())
    assert record["verdict"] == "not as the file" and {f["code"] for f in record["findings"]} >= {
        "guessed",
        "became_hollow",
    }
    for chosen, volume in (("solid", 8000), ("skin", 8000 - 17.6**2 * 18.8)):
        bolvek("solid", "lid_off.stl", "--as", chosen, "-o", "out.stl", "--replace")
        assert read_model(tmp_path / "out.stl").mesh.volume == pytest.approx(volume, rel=0.06)
    bolvek("prep", "lid_off.stl", "--to-solid", "-o", "no.stl", expect=1)
    done = bolvek("solid", "fine.stl", "lid_off.stl", "-o", "made/", expect=1)
    assert "1 not as the file" in done.stdout
    assert read_model(tmp_path / "made/fine.solid.stl").mesh.volume == pytest.approx(1000)
    write_model(tmp_path / "blob.stl", blob())
    # what was slimmed is held against the file too
    done = bolvek("solid", "blob.stl", "--megabytes", "0.5", "-o", "light.stl")
    assert "and what the file shows" in done.stdout
    bolvek("solid", "blob.stl", "--triangles", "4", "-o", "x.stl", expect=4)
    assert 0.495e6 < (tmp_path / "light.stl").stat().st_size <= 0.5e6
    assert not find_defects(read_model(tmp_path / "light.stl").mesh)
    assert "nothing has to be done" in bolvek("solid", "fine.stl", "--plan").stdout
    for wrong in (
        ["--plan", "-o", "x.stl"],
        ["--skin", "0mm"],
        ["--as", "both"],
        ["--triangles", "9", "--megabytes", "1"],
    ):
        bolvek("solid", "fine.stl", *wrong, expect=2)


def test_what_is_thinner_than_prints_is_made_as_thick_and_a_wedge_keeps_its_shape():
    """A plate of 0.3 mm on a block, measured along lines through it; a wedge of 40 degrees has no thin middle."""
    plate = box((0, 0, 0), (24, 16, 0.3)).joined(box((2, 2, -6), (8, 8, 0.2)))
    made, record = recast(plate.as_stored(), RecastSettings(least_mm=0.8, grid_mm=0.2))
    places = np.random.default_rng(1).uniform((9, 1, -2), (23, 15, -2), (300, 3))
    hits = made.tree.rays(places, np.broadcast_to([0.0, 0.0, 1.0], places.shape), most=4)
    through = hits.distance[:, 1] - hits.distance[:, 0]
    assert through.min() > 0.75 and through.max() < 0.95 and record.thick_mm2 > 300 and not find_defects(made)
    slope = 10 * np.tan(np.radians(40))
    wedge = lofted([np.array([[x, 0, 0], [x, 10, 0], [x, 10, slope]], float) for x in (0, 20)]).as_stored()
    asked = RecastSettings(grid_mm=0.2)
    plain, thick = (recast(wedge, replace(asked, least_mm=least))[0] for least in (None, 0.8))
    assert thick.volume == pytest.approx(plain.volume, rel=1e-3)


def test_lids_close_what_the_winding_number_says_is_solid():
    """A cube of 20 mm with a hole of 12 mm in a side: recast as it is it is a skin, with a lid it is the cube."""
    cells = np.zeros((7, 7, 7), bool)
    cells[1:6, 1:6, 1:6] = True
    cube = blocks(cells, 4.0)
    middle = cube.corners.mean(axis=1)
    top = (middle[:, 2] > cube.bounds[1, 2] - 1e-6) & (np.abs(middle[:, :2] - 14).max(axis=1) < 6)
    hurt = cube.picked(~top).as_stored()
    lidded, gap = with_lids(hurt)
    assert 0 < gap < 0.5 and len(lidded.faces) > len(hurt.faces)
    skin, _ = recast(hurt, RecastSettings(grid_mm=0.4, grow_mm=0.6))
    solid, _ = recast(lidded, RecastSettings(grid_mm=0.2, grow_mm=0.6, bridge_mm=0.4))
    assert skin.volume < 0.5 * 20**3 and solid.volume == pytest.approx(20**3, rel=0.01) and not find_defects(solid)
    assert {f.code for f in likeness(hurt, skin).findings} == {"became_hollow"} and likeness(hurt, solid).ok
    assert with_lids(cube)[1] == 0.0, "what is closed needs none"
