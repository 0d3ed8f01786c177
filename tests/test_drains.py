"""Drains by themselves, and plugs: through the core on models known by composition, and as a preparer runs them."""

import json
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest

from bolvek.analyses.columns import let_stand, make_columns
from bolvek.analyses.proof import prove
from bolvek.demo.pieces import blocks, globe
from bolvek.errors import UsageError, WorkError
from bolvek.formats import read_model, write_model
from bolvek.formats.registry import Model
from bolvek.jobs.prep import prep
from bolvek.operations.drain import cut_bores, drain, make_plug, place_by_flood, plan_bore
from bolvek.operations.fuse import carve, gather_all
from bolvek.operations.hollow import hollow
from bolvek.report.record import Record
from bolvek.settings.measures import ProofSettings
from bolvek.settings.parts import FuseSettings
from bolvek.settings.shape import (
    AutoSettings,
    Drain,
    DrainSettings,
    HollowSettings,
    PlaceSettings,
    PlugSettings,
    PrepSettings,
)
from drains import known, organic
from support import assert_sound, ball, box, shell_box


@pytest.mark.parametrize("name", known())
def test_what_stays_is_the_exact_volume(name):
    mesh, up, exact = known()[name]
    assert let_stand(make_columns(mesh, up)).volume_mm3 == pytest.approx(exact, rel=0.01)


def two_legged():
    """A closed room with two deep legs and a bump in its roof: one hole cannot drain it."""
    cells = np.ones((11, 5, 9), bool)
    cells[1:10, 1:4, 4:6] = False
    cells[1:4, 1:4, 1:4] = cells[7:10, 1:4, 1:4] = cells[4:7, 1:4, 6:8] = False
    return blocks(cells, 2.0)


def placed(mesh, most=None, **place):
    asked = AutoSettings(place=PlaceSettings(diameter_mm=3.0, least_mm=1.5, **place), most=most, wall_mm=2.0)
    return place_by_flood(mesh, asked)


def cut(mesh, holes):
    return cut_bores(mesh, DrainSettings(drains=tuple(p.drain for p in holes)), [p.bore for p in holes])[0]


def test_every_leg_gets_its_hole_and_the_roof_a_vent():
    mesh = two_legged()
    holes, given_up, record = placed(mesh)
    assert not given_up and [p.role for p in holes].count("drain") == 2
    lowest = sorted(p.drain.at_mm[0] < 11 for p in holes if p.role == "drain")
    assert lowest == [False, True]
    (room,) = record.rooms
    assert room.drains and room.closed and room.held_mm3 == pytest.approx(room.volume_mm3, rel=0.02)
    made = cut(mesh, holes)
    assert_sound(made)
    assert prove(made, ProofSettings(wall_mm=2.0 - 1e-3)).ok
    # each number of holes leaves no more than the one before
    left = [placed(mesh, most=n)[2].stays_mm3 for n in (1, 2, 3)]
    assert left[0] > 200 and left == sorted(left, reverse=True) and left[2] < 50
    # upside down the legs are on top
    down = placed(mesh, up=(0.0, 0.0, -1.0))[0]
    assert sum(p.role == "vent" for p in down) == 2
    with pytest.raises(WorkError, match="no room to drain"):
        placed(box())


def test_places_are_where_they_may_be():
    mesh = shell_box(wall=2.0, size=30.0)
    free = placed(mesh)[0]
    assert [p.drain.at_mm[2] for p in free] == pytest.approx([0, 30])
    kept_off = placed(mesh, keep_off=(((15.0, 15.0, 0.0), 9.0),))[0]
    assert np.hypot(*np.subtract(kept_off[0].drain.at_mm[:2], 15)) > 9
    within = placed(mesh, only_within=(((0.0, 15.0, 6.0), 6.0), ((15.0, 15.0, 30.0), 5.0)))[0]
    assert within[0].drain.at_mm[0] == pytest.approx(0) and within[1].drain.at_mm[2] == pytest.approx(30)
    hidden = placed(mesh, show=(0.0, 0.0, 1.0))[0]
    assert hidden[1].drain.at_mm[2] < 29
    nowhere, given_up, record = placed(mesh, only_within=(((100.0, 0.0, 0.0), 1.0),))
    assert not nowhere and "where none is wanted" in given_up[0].text and not record.rooms[0].drains
    with pytest.raises(UsageError, match="keep_off"):
        placed(mesh, keep_off=(((0.0, 0.0, 0.0), 0.0),))


