"""Job sheets: what they say, what comes of them, and that they go on where they stopped."""

import json
import re
import signal
import subprocess
import sys
import time
from pathlib import Path

import pytest

from bolvek.cli.base.progress import Progress
from bolvek.demo.pieces import block, globe
from bolvek.formats import read_model, write_model

PROGRAM = Path(sys.executable).with_name("bolvek")
DOCS = Path(__file__).parents[1] / "docs"

WEEK = """bolvek = 1
models = ["in/*.stl"]
output = "out/"
table = "week.jsonl"
record = "week.json"

[[step]]
verb = "scale"
longest = "40mm"

[[step]]
verb = "hollow"
wall = "2mm"
when = "sound"

[[step]]
verb = "proof"

[model.b.hollow]
wall = "3mm"
"""

QUICK = WEEK[: WEEK.index('[[step]]\nverb = "hollow')].replace("week.", "quick.") + '[[step]]\nverb = "survey"\n'


@pytest.fixture
def week(tmp_path):
    write_model(tmp_path / "in/a.stl", globe(5, (0, 0, 0), 40))
    write_model(tmp_path / "in/b.stl", globe(6, (0, 0, 0), 40))
    write_model(tmp_path / "in/open.stl", globe(6, (0, 0, 0), 30).picked(slice(60, None)))
    (tmp_path / "week.toml").write_text(WEEK)
    return tmp_path


def outputs(folder):
    return {p.name: p.read_bytes() for p in sorted(folder.glob("*.stl"))}


def test_steps_hand_the_model_on_and_what_is_there_is_kept(bolvek, week):
    said = bolvek("run", "week.toml", expect=1).stdout
    assert said.count("unfit") >= 2
    made = outputs(week / "out")
    assert sorted(made) == ["a.run.stl", "b.run.stl", "open.run.stl"]
    wall = {}
    for name in "ab":
        mesh = read_model(week / f"out/{name}.run.stl").mesh
        assert float(mesh.size.max()) == pytest.approx(40, rel=0.01) and mesh.topology.shells == 2
        outer, inner = sorted((0.75 * abs(v) / 3.14159) ** (1 / 3) for v in mesh.shell_volumes)[::-1]
        wall[name] = outer - inner
    assert wall["a"] == pytest.approx(2, abs=0.15) and wall["b"] == pytest.approx(3, abs=0.15)
    rows = [json.loads(line) for line in (week / "week.jsonl").read_text().splitlines()]
    assert [row["done"] for row in rows] == [["scale", "hollow"], ["scale", "hollow"], ["scale"]]
    # the same as verb after verb
    bolvek("scale", "in/a.stl", "--longest", "40mm", "-o", "s.stl")
    bolvek("hollow", "s.stl", "--wall", "2mm", "-o", "h.stl")
    assert (week / "h.stl").read_bytes() == made["a.run.stl"]

    again = bolvek("run", "week.toml", "--replace", expect=1).stdout
    assert again.count("up to date") == 3 and "week.jsonl" not in again
    (week / "week.toml").write_text(WEEK.replace("3mm", "2.5mm"))
    once = bolvek("run", "week.toml", "--replace", expect=1).stdout
    assert once.count("up to date") == 2 and outputs(week / "out")["a.run.stl"] == made["a.run.stl"]
    (week / "out/a.run.stl").write_bytes(b"by hand")
    kept = bolvek("run", "week.toml", expect=3).stdout
    assert "kept" in kept and "changed since" in kept and (week / "out/a.run.stl").read_bytes() == b"by hand"
    bolvek("run", "week.toml", "--replace", "--jobs", 2, expect=1)
    assert outputs(week / "out")["a.run.stl"] == made["a.run.stl"]
    torn = week / "out/ledger.jsonl"
    torn.write_bytes(torn.read_bytes() + b'{"file": "in/a.s')
    assert bolvek("run", "week.toml", "--replace", expect=1).stdout.count("up to date") == 3
    assert bolvek("run", "in/../week.toml", "--replace", expect=1).stdout.count("up to date") == 3
    plan = bolvek("run", "week.toml", "--plan", "--only", "b").stdout
    assert "scale longest=40mm, then hollow wall=2.5mm when sound, then proof" in plan and "1 model" in plan


def test_so_many_at_once_and_a_sheet_of_a_command_line_give_the_same_bytes(bolvek, week):
    bolvek("run", "week.toml", "--steps", "1-2", "--jobs", 3)
    three = outputs(week / "out")
    bolvek("run", "week.toml", "--steps", "1-2", "--again", "--replace")
    assert outputs(week / "out") == three
    bolvek("hollow", "in/a.stl", "--wall", "1.5mm", "--keep-pockets", "--as-sheet", "h.toml", "-o", "kept/")
    text = (week / "h.toml").read_text()
    assert 'wall = "1.5mm"' in text and "keep_pockets = true" in text
    bolvek("run", "h.toml")
    bolvek("hollow", "in/a.stl", "--wall", "1.5mm", "--keep-pockets", "-o", "h.stl")
    assert (week / "kept/a.run.stl").read_bytes() == (week / "h.stl").read_bytes()
    bolvek("scale", "in/a.stl", "--by", 2, "--ascii", "--as-sheet", "text.toml", "-o", "text/")
    bolvek("run", "text.toml")
    assert (week / "text/a.run.stl").read_bytes().startswith(b"solid")
    said = bolvek("prep", "in/a.stl", "--plugs", "p/", "--as-sheet", "p.toml", expect=2).stderr
    assert "--plugs names a file of its own" in said and not (week / "p.toml").exists()
    bolvek("join", "in/a.stl", "in/b.stl", "-o", "j.3mf")
    bolvek("picture", "in/a.stl", "--as-sheet", "p.toml", expect=2)


