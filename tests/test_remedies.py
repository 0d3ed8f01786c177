"""What is advised is followed: every command that is told runs as it stands and does what was said of it."""

import ast
import importlib
import json
import shlex
from pathlib import Path

import numpy as np
import pytest

import bolvek
from bolvek.cli.base import remedies
from bolvek.cli.verbs import VERBS
from bolvek.formats import write_model
from bolvek.mesh import Mesh
from bolvek.settings import remedy
from support import ball, blob, box, field, shell_box
from test_survey import HAND_MADE
from wounds import WOUNDS


def open_box(side=20.0):
    """A box without its lid."""
    mesh = box((0, 0, 0), (side, side, side))
    return mesh.picked((mesh.corners[:, :, 2] < side).any(axis=1))


def sheet():
    """A wavy sheet, open all around."""
    x, y = np.meshgrid(np.linspace(0, 20, 21), np.linspace(0, 20, 21), indexing="ij")
    at = np.arange(21 * 21).reshape(21, 21)
    a, b, c, d = (part.ravel() for part in (at[:-1, :-1], at[1:, :-1], at[1:, 1:], at[:-1, 1:]))
    faces = np.concatenate([np.stack([a, b, c], axis=1), np.stack([a, c, d], axis=1)])
    return Mesh(np.stack([x, y, np.sin(x / 3)], axis=-1).reshape(-1, 3), faces)


def pinched():
    """Two balls grown together by a neck thinner than prints."""
    return field(
        lambda x, y, z: np.minimum(
            np.minimum(np.sqrt((x - 6) ** 2 + y * y + z * z), np.sqrt((x + 6) ** 2 + y * y + z * z)) - 5,
            np.maximum(np.hypot(y, z) - 0.25, np.abs(x) - 6),
        ),
        12,
        0.25,
    )


def wounded(name):
    """A blob with one wound."""
    return WOUNDS[name](blob(), np.random.default_rng(7))[0]


SURVEYED = {
    **{name: (lambda name=name: HAND_MADE[name][0]) for name in HAND_MADE},
    **{name: (lambda name=name: wounded(name)) for name in WOUNDS},
    "open box": open_box,
    "sheet": sheet,
    "inside out": lambda: box().turned(),
    "in another": lambda: box((0, 0, 0), (20, 20, 20)).joined(box((5, 5, 5), (9, 9, 9))),
    "small": lambda: box((0, 0, 0), (2, 2, 2)),
    "far off": lambda: box((5000, 0, 0), (5020, 20, 20)),
}


def told(done):
    """The commands and what they do, of a record on stdout."""
    record = json.loads(done.stdout)
    return [(one["command"], one["does"]) for model in record["models"] for one in model["next"]], record


def followed(bolvek, command, *more):
    """The record of a command that was told; it may find faults, it may not be refused."""
    words = shlex.split(command)
    assert words[0] == "bolvek"
    for expect in (0, 1):
        try:
            return bolvek(*words[1:], *more, "--json", "-", "--replace", expect=expect)
        except AssertionError as error:
            if expect or "exit 1\n" not in str(error):
                raise
    return None


def faults(record):
    """How many of each fault a survey found; openings by their kinds."""
    found = {f["code"]: f["count"] for f in record["findings"] if f["severity"] == "fault"}
    for opening in record["models"][0]["survey"]["openings"]:
        found[opening["kind"]] = found.get(opening["kind"], 0) + 1
    return found


PROMISES = {
    "closes the holes": "hole",
    "joins the banks of the cracks": "crack",
    "welds the seams": "seam",
    "turns the flipped faces": "badly_oriented_edges",
    "turns shells that are inside out": "inside_out",
    "takes the copies out": "twin_faces",
    "takes apart what meets there": "nonmanifold_edges",
    "makes small places that cross anew": "self_intersections",
    "takes out faces without area": "flat_faces",
    "draws the fans apart": "split_vertices",
    "closes what may be an end": "hole or rim",
    "puts a lid on it all the same": "rim",
    "gives the skin a wall": "rim",
    "makes one body of what goes into each other or touches": "self_intersections",
    "takes buried shells out": "buried",
}


