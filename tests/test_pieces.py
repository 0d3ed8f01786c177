"""Cutting into pieces: volumes and sections by hand, pegs and lips that fit, planes that make a model fit a printer."""

import dataclasses
import json

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from bolvek.analyses.soundness import find_defects
from bolvek.errors import WorkError
from bolvek.formats import read_model, write_model
from bolvek.operations.cut import CutSettings, Plane, cut, cut_apart, plan_fit
from bolvek.operations.cut.record import findings_of
from bolvek.operations.drain import drain
from bolvek.operations.fuse import fuse_parts
from bolvek.report.record import Record
from bolvek.settings.parts import LipSettings, PegSettings
from bolvek.settings.shape import Drain, DrainSettings
from bolvek.spatial import polygons
from support import assert_sound, ball, blob, box, shell_box


def level(z, axis=2):
    point, normal = [0.0] * 3, [0.0] * 3
    point[axis], normal[axis] = float(z), 1.0
    return Plane(point_mm=tuple(point), normal=tuple(normal), name=f"{'xyz'[axis]}={z}")


@settings(max_examples=25, deadline=None)
@given(st.integers(0, 2**32 - 1))
def test_pieces_are_sound_and_make_up_the_model(seed):
    """Boxes on a lattice, cut through their corners, along their faces and anyhow: all that is degenerate happens."""
    rng = np.random.default_rng(seed)
    low = rng.integers(0, 6, (3, 3)) * 5.0
    mesh = fuse_parts([box(a, a + rng.integers(1, 5, 3) * 5.0) for a in low])
    corner = mesh.vertices[rng.integers(len(mesh.vertices))]
    for normal in (np.eye(3)[rng.integers(3)], rng.normal(size=3), rng.integers(-1, 2, 3) + 0.0):
        if not normal.any():
            continue
        plane = Plane(point_mm=tuple(corner), normal=tuple(normal / np.linalg.norm(normal)), name="it")
        height = plane.above(mesh.vertices)
        if height.max() < 0.1 or height.min() > -0.1:
            with pytest.raises(WorkError, match="cuts nothing"):
                cut_apart(mesh, [plane])
            continue
        below, above = cut_apart(mesh, [plane])
        slack = below.laid_mm + 1e-5
        for piece, side in ((below, -1), (above, 1)):
            assert not find_defects(piece.mesh) and not find_defects(piece.mesh.as_stored())
            assert (side * plane.above(piece.mesh.vertices)).min() > -slack
        apart = below.mesh.volume + above.mesh.volume - mesh.volume
        assert abs(apart) < slack * mesh.area
    assert_sound(below.mesh)


def test_sections_of_steps_hollows_and_balls():
    stepped = fuse_parts([box((0, 0, 0), (20, 20, 10)), box((5, 5, 0), (15, 15, 20))])
    below, above = cut_apart(stepped, [level(10)])  # just along the step
    assert below.mesh.volume == pytest.approx(4000, abs=0.1) and above.mesh.volume == pytest.approx(1000, abs=0.1)
    assert below.cap(0).area == pytest.approx(400, abs=0.1) and above.cap(0).area == pytest.approx(100, abs=0.1)
    below, above = cut_apart(shell_box(wall=2, size=20), [level(7)])
    for piece, volume in ((below, 2800 - 16 * 16 * 5), (above, 5200 - 16 * 16 * 11)):
        assert piece.mesh.volume == pytest.approx(volume, rel=1e-6) and piece.mesh.topology.shells == 1
        assert piece.cap(0).area == pytest.approx(400 - 256, rel=1e-6)
    pieces = cut_apart(ball(), [level(0, k) for k in range(3)])
    assert len(pieces) == 8 and [p.sides[2] for p in pieces] == [-1] * 4 + [1] * 4
    for piece in pieces:
        assert piece.mesh.volume == pytest.approx(ball().volume / 8, rel=0.002) and not find_defects(piece.mesh)


def test_rims_mate_and_far_faces_stay():
    mesh = blob()
    up, record = cut(mesh, CutSettings(planes=(level(0.123),)))
    caps = [piece.cap(0) for piece in up.pieces]
    assert {tuple(p) for p in caps[0].vertices} == {tuple(p) for p in caps[1].vertices}
    crossed = mesh.vertices[mesh.faces][:, :, 2]
    beyond = ((crossed > 0.13).all(axis=1) | (crossed < 0.11).all(axis=1)).sum()
    assert beyond <= record.kept_faces < record.triangles_before
    assert abs(record.apart_mm3) < 0.01 and record.cut_mm2[0] == pytest.approx(caps[0].area)


