"""Time `bolvek prep`, `survey` and reading, cold and warm, and a sweep over models; prints Markdown tables.

`python -m bench.run [--sweep] [--only TABLE]`, or `--save FILE.json` and `--compare FILE.json` (see `standing`);
medians of three warm runs. Models are made in a temporary folder.
"""

import argparse
import json
import math
import statistics
import sys
import tempfile
import time
from pathlib import Path

import numpy as np

from bench.jobs import jobs
from bench.models import blob, hurt
from bench.parts import parts
from bench.standing import compared, saved, stand
from bench.timing import run, timed_with_yardstick
from bolvek.analyses.columns import let_stand, make_columns
from bolvek.analyses.thickness import measure_walls, sample_surface
from bolvek.demo.carp import carp
from bolvek.demo.measured import gourd
from bolvek.demo.pieces import block, globe, sheet, turned
from bolvek.formats import read_model, write_model
from bolvek.mesh import Mesh
from bolvek.operations.drain import place_by_flood
from bolvek.operations.hollow import hollow
from bolvek.operations.scale import scale
from bolvek.settings.measures import WallSettings
from bolvek.settings.parts import ScaleSettings
from bolvek.settings.shape import AutoSettings, HollowSettings, PlaceSettings


def starts(folder: Path) -> None:
    """The first run of every verb on a machine, and the next one, on small models."""
    print("## First and next start\n")
    print("| verb | first ever s | in yardsticks | next s | in yardsticks |\n|---|---|---|---|---|")
    run("demo", folder / "models")
    models = folder / "models"
    asks: dict[str, list[object]] = {
        "survey": [models / "finial.stl"],
        "walls": [models / "gourd.stl"],
        "overhangs": [models / "lattice_shade.stl"],
        "scale": [models / "carp.stl", "--by", 2, "-o", folder / "s.stl", "--replace"],
        "pose": [models / "carp.stl", "--turn", "x:90", "-o", folder / "s.stl", "--replace"],
        "hollow": [models / "carp.stl", "-o", folder / "s.stl", "--replace"],
        "proof": [models / "carp.prep.stl", "--wall", "2mm"],
        "prep": [models / "carp.stl", "-o", folder / "s.stl", "--replace"],
    }
    for verb, ask in asks.items():
        cache = folder / f"cache-{verb}"
        first = timed_with_yardstick(verb, *ask, cache=cache)
        again = min(timed_with_yardstick(verb, *ask, cache=cache) for _ in range(3))
        print(f"| {verb} | {first[0]:.1f} | {first[1]:.1f} | {again[0]:.2f} | {again[1]:.2f} |", flush=True)
    print()


def pictures(folder: Path) -> None:
    """What a picture, and a page, take beyond the work: medians of three, on the workshop's models."""
    print(
        "## Pictures\n\n| run | without s | with a picture s | more | with a page s | more |\n|---|---|---|---|---|---|"
    )
    run("demo", folder / "models")
    models = folder / "models"
    asks: dict[str, list[object]] = {
        "survey": [models / "dragon_bracket.obj"],
        "walls": [models / "gourd.stl", "--least-wall", "1.2mm"],
        "overhangs": [models / "lattice_shade.stl"],
        "layers": [models / "lattice_shade.stl", "--layer", "0.2mm"],
        "proof": [models / "carp.prep.stl", "--wall", "2mm"],
        "mend": [models / "cloud_tile.ply", "-o", folder / "m.ply", "--replace"],
        "scale": [models / "carp.stl", "--by", 2, "-o", folder / "s.stl", "--replace"],
    }
    more = {"plain": [], "picture": ["--picture", folder / "p.png"], "page": ["--page", folder / "p.html"]}
    for verb, ask in asks.items():
        took: dict[str, float] = {}
        for name, options in more.items():
            asked = [*ask, *options, *([] if "--replace" in ask or not options else ["--replace"])]
            run(verb, *asked)
            took[name] = statistics.median(run(verb, *asked).cpu for _ in range(3))
        plain, drawn, page = took["plain"], took["picture"], took["page"]
        print(
            f"| {verb} | {plain:.2f} | {drawn:.2f} | {drawn - plain:.2f} | {page:.2f} | {page - plain:.2f} |",
            flush=True,
        )
    print("\nProcessor seconds.\n")


