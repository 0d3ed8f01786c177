"""Settings and the options made from them: each gives its field, refuses what is out of its range by its own name."""

import dataclasses
import importlib
import json
import subprocess
import sys
from pathlib import Path

import pytest

from bolvek.cli.base.bind import BoundOption
from bolvek.cli.main import run as bolvek_run
from bolvek.cli.verbs import VERBS
from bolvek.settings import SettingError, Settings, described
from bolvek.settings.repairs import SlimSettings
from bolvek.settings.shape import Drain, DrainSettings, HollowSettings, PrepSettings
from support import box

BESIDE = {
    "slim": ["--ratio", "0.5"],
    "thicken": ["--thick", "1mm"],
    "scale": ["--by", "2"],
    "pose": ["--drop"],
    "drain": ["--at", "0,0,0"],
    "cut": ["--plane", "z=5mm"],
}
"""What a verb needs to be asked for at all."""

INSTEAD = {
    ("slim", "--within"), ("slim", "--triangles"), ("slim", "--ratio"), ("slim", "--megabytes"),
    ("scale", "--by"), ("scale", "--height"), ("scale", "--width"), ("scale", "--depth"), ("scale", "--longest"),
    ("scale", "--volume"), ("scale", "--fit"), ("thicken", "--least-wall"), ("thicken", "--thick"), ("drain", "--at"),
    ("thicken", "--foot"), ("drain", "--auto"), ("drain", "--drain-up"), ("drain", "--show"), ("drain", "--keep-off"),
    ("drain", "--only-within"),
}  # fmt: skip
"""Options that stand in the place of what the verb needs."""

WITH = {
    ("fuse", "--least-wall"): ["--recast"],
    ("drain", "--drain-up"): ["--auto"], ("drain", "--show"): ["--auto"], ("drain", "--keep-off"): ["--auto"],
    ("drain", "--only-within"): ["--auto"], ("split", "--gather"): ["--least-size", "1mm"],
    ("thicken", "--along"): ["--side", "in"], ("thicken", "--beneath"): ["--foot", "z=-4mm"],
    ("overhangs", "--reach"): ["--tips"], ("overhangs", "--carry"): ["--tips"],
    ("overhangs", "--show"): ["--compare-up", "9"], ("overhangs", "--tell"): ["--compare-up", "9"],
    ("cut", "--peg-diameter"): ["--pegs", "2"], ("cut", "--peg-length"): ["--pegs", "2"],
    ("cut", "--flat-side"): ["--pegs", "2"], ("cut", "--loose"): ["--pegs", "2"],
    ("cut", "--clearance"): ["--pegs", "2"], ("cut", "--least-wall"): ["--pegs", "2"],
    ("cut", "--lip-height"): ["--lip"], ("cut", "--lip-thickness"): ["--lip"], ("cut", "--margin"): [],
    ("prep", "--inside"): ["--supports"], ("supports", "--foot"): ["--lift", "3mm"],
    ("prep", "--skin"): ["--to-solid"], ("prep", "--as"): ["--to-solid"],
    **{("pose", name): ["--best", "1"] for name in (
        "--angle", "--layer", "--habit", "--bridge-most", "--compare-up", "--show")},
}  # fmt: skip
"""What an option goes with."""

TEXTS = {
    "--at": "1,2,3", "--keep-off": "1,2,3:4", "--only-within": "1,2,3:4", "--region": "1,2,3:4", "--toward": "1,2,3",
    "--lay": "1,2,3", "--turn": "x:30", "--tilt": "20,90", "--foot": "z=-4mm", "--fit": "small-resin",
    "--grid": "0.3mm", "--only": "weld,drop", "--mirror": "x",
}  # fmt: skip
"""Legal values that no description tells."""


def bound_options():
    """Every option that is bound to a field, of every verb."""
    for verb in VERBS:
        for param in importlib.import_module(f"bolvek.cli.{verb}").command.params:
            if isinstance(param, BoundOption):
                yield verb, param


def legal(option: BoundOption) -> list[str]:
    """A value in the range that is not the default."""
    known, name = described(option.owner)[option.field], option.opts[-1]
    if option.is_flag:
        return [name]
    if name in TEXTS and not known.choices:
        return [name, TEXTS[name]]
    if option.owner.__name__ == "PlinthSettings" and known.unit == "mm" and name in ("--tall", "--around"):
        return [name, "7mm"]
    if known.choices:
        return [name, next(word for word in reversed(known.choices) if word != option.default)]
    if known.unit == "direction":
        return [name, "0,1,0"]
    low = known.least if known.least is not None else known.above or 0.0
    value = low + (0.4375 if option.type.name in ("LENGTH", "VOLUME", "float") else 3)
    return [name, f"{value:g}"]