@pytest.mark.parametrize(("flat", "loose"), [(False, False), (True, False), (True, True)])
def test_pegs_fit_their_sockets_and_leave_their_wall(flat, loose):
    mesh = box((0, 0, 0), (30, 20, 40))
    asked = PegSettings(count=2, diameter_mm=4, length_mm=5, clearance_mm=0.2, wall_mm=1.5, flat=flat, loose=loose)
    up, record = cut(mesh, CutSettings(planes=(level(18),), pegs=asked))
    below, above = (piece.mesh for piece in up.pieces)
    assert_sound(below)
    assert_sound(above)
    assert len(record.pegs) == 2 and record.contacts[0].area_mm2 == pytest.approx(600, rel=0.01)
    assert record.contacts[0].widest_mm == pytest.approx(20, abs=0.1)
    angle = 2 * np.pi * (np.arange(32) + 0.5) / 32

    def section(radius, side):
        x, y = np.minimum(radius * np.cos(angle), side), radius * np.sin(angle)
        return 0.5 * float(x @ np.roll(y, -1) - np.roll(x, -1) @ y)

    side = 1.2 if flat else 99.0
    socket = section(2 + 0.2 / np.cos(np.pi / 32), side + 0.2) * 5.4
    assert above.volume == pytest.approx(30 * 20 * 22 - 2 * socket, abs=0.02)
    peg = section(2.0, side)
    if loose:
        assert below.volume == pytest.approx(30 * 20 * 18 - 2 * socket, abs=0.02)
        assert up.pegs is not None and up.pegs.size[2] == pytest.approx(10, abs=1e-4)
        assert up.pegs.topology.shells == 2 and up.pegs.volume == pytest.approx(2 * peg * 10, rel=0.05)
        assert_sound(up.pegs)
    else:
        assert 2 * peg * 4.5 < below.volume - 30 * 20 * 18 < 2 * peg * 5
    for told in record.pegs:
        at = np.array(told.at_mm)
        walls = [at[0], 30 - at[0], at[1], 20 - at[1]]
        assert min(walls) - 2.2 >= told.wall_mm - 0.01 and told.wall_mm >= 1.5
        assert told.gap_mm == pytest.approx(0.2, abs=1e-4), "face against face, however it is turned in its socket"
    first, second = (np.array(p.at_mm) for p in record.pegs)
    assert np.linalg.norm(first - second) > 12


def test_pegs_never_poke_through():
    wedge = fuse_parts([box((0, 0, 0), (30, 30, 10)), box((0, 0, 9), (30, 30, 14))])
    with pytest.raises(WorkError, match="no depth"):
        cut(wedge, CutSettings(planes=(level(10),), pegs=PegSettings(diameter_mm=5, length_mm=6)))
    _, record = cut(wedge, CutSettings(planes=(level(10),), pegs=PegSettings(diameter_mm=2, length_mm=2)))
    assert all(p.wall_mm >= 0.8 for p in record.pegs) and len(record.pegs) == 2
    thin = shell_box(wall=1.5, size=30)
    with pytest.raises(WorkError, match="wide at most.*can have a lip"):
        cut(thin, CutSettings(planes=(level(15),), pegs=PegSettings()))


def test_a_lip_follows_the_rim_inside_and_keeps_its_clearance():
    hollow, _ = drain(shell_box(wall=2, size=30), DrainSettings(drains=(Drain(at_mm=(15, 15, 0), diameter_mm=4),)))
    asked = LipSettings(height_mm=3, thick_mm=1.2, clearance_mm=0.2)
    up, record = cut(hollow, CutSettings(planes=(level(16),), lip=asked))
    below, above = (piece.mesh for piece in up.pieces)
    assert not find_defects(below.as_stored()) and not find_defects(above.as_stored())
    assert below.bounds[1, 2] == pytest.approx(19, abs=0.15) and above.bounds[0, 2] == pytest.approx(16)
    lip = record.lips[0]
    assert lip.gap_mm >= 0.2 and lip.pieces == (1, 2)
    ring = (25.6**2 - (25.6 - 2.4) ** 2) * 3  # the part that stands up, corners square
    rise = below.volume - cut_apart(hollow, [level(16)])[0].mesh.volume
    assert 0.8 * ring < rise < 2.2 * ring
    askew = Plane(point_mm=(15.0, 15.0, 12.0), normal=(0.6, 0.0, 0.8), name="askew")
    up, record = cut(hollow, CutSettings(planes=(askew, level(16, 1)), lip=asked))
    assert len(up.pieces) == 4 == len(record.lips) and min(lip.gap_mm for lip in record.lips) > 0.17
    for piece in up.pieces:
        assert not find_defects(piece.mesh.as_stored())
        assert (piece.mesh.vertices[:, 2] >= -1e-6).all(), "no lip goes out through the drain"
    tight = dataclasses.replace(record.lips[0], gap_mm=0.05)
    (told,) = findings_of(CutSettings(planes=(askew,), lip=asked), (), (), (record.lips[0], tight))
    assert told.code == "lip_tight" and told.severity == "fault"
    with pytest.raises(WorkError, match="no room|no cut goes through a room"):
        cut(box(), CutSettings(planes=(level(5),), lip=asked))


