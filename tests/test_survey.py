"""The survey against a slow one, against hand-made defects of every class, and against the demo's plans."""

from collections import Counter
from dataclasses import replace

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from bolvek.analyses.survey import isolated, survey
from bolvek.analyses.survey.judgement import guess_units, judge
from bolvek.demo.lantern_set import lantern_set
from bolvek.demo.pieces import block, globe, sheet, turned
from bolvek.demo.troubled import cloud_tile, dragon_bracket, finial
from bolvek.errors import UsageError, WorkError
from bolvek.formats import read_model, write_model
from bolvek.mesh import Mesh
from bolvek.settings.measures import SurveySettings
from slow_survey import SlowSurvey
from support import ball, box, pricked_ball, shell_box

COUNTS = ("triangles", "vertices", "shells", "open_edges", "nonmanifold_edges", "badly_oriented_edges")


def counts(found):
    """The counts of a survey by the names of the slow one."""
    plain = {name: getattr(found, name) for name in (*COUNTS, "split_vertices", "flat_faces")}
    return plain | {
        "twins_same_way": found.twins.same_way,
        "twins_opposite_way": found.twins.opposite_way,
        "self_intersections": found.self_intersections.pairs,
    }


def look(mesh, **tolerances):
    return survey(mesh, SurveySettings(**tolerances))[0]


def flat_sheet(m=7, n=6, step=1.0):
    x, y = np.meshgrid(step * np.arange(m), step * np.arange(n), indexing="ij")
    return np.stack([x, y, np.zeros_like(x)], axis=-1)


corner = st.tuples(*[st.integers(0, 2)] * 3)


@settings(max_examples=150)
@given(st.lists(st.tuples(corner, corner, corner), min_size=1, max_size=9))
def test_counts_of_any_soup_agree_with_the_slow_survey(triangles):
    mesh = Mesh.from_corners(np.array(triangles, float))
    slow = SlowSurvey(triangles).counts()
    assert counts(look(mesh)) == slow
    found = look(mesh)
    assert found.sound == (not any(slow[k] for k in list(slow)[3:]) and not any(s.inside_out for s in found.shell_list))


@settings(max_examples=60)
@given(st.lists(st.tuples(corner, corner, corner), min_size=1, max_size=12), st.integers(0, 10**6))
def test_tolerances_agree_with_the_slow_survey(triangles, seed):
    rng = np.random.default_rng(seed)
    corners = np.array(triangles, float) * (1.0, 1.0, 0.05)
    corners = (corners + rng.normal(0, 0.004, corners.shape)).round(4)
    near, sliver = 0.0091, 0.0371
    slow = SlowSurvey(corners.tolist(), near, sliver).tolerant_counts()
    found = look(Mesh.from_corners(corners), near_mm=near, sliver_mm=sliver)
    assert (found.slivers.count, found.near.vertices) == (slow["slivers"], slow["near_vertices"])


@settings(max_examples=25)
@given(st.integers(0, 10**6), st.sampled_from([finial, cloud_tile, dragon_bracket]))
def test_the_order_of_faces_a_quarter_turn_and_a_doubling_change_no_count(seed, make):
    mesh = make()[0]
    rng = np.random.default_rng(seed)
    faces = mesh.faces[rng.permutation(len(mesh.faces))]
    faces = np.array([np.roll(f, k) for f, k in zip(faces, rng.integers(0, 3, len(faces)), strict=True)])
    number = rng.permutation(len(mesh.vertices))  # vertices renamed too
    vertices = np.empty_like(mesh.vertices)
    vertices[number] = mesh.vertices
    moved = Mesh(2.0 * vertices[:, [1, 2, 0]], number[faces])
    before, after = look(mesh), look(moved)
    assert counts(before) == counts(after)
    assert Counter(o.kind for o in before.openings) == Counter(o.kind for o in after.openings)
    assert Counter(s.role for s in before.shell_list) == Counter(s.role for s in after.shell_list)
    assert before.hidden.count == after.hidden.count and before.flipped.count == after.flipped.count
    assert before.self_intersections.zone_count == after.self_intersections.zone_count
    assert [o.span_mm for o in after.openings] == pytest.approx([2 * o.span_mm for o in before.openings])