@pytest.mark.parametrize("seed", [0])  # make drains has twelve
def test_organic_hollows_drain_and_keep_their_wall(seed):
    solid = organic(seed)
    solid = solid.moved(2.6 * solid.vertices).as_stored()
    mesh, _ = hollow(solid, HollowSettings(wall_mm=2.0))
    holes, _, record = placed(mesh, wall_mm=1.99)
    made = cut(mesh, holes)
    assert_sound(made)
    assert all(r.drains for r in record.rooms)
    # the same by columns of another width, in a frame of their own
    still = let_stand(make_columns(made, (1e-9, 0.0, 1.0), 0.11))
    inside = mesh.volume - made.volume  # what the holes took out is no room
    cavity = sum(r.volume_mm3 for r in record.rooms)
    covered = float(still.held_mm[np.isfinite(still.ceiling)].sum()) * still.columns.pixel_mm2
    assert covered < 0.006 * cavity + 50 + inside
    proof = prove(made, ProofSettings(wall_mm=2.0, drain_poses=((0.0, 0.0, 1.0),)))
    assert not [f for f in proof.findings if f.code == "liquid_stays"]


def test_a_plug_is_the_skin_that_was_taken_out():
    mesh = shell_box(wall=2.0, size=30.0)
    hole = Drain((12.0, 13.0, 0.0), 4.0)
    bore = plan_bore(mesh, hole)
    plug, record = make_plug(mesh, 1, bore, hole, PlugSettings(clearance_mm=0.15, taper_deg=3.0))
    assert_sound(plug)
    wide, tall = 2.0 - 0.15, 2.0 - 0.02
    lost = np.tan(np.radians(3)) * np.linalg.norm(bore.end - bore.start)
    assert record.wide_mm == pytest.approx(2 * wide) and plug.size[2] == pytest.approx(tall, abs=1e-3)
    assert plug.bounds[0, 2] == 0 and max(plug.size[:2]) <= 2 * wide
    assert max(plug.size[:2]) == pytest.approx(2 * wide, rel=0.003)  # as narrow as asked where the skin is, no more
    assert polygon_cone(wide - lost, tall) < plug.volume < polygon_cone(wide, tall)
    round_skin, _ = hollow(ball(15, 0.9), HollowSettings(wall_mm=2.0))
    top = Drain((0.0, 0.0, 15.0), 4.0)
    domed, _ = make_plug(round_skin, 1, plan_bore(round_skin, top), top, PlugSettings())
    assert_sound(domed)
    # its outer end is the ball's own surface
    peak = domed.vertices[domed.vertices[:, 2] > domed.size[2] - 0.05]
    assert np.ptp(np.linalg.norm(peak + [0, 0, 15 - domed.size[2]], axis=1)) < 0.06
    thin, told = make_plug(shell_box(0.4, 20), 2, plan_bore(shell_box(0.4, 20), hole), hole, PlugSettings())
    assert thin is None and "needed" in told.reason and told.hole == 2


def test_a_room_above_another_is_drained_outside():
    cells = np.ones((8, 8, 10), bool)
    cells[1:7, 1:7, 1:5] = cells[1:7, 1:7, 6:9] = False
    cells[3:5, 3:5, 0] = False  # the lower room is open already
    mesh = blocks(cells, 2.0)
    holes, _, record = placed(mesh)
    assert all(r.drains for r in record.rooms) and not any(p.bore.indoors for p in holes)
    middle = Drain((8.0, 8.0, 10.0), 3.0, toward_mm=(8.0, 8.0, 14.0))
    through = plan_bore(mesh, middle)
    assert through.indoors and "another room" in make_plug(mesh, 1, through, middle, PlugSettings())[1].reason


def polygon_cone(radius: float, height: float, sides: int = 48) -> float:
    return 0.5 * sides * radius**2 * np.sin(2 * np.pi / sides) * height