def test_the_fewest_planes_and_not_through_the_neck():
    plan = plan_fit(box((0, 0, 0), (300, 50, 50)), (130, 80, 160))
    assert len(plan.planes) == 1 and plan.room_mm[0] == 160 and plan.planes[0].normal == (1, 0, 0)
    assert 140 <= plan.planes[0].offset <= 160 and plan.narrowest_mm[0] == pytest.approx(50, abs=1)
    parts = [box((0, 0, 0), (20, 20, 45)), box((9, 9, 44), (11, 11, 56)), box((0, 0, 55), (20, 20, 100))]
    plan = plan_fit(fuse_parts(parts), (30, 30, 60))  # the middle is a neck of 2 mm
    assert len(plan.planes) == 1 and not 44 < plan.planes[0].offset < 56
    assert 40 <= plan.planes[0].offset <= 60
    assert len(plan_fit(box((0, 0, 0), (100, 100, 100)), (40, 60, 120)).planes) == 3
    assert not plan_fit(box(), (10, 10, 10)).planes


def test_cut_as_a_preparer_does(bolvek, tmp_path):
    write_model(tmp_path / "post.stl", box((0, 0, 0), (20, 20, 200)))
    planned = bolvek("cut", "post.stl", "--fit", "small-resin", "--pegs", 1, "--plan", "--picture", "plan.png")
    assert "1 plane for" in planned.stdout and sorted(p.name for p in tmp_path.iterdir()) == ["plan.png", "post.stl"]
    done = bolvek("cut", "post.stl", "--fit", "small-resin", "--pegs", 1, "--lay-flat", "--json", "-")
    Record.model_validate_json(done.stdout)
    told = json.loads(done.stdout)["models"][0]["cut"]
    assert [p["fits"] for p in told["pieces"]] == [True, True] and [p["laid"] for p in told["pieces"]] == [False, True]
    upper = read_model(tmp_path / "post.2of2.stl").mesh
    assert upper.bounds[0, 2] == 0 and not find_defects(upper)
    assert max(told["pieces"][0]["size_mm"]) <= 158
    bolvek("cut", "post.stl", "--fit", "small-resin", "--margin", "40mm", "-o", "no/", expect=2)
    before = (tmp_path / "post.1of2.stl").read_bytes()
    (tmp_path / "post.2of2.stl").unlink()
    bolvek("cut", "post.stl", "--plane", "z=50mm", expect=3)
    assert (tmp_path / "post.1of2.stl").read_bytes() == before and not (tmp_path / "post.2of2.stl").exists()
    bolvek("cut", "post.stl", "--plane", "z=50mm", "--plane", "z=10cm", "--pegs", 1, "--loose", "-o", "out/")
    names = {p.name for p in (tmp_path / "out").iterdir()}
    assert names == {"post.1of3.stl", "post.2of3.stl", "post.3of3.stl", "post.pegs.stl"}
    for wrong in (
        ["--at", "z40"],
        ["--at", "z=40 furlongs"],
        ["--plane", "0,0,1:0,0,0"],
        [],
        ["--at", "z=9mm", "--loose"],
    ):
        bolvek("cut", "post.stl", *wrong, "-o", "no/", expect=2)
    assert "all on one side" in bolvek("cut", "post.stl", "--plane", "z=300mm", "-o", "no/", expect=4).stderr
    bolvek("cut", "post.stl", "--fit", "small-resin", "--plane", "z=9mm", "-o", "no/", expect=2)
    write_model(tmp_path / "open.stl", box().picked(np.arange(10)))
    assert "bolvek solid open.stl" in bolvek("cut", "open.stl", "--plane", "z=5mm", expect=4).stderr
    assert not (tmp_path / "no").exists()
    fits = bolvek("cut", "open.stl", "--fit", "small-resin")
    assert "fits" in fits.stdout


@settings(max_examples=40, deadline=None)
@given(st.integers(0, 2**32 - 1), st.booleans())
def test_large_polygons_are_swept_into_every_vertex(seed, on_lattice):
    rng = np.random.default_rng(seed)

    def star(middle, radius, count):
        angle = np.linspace(0, 2 * np.pi, count, endpoint=False)
        reach = radius * rng.uniform(0.5, 1, count)
        points = np.array(middle) + np.stack([reach * np.cos(angle), reach * np.sin(angle)], axis=1)
        return [tuple(p) for p in np.round(points, 1 if on_lattice else 12).tolist()]

    points = star((0, 0), 100, int(rng.integers(150, 190)))
    loops = [list(range(len(points)))]
    for middle in ((15, 15), (-15, -15), (15, -15), (-15, 15)):
        hole = star(middle, 10, int(rng.integers(3, 20)))
        loops.append(list(range(len(points), len(points) + len(hole)))[::-1])
        points += hole
    triangles = polygons.triangulate(points, loops)
    edges = {(t[k], t[(k + 1) % 3]) for t in triangles for k in range(3)}
    border = {(loop[k - 1], loop[k]) for loop in loops for k in range(len(loop))}
    assert len(edges) == 3 * len(triangles) and border <= edges
    assert all((b, a) in edges for a, b in edges - border)
    area = sum(polygons.signed_area(points, loop) for loop in loops)
    assert sum(polygons.signed_area(points, t) for t in triangles) == pytest.approx(area)
    assert all(polygons.turn(*(points[i] for i in t)) > 0 for t in triangles)
