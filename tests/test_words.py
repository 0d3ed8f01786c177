"""What people read: rows of walls, overhangs and directions; tables; a whole way from an odd file to a fit print."""

import json

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from bolvek.analyses.overhangs import find_overhangs
from bolvek.analyses.overhangs.directions import compare_directions
from bolvek.analyses.thickness import measure_walls, surfaces_along
from bolvek.demo.measured import lattice_shade
from bolvek.demo.pieces import block
from bolvek.errors import WorkError
from bolvek.formats import read_model
from bolvek.mesh import Mesh
from bolvek.report.tables import face_table
from bolvek.report.words.overhangs import direction_rows, overhang_rows
from bolvek.report.words.walls import wall_rows
from bolvek.settings.measures import OverhangSettings, RankSettings, WallSettings
from support import box


def text_of(rows):
    return "\n".join(f"{name}: {text}" for name, text in rows)


def test_wall_rows_tell_what_was_measured_and_what_was_not():
    plate = block((0, 0, 0), (30, 20, 0.8)).joined(block((0, 0, 1.0), (30, 20, 4)))
    record, _ = measure_walls(plate, WallSettings(min_mm=1.0, gap_mm=0.4))
    text = text_of(wall_rows(record))
    for words in (
        "minimum: 1.000 mm",
        "wall: by rays 0.800 mm",
        "too thin:",
        "1 zone",
        "gaps: across air 0.200 mm",
        "shells 1, 2",
    ):
        assert words in text, words
    assert "125.0% of its size everything reaches the minimum" in text
    skin = Mesh(np.array([[0, 0, 0], [9, 0, 0], [9, 9, 1], [0, 9, 0.0]]), [[0, 1, 2], [0, 2, 3]])
    text = text_of(wall_rows(measure_walls(skin)[0]))
    assert "wall: nowhere a wall" in text and "100.0% without another side" in text
    gone, _ = measure_walls(block((0, 0, 0), (20, 20, 0.001)), WallSettings(min_mm=1.0))
    assert "as good as gone" in text_of(wall_rows(gone)) and "no size" in text_of(wall_rows(gone))


def test_long_lists_are_cut_and_say_so():
    posts = [block((4 * k, 0, 0), (4 * k + 0.5, 5, 5)) for k in range(12)]
    record, _ = measure_walls(posts[0].joined(*posts[1:]), WallSettings(min_mm=1.0))
    assert record.zone_count == 12
    assert "and 4 more; --details tells all" in text_of(wall_rows(record))
    assert "more; --details" not in text_of(wall_rows(record, most=100))


def test_overhang_and_direction_rows():
    mesh, plan = lattice_shade()
    record, kind = find_overhangs(mesh)
    text = text_of(overhang_rows(record, most=20))
    assert text.count("bridge, ") == plan.bridges and text.count("overhang, ") == plan.cantilevers
    assert text.count("bottom of an island") == plan.islands and f"islands: {plan.islands}" in text
    assert "280 layers of 0.2 mm" in text and "the centre of mass stands" in text and "stands on the bed" in text
    area = [float(mesh.face_areas[kind == k].sum()) for k in range(5)]
    assert area[1] == pytest.approx(plan.bed_contact_mm2)
    assert sum(area[2:]) == pytest.approx(plan.overhang_mm2)
    compared = compare_directions(mesh, OverhangSettings(), RankSettings(count=10, best=2))
    rows = direction_rows(compared)
    assert [name.strip() for name, _ in rows] == ["compared", "1", "2", "as it is"]
    assert "overhang 1, islands 1, support 1, height 0.3, contact 0.3" in rows[0][1]
    hangs = text_of(overhang_rows(find_overhangs(mesh, OverhangSettings(habit="hangs"))[0]))
    assert "hangs from the plate" in hangs


def test_tables_of_faces():
    table = face_table(box(), {"wall_mm": np.array([1.5] * 11 + [np.nan])}).decode().splitlines()
    assert table[0] == "face,x_mm,y_mm,z_mm,wall_mm" and len(table) == 13
    assert table[1].endswith(",1.5") and table[12].endswith(",") and table[12].startswith("11,")