@pytest.mark.parametrize("name", SURVEYED)
def test_what_a_survey_advises_helps(bolvek, tmp_path, name):
    write_model(tmp_path / "model.ply", SURVEYED[name]())
    survey = bolvek(
        "survey", "model.ply", "--json", "-", expect=int(name not in ("sound", "hollow", "small", "far off"))
    )
    commands, record = told(survey)
    before = faults(record)
    assert commands and all(command.split()[1] in VERBS for command, _ in commands)
    for command, does in commands:
        made = json.loads(followed(bolvek, command).stdout)
        models = [path for path in made["outputs"] if path.endswith(".ply")]
        if not models:
            continue  # it measures
        after = faults(json.loads(followed(bolvek, f"bolvek survey {models[0]}").stdout))
        for promise, code in PROMISES.items():
            if promise in does:
                assert after.get(code, 0) < max(before.get(code, 0), 1), (command, before, after)
        if "a sound solid" in does:
            assert not after, (command, after)


REFUSED = {
    # name: (model, command, whether what is advised is followed: a grid that just fits into memory takes a minute)
    "hollow an open box": (open_box, "hollow model.ply --wall 1mm", True),
    "prep an open box": (open_box, "prep model.ply --wall 1mm", True),
    "cut crossing boxes": (lambda: HAND_MADE["crossing"][0], "cut model.ply --plane z=5", True),
    "plinth under a sheet": (sheet, "plinth model.ply", True),
    "drain an open box": (open_box, "drain model.ply --at 10,10,0", True),
    "thicken a box": (box, "thicken model.ply --thick 1mm", True),
    "thicken a fin": (lambda: HAND_MADE["fin"][0], "thicken model.ply --thick 1mm", True),
    "grow a sheet": (sheet, "thicken model.ply --least-wall 1mm", True),
    "fuse an open box": (lambda: open_box().joined(box((30, 0, 0), (40, 9, 9))), "fuse model.ply", True),
    "scale an open box": (open_box, "scale model.ply --volume 3cm3", True),
    "recast too fine": (box, "recast model.ply --grid 0.0005mm", False),
    "recast what is too thin": (sheet, "recast model.ply --grid 1mm --grow 0mm", True),
    "split without names": (box, "split model.ply --into name", True),
    "drain through a solid": (lambda: box((0, 0, 0), (20, 20, 3)), "drain model.ply --at 10,10,0", True),
}


@pytest.mark.parametrize("name", REFUSED)
def test_what_a_refusal_advises_can_be_done(bolvek, tmp_path, name):
    make, command, follow = REFUSED[name]
    write_model(tmp_path / "model.ply", make())
    said = bolvek(*command.split(), expect=4).stderr.splitlines()
    advised = [line.split("  #")[0].strip() for line in said if line.startswith("  bolvek ")]
    assert advised, said
    for one in advised if follow else ():
        followed(bolvek, one)


def test_notes_lead_on(bolvek, tmp_path):
    """Findings of verbs that make something: the file written is what the next command takes."""
    write_model(tmp_path / "two.ply", box().joined(box((30, 0, 0), (40, 9, 9))))
    commands, _ = told(bolvek("fuse", "two.ply", "--json", "-"))
    assert ("bolvek split two.fuse.ply", "makes a file of each part") in commands
    followed(bolvek, commands[0][0])
    write_model(tmp_path / "neck.ply", pinched())
    commands, record = told(bolvek("prep", "neck.ply", "--wall", "40mm", "--json", "-"))
    assert [f["code"] for f in record["findings"] if f["code"] == "own_wall_thin"], record["findings"]
    command = next(c for c, _ in commands if " thicken neck.prep.ply --least-wall 0.8mm" in c)
    made = json.loads(followed(bolvek, command).stdout)["outputs"][0]
    assert json.loads(bolvek("proof", made, "--wall", "0.79mm", "--json", "-").stdout)["verdict"] == "fit"
    write_model(tmp_path / "ball.ply", ball(10, 1.5))
    commands, record = told(bolvek("smooth", "ball.ply", "--within", "0.001mm", "--passes", "40", "--json", "-"))
    assert [f["code"] for f in record["findings"]] == ["at_limit"]
    assert commands[0][0].endswith("--within 0.002mm --replace")
    followed(bolvek, commands[0][0])
    write_model(tmp_path / "shell.ply", shell_box())
    assert told(bolvek("survey", "shell.ply", "--json", "-"))[0][0][0] == "bolvek proof shell.ply --wall 0.8mm"


