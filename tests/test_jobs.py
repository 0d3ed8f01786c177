"""Several models at once, and the one table of them."""

import csv
import json
import os
import signal
import subprocess
import sys
import time
from pathlib import Path

import pytest

from bolvek.demo.pieces import block, globe
from bolvek.formats import write_model

PROGRAM = Path(sys.executable).with_name("bolvek")


@pytest.fixture
def shelf(tmp_path):
    """Models of all sorts, one of them none."""
    folder = tmp_path / "in"
    for k in range(3):
        write_model(folder / f"ball{k}.stl", globe(10 + k, (0, 0, 0), 40))
    write_model(folder / "plate.stl", block((0, 0, 0), (30, 20, 0.5)))
    write_model(folder / "open.stl", globe(6, (0, 0, 0), 20).picked(slice(0, 200)))
    (folder / "none.stl").write_bytes(b"nothing")
    return folder


def plain(text):
    """What was said, without what takes time."""
    return [line.rsplit(";", 1)[0] if line.startswith("total") else line for line in text.splitlines()]


def known(path):
    record = json.loads(path.read_text())
    del record["seconds"]
    return record


def test_so_many_at_once_give_the_same_words_record_and_bytes(bolvek, shelf, tmp_path):
    said, records, made = [], [], []
    for jobs in (1, 3):
        folder = tmp_path / f"out{jobs}"
        done = bolvek(
            "hollow", "in/", "--wall", "1.5mm", "--jobs", jobs, "-o", f"{folder}/", "--json", f"r{jobs}.json",
            "--table", f"t{jobs}.jsonl", expect=4,
        )  # fmt: skip
        said.append([line.replace(f"out{jobs}", "out").replace(f"t{jobs}.", "t.") for line in plain(done.stdout)])
        records.append(
            json.dumps(known(tmp_path / f"r{jobs}.json")).replace(f"out{jobs}", "out").replace(f"t{jobs}.", "t.")
        )
        made.append({file.name: file.read_bytes() for file in sorted(folder.iterdir())})
    assert said[0] == said[1] and records[0] == records[1] and made[0] == made[1]
    assert len(made[0]) == 3


def test_the_table_has_a_row_for_every_file(bolvek, shelf, tmp_path):
    write_model(shelf / "=1+1.stl", block((0, 0, 0), (9, 9, 9)))
    bolvek("walls", "in/", "--least-wall", "1mm", "--table", "t.csv", "--jobs", 2, "--json", "r.json", expect=3)
    with (tmp_path / "t.csv").open(newline="") as file:
        rows = {Path(row["file"].lstrip("'")).name: row for row in csv.DictReader(file)}
    assert len(rows) == 7 and rows["none.stl"]["verdict"] == "failed" and rows["none.stl"]["exit_code"] == "3"
    plate = rows["plate.stl"]
    assert (plate["verdict"], plate["exit_code"], plate["triangles"]) == ("thin", "1", "12")
    assert float(plate["wall_least_mm"]) == pytest.approx(0.5) and plate["wall_asked_mm"] == "1"
    assert plate["size_mm"] == "30.000 x 20.000 x 0.500" and plate["faults"].startswith("wall_thin")
    assert not any(cell.startswith("=") for row in rows.values() for cell in row.values())
    models = {Path(m["file"]).name: m for m in json.loads((tmp_path / "r.json").read_text())["models"]}
    assert models["plate.stl"]["verdict"] == "thin" and models["ball0.stl"]["outputs"] == []
    bolvek("prep", "in/plate.stl", "--wall", "2mm", "--table", "t.md", "-o", "p.stl")
    head, _, row = (tmp_path / "t.md").read_text().splitlines()
    assert head.startswith("| file | output |") and "left solid" in row and "p.stl" in row
    bolvek("walls", "in/plate.stl", "--table", "t.txt", expect=2)


def _workers(pid):
    """Processes that work for another: of its children, whichever thread made them, those that were spawned."""
    children = [p for threads in Path(f"/proc/{pid}/task").glob("*/children") for p in threads.read_text().split()]
    return [int(p) for p in children if b"spawn_main" in Path(f"/proc/{p}/cmdline").read_bytes()]


@pytest.mark.skipif(not Path("/proc/self/task").is_dir(), reason="needs /proc to find the workers")
@pytest.mark.parametrize("ended", [signal.SIGKILL, signal.SIGINT])
def test_who_dies_takes_its_own_model_along_and_ctrl_c_ends_all(tmp_path, ended):
    for k in range(3):
        write_model(tmp_path / f"in/{k}.stl", globe(14 + k, (0, 0, 0), 96))
    ask = [PROGRAM, "prep", "in/", "--wall", "1mm", "--grid", "0.3mm", "--jobs", "2", "-o", "out/"]
    environment = {**os.environ, "PYTHONUNBUFFERED": "1"}
    run = subprocess.Popen(
        ask, cwd=tmp_path, stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True, env=environment
    )
    end = time.monotonic() + 120
    while len(_workers(run.pid)) < 2 and time.monotonic() < end:
        time.sleep(0.05)
    time.sleep(1.0)
    os.kill(_workers(run.pid)[0] if ended == signal.SIGKILL else run.pid, ended)
    begin = time.monotonic()
    said, wrong = run.communicate(timeout=300)
    left = list((tmp_path / "out").glob("*")) if (tmp_path / "out").is_dir() else []
    assert not [file for file in left if file.name.endswith(".part")], left
    if ended == signal.SIGKILL:
        assert run.returncode == 4, wrong
        assert said.count("failed") == 2 and "ended from outside" in said and len(left) == 2
    else:
        assert run.returncode == 130 and "stopped" in wrong and time.monotonic() - begin < 90