def wedge(degrees, length=10.0):
    """A prism whose edge along z has this angle."""
    t = np.radians(degrees)
    ends = np.array([[0, 0], [length, 0], [length * np.cos(t), length * np.sin(t)]])
    points = np.concatenate([np.c_[ends, np.zeros(3)], np.c_[ends, np.full(3, length)]])
    return Mesh(points, [(0, 2, 1), (3, 4, 5), (0, 1, 4), (0, 4, 3), (1, 2, 5), (1, 5, 4), (2, 0, 3), (2, 3, 5)])


@pytest.mark.parametrize("degrees", [3, 9.9, 10.1, 45, 90])
@pytest.mark.parametrize("turn", [False, True])
def test_knife_edges_are_those_of_the_material(degrees, turn):
    mesh = wedge(degrees)
    slow = SlowSurvey(mesh.corners.tolist(), knife_deg=10.0).tolerant_counts()["knife_edges"]
    assert slow == (degrees < 10)
    assert look(mesh.turned() if turn else mesh).knives.count == slow
    # the same wedge cut out of a block is a groove, not a knife
    groove = box((-5, -5, -5), (25, 25, 25)).joined(mesh.turned())
    assert look(groove).knives.count == 0


def with_faces(mesh, *rows):
    return Mesh(mesh.vertices, np.concatenate([mesh.faces, *(np.atleast_2d(r) for r in rows)]))


def doubled(way):
    mesh = globe(5, (0, 0, 0), 8)
    return with_faces(mesh, mesh.faces[[2, 20, 40]][:, ::way])


def flipped():
    mesh = block((0, 0, 0), (4, 4, 4))
    faces = np.array(mesh.faces)
    faces[:2] = faces[:2, ::-1]
    return Mesh(mesh.vertices, faces)


HAND_MADE = {
    # name: (mesh, what differs from a sound model)
    "sound": (box(), {}),
    "hollow": (shell_box(), {"shells": 2}),
    "face missing": (box().picked(slice(1, None)), {"open_edges": 3}),
    "two holes": (globe(5, (0, 0, 0), 8).picked(np.setdiff1d(np.arange(48), [3, 30])), {"open_edges": 6}),
    "fin": (
        with_faces(Mesh([*box().vertices, (20, 5, 5)], box().faces), [0, 1, 8]),
        {"open_edges": 2, "nonmanifold_edges": 1},
    ),
    "twins same": (doubled(1), {"nonmanifold_edges": 9, "twins_same_way": 3, "self_intersections": 3}),
    "twins opposite": (doubled(-1), {"nonmanifold_edges": 9, "twins_opposite_way": 3, "self_intersections": 3}),
    "flipped": (flipped(), {"badly_oriented_edges": 4}),
    "two cubes on an edge": (
        Mesh.from_corners(np.concatenate([box().corners, box((10, 10, 0), (20, 20, 10)).corners])),
        {"nonmanifold_edges": 1},
    ),
    "two cubes on a corner": (
        Mesh.from_corners(np.concatenate([box().corners, box((10, 10, 10), (20, 20, 20)).corners])),
        {"split_vertices": 1, "shells": 2},
    ),
    "crossing": (box().joined(box((5, 5, 5), (15, 15, 15))), {"shells": 2}),
    "touching faces": (box().joined(box((10, 2, 2), (20, 8, 8))), {"shells": 2}),
    "face without area": (with_faces(box(), [0, 0, 1]), {}),
}