@given(st.integers(1, 5), st.integers(0, 10**6))
def test_surfaces_along_a_ray_tell_how_deep_its_start_lies(nested, seed):
    rng = np.random.default_rng(seed)
    boxes = [box((k, k, k), (20.0 - k, 20.0 - k, 20.0 - k)) for k in range(nested)]
    mesh = boxes[0].joined(*boxes[1:])
    points = rng.uniform(-2, 22, (20, 3))
    directions = rng.normal(size=(20, 3))
    directions /= np.linalg.norm(directions, axis=1)[:, None]
    _, step = surfaces_along(mesh, points, directions, np.ones(len(mesh.faces)))
    inside = [((points > k) & (points < 20 - k)).all(axis=1) for k in range(nested)]
    np.testing.assert_array_equal(step.sum(axis=1), np.sum(inside, axis=0))


corner = st.tuples(*[st.integers(0, 3)] * 3)


@settings(max_examples=20)
@given(
    st.lists(st.tuples(corner, corner, corner), min_size=1, max_size=10),
    st.sampled_from([1.0, 1e-6, 1e6]),
    st.sampled_from([0.0, 0.01, 1e-9]),
    st.integers(0, 10**6),
)
def test_any_soup_is_measured_or_refused_in_one_sentence(triangles, size, noise, seed):
    rng = np.random.default_rng(seed)
    corners = size * (np.array(triangles, float) + noise * rng.normal(size=(len(triangles), 3, 3)))
    mesh = Mesh.from_corners(corners)
    up = tuple(rng.normal(size=3))
    for work in (
        lambda: measure_walls(mesh, WallSettings(min_mm=0.5 * size, gap_mm=size)),
        lambda: find_overhangs(mesh, OverhangSettings(up=up, layer_mm=0.1 * size)),
        lambda: compare_directions(mesh, OverhangSettings(), RankSettings(count=3)),
    ):
        try:
            found = work()
        except WorkError as error:
            assert "flat" in str(error) or "no surface" in str(error)
            continue
        record = found[0] if isinstance(found, tuple) else found
        assert "nan" not in str(record).lower()


def test_from_an_odd_file_to_a_fit_print(bolvek, tmp_path):
    """A quad cube in inches, lying far away, with a loose name: looked at, sized, posed, measured, made fit."""
    corners = [(x, y, z) for z in (0, 1) for y in (0, 1) for x in (0, 1)]
    quads = [(0, 2, 3, 1), (4, 5, 7, 6), (0, 1, 5, 4), (2, 6, 7, 3), (0, 4, 6, 2), (1, 3, 7, 5)]
    text = "o lantern box\n" + "".join(f"v {x + 40} {y} {z + 7}\n" for x, y, z in corners)
    text += "".join("f " + " ".join(str(i + 1) for i in q) + "\n" for q in quads)
    (tmp_path / "odd.txt").write_text(text)
    said = bolvek("survey", "odd.txt", "--unit", "in").stdout
    assert "its content is OBJ" in said and "25.40 x 25.40 x 25.40 mm" in said and "6 polygons" in said
    bolvek("scale", "odd.txt", "--unit", "in", "-o", "mm.3mf")
    bolvek("pose", "mm.3mf", "--centre", "--drop", "-o", "posed.stl")
    assert read_model(tmp_path / "posed.stl").mesh.bounds[0].tolist() == pytest.approx([-12.7, -12.7, 0])
    assert "prints as it stands" in bolvek("overhangs", "posed.stl").stdout
    done = bolvek("prep", "posed.stl", "--wall", "2mm", "--diameter", "3mm", "-o", "fit.stl", "--json", "-")
    assert json.loads(done.stdout)["verdict"] == "fit"
    said = bolvek("walls", "fit.stl", "--least-wall", "1.9mm").stdout
    assert "verdict" in said and "thick enough" in said
    assert bolvek("survey", "fit.stl", "--json", "-").stdout.count('"sound": true') == 1
