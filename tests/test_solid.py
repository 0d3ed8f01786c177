"""The last resort is local: what is at fault is made anew, the rest of the faces stay bit for bit."""

import json

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

import dirt
from bolvek.analyses.deviation import matching_faces
from bolvek.analyses.soundness import find_defects
from bolvek.errors import WorkError
from bolvek.formats import read_model, write_model
from bolvek.mesh import Mesh
from bolvek.operations.places.cubes import Cubes
from bolvek.operations.places.faults import without_buried
from bolvek.operations.places.local import recast_places
from bolvek.operations.solid import make_solid
from bolvek.settings.repairs import RecastSettings, SolidSettings
from support import assert_sound, ball

NEW = ("places_at_fault", "walls_within", "a_cage_of_ribs", "a_head_of_lumps", "a_net_of_rods")


@settings(max_examples=20, deadline=None)
@given(st.lists(st.tuples(*(st.floats(-20, 20),) * 3), min_size=1, max_size=12), st.floats(0.3, 5.0))
def test_cubes_are_a_sound_body_around_the_places(places, side):
    points = np.array(places)
    cubes, body = Cubes.around(points, side, np.zeros(3)).body()
    assert not find_defects(body) and (body.shell_volumes > 0).any()
    assert body.volume == pytest.approx(len(cubes.names) * side**3)
    assert cubes.hold(points).all() and (body.tree.winding(points) > 0.5).all()
    # a cube all around, whatever side of its own a place is near
    assert (body.tree.nearest(points)[0] >= side * (1 - 1e-9)).all()


def test_what_is_at_fault_is_made_anew_and_nothing_else(bolvek, tmp_path):
    """Three places shaken until faces cross, one of them torn and with fins; mending settles two of them."""
    whole = ball(20.0, 1.0)
    points, faces = whole.vertices.copy(), whole.faces
    rng = np.random.default_rng(5)
    for pole in ([0, 0, 20], [20, 0, 0], [0, -14.1, -14.1]):
        near = np.linalg.norm(whole.vertices - pole, axis=1) < 2.5
        points[near] += rng.normal(scale=0.9, size=(int(near.sum()), 3))
    own = np.flatnonzero((np.linalg.norm(whole.vertices - [0, 0, 20], axis=1) < 2.5)[faces].all(axis=1))
    fins = np.array([[faces[f, 0], faces[f, 1], faces[own[-1], 2]] for f in own[:4]], np.int32)
    hurt = Mesh(points, np.concatenate([np.delete(faces, own[5:9], axis=0), fins])).as_stored()
    write_model(tmp_path / "ball.stl", hurt)
    bolvek("solid", "ball.stl", "-o", "out.stl", "--json", "out.json")
    file = read_model(tmp_path / "out.stl").mesh
    record = json.loads((tmp_path / "out.json").read_text())["models"][0]["solid"]
    assert record["way"] == "fused" and record["remade"] == 1 and record["changes"]["max_mm"] < 3
    here, local = recast_places(hurt, RecastSettings(grow_mm=0.6, grow_closed_mm=0.0))
    assert len(local.zones) == 3 and local.share < 0.12
    poles = np.array([[0, 0, 20], [20, 0, 0], [0, -14.1, -14.1]])
    off = np.linalg.norm(hurt.corners.mean(axis=1)[:, None] - poles, axis=2).min(axis=1)
    for out in (file, here):
        assert not find_defects(out) and out.volume == pytest.approx(whole.volume, rel=5e-3)
        kept = matching_faces(hurt, out)[0] == 1
        assert kept[off > 8.0].all() and kept.mean() > 0.85
        assert out.tree.nearest(whole.vertices)[0].max() < 1.0


def test_walls_within_go_without_a_lattice():
    """By hand: three cubes in an L with one sheet between each two, which belongs to either."""
    cubes = [dirt.Solid(np.array(c) * 8.0 + 4.0, np.full(3, 4.0)) for c in ((0, 0, 0), (1, 0, 0), (0, 1, 0))]
    corners = np.concatenate([c.mesh(2.5).corners for c in cubes])
    _, first = np.unique(np.sort(np.round(corners, 6), axis=1), axis=0, return_index=True)
    mesh = Mesh.from_corners(corners[np.sort(first)]).as_stored()
    walls = len(cubes[0].mesh(2.5).faces) // 6
    assert mesh.topology.nonmanifold_edges
    freed, gone = without_buried(mesh)
    assert gone == 2 * walls and not find_defects(freed) and freed.volume == pytest.approx(3 * 512.0)
    solid, record = make_solid(mesh, SolidSettings())
    assert record.way == "mended" and solid.volume == pytest.approx(3 * 512.0)
    # a fin in the air shows, and is no wall within
    fin = np.array([[[8, 8, 8], [16, 8, 8], [12, 12, 14]]], float)
    kept, gone = without_buried(Mesh.from_corners(np.concatenate([cubes[0].mesh().corners, fin])))
    assert gone == 0 and len(kept.faces) == 13


def test_more_than_a_third_is_no_place():
    """Noise all over: it is said how much would be made anew, and all of it is."""
    rng = np.random.default_rng(3)
    whole = ball(10.0, 1.0)
    noisy = Mesh(whole.vertices + rng.normal(scale=0.5, size=whole.vertices.shape), whole.faces).as_stored()
    with pytest.raises(WorkError, match="% of its surface would be made anew"):
        recast_places(noisy, RecastSettings())


@pytest.mark.parametrize("name", NEW)
def test_composed_of_places_at_fault(name):
    """The truth: which places lie in the bodies composed."""
    told = dirt.judged(name, 1)
    assert told.what == "right", told.text


def test_mending_ends_with_places_made_anew(bolvek, tmp_path):
    """The truth: which places lie in the body composed. Without the step the faults stay; so they do in a skin."""
    for seed in (1, 2):
        told = dirt.judged("places_at_fault", seed, by_mending=True)
        assert told.what == "right", told.text
    whole = ball(10.0, 0.8)
    hurt = dirt.hurt(np.random.default_rng(5), whole, 4, 2.4).as_stored()
    write_model(tmp_path / "hurt.stl", hurt)
    done = bolvek("mend", "hurt.stl", "-o", "out.stl", "--json", "-")
    (record,) = json.loads(done.stdout)["models"]
    step = record["mend"]["steps"][-1]
    assert record["verdict"] == "sound" and step["step"] == "remake" and step["counts"]["places"]
    out = read_model(tmp_path / "out.stl").mesh
    assert_sound(out)
    # what lies away from all that was hurt stays bit for bit
    moved = np.any(np.abs(hurt.vertices - whole.as_stored().vertices) > 0, axis=1)
    near = np.linalg.norm(hurt.corners.mean(axis=1)[:, None] - hurt.vertices[moved], axis=2).min(axis=1)
    assert matching_faces(hurt, out)[0][near > 6].all() and out.tree.nearest(whole.vertices)[0].max() < 1.0
    bolvek("mend", "hurt.stl", "--without", "remake", "-o", "left.stl", expect=1)
    # half a ball is a skin: it gets no lid and no lattice
    half = hurt.picked(hurt.corners[:, :, 2].mean(axis=1) < 0)
    write_model(tmp_path / "half.stl", half)
    done = bolvek("mend", "half.stl", "-o", "half.out.stl", expect=1)
    assert "as it may be meant" in done.stdout and "made anew on" not in done.stdout