def big(folder: Path) -> None:
    """The million-triangle case, cold and warm, step by step."""
    source, target, record = folder / "big.stl", folder / "big.prep.stl", folder / "big.json"
    mesh = blob(1, 100.0, 0.225)
    write_model(source, mesh)
    ask = ["prep", source, "--wall", "2mm", "--grid", "0.5mm", "-o", target, "--json", record, "--replace"]
    cold = run(*ask, cache=folder / "cache").seconds
    print(f"## {len(mesh.faces):,} triangles, 100 mm, wall 2 mm, grid 0.5 mm\n")
    rows, total, ratios, memory = [], [], [], 0.0
    for _ in range(3):
        seconds, ratio, peak = timed_with_yardstick(*ask)
        total.append(seconds)
        ratios.append(ratio)
        memory = max(memory, peak)
        rows.append(json.loads(record.read_text())["seconds"])
    print("| step | seconds |\n|---|---|")
    for step in rows[0]:
        print(f"| {step} | {statistics.median(r[step] for r in rows):.2f} |")
    print(f"| whole program, warm | {statistics.median(total):.2f} |")
    print(
        f"| the same in yardsticks | {statistics.median(ratios):.1f} |\n| whole program, first run ever | {cold:.1f} |"
    )
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
            done = run("survey", source, "--json", record, "--replace")
            took = json.loads(record.read_text())["seconds"]
            runs.append((took["read"], took["survey"], done.seconds, done.peak_mb))
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


def measures(folder: Path) -> None:
    """Walls, overhangs and build directions at two sizes; rays against embreex where it is installed."""
    print("## Walls and overhangs\n")
    print("| triangles | walls, rays s | walls, both s | overhangs s | 200 directions s | whole walls s | MB |")
    print("|---|---|---|---|---|---|---|")
    for cell in (0.71, 0.225):
        mesh, source = blob(1, 100.0, cell), folder / "measure.stl"
        write_model(source, mesh, replace=True)
        asks = {
            "rays": ["walls", source, "--rays-only"],
            "both": ["walls", source],
            "over": ["overhangs", source],
            "ways": ["overhangs", source, "--compare-up", 200],
        }
        times, whole, memory = {}, [], 0.0
        for name, ask in asks.items():
            took = []
            for _ in range(3):
                done = run(*ask, "--json", folder / "m.json", "--replace")
                took.append(json.loads((folder / "m.json").read_text())["seconds"][ask[0]])
                memory = max(memory, done.peak_mb)
                whole += [done.seconds] if name == "both" else []
            times[name] = statistics.median(took)
        ways = times["ways"] - times["over"]
        print(
            f"| {len(mesh.faces):,} | {times['rays']:.2f} | {times['both']:.2f} | {times['over']:.2f} | {ways:.2f} | "
            f"{statistics.median(whole):.2f} | {memory:.0f} |",
            flush=True,
        )
    _against_embreex(mesh)
    accuracy()


