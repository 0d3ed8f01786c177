"""Where the program stands: one list of whole runs, kept in a file and held against that of another version.

`python -m bench.run --save FILE.json` times them; `--compare FILE.json` times them and says of each whether it is
better or worse than in the file, in yardsticks, so that busy hours do not count. Exit 1 where one is worse.
"""

import json
import platform
import statistics
import sys
from collections.abc import Callable
from pathlib import Path

import numpy as np

from bench.models import blob, hurt
from bench.timing import run, yardstick
from bolvek import __version__
from bolvek.demo.measured import gourd
from bolvek.demo.pieces import block, globe
from bolvek.formats import write_model
from bolvek.mesh import Mesh

RUNS = 3
SAME = 0.1
"""A run that takes within this share as long as before is the same."""

Ask = tuple[Callable[[], Mesh], list[object]]


def _cubes(count: int) -> Mesh:
    """So many cubes a side, apart."""
    at = [(3.0 * x, 3.0 * y, 3.0 * z) for x in range(count) for y in range(count) for z in range(count)]
    one = [block(p, (p[0] + 2, p[1] + 2, p[2] + 2)) for p in at]
    return one[0].joined(*one[1:])


def _scans() -> Mesh:
    """Two views of a ball laid over each other, with noise."""
    rng = np.random.default_rng(3)
    views = []
    for k in range(2):
        ball = globe(20, (0, 0, 0), 96)
        seen = ball.corners.mean(axis=1)[:, 0] * (1 - 2 * k) > -6
        view = ball.picked(seen)
        views.append(view.moved(view.vertices + rng.normal(0, 0.03, view.vertices.shape)))
    return views[0].joined(views[1]).as_stored()


def _shaken(edge: float, places: int = 50) -> Mesh:
    """A sound surface shaken until it crosses itself in so many places, with fins at every other one."""
    rng = np.random.default_rng(11)
    mesh = blob(1, 100.0, edge)
    points, fins = mesh.vertices.copy(), []
    for k, middle in enumerate(rng.choice(len(points), places, replace=False).tolist()):
        near = np.linalg.norm(mesh.vertices - mesh.vertices[middle], axis=1) < 2.6 * edge
        points[near] += rng.normal(scale=0.6 * edge, size=(int(near.sum()), 3))
        own = mesh.faces[near[mesh.faces].all(axis=1)]
        if k % 2 and len(own) > 5:
            fins += [[f[0], f[1], own[-1][2]] for f in own[:4] if len({f[0], f[1], own[-1][2]}) == 3]
    return mesh.moved(points).joined(Mesh(points, np.array(fins, np.int32)).picked(slice(None))).as_stored()