@pytest.mark.parametrize("name", HAND_MADE)
def test_hand_made_defects(name):
    mesh, expected = HAND_MADE[name]
    found = counts(look(mesh))
    assert found == SlowSurvey(mesh.corners.tolist()).counts()
    assert {k: found[k] for k in expected} == expected
    if name in ("sound", "hollow"):
        assert look(mesh).sound and judge(look(mesh)).verdict == "sound"
    else:
        assert not look(mesh).sound and judge(look(mesh)).verdict in ("not sound", "sound with faults")
    if name in ("crossing", "touching faces"):
        assert found["self_intersections"] > 0


def holed(*cells, m=20, n=20):
    keep = np.ones((m - 1, n - 1), bool)
    for i, j in cells:
        keep[i, j] = False
    return sheet(flat_sheet(m, n), keep)


def test_openings_are_loops_with_their_measures():
    found = look(holed((4, 4), (10, 10), (10, 11), (11, 10), (11, 11)))
    assert [(o.kind, o.edges) for o in found.openings] == [("rim", 76), ("hole", 8), ("hole", 4)]
    rim, large, small = found.openings
    assert small.length_mm == 4 and small.span_mm == pytest.approx(np.sqrt(2)) and small.bent_mm == 0
    assert small.where_mm == (4.5, 4.5, 0) and small.area_mm2 == pytest.approx(1)
    assert large.span_mm == pytest.approx(2 * np.sqrt(2)) and large.area_mm2 == pytest.approx(4)
    assert rim.length_mm == 76 and rim.span_mm == pytest.approx(19 * np.sqrt(2)) and rim.size_mm == (19, 19, 0)
    assert [s.role for s in found.shell_list] == ["open skin"]


def test_holes_that_touch_in_a_point_stay_apart_and_a_bent_one_says_so():
    found = look(holed((4, 4), (5, 5)))
    assert [(o.kind, o.edges) for o in found.openings] == [("rim", 76), ("hole", 4), ("hole", 4)]
    # an open tube: two rims as far as a slicer cares, flat; its roof folded away
    x = turned([(5, 0), (5, 20)], 40)
    tube = x.picked(np.abs(x.area_vectors[:, 2]) < 1e-9)
    found = look(tube)
    assert len(found.openings) == 2 and all(o.bent_mm < 1e-9 and o.span_mm == pytest.approx(10) for o in found.openings)
    bowl = globe(10, (0, 0, 0), 32)
    cut = bowl.picked(
        bowl.vertices[bowl.faces][:, :, 0].max(axis=1) < 4 + 0.4 * bowl.vertices[bowl.faces][:, :, 1].max(axis=1)
    )
    assert look(cut).openings[0].bent_mm > 0.3


def test_a_tiny_hole_in_a_large_model_is_found_with_its_place():
    mesh, middle = pricked_ball()
    (hole,) = look(mesh).openings
    assert hole.kind == "hole" and hole.edges == 3 and hole.span_mm < 0.1
    assert hole.where_mm == pytest.approx(middle, abs=0.05)


def test_cracks_would_close_within_the_tolerance():
    x = flat_sheet(5, 4)
    gap = np.array([0.0, 0.01, 0.0])
    mesh = sheet(x).joined(sheet(x * (1, -1, 1) - gap).turned())
    found = look(mesh, near_mm=0.011)
    assert found.near.vertices == 10 and found.near.open_edges_closed == 8
    assert look(mesh, near_mm=0.009).near.vertices == 0
    codes = {f.code for f in judge(found).findings}
    assert {"cracks", "open_edges"} <= codes