def mending(folder: Path) -> None:
    """Mending at two sizes, a fault for a thousand triangles, and sound models that have nothing to mend."""
    print("## Mending\n\n| triangles | faults | mend s | whole program s | in yardsticks | MB | verdict |")
    print("|---|---|---|---|---|---|---|")
    for cell in (0.71, 0.225):
        mesh = blob(1, 100.0, cell)
        for faults in (0, len(mesh.faces) // 1000):
            source, record, target = folder / "hurt.stl", folder / "mend.json", folder / "mended.stl"
            write_model(source, hurt(mesh, faults) if faults else mesh, replace=True)
            whole, work, ratios, memory = [], [], [], 0.0
            for _ in range(3):
                ask = ("mend", source, "-o", target, "--json", record, "--replace")
                seconds, ratio, peak = timed_with_yardstick(*ask)
                told = json.loads(record.read_text())
                whole.append(seconds)
                ratios.append(ratio)
                work.append(told["seconds"]["mend"])
                memory = max(memory, peak)
            print(
                f"| {len(mesh.faces):,} | {faults:,} | {statistics.median(work):.2f} | {statistics.median(whole):.2f} "
                f"| {statistics.median(ratios):.1f} | {memory:.0f} | {told['verdict']} |",
                flush=True,
            )
    print()


def _against_embreex(mesh: Mesh) -> None:
    """First hits a second on one thread: inward rays from every face, in the order of the tree."""
    try:
        from embreex import rtcore_scene
        from embreex.mesh_construction import TriangleMesh
    except ImportError:
        print("\nembreex is not installed: no comparison of rays\n")
        return
    samples = sample_surface(mesh, 100.0)
    inward = -mesh.unit_normals[samples.face]
    origins = samples.points + 1e-3 * inward
    scene = rtcore_scene.EmbreeScene()
    TriangleMesh(scene, mesh.corners.astype(np.float32))
    ours, theirs = [], []
    for _ in range(3):
        begin = time.perf_counter()
        mine = mesh.tree.rays(origins, inward, alone=True).distance[:, 0]
        ours.append(time.perf_counter() - begin)
        begin = time.perf_counter()
        other = scene.run(origins.astype(np.float32), inward.astype(np.float32), query="DISTANCE")
        theirs.append(time.perf_counter() - begin)
    agree = float(np.mean(np.abs(np.minimum(mine, 1e4) - np.minimum(other, 1e4)) < 1e-3 * (1 + np.minimum(mine, 1e4))))
    n, us, them = len(origins) / 1e6, statistics.median(ours), statistics.median(theirs)
    print(
        f"\nrays a second on one thread: ours {n / us:.2f} M, embreex {n / them:.2f} M, ratio {them / us:.2f}; "
        f"{100 * agree:.2f}% give the same length within 0.1%\n"
    )


def accuracy() -> None:
    """Measured against known walls."""
    print("## Accuracy\n\n| shape | known mm | ray min | ball min | median |\n|---|---|---|---|---|")
    n = 128
    shapes = {
        "plate": (block((0, 0, 0), (40, 30, 2)), 2.0),
        "thin plate": (block((0, 0, 0), (40, 30, 0.4)), 0.4),
        "tube": (turned([(10, 0), (10, 20), (8.5, 20), (8.5, 0)], n, ring=True), 1.5),
        "concentric balls": (globe(10, (0, 0, 0), n).joined(globe(8, (0, 0, 0), n).turned()), 2.0),
        "eccentric balls": (globe(10, (0, 0, 0), n).joined(globe(8, (1.7, 0, 0), n).turned()), 0.3),
        "gourd, thinnest dent": (gourd()[0], 0.5),
    }
    for name, (mesh, known) in shapes.items():
        found, _ = measure_walls(mesh, WallSettings(min_mm=2.5))
        ball = found.ball.min_mm if found.ball and found.ball.min_mm else float("nan")
        print(
            f"| {name} | {known:.3f} | {found.ray.min_mm:.4f} | {ball:.4f} | {found.wall.percentiles_mm['50']:.4f} |",
            flush=True,
        )
    print()


def demo(folder: Path) -> None:
    """The demo, cold and warm."""
    cold = run("demo", folder / "demo", cache=folder / "demo-cache").seconds
    warm = run("demo", folder / "demo", "--replace", cache=folder / "demo-cache").seconds
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
        done = run("prep", source, *ask)
        if not record.exists():
            print(f"| {name} | {height} | {len(mesh.faces):,} | {wall} | exit {done.code} |")
            continue
        proof = json.loads(record.read_text())["models"][0]["proof"]
        crossing = sum(d["count"] for d in proof["defects"] + proof["defects_as_stored"])
        w = proof["wall"]
        print(
            f"| {name} | {height} mm | {len(mesh.faces):,} | {wall} mm | {w['min_mm']:.3f} | {w['p1_mm']:.3f} | "
            f"{w['median_mm']:.3f} | {crossing} | {proof['drains']} | {'fit' if done.code == 0 else 'unfit'} | "
            f"{done.seconds:.1f} | {done.peak_mb:.0f} |",
            flush=True,
        )


def solids(folder: Path) -> None:
    """Making thick, making one body of many, making anew: what the cost follows."""
    print("## Solids\n\n| what | triangles | to | work s | whole program s | MB |\n|---|---|---|---|---|---|")
    source, record, target = folder / "in.stl", folder / "solid.json", folder / "solid.stl"

    def row(what: str, verb: str, step: str, mesh: Mesh, *options: object) -> None:
        write_model(source, mesh, replace=True)
        run(verb, source, *options, "-o", target, "--replace")
        done = run(verb, source, *options, "-o", target, "--json", record, "--replace")
        told = json.loads(record.read_text())
        work, made = told["seconds"][step], told["models"][0]["triangles"]
        print(
            f"| {what} | {len(mesh.faces):,} | {made:,} | {work:.2f} | {done.seconds:.2f} | {done.peak_mb:.0f} |",
            flush=True,
        )

    rng = np.random.default_rng(5)
    for n in (150, 330):
        u, v = np.meshgrid(*(np.linspace(0, 100, n),) * 2, indexing="ij")
        hills = sheet(np.stack([u, v, 6 * np.sin(u / 9) * np.cos(v / 11) + rng.normal(0, 0.02, u.shape)], axis=-1))
        row("hills, 1.2 mm thick", "thicken", "thicken", hills, "--thick", "1.2mm")
    for count in (40, 160):
        boxes = []
        for _ in range(count):
            turn = np.linalg.qr(rng.normal(size=(3, 3)))[0]
            turn[:, 0] *= np.sign(np.linalg.det(turn))
            one = block(tuple(-rng.uniform(2, 7, 3)), tuple(rng.uniform(2, 7, 3)))
            boxes.append(one.moved(one.vertices @ turn.T + rng.uniform(-30, 30, 3)))
        ask = ("--to-solid", "--drains", 0, "--wall", "5mm")
        row(f"{count} boxes into one body", "prep", "fuse", boxes[0].joined(*boxes[1:]), *ask)
    scan = hurt(blob(1, 100.0, 0.5), 200)
    for grid in (1.6, 0.8, 0.4):
        row(f"recast, grid {grid} mm", "recast", "recast", scan, "--grid", f"{grid}mm", "--bridge", f"{2 * grid}mm")
    print()


def liquid(folder: Path) -> None:
    """Columns, floods and drains that place themselves: seconds in one process, medians of three; the whole verb."""
    print("## Liquid\n\n| what | triangles | columns | columns s | flood s | holes found s | holes | stays |")
    print("|---|---|---|---|---|---|---|---|")
    bodies = {"carp, 90 mm": (scale(carp(), ScaleSettings(height_mm=90.0))[0], 2.0), "gourd": (gourd()[0], 2.0)}
    bodies |= {f"blob, {cell} mm edges": (blob(1, 100.0, cell), 2.0) for cell in (0.5, 0.225)}
    for name, (mesh, wall) in bodies.items():
        solid = mesh.as_stored()
        hollowed, _ = hollow(solid, HollowSettings(wall_mm=wall))
        hollowed.prepare()
        place = PlaceSettings(least_mm=1.5, wall_mm=0.995 * wall)
        asked = AutoSettings(place=place, wall_mm=wall, closed_only=True)
        seconds: dict[str, list[float]] = {"columns": [], "flood": [], "holes": []}
        for _ in range(3):
            begin = time.perf_counter()
            columns = make_columns(solid)
            seconds["columns"].append(time.perf_counter() - begin)
            begin = time.perf_counter()
            let_stand(columns)
            seconds["flood"].append(time.perf_counter() - begin)
            begin = time.perf_counter()
            placed, _, record = place_by_flood(hollowed, asked)
            seconds["holes"].append(time.perf_counter() - begin)
        took = [statistics.median(s) for s in seconds.values()]
        of = sum(r.volume_mm3 for r in record.rooms)
        stays = f"{record.stays_mm3:.1f} mm3, {100 * record.stays_mm3 / of:.3f}%"
        figures = " | ".join(f"{s:.2f}" for s in took)
        grid = f"{columns.shape[0]} x {columns.shape[1]}"
        print(f"| {name} | {len(solid.faces):,} | {grid} | {figures} | {len(placed)} | {stays} |", flush=True)
    print("\n| `layers` | triangles | layers | work s | whole program s | MB |\n|---|---|---|---|---|---|")
    source, told = folder / "in.stl", folder / "layers.json"
    for name, (mesh, _) in bodies.items():
        write_model(source, mesh, replace=True)
        run("layers", source)
        done = run("layers", source, "--json", told, "--replace")
        found = json.loads(told.read_text())
        work, count = found["seconds"]["layers"], found["models"][0]["layers"]["count"]
        print(
            f"| {name} | {len(mesh.faces):,} | {count:,} | {work:.2f} | {done.seconds:.2f} | {done.peak_mb:.0f} |",
            flush=True,
        )
    print()


PARTS = {
    part.__name__: part for part in (demo, starts, pictures, look, measures, mending, solids, liquid, parts, big, jobs)
}
"""The tables, by name."""


def main() -> None:
    """Run what was asked for."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--sweep", action="store_true", help="also run the sweep over models")
    parser.add_argument("--only", choices=tuple(PARTS), help="only this table")
    parser.add_argument("--save", type=Path, metavar="FILE.json", help="only time the standing runs, into a file")
    parser.add_argument("--compare", type=Path, metavar="FILE.json", help="only those, held against such a file")
    parser.add_argument("--case", default="", help="of those only the ones with this in their names")
    asked = parser.parse_args()
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        if asked.save or asked.compare:
            before = json.loads(asked.compare.read_text())["cases"] if asked.compare else {}
            found = stand(folder, asked.case)
            table, fine = compared(found, before)
            print(table)
            if asked.save:
                known = json.loads(asked.save.read_text())["cases"] if asked.save.exists() else {}
                asked.save.write_text(saved(found, known))
            sys.exit(0 if fine else 1)
        for title, part in PARTS.items():
            if asked.only in (None, title):
                part(folder)
        if asked.sweep:
            sweep(folder)


if __name__ == "__main__":
    main()