def timeless(text):
    rows = [json.loads(line) for line in text.splitlines()]
    return [{k: v for k, v in row.items() if k not in ("seconds", "memory_mb")} for row in rows]


def test_what_is_kept_stays_in_table_and_record(bolvek, week):
    (week / "quick.toml").write_text(QUICK)
    bolvek("run", "quick.toml", expect=1)
    table, record = (week / "quick.jsonl").read_text(), json.loads((week / "quick.json").read_text())
    (week / "out/b.run.stl").unlink()
    again = bolvek("run", "quick.toml", expect=1).stdout
    assert again.count("up to date") == 2 and "3 models: 2 sound, 1 not sound (2 as they were)" in again
    assert timeless((week / "quick.jsonl").read_text()) == timeless(table)
    assert [m["file"] for m in json.loads((week / "quick.json").read_text())["models"]] == [
        m["file"] for m in record["models"]
    ]
    (week / "quick.jsonl").unlink()
    again = bolvek("run", "quick.toml", expect=1).stdout  # nothing to do but the table
    assert again.count("up to date") == 3 and timeless((week / "quick.jsonl").read_text()) == timeless(table)
    (week / "in/bad.stl").write_bytes(b"no model")
    bolvek("run", "quick.toml", expect=3)  # the only one left to do, and one of several all the same
    assert [row["verdict"] for row in timeless((week / "quick.jsonl").read_text())][2] == "failed"
    (week / "in/bad.stl").unlink()
    bolvek("run", "quick.toml", "--only", "a", "--again", expect=1)
    assert timeless((week / "quick.jsonl").read_text()) == timeless(table)
    # what was made before a table was asked for is counted
    bare = QUICK.replace('table = "quick.jsonl"\nrecord = "quick.json"\n', "").replace('"out/"', '"bare/"')
    (week / "bare.toml").write_text(bare)
    bolvek("run", "bare.toml", expect=1)
    (week / "bare.toml").write_text(bare.replace("models", 'table = "bare.csv"\nmodels', 1))
    (week / "bare/b.run.stl").unlink()
    assert "without 2 models made before" in bolvek("run", "bare.toml", expect=1).stdout


def test_a_changed_profile_is_asked_anew(bolvek, week):
    own = week / "own/profiles/our.toml"
    own.parent.mkdir(parents=True)
    (week / "p.toml").write_text(
        'bolvek = 1\nmodels = ["in/a.stl"]\n\n[[step]]\nverb = "walls"\nprinter = "small-resin"\n'
    )
    for wall, code in ((1, 0), (50, 1), (50, 1)):
        before = own.read_text() if own.exists() else ""
        own.write_text(f"[printer.small-resin]\nmin_wall_mm = {wall}\n")
        said = bolvek("run", "p.toml", expect=code, BOLVEK_CONFIG=str(week / "own")).stdout
        assert ("up to date" in said) == (own.read_text() == before)


def test_a_bug_met_in_one_model_stops_no_other(bolvek, week, monkeypatch):
    from bolvek.cli.base import job

    work = job.Job.work

    def hurt(self, model, step):
        if model.path.name == "b.stl":
            raise ZeroDivisionError("of b")
        return work(self, model, step)

    monkeypatch.setattr(job.Job, "work", hurt)
    said = bolvek("run", "week.toml", "--steps", "1", expect=70).stdout
    assert "in/b.stl: a bug in bolvek" in said and "ZeroDivisionError" in said
    assert sorted(outputs(week / "out")) == ["a.run.stl", "open.run.stl"]


def test_the_plan_tells_sizes_and_progress_how_long_it_takes(bolvek, week, monkeypatch):
    write_model(week / "in/a.stl", block((0, 0, 0), (20, 10, 5)), replace=True)
    said = bolvek("run", "week.toml", "--plan", "--details", "--only", "a").stdout
    assert "20.00 x 10.00 x 5.00 mm to 40.00 x 20.00 x 10.00 mm" in said and not (week / "out").exists()
    now = [100.0]
    monkeypatch.setattr("bolvek.cli.base.progress.time.monotonic", lambda: now[0])
    progress = Progress("run", [Path("a.stl"), Path("b.stl"), Path("c.stl")], [1.0, 1.0, 2.0])
    progress.begun(0)
    progress.begun(2, "beta")
    now[0] += 30
    assert progress.line() == "run: 0 of 3 models; 2 at work (a.stl 30 s, c.stl on beta 30 s)"
    progress.ended(0)
    assert progress.line() == "run: 1 of 3 models; 1 at work (c.stl on beta 30 s); about 90 s left"
    assert progress.lines() == ["run  [======                  ] 1 of 3  about 90 s left", "  c.stl on beta  30 s"]