def test_drain_by_itself_at_the_command_line(bolvek, tmp_path):
    write_model(tmp_path / "legs.stl", two_legged())
    done = bolvek(
        "drain", "--auto", "legs.stl", "--diameter", "3mm", "--plugs", "plugs", "--picture", "d.png", "--json", "-"
    )
    record = json.loads(done.stdout)
    Record.model_validate_json(done.stdout)
    model = record["models"][0]
    assert model["drain"]["auto"]["rooms"][0]["stays_mm3"] < 50 and record["verdict"] == "done"
    made = read_model(tmp_path / "legs.drain.stl").mesh
    assert made.topology.sound and (tmp_path / "d.png").stat().st_size > 20_000
    files = sorted(p.name for p in (tmp_path / "plugs").iterdir())
    assert files == [p["file"] for p in model["plugs"] if p["file"]] and len(files) == len(model["drain"]["holes"])
    for name in files:
        assert_sound(read_model(tmp_path / "plugs" / name).mesh)
    said = bolvek("drain", "legs.stl", "--auto", "--try", "1,2,3", "--sheet", "s.png").stdout
    assert "--auto 3" in said and (tmp_path / "s.png").exists()
    short = bolvek("drain", "legs.stl", "--auto", "1", "-o", "one.stl", expect=1)
    assert "liquid stay" in short.stdout and (tmp_path / "one.stl").exists()
    assert "exists already" in bolvek("drain", "legs.stl", "--auto", expect=3).stderr
    assert "--plugs" not in bolvek("drain", "legs.stl", "--plugs", "x", expect=2).stdout
    for wrong in (["--auto", "--blind", "2"], ["--auto", "--at", "0,0,0"], ["--at", "0,0,0", "--show", "0,0,1"], []):
        bolvek("drain", "legs.stl", *wrong, "-o", "w.stl", expect=2)
    assert "holds files" in bolvek("drain", "legs.stl", "--auto", "-o", "w.stl", "--plugs", "plugs", expect=3).stderr
    assert not (tmp_path / "w.stl").exists()


def test_prep_places_its_own_drains_and_the_proof_takes_a_pose(bolvek, tmp_path):
    write_model(tmp_path / "ball.stl", ball(16, 1.2))
    done = bolvek("prep", "ball.stl", "--wall", "2mm", "--json", "-")
    model = json.loads(done.stdout)["models"][0]
    assert model["drain"]["auto"]["rooms"][0]["stays_mm3"] < 50
    assert [c["state"] for c in model["proof"]["clauses"]] == ["holds"] * 6
    # held on its side, some stays
    side = bolvek("proof", "ball.prep.stl", "--wall", "2mm", "--drain-up", "1,0,0", "--json", "-", expect=1)
    record = json.loads(side.stdout)
    fault = next(f for f in record["findings"] if f["code"] == "liquid_stays")
    assert fault["where_mm"][0] < -10
    assert (
        bolvek("proof", "ball.prep.stl", "--wall", "2mm", "--drain-up", "1,0,0", "--drain-up", "0,0,1").returncode == 0
    )
    made, _ = drain(
        shell_box(2.0, 30.0), DrainSettings(drains=(Drain((30.0, 15.0, 15.0), 4.0), Drain((0.0, 15.0, 15.0), 4.0)))
    )
    held = prove(made, ProofSettings(wall_mm=2.0))
    assert held.ok and held.liquid.tried > 10 and abs(held.liquid.poses[1][0]) > 0.99
    assert "liquid_tilt" in {f.code for f in held.findings}


def prepared(mesh, settings):
    """What `prep` makes of a mesh, and what made it begin again."""
    again = []

    def step(name, work):
        done = work()
        again.extend([done] if name == "again" else [])
        return done

    return prep(Model(Path("model.stl"), mesh, "STL", "mm", 0.0), settings, step), again


def test_a_hole_that_leaves_the_wall_short_is_put_elsewhere(monkeypatch):
    """The look before the cut is taken away: the proof alone finds the pit beside the hole."""
    pit = box((16.3, 19.0, -1), (17.7, 20.4, 0.3))
    model = carve(gather_all([box((0, 0, 0), (34, 34, 24))]), gather_all([pit]), FuseSettings())[0].as_stored()
    monkeypatch.setattr("bolvek.operations.drain.place.wall_left", lambda *_: np.inf)
    holes = PlaceSettings(count=1, only_within=(((17.0, 13.5, 0.0), 4.5),))
    settings = PrepSettings(hollow=HollowSettings(wall_mm=2.0), drains=holes)
    result, again = prepared(model, settings)
    assert {a.how for a in again} == {"moved"} and result.proof.verdict == "fit"
    assert result.proof.wall is not None and result.proof.wall.min_mm > 1.99


