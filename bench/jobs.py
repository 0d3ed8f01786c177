"""Jobs of many models: one process, two, a farm of two; planning; what is up to date."""

import itertools
import json
import os
import shutil
import subprocess
import sys
import time
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

import numpy as np

from bench.models import blob
from bench.timing import Done, run, yardstick
from bolvek.demo.pieces import block
from bolvek.formats import write_model

_SHEET = 'bolvek = 1\nmodels = ["{models}/*.stl"]\noutput = "{out}/"\ntable = "{out}.jsonl"\n'
_STEPS = (
    '\n[[step]]\nverb = "scale"\nlongest = "80mm"\n',
    '\n[[step]]\nverb = "slim"\nwithin = "0.02mm"\n',
    '\n[[step]]\nverb = "survey"\n',
)


def jobs(folder: Path) -> None:
    """Forty models of 20,000 to 200,000 triangles through three steps, and what a sheet costs beside its verbs."""
    print("## Jobs\n")
    shelf(folder / "forty")
    print("| forty models | s | processor s | in yardsticks | MB of the caller |\n|---|---|---|---|---|")
    ways: dict[str, list[object]] = {"one": [], "two": ["--jobs", 2]}
    for name, options in ways.items():
        row(f"{name} process{'es' if options else ''}", folder, name, *options)
    with farm(folder) as address:
        row("farm of two, first job", folder, "cold", "--on", address)
        row("farm of two", folder, "farm", "--on", address)
        row("farm of two, models travel", folder, "sent", "--on", address, "--send")
    made = [sorted((folder / out).glob("*.stl")) for out in ("one", "two", "farm", "sent")]
    same = all(len({path.read_bytes() for path in of_one}) == 1 for of_one in zip(*made, strict=True))
    print(f"\nThe same bytes from all: {'yes' if same and len(made[0]) == 40 else 'NO'}.\n")
    small = folder / "small"
    write_model(small / "m0.stl", block((0, 0, 0), (9, 9, 9)))
    for k in range(1, 10_000):
        shutil.copyfile(small / "m0.stl", small / f"m{k}.stl")
    sheet(folder, "plan", "small")
    planned = run("run", folder / "plan.toml", "--plan")
    for k in range(1000, 10_000):
        (small / f"m{k}.stl").unlink()
    (folder / "few.toml").write_text(_SHEET.format(models="small", out="few") + _STEPS[0])
    first, again = run("run", folder / "few.toml"), run("run", folder / "few.toml")
    bare = run("scale", small, "--longest", "80mm", "-o", f"{folder}/bare/", "--table", folder / "bare.jsonl")
    print("| what | s | processor s | MB |\n|---|---|---|---|")
    told = {"ten thousand planned": planned, "a thousand up to date": again, "a thousand scaled by `run`": first}
    for name, done in {**told, "a thousand scaled by `scale`": bare}.items():
        print(f"| {name} | {done.seconds:.1f} | {done.cpu:.1f} | {done.peak_mb:.0f} |", flush=True)
    print()


def shelf(folder: Path) -> None:
    """Forty models, eight of them different by more than their size."""
    for k, cell in enumerate(np.geomspace(1.35, 0.43, 8)):
        mesh = blob(k, 80.0, float(cell))
        for n in range(5):
            write_model(folder / f"b{n}{k}.stl", mesh.moved(mesh.vertices * (1 + 0.1 * n)))


def sheet(folder: Path, out: str, models: str) -> Path:
    """The sheet of a shelf."""
    path = folder / f"{out}.toml"
    path.write_text(_SHEET.format(models=models, out=out) + "".join(_STEPS))
    return path


def row(name: str, folder: Path, out: str, *options: object) -> Done:
    """One way to run the job."""
    before = yardstick()
    done = run("run", sheet(folder, out, "forty"), *options)
    sticks = done.seconds / (0.5 * (before + yardstick()))
    print(f"| {name} | {done.seconds:.1f} | {done.cpu:.1f} | {sticks:.1f} | {done.peak_mb:.0f} |", flush=True)
    return done


@contextmanager
def farm(folder: Path) -> Iterator[str]:
    """A scheduler and two workers of one thread each on the loopback address."""
    told = folder / "scheduler.json"
    begin = [sys.executable, "-m", "dask"]
    asks = itertools.chain(
        [["scheduler", "--host", "127.0.0.1", "--port", "0", "--scheduler-file", str(told)]],
        [["worker", "--scheduler-file", str(told), "--nthreads", "1"]] * 2,
    )
    quiet = {"stdout": subprocess.DEVNULL, "stderr": subprocess.DEVNULL}
    started = [
        subprocess.Popen([*begin, *ask, "--no-dashboard"], cwd=folder, start_new_session=True, **quiet) for ask in asks
    ]
    try:
        while not told.exists():
            time.sleep(0.1)
        time.sleep(5.0)  # until the workers are there
        yield json.loads(told.read_text())["address"]
    finally:
        for process in started:
            os.killpg(process.pid, 9)
            process.wait()
