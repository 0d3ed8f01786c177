"""Time `bolvek prep`, `survey` and reading, cold and warm, and a sweep over models; prints Markdown tables.

`python -m bench.run [--sweep] [--only TABLE]`; medians of three warm runs. Models are made in a temporary folder.
"""

import argparse
import json
import math
import os
import statistics
import subprocess
import sys
import tempfile
import time
from pathlib import Path

from bench.models import blob
from bolvek.demo.carp import carp
from bolvek.formats import read_model, write_model

PROGRAM = Path(sys.executable).with_name("bolvek")


def run(*args: object, cache: Path | None = None) -> tuple[float, float, int]:
    """Seconds, peak memory (MB) and exit code of one run of the program."""
    environment = {**os.environ, **({"BOLVEK_CACHE": str(cache)} if cache else {})}
    # a small process in between: a child's peak memory counts its parent's at the time of the fork
    code = (
        "import os, subprocess, sys; p = subprocess.Popen(sys.argv[1:], stdout=-3, stderr=-3); "
        "_, s, u = os.wait4(p.pid, 0); print(u.ru_maxrss, os.waitstatus_to_exitcode(s))"
    )
    begin = time.perf_counter()
    done = subprocess.run(
        [sys.executable, "-S", "-c", code, PROGRAM, *map(str, args)], stdout=subprocess.PIPE, text=True, env=environment
    )
    seconds = time.perf_counter() - begin
    kilobytes, code_text = done.stdout.split()
    return seconds, int(kilobytes) / 1024, int(code_text)


def big(folder: Path) -> None:
    """The million-triangle case, cold and warm, step by step."""
    source, target, record = folder / "big.stl", folder / "big.prep.stl", folder / "big.json"
    mesh = blob(1, 100.0, 0.225)
    write_model(source, mesh)
    ask = ["prep", source, "--wall", "2mm", "--grid", "0.5mm", "-o", target, "--json", record, "--replace"]
    cold, _, _ = run(*ask, cache=folder / "cache")
    print(f"## {len(mesh.faces):,} triangles, 100 mm, wall 2 mm, grid 0.5 mm\n")
    rows, total, memory = [], [], 0.0
    for _ in range(3):
        seconds, peak, _ = run(*ask)
        total.append(seconds)
        memory = max(memory, peak)
        rows.append(json.loads(record.read_text())["seconds"])
    print("| step | seconds |\n|---|---|")
    for step in rows[0]:
        print(f"| {step} | {statistics.median(r[step] for r in rows):.2f} |")
    print(f"| whole program, warm | {statistics.median(total):.2f} |\n| whole program, first run ever | {cold:.1f} |")
    print(f"| peak memory, MB | {memory:.0f} |\n")


def look(folder: Path) -> None:
    """Survey at three sizes, and reading and writing every format at a million triangles."""
    print("## Survey\n\n| triangles | read s | survey s | whole program s | MB |\n|---|---|---|---|---|")
    times = []
    for cell in (0.71, 0.225, 0.159):
        mesh, source, record = blob(1, 100.0, cell), folder / "look.stl", folder / "look.json"
        write_model(source, mesh, replace=True)
        runs = []
        for _ in range(3):
            seconds, peak, _ = run("survey", source, "--json", record, "--replace")
            took = json.loads(record.read_text())["seconds"]
            runs.append((took["read"], took["survey"], seconds, peak))
        read, work, whole, peak = (statistics.median(column) for column in zip(*runs, strict=True))
        times.append((len(mesh.faces), work))
        print(f"| {len(mesh.faces):,} | {read:.2f} | {work:.2f} | {whole:.2f} | {peak:.0f} |", flush=True)
    (n, s), (m, t) = times[1:]
    print(f"\ngrowth from {n:,} to {m:,} triangles: exponent {math.log(t / s) / math.log(m / n):.2f}\n")
    print("## Formats, a million triangles\n\n| format | MB | read s | write s |\n|---|---|---|---|")
    mesh = blob(1, 100.0, 0.225)
    for name, text in (
        ("m.stl", False),
        ("m.ply", False),
        ("m.obj", False),
        ("m.off", False),
        ("m.3mf", False),
        ("t.stl", True),
    ):
        path = folder / name
        begin = time.perf_counter()
        write_model(path, mesh, text=text)
        wrote = time.perf_counter() - begin
        reads = []
        for _ in range(3):
            begin = time.perf_counter()
            read_model(path)
            reads.append(time.perf_counter() - begin)
        print(
            f"| {name} | {path.stat().st_size / 1e6:.0f} | {statistics.median(reads):.2f} | {wrote:.1f} |", flush=True
        )
        path.unlink()
    print()


def demo(folder: Path) -> None:
    """The demo, cold and warm."""
    cold, _, _ = run("demo", folder / "demo", cache=folder / "demo-cache")
    warm, _, _ = run("demo", folder / "demo", "--replace", cache=folder / "demo-cache")
    print(f"## The demo\n\n| run | seconds |\n|---|---|\n| first ever | {cold:.1f} |\n| again | {warm:.1f} |\n")


def sweep(folder: Path) -> None:
    """Models of 4k to 900k triangles, 60 to 150 mm, walls 1.5 to 3 mm."""
    print("## Sweep\n")
    print("| model | height | triangles | wall | min | 1% | median | crossings | drains | verdict | s | MB |")
    print("|---|---|---|---|---|---|---|---|---|---|---|---|")
    cases = [
        ("carp", carp(), 60, 1.5), ("carp", carp(), 90, 2.0), ("carp", carp(), 120, 2.0), ("carp", carp(), 150, 3.0),
        ("blob 2", blob(2, 60, 1.9), 60, 1.5), ("blob 3", blob(3, 80, 0.9), 80, 2.0),
        ("blob 4", blob(4, 100, 0.6), 100, 2.5), ("blob 5", blob(5, 120, 0.6), 120, 3.0),
        ("blob 6", blob(6, 150, 0.6), 150, 2.0), ("blob 7", blob(7, 100, 0.25), 100, 1.5),
        ("blob 8", blob(8, 90, 0.22, bump_mm=1.2), 90, 2.0),
    ]  # fmt: skip
    for name, mesh, height, wall in cases:
        source, record = folder / "m.stl", folder / "m.json"
        write_model(source, mesh, replace=True)
        ask = ["--height", f"{height}mm", "--wall", f"{wall}mm", "-o", folder / "o.stl", "--json", record, "--replace"]
        record.unlink(missing_ok=True)
        seconds, peak, code = run("prep", source, *ask)
        if not record.exists():
            print(f"| {name} | {height} | {len(mesh.faces):,} | {wall} | exit {code} |")
            continue
        proof = json.loads(record.read_text())["models"][0]["proof"]
        crossing = sum(d["count"] for d in proof["defects"] + proof["defects_as_stored"])
        w = proof["wall"]
        print(
            f"| {name} | {height} mm | {len(mesh.faces):,} | {wall} mm | {w['min_mm']:.3f} | {w['p1_mm']:.3f} | "
            f"{w['median_mm']:.3f} | {crossing} | {proof['drains']} | {'fit' if code == 0 else 'unfit'} | "
            f"{seconds:.1f} | {peak:.0f} |",
            flush=True,
        )


def main() -> None:
    """Run what was asked for."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--sweep", action="store_true", help="also run the sweep over models")
    parser.add_argument("--only", choices=("demo", "look", "big"), help="only this table")
    asked = parser.parse_args()
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        for part in (demo, look, big):
            if asked.only in (None, part.__name__):
                part(folder)
        if asked.sweep:
            sweep(folder)


if __name__ == "__main__":
    main()