def test_what_stays_after_the_flood_gets_a_further_hole(monkeypatch):
    """The flood is made to miss one of two legs: the proof finds what stays there."""

    def half(mesh, asked):
        holes, given_up, auto = place_by_flood(mesh, asked)
        return [h for h in holes if h.role == "vent" or h.drain.at_mm[0] < 16], given_up, auto

    legs = np.ones((11, 5, 9), bool)
    legs[4:7, :, :4] = False
    monkeypatch.setattr("bolvek.jobs.attempts.place_by_flood", half)
    settings = PrepSettings(hollow=HollowSettings(wall_mm=2.0), drains=PlaceSettings(), auto=True)
    result, again = prepared(blocks(legs, 3.0), settings)
    assert [(a.how, a.places) for a in again] == [("one more", 1)] and result.proof.ok
    assert any(p.bore.mouth[0] > 16 and p.bore.mouth[2] < 3 for p in result.placed)


def test_a_cavity_that_still_falls_short_is_left_solid_and_the_others_are_not():
    """No hole may be near one of two legs: what stays there would be unfit, and no hole can mend it."""
    legs = np.ones((11, 5, 9), bool)
    legs[4:7, :, :4] = False
    both = blocks(legs, 3.0).joined(box((60, 0, 0), (80, 20, 20)))
    holes = PlaceSettings(keep_off=(((27.0, 7.5, 0.0), 18.0),))
    settings = PrepSettings(hollow=HollowSettings(wall_mm=2.0), drains=holes, auto=True)
    result, again = prepared(both, settings)
    assert (again[-1].how, again[-1].places) == ("left solid", 1) and result.proof.verdict == "fit"
    (room,) = [c for c in result.proof.cavities if c.holds]
    assert room.where_mm[0] > 60 and result.hollow.cavities == 1
    assert "left_solid" in {f.code for f in result.proof.findings}


def test_rooms_of_the_file_are_drained_before_it_is_hollowed():
    """A block with a room of its own, 8 x 16 x 16 mm behind a mouth 1 mm wide: its holes have a wall around them."""
    cells = np.ones((32, 24, 24), bool)
    cells[4:12, 4:20, 4:20] = cells[:4, 12, 12] = False
    body = blocks(cells, 1.0).as_stored()
    settings = PrepSettings(hollow=HollowSettings(wall_mm=2.0), drains=PlaceSettings(), auto=True)
    result, again = prepared(body, settings)
    assert [a.how for a in again] == ["drained"] and result.proof.verdict == "fit"
    assert result.hollow.cavities == 1 and len(result.drain.holes) == len(result.placed) >= 3
    assert result.proof.wall.min_mm >= 1.99 and result.proof.kept.faces > 0
    left, again = prepared(body, replace(settings, auto=False, drains=PlaceSettings(count=0)))
    assert not again and left.drain is None


def test_a_cavity_that_is_not_worth_its_holes_stays_solid():
    """A block whose cavity would have 0.216 cm3: 12.7% of it, and less than 0.3 cm3."""
    settings = PrepSettings(hollow=HollowSettings(wall_mm=3.0), drains=PlaceSettings(), auto=True)
    result, again = prepared(box((0, 0, 0), (12, 12, 12)), settings)
    (note,) = [f for f in result.proof.findings if f.code == "left_solid"]
    assert result.hollow is None and not again and "0.3" in note.text and note.remedies
    wanted = replace(settings, hollow=HollowSettings(wall_mm=3.0, least_mm3=100.0))
    assert prepared(box((0, 0, 0), (12, 12, 12)), wanted)[0].hollow.cavities == 1


def test_a_drain_through_a_tip_where_many_faces_meet():
    """The pole of a ball is a corner of 64 faces, all of them met by the ray down the middle of the hole."""
    shell, _ = hollow(globe(20.0, (0, 0, 0), 64).as_stored(), HollowSettings(wall_mm=2.0))
    poles = (Drain((0.0, 0.0, -20.0)), Drain((0.0, 0.0, 20.0)))
    drained, record = drain(shell, DrainSettings(drains=poles))
    assert np.allclose([w for hole in record.holes for w in (hole.wall_min_mm, hole.wall_max_mm)], 2.0, atol=0.1)
    assert prove(drained.as_stored(), ProofSettings(wall_mm=2.0)).verdict == "fit"