WRONG = [
    ("bolvek = 1", "bolvek = 7", 1, "begins with 'bolvek = 1'"),
    ("models =", "modles =", 2, "did you mean 'models'"),
    ('verb = "hollow"', 'verb = "holow"', 12, "did you mean 'hollow'"),
    ('when = "sound"', 'when = "soudn"', 14, "did you mean 'sound'"),
    ('wall = "2mm"', 'wal = "2mm"', 11, "has no option 'wal'; did you mean 'wall'"),
    ('wall = "2mm"', 'wall = "two"', 11, "--wall"),
    ('wall = "2mm"', 'wall = "-2mm"', 11, "--wall must be more than 0 mm"),
    ('wall = "2mm"', 'wall = "2mm"\ngrid = "0mm"', 11, "--grid must be more than 0 mm"),
    ('wall = "2mm"', 'wall = "2mm"\npicture = "p.png"', 11, "'picture' is nothing that a step says"),
    ('wall = "2mm"', 'wall = "2mm"\nreplace = true', 11, "'replace' is nothing that a step says"),
    ("[model.b.hollow]", "[model.b.holow]", 19, "did you mean 'hollow'"),
    ('verb = "proof"', 'verb = "picture"', 17, "needs a verb"),
]


@pytest.mark.parametrize(("right", "wrong", "line", "told"), WRONG)
def test_what_is_wrong_is_told_with_its_line(bolvek, week, right, wrong, line, told):
    (week / "bad.toml").write_text(WEEK.replace(right, wrong, 1))
    said = bolvek("run", "bad.toml", expect=3).stderr
    assert f"bad.toml, line {line}" in said and told in said, said
    assert not (week / "out").exists()


def test_what_is_no_sheet_is_refused(bolvek, week):
    (week / "no.toml").write_text("bolvek = = 1")
    assert "no job sheet" in bolvek("run", "no.toml", expect=3).stderr
    bolvek("run", "none.toml", expect=3)
    bolvek("run", "week.toml", "--only", "nobody", expect=2)
    bolvek("run", "week.toml", "--steps", "4-9", expect=2)


@pytest.mark.parametrize("how", [signal.SIGKILL, signal.SIGINT])
def test_stopped_at_any_time_it_goes_on_with_nothing_half_and_nothing_twice(bolvek, week, how):
    (week / "quick.toml").write_text(QUICK)
    for k in range(5):
        write_model(week / f"in/m{k}.stl", globe(5 + k, (0, 0, 0), 60))
    run = subprocess.Popen(
        [PROGRAM, "run", "quick.toml"], cwd=week, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL
    )
    ledger = week / "out/ledger.jsonl"
    end = time.monotonic() + 300
    while not (ledger.exists() and ledger.read_text().count("\n") >= 2) and time.monotonic() < end:
        time.sleep(0.02)
    run.send_signal(how)
    run.wait(timeout=180)
    done = ledger.read_text().count("\n")
    stood = len(outputs(week / "out"))
    assert 2 <= done < 8 and stood in (done - 1, done)  # the ledger has it first
    assert how == signal.SIGKILL or not list((week / "out").glob(".*.part"))
    said = bolvek("run", "quick.toml", "--replace", expect=1).stdout
    assert said.count("up to date") == stood and len(outputs(week / "out")) == 8
    fresh = week / "fresh.toml"
    fresh.write_text(QUICK.replace('"out/"', '"fresh/"').replace("quick.j", "fresh.j"))
    bolvek("run", "fresh.toml", expect=1)
    assert outputs(week / "fresh") == outputs(week / "out")


def test_the_sheets_of_the_docs_can_be_planned(bolvek, tmp_path):
    sheets = re.findall(r"```toml\n(.*?)```", (DOCS / "sheets.md").read_text(), re.DOTALL)
    assert len(sheets) == 3
    for name in ("class/a.stl", "intake/b.stl", "scans/c.stl", "scans/d.ply"):
        write_model(tmp_path / name, block((0, 0, 0), (9, 9, 9)))
    for k, sheet in enumerate(sheets):
        (tmp_path / f"{k}.toml").write_text(sheet)
        assert "then" in bolvek("run", f"{k}.toml", "--plan").stdout


def test_ctrl_c_is_not_lost_where_python_drops_it():
    code = """
import signal, weakref
from bolvek.cli.base.stopping import listen, stop_if_asked
listen()
class Thing: pass
thing = Thing()
ref = weakref.ref(thing, lambda _: signal.raise_signal(signal.SIGINT))
del thing
print("dropped", flush=True)
stop_if_asked()
"""
    run = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True)
    assert run.stdout == "dropped\n" and run.stderr.rstrip().endswith("KeyboardInterrupt") and run.returncode != 0