def test_measures_lead_to_what_mends_them(bolvek, tmp_path):
    """Walls too thin, material in the air, a closed void: the command told takes the finding away."""
    write_model(tmp_path / "plate.ply", box((0, 0, 0), (30, 20, 0.5)).joined(box((0, 30, 0), (10, 40, 10))))
    commands, _ = told(bolvek("walls", "plate.ply", "--json", "-", expect=1))
    assert commands == [("bolvek thicken plate.ply --least-wall 1mm", "makes it as thick")]
    made = json.loads(followed(bolvek, commands[0][0]).stdout)["outputs"][0]
    walls = json.loads(followed(bolvek, f"bolvek walls {made}").stdout)["models"][0]["walls"]
    # along the rim of a plate one of the two copies is told, half as thick as what was there and what is asked
    assert walls["wall"]["below_share"] < 0.002 and walls["wall"]["min_mm"] > 0.75
    assert not told(bolvek("walls", "plate.ply", "--by", "1.5", "--json", "-", expect=1))[
        0
    ]  # another size, another file
    write_model(tmp_path / "table.ply", box((0, 0, 10), (30, 30, 12)).joined(box((12, 12, 0), (18, 18, 10))))
    before = json.loads(bolvek("overhangs", "table.ply", "--json", "-", expect=1).stdout)
    ((command, _),) = [(one["command"], one["does"]) for one in before["models"][0]["next"]]
    made = json.loads(followed(bolvek, command).stdout)["outputs"][0]
    after = json.loads(followed(bolvek, f"bolvek overhangs {made}").stdout)
    hangs = [sum(z["area_mm2"] for z in r["models"][0]["overhangs"]["zones"]) for r in (before, after)]
    assert hangs[1] < hangs[0]
    write_model(tmp_path / "shell.ply", shell_box(size=40))
    commands, record = told(bolvek("proof", "shell.ply", "--wall", "2mm", "--json", "-", expect=1))
    assert commands[0] == ("bolvek drain shell.ply --auto", "opens it where liquid would stay")
    made = json.loads(followed(bolvek, commands[0][0]).stdout)["outputs"][0]
    assert json.loads(bolvek("proof", made, "--wall", "1.99mm", "--json", "-").stdout)["verdict"] == "fit"


def test_a_remedy_that_this_verb_cannot_take_is_left_out():
    ways = [remedy("", "would bore right through", blind="3mm"), remedy("solid", "makes a sound solid of it")]
    assert [one.command for one in remedies.commands(ways, ("prep", "a.stl"), "a.stl")] == ["bolvek solid a.stl"]
    told = remedies.commands(ways, ("drain", "a b.stl", "--at", "0,0,1"), "a b.stl")
    assert [one.command for one in told] == [
        "bolvek drain 'a b.stl' --at 0,0,1 --blind 3mm",
        "bolvek solid 'a b.stl'",
    ]


def test_no_remedy_names_an_option_that_its_verb_does_not_have():
    """Every call of remedy() in the source, read as text."""
    seen = 0
    for path in Path(bolvek.__file__).parent.rglob("*.py"):
        for call in ast.walk(ast.parse(path.read_text())):
            if isinstance(call, ast.Call) and isinstance(call.func, ast.Name) and call.func.id == "remedy":
                seen += 1
                verb = call.args[0].value
                keys = [k.arg.rstrip("_").replace("_", "-") for k in call.keywords if k.arg not in ("anew", "model")]
                made = [given for given in call.args[2:] if isinstance(given, ast.Call)]
                keys += [f"{given.func.id}.{k.arg}" for given in made for k in given.keywords]
                for key in keys:
                    verbs = [verb] if verb else list(VERBS)
                    assert any(remedies._option(v, key) for v in verbs), (path, verb, key)
    assert seen > 40 and importlib.import_module("bolvek.settings.ways_on")