CASES: dict[str, Ask] = {
    "scale, 12 triangles": (lambda: block((0, 0, 0), (9, 9, 9)), ["scale", "--by", 2]),
    "survey, 12 triangles": (lambda: block((0, 0, 0), (9, 9, 9)), ["survey"]),
    "prep, 5,000 triangles, 100 mm, wall 2 mm": (lambda: blob(1, 100.0, 3.1), ["prep", "--wall", "2mm"]),
    "prep, 100,000 triangles, 100 mm, wall 2 mm": (lambda: blob(1, 100.0, 0.71), ["prep", "--wall", "2mm"]),
    "prep, a million triangles, 100 mm, wall 2 mm": (lambda: blob(1, 100.0, 0.225), ["prep", "--wall", "2mm"]),
    "prep --to-solid, two views laid over each other": (_scans, ["prep", "--to-solid", "--wall", "2mm"]),
    "proof, a million triangles, wall": (lambda: blob(1, 100.0, 0.225), ["proof", "--wall", "0.8mm"]),
    "proof, 1,728 cubes": (lambda: _cubes(12), ["proof", "--wall", "0.8mm"]),
    "survey, a million triangles": (lambda: blob(1, 100.0, 0.225), ["survey"]),
    "walls, a million triangles": (lambda: blob(1, 100.0, 0.225), ["walls"]),
    "supports, 5,000 triangles, 100 mm": (lambda: blob(1, 100.0, 3.1), ["supports", "--printer", "small-resin"]),
    "supports, a million triangles, 100 mm": (lambda: blob(1, 100.0, 0.225), ["supports", "--printer", "small-resin"]),
    "tips, 5,000 triangles, 100 mm": (lambda: blob(1, 100.0, 3.1), ["overhangs", "--printer", "small-resin", "--tips"]),
    "tips, a million triangles, 100 mm": (
        lambda: blob(1, 100.0, 0.225),
        ["overhangs", "--printer", "small-resin", "--tips"],
    ),
    "mend, a million triangles, 1,000 faults": (lambda: hurt(blob(1, 100.0, 0.225), 1000), ["mend"]),
    "page of a survey, 93,000 triangles": (lambda: gourd()[0], ["survey", "--page"]),
    "solid, 100,000 triangles, 50 places at fault": (lambda: _shaken(0.71), ["solid"]),
    "solid, a million triangles, 50 places at fault": (lambda: _shaken(0.225), ["solid"]),
    "recast, 200,000 triangles": (lambda: hurt(blob(1, 100.0, 0.5), 200), ["recast"]),
}
"""By what they are: the model, and the verb with its options."""


def stand(folder: Path, only: str = "") -> dict[str, dict[str, float]]:
    """Seconds, processor seconds, yardsticks and memory (MB) of every case: medians of `RUNS` warm runs."""
    found = {}
    for name, (make, (verb, *options)) in CASES.items():
        if only not in name:
            continue
        source = folder / "model.stl"
        write_model(source, make(), replace=True)
        writes = [] if verb in ("proof", "survey", "walls", "overhangs") else ["-o", folder / "made.stl", "--replace"]
        writes = [folder / "page.html", "--replace"] if "--page" in options else writes
        ask = [verb, source, *options, *writes]
        run(*ask)  # compiles
        rows = []
        for _ in range(RUNS):
            before = yardstick()
            done = run(*ask)
            rows.append((done.seconds, done.cpu, done.seconds / (0.5 * (before + yardstick())), done.peak_mb))
        keys = ("seconds", "cpu", "yardsticks", "mb")
        found[name] = {k: round(statistics.median(c), 3) for k, c in zip(keys, zip(*rows, strict=True), strict=True)}
        print(f"{name}: {found[name]['seconds']:.2f} s", file=sys.stderr, flush=True)
    return found


def saved(found: dict[str, dict[str, float]], before: dict[str, dict[str, float]]) -> str:
    """The file of a version; cases that were not run stay as they were."""
    found = {**before, **found}
    about = {"bolvek": __version__, "python": platform.python_version(), "runs": RUNS}
    return json.dumps({**about, "cases": found}, indent=1) + "\n"


def compared(found: dict[str, dict[str, float]], before: dict[str, dict[str, float]]) -> tuple[str, bool]:
    """A table of what is better and worse than before, and whether nothing is worse."""
    rows = ["| run | s | processor s | yardsticks | before | MB | |", "|---|---|---|---|---|---|---|"]
    fine = True
    for name, now in found.items():
        old = before.get(name)
        word, was = "new", ""
        if old is not None:
            share = now["yardsticks"] / old["yardsticks"] - 1
            word = "same" if abs(share) <= SAME else f"better by {-share:.0%}" if share < 0 else f"worse by {share:.0%}"
            was = f"{old['yardsticks']:.1f}"
            fine &= share <= SAME
        figures = f"{now['seconds']:.2f} | {now['cpu']:.2f} | {now['yardsticks']:.1f} | {was} | {now['mb']:.0f}"
        rows.append(f"| {name} | {figures} | {word} |")
    return "\n".join(rows), fine