@pytest.mark.parametrize(
    ("mesh", "roles", "faces"),
    [
        (box(), ["outer"], ["out"]),
        (box().turned(), ["outer"], ["in"]),
        (shell_box(), ["outer", "cavity"], ["out", "in"]),
        (shell_box().turned(), ["outer", "cavity"], ["in", "out"]),
        (box().joined(box((2, 2, 2), (8, 8, 8))), ["outer", "buried"], ["out", "out"]),
        (shell_box().joined(box((5, 5, 5), (9, 9, 9))), ["outer", "cavity", "loose"], ["out", "in", "out"]),
        (box().joined(box((20, 0, 0), (20.2, 0.2, 0.2))), ["outer", "outer"], ["out", "out"]),
        (box().joined(box((5, 5, 5), (15, 15, 15))), ["outer", "outer"], ["out", "out"]),
        (sheet(flat_sheet()), ["open skin"], [""]),
        (box().picked(slice(1, None)), ["open body"], ["out"]),
        (box().picked(slice(2, None)), ["open shell"], ["out"]),
        (flipped(), ["outer"], ["mixed"]),
    ],
)
def test_roles_and_facing(mesh, roles, faces):
    found = look(mesh)
    assert [s.role for s in found.shell_list] == roles
    assert [s.faces for s in found.shell_list] == faces


def test_volume_is_that_of_the_material():
    assert look(box()).volume_mm3 == pytest.approx(1000)
    assert look(box().turned()).volume_mm3 == pytest.approx(1000)
    assert look(shell_box(2, 20)).volume_mm3 == pytest.approx(20**3 - 16**3)
    assert look(shell_box(2, 20).joined(box((5, 5, 5), (9, 9, 9)))).volume_mm3 == pytest.approx(20**3 - 16**3 + 64)
    assert look(box().joined(box((2, 2, 2), (8, 8, 8)))).volume_mm3 == pytest.approx(1000)
    assert look(box().picked(slice(1, None))).volume_mm3 is None


def test_flipped_regions_are_the_smaller_side():
    mesh = ball(8, 0.8)
    faces = np.array(mesh.faces)
    up = mesh.vertices[mesh.faces].mean(axis=1)
    patches = [np.linalg.norm(up - np.array(p), axis=1) < 3 for p in ((8, 0, 0), (-8, 0, 0))]
    wrong = patches[0] | patches[1]
    faces[wrong] = faces[wrong][:, ::-1]
    found, marks = survey(Mesh(mesh.vertices, faces))
    assert found.flipped.count == wrong.sum() and len(found.flipped.zones) == 2
    assert set(marks.faces["flipped_faces"]) == set(np.flatnonzero(wrong))
    assert {round(z.where_mm[0]) for z in found.flipped.zones} <= {-7, 7, 8, -8}


def test_hidden_faces_are_those_inside_other_material():
    one, other = box(), box((5, 2, 2), (30, 8, 8))
    mesh = one.joined(other)
    found, marks = survey(mesh)
    hidden = set(marks.faces["hidden_faces"])
    # the end of the bar inside the box, and no face of the box
    end = {f for f in range(12, 24) if (mesh.vertices[mesh.faces[f]][:, 0] == 5).all()}
    # and of the box, only faces whose middles the bar covers
    assert end <= hidden <= end | {10, 11} and found.hidden.zones
    assert found.self_intersections.of_parts == found.self_intersections.pairs > 0
    assert found.self_intersections.zones[0].shells == (1, 2)
    assert found.self_intersections.zones[0].where_mm[0] == pytest.approx(10, abs=0.01)


def test_a_part_that_crosses_itself_is_told_from_parts_that_cross():
    mesh = box((0, 0, 0), (10, 10, 10))
    vertices = np.array(mesh.vertices)
    vertices[7] = (-5, -5, 4)  # one corner pushed through the opposite side
    found = look(Mesh(vertices, mesh.faces))
    assert found.self_intersections.of_itself == found.self_intersections.pairs > 0
    assert found.self_intersections.of_parts == 0
    slow = SlowSurvey(vertices[mesh.faces].tolist()).counts()
    assert found.self_intersections.pairs == slow["self_intersections"]