def illegal(option: BoundOption) -> list[list[str]]:
    """Values out of the range, as far as there are any."""
    known, name = described(option.owner)[option.field], option.opts[-1]
    if option.is_flag or name in TEXTS and name != "--grid" and not known.choices:
        return [[name, "diagonal"]] if name == "--mirror" else []
    if known.choices:
        return [[name, "sideways"]]
    if known.unit == "direction":
        return [[name, "0,0,0"]]
    wrong = []
    if known.least is not None or known.above is not None:
        wrong.append(f"{(known.least if known.least is not None else known.above + 1e-9) - 1:g}")
    if known.most is not None or known.below is not None:
        wrong.append(f"{(known.most if known.most is not None else known.below) + 1:g}")
    return [[f"{name}={value}"] for value in wrong]


def line(verb: str, name: str, asked: list[str], files: list[str]) -> list[str]:
    """A command line with one option and what it needs beside it."""
    beside = [] if (verb, name) in INSTEAD else BESIDE.get(verb, [])
    return [verb, *files, *beside, *WITH.get((verb, name), []), *asked]


@pytest.fixture
def files(tmp_path, monkeypatch):
    """Two models, and a place to be."""
    from bolvek.formats import write_model

    monkeypatch.chdir(tmp_path)
    for name in ("one.stl", "two.stl"):
        write_model(Path(name), box([0, 0, 0], [20, 20, 20]))
    return {verb: ["one.stl", "two.stl"] if verb == "compare" else ["one.stl"] for verb in VERBS}


def fields_of(settings):
    """Every field of settings and of those within, by class and name."""
    for field in dataclasses.fields(settings):
        value = getattr(settings, field.name)
        yield (type(settings).__name__, field.name), value
        for within in value if isinstance(value, tuple) else (value,):
            if isinstance(within, Settings):
                yield from fields_of(within)


OPTIONS = [pytest.param(verb, option, id=f"{verb}{option.opts[-1]}") for verb, option in bound_options()]


@pytest.mark.parametrize("verb,option", OPTIONS)
def test_every_option_sets_its_field_and_refuses_by_its_name(verb, option, files, monkeypatch, capsys):
    caught = {}

    def catch(how, models, asked, output=None):
        for settings in how.settings.values():
            settings.check()
            for key, value in fields_of(settings):
                caught.setdefault(key, []).append(value)
        raise SystemExit(0)

    monkeypatch.setattr("bolvek.cli.base.run.run", catch)
    name, key = option.opts[-1], (option.owner.__name__, option.field)
    code = bolvek_run(line(verb, name, legal(option), files[verb]))
    assert code == 0, capsys.readouterr().err
    default = next(f.default for f in dataclasses.fields(option.owner) if f.name == option.field)
    if key in caught and (verb, name) not in {("cut", "--margin"), ("cut", "--clearance"), ("cut", "--least-wall")}:
        assert any(value != default for value in caught[key]), caught[key]
    for asked in illegal(option):
        code = bolvek_run(line(verb, name, asked, files[verb]))
        said = capsys.readouterr().err
        assert code == 2 and name in said and "Traceback" not in said, said
        assert " must be " in said or " takes " in said or " needs " in said, said


def test_settings_within_settings_are_checked_and_named_by_their_own_field():
    with pytest.raises(SettingError, match="depth_mm must be more than 0 mm, not 0 mm"):
        DrainSettings(drains=(Drain((0, 0, 0), depth_mm=0.0),)).check()
    with pytest.raises(SettingError, match="ratio must be more than 0 and at most 1, not 5"):
        SlimSettings(ratio=5).check()
    with pytest.raises(SettingError, match="at most 1.154 mm"):
        HollowSettings(wall_mm=2.0, grid_mm=1.2).check()
    assert all(described(owner) for owner in (SlimSettings, HollowSettings, PrepSettings))


def test_the_settings_schema_tells_ranges_defaults_and_options(capsys):
    assert bolvek_run(["schema", "--settings"]) == 0
    told = json.loads(capsys.readouterr().out)
    wall = told["$defs"]["HollowSettings"]["properties"]["wall_mm"]
    assert wall["exclusiveMinimum"] == 0 and wall["unit"] == "mm" and wall["description"] == "Wall to leave."
    assert told["verbs"]["hollow"]["--wall"] == "HollowSettings.wall_mm"
    assert told["$defs"]["PlaceSettings"]["properties"]["count"]["maximum"] == 20
    assert told["$defs"]["MendSettings"]["properties"]["style"]["enum"] == ["auto", "flat", "curved", "corner"]


def test_the_options_page_is_what_the_commands_say(tmp_path):
    docs = Path(__file__).parents[1] / "docs"
    subprocess.run([sys.executable, docs / "make.py", tmp_path], check=True)
    for name in ("options.md", "formats.md"):
        assert (tmp_path / name).read_text() == (docs / name).read_text(), "make docs"
