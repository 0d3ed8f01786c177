"""Splitting files into parts and joining files: nothing welded, moved or lost; names carried on."""

import json

import numpy as np
import pytest

from bolvek.errors import WorkError
from bolvek.formats import read_model, write_model
from bolvek.formats.soup import Parts
from bolvek.operations.split import join, split, tags
from bolvek.report.record import Record
from bolvek.settings.parts import SplitSettings
from support import ball, box, shell_box


def corners(mesh):
    return sorted(map(tuple, mesh.vertices[mesh.faces].reshape(-1, 9).tolist()))


def test_a_shell_with_its_voids_is_one_part_and_no_face_is_lost():
    hollow, loose = shell_box(), box((8, 8, 8), (9, 9, 9))
    sheet = box((50, 0, 0), (60, 10, 10)).picked([0, 1])
    mesh = box((30, 0, 0), (40, 10, 10)).turned().joined(hollow, loose, sheet)
    made, record = split(mesh, None, SplitSettings())
    assert [p.triangles for p in record.parts] == [24, 12, 12, 2] and record.left_out == 0
    first = record.parts[0]
    assert first.cavities == 1 and first.volume_mm3 == pytest.approx(20**3 - 16**3)
    assert [p.closed for p in record.parts] == [True, True, True, False]
    assert sorted(sum((corners(part) for part in made.parts), [])) == corners(mesh)
    assert made.parts[1].volume < 0, "nothing is turned"
    assert any(f.code == "open_parts" for f in record.findings)


def test_strays_are_left_out_or_gathered():
    grains = [box((20 + 2 * k, 0, 0), (21 + 2 * k, 0.5, 0.5)) for k in range(5)]
    mesh = ball(5).joined(*grains)
    made, record = split(mesh, None, SplitSettings(least_mm=1.5))
    assert len(made.parts) == 1 and record.strays == 5 and record.left_out == 60 and made.strays is None
    made, record = split(mesh, None, SplitSettings(least_mm=1.5, gather=True))
    assert len(made.strays.faces) == 60 and record.left_out == 0
    made, record = split(mesh, None, SplitSettings(largest=True))
    assert len(made.parts) == 1 and record.left_out == 60
    with pytest.raises(WorkError, match="no part is left"):
        split(mesh, None, SplitSettings(least_mm=99))


def test_names_are_kept_and_made_different():
    a, b, c = box(), box((5, 0, 0), (15, 10, 10)), box((30, 0, 0), (31, 1, 1))
    mesh, parts, record = join(
        [("lid", a, None), ("lid", b, None), ("set", c, Parts(("hook",), np.zeros(12, np.int32)))]
    )
    assert parts.names == ("lid", "lid 2", "hook") == record.names and len(mesh.vertices) == 24
    made, record = split(mesh, parts, SplitSettings())
    assert record.by == "name" and [corners(p) for p in made.parts] == [corners(a), corners(b), corners(c)]
    assert tags(record) == ["lid", "lid_2", "hook"]
    odd = Parts(("a/b", "a b", "..", "ok"), np.repeat([0, 1, 2, 3], [9, 9, 9, 9]).astype(np.int32))
    _, record = split(mesh, odd, SplitSettings())
    assert len(set(tags(record))) == 4 and all("/" not in tag and tag.strip(".") for tag in tags(record))
    _, record = split(mesh, odd, SplitSettings(by="part"))
    assert record.by == "part" and len(record.parts) == 3
    with pytest.raises(WorkError, match="no names"):
        split(mesh, None, SplitSettings(by="name"))


def test_join_and_split_as_a_preparer_does(bolvek, tmp_path):
    for name, mesh in (("body", shell_box()), ("lid", box((0, 0, 20), (20, 20, 25))), ("hook", ball(4))):
        write_model(tmp_path / f"{name}.stl", mesh)
    told = bolvek("join", "body.stl", "lid.stl", "hook.stl", "-o", "lamp.3mf", "--picture", "lamp.png").stdout
    assert "3 models, 3 parts" in told and "body, lid, hook" in told
    lamp = read_model(tmp_path / "lamp.3mf")
    assert lamp.parts.names == ("body", "lid", "hook")
    done = bolvek("split", "lamp.3mf", "-o", "apart/", "--picture", "apart.png", "--json", "-")
    Record.model_validate_json(done.stdout)
    assert json.loads(done.stdout)["models"][0]["split"]["by"] == "name"
    names = {p.name for p in (tmp_path / "apart").iterdir()}
    assert names == {"lamp.body.3mf", "lamp.lid.3mf", "lamp.hook.3mf"}
    assert corners(read_model(tmp_path / "apart" / "lamp.hook.3mf").mesh) == corners(
        read_model(tmp_path / "hook.stl").mesh
    )
    bolvek("split", "lamp.3mf", "-o", "apart/", expect=3)
    bolvek("split", "lamp.3mf", "--into", "part", "-o", "one.stl", "--largest")
    assert (tmp_path / "one.part1.stl").exists()
    assert "no place" in bolvek("join", "body.stl", "lid.stl", "-o", "two.stl").stdout
    assert "no names" in bolvek("split", "body.stl", "--into", "name", expect=4).stderr
    bolvek("split", "body.stl", "--gather", expect=2)
    assert "two at least" in bolvek("join", "body.stl", expect=2).stderr
    bolvek("join", "body.stl", "lid.stl", "-o", "lid.stl", "--replace", expect=3)