def planned(mesh, plan):
    """What a survey found, put like the plan."""
    found = look(mesh)
    kinds = Counter(o.kind for o in found.openings)
    return replace(
        plan,
        shells=found.shells,
        roles=dict(Counter(s.role for s in found.shell_list)),
        open_edges=found.open_edges,
        nonmanifold_edges=found.nonmanifold_edges,
        badly_oriented_edges=found.badly_oriented_edges,
        openings=dict(kinds),
        flipped_faces=found.flipped.count,
        flipped_regions=len(found.flipped.zones),
        twins_same_way=found.twins.same_way,
        twins_opposite_way=found.twins.opposite_way,
        inside_out=found.inside_out,
        strays=sum(s.stray for s in found.shell_list),
        crossing=frozenset(z.shells for z in found.self_intersections.zones),
        slivers=found.slivers.count,
        near_vertices=found.near.vertices,
        cracks_closed=found.near.open_edges_closed,
        knife_edges=found.knives.count,
    )


@pytest.mark.parametrize(("make", "suffix"), [(finial, ".stl"), (cloud_tile, ".ply"), (dragon_bracket, ".obj")])
def test_the_demo_models_have_their_planned_faults_and_no_others(tmp_path, make, suffix):
    mesh, plan = make()
    assert planned(mesh, plan) == plan
    path = tmp_path / f"model{suffix}"
    write_model(path, mesh)
    assert planned(read_model(path).mesh, plan) == plan


def test_every_format_gives_the_same_counts(tmp_path):
    mesh, _ = finial()
    expected = counts(look(mesh))
    for name in ("a.stl", "text.stl", "a.obj", "a.ply", "a.off", "a.3mf"):
        write_model(tmp_path / name, mesh, text=name == "text.stl")
        assert counts(look(read_model(tmp_path / name).mesh)) == expected


def test_the_lantern_set_is_sound_and_smells_of_inches():
    for name, mesh in lantern_set().items():
        found = look(mesh)
        assert found.sound, name
        judged = judge(found)
        assert judged.verdict == "sound" and any(g.unit == "in" for g in judged.units)


def test_units_are_guessed_only_where_the_size_is_odd():
    assert guess_units(50, "mm") == () and guess_units(0, "mm") == ()
    inches = {g.unit: g.longest_mm for g in guess_units(3.9, "mm")}
    assert inches["in"] == pytest.approx(99.06) and inches["cm"] == pytest.approx(39)
    assert {g.unit for g in guess_units(0.12, "mm")} == {"m"}
    assert {g.unit: g.longest_mm for g in guess_units(90_000, "mm")}["um"] == pytest.approx(90)
    assert {g.unit for g in guess_units(25.4 * 100, "in")} == {"mm"}


def test_purposes():
    answers = {p.name: p.answer for p in judge(look(box())).purposes}
    assert answers == {"slice": "yes", "hollow": "yes", "measure": "yes"}
    answers = {p.name: p.answer for p in judge(look(shell_box())).purposes}
    assert answers == {"slice": "yes", "hollow": "no", "measure": "yes"}
    crossing = {p.name: p.answer for p in judge(look(box().joined(box((5, 5, 5), (15, 15, 15))))).purposes}
    assert crossing == {"slice": "in part", "hollow": "no", "measure": "in part"}
    broken = {p.name: p.answer for p in judge(look(flipped())).purposes}
    assert broken == {"slice": "no", "hollow": "no", "measure": "no"}


def test_isolated_faces_are_parts_by_class():
    mesh, plan = finial()
    _, marks = survey(mesh)
    faces, parts = isolated(mesh, marks)
    sizes = dict(zip(parts.names, np.bincount(parts.part), strict=True))
    assert sizes["flipped_faces"] == plan.flipped_faces and sizes["twin_faces"] == 2 * 5
    assert len(faces.faces) == sum(sizes.values())


def test_settings_that_make_no_sense_and_nothing_to_survey():
    for settings_ in (SurveySettings(near_mm=-1), SurveySettings(sliver_mm=float("nan")), SurveySettings(knife_deg=90)):
        with pytest.raises(UsageError):
            survey(box(), settings_)
    with pytest.raises(WorkError, match="no faces"):
        survey(Mesh(np.zeros((0, 3)), np.zeros((0, 3), np.int32)))
