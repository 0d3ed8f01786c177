"""Troubled files of every class, and mixtures, from file to proven print. `python troubled.py` does all of them.

`python troubled.py --kind NAME --count N` sends N files of a kind of `dirt` the same way, holes found by flooding, and
counts prints said to be fit that are not what was composed, those that are and are not said to be, and wrong sizes.
"""

import argparse
import tempfile
import time
from collections import Counter
from dataclasses import replace
from pathlib import Path

import numpy as np

import dirt
import skins
import wounds
from bolvek.analyses.soundness import find_defects
from bolvek.demo.leaf import maple_leaf
from bolvek.demo.troubled import cloud_tile, dragon_bracket, finial
from bolvek.errors import BolvekError
from bolvek.formats import read_model, write_model
from bolvek.jobs.prep import prep
from bolvek.mesh import Mesh
from bolvek.settings.parts import ScaleSettings
from bolvek.settings.repairs import SolidSettings
from bolvek.settings.shape import HollowSettings, PlaceSettings, PrepSettings
from support import assert_sound, ball, box, shell_box

ASKED = PrepSettings(
    hollow=HollowSettings(wall_mm=2.0),
    drains=PlaceSettings(count=2, diameter_mm=3.5),
    scale=ScaleSettings(longest_mm=100.0),
    solid=SolidSettings(skin_mm=1.2),
)


def heap(rng, count, kind):
    """Balls or boxes that go into each other."""
    parts = []
    for _ in range(count):
        at, size = rng.uniform(-12, 12, 3), rng.uniform(4, 9)
        if kind == "balls":
            one = ball(size, 1.0)
        else:
            one = box(tuple(-rng.uniform(2, 7, 3)), tuple(rng.uniform(2, 7, 3)))
        parts.append(one.moved(one.vertices @ _turn(rng).T + at).as_stored())
    return parts[0].joined(*parts[1:])


def sheets(rng, count):
    """A bag of square sheets that cross each other."""
    square = np.array([[-1, -1, 0], [1, -1, 0], [1, 1, 0], [-1, 1, 0]], float)
    corners = [square * rng.uniform(6, 14) @ _turn(rng).T + rng.uniform(-8, 8, 3) for _ in range(count)]
    faces = [np.array([[0, 1, 2], [0, 2, 3]]) + 4 * k for k in range(count)]
    return Mesh(np.concatenate(corners), np.concatenate(faces)).as_stored()


def house():
    """Walls and a roof without a thickness, a door left out: seven sheets that meet along edges."""
    quads = [
        [(0, 0, 0), (12, 0, 0), (12, 0, 20), (0, 0, 20)],
        [(18, 0, 0), (30, 0, 0), (30, 0, 20), (18, 0, 20)],
        [(30, 0, 0), (30, 24, 0), (30, 24, 20), (30, 0, 20)],
        [(30, 24, 0), (0, 24, 0), (0, 24, 20), (30, 24, 20)],
        [(0, 24, 0), (0, 0, 0), (0, 0, 20), (0, 24, 20)],
        [(-2, -2, 19), (32, -2, 19), (32, 12, 30), (-2, 12, 30)],
        [(-2, 12, 30), (32, 12, 30), (32, 26, 19), (-2, 26, 19)],
    ]
    corners = [[q[i] for i in three] for q in quads for three in ((0, 1, 2), (0, 2, 3))]
    return Mesh.from_corners(np.array(corners, float))


def _turn(rng):
    q = rng.normal(size=4)
    w, x, y, z = q / np.linalg.norm(q)
    return np.array(
        [
            [1 - 2 * (y * y + z * z), 2 * (x * y - z * w), 2 * (x * z + y * w)],
            [2 * (x * y + z * w), 1 - 2 * (x * x + z * z), 2 * (y * z - x * w)],
            [2 * (x * z - y * w), 2 * (y * z + x * w), 1 - 2 * (x * x + y * y)],
        ]
    )


def troubled(seed=7):
    """Name and model of each."""
    rng = np.random.default_rng(seed)
    found = {"finial": finial()[0], "cloud tile": cloud_tile()[0], "dragon bracket": dragon_bracket()[0]}
    found |= {"maple leaf": maple_leaf(), "house": house(), "hollow box": shell_box()}
    bodies = {name: make() for name, make in wounds.SHAPES.items()}
    for name, wound in wounds.WOUNDS.items():
        body = list(bodies)[int(rng.integers(len(bodies)))]
        hurt = bodies[body]
        for _ in range(6):
            hurt = wound(hurt, rng)[0]
        found[f"six of {name} on a {body}"] = hurt
    for count, kind in ((2, "balls"), (9, "balls"), (25, "balls"), (3, "boxes"), (14, "boxes"), (40, "boxes")):
        found[f"{count} {kind}"] = heap(rng, count, kind)
    found |= {f"{count} sheets": sheets(rng, count) for count in (1, 4, 20)}
    found |= {f"skin: {name}": one for name, one in list(skins.skins().items())[::5]}
    for count in (1, 4):
        mixed = heap(rng, 4, "balls").joined(sheets(rng, count))
        for wound in list(wounds.WOUNDS.values())[:4]:
            mixed = wound(mixed, rng)[0]
        found[f"balls, sheets and four wounds, {count}"] = mixed
    return found


def outcome(mesh: Mesh, folder: Path) -> tuple[str, str, Mesh | None]:
    """What became of a model from file to print: "fit" or what else, why, and the mesh."""
    path = folder / "model.stl"
    write_model(path, mesh, replace=True)
    try:
        result = prep(read_model(path), ASKED)
    except BolvekError as error:
        return "refused", str(error), None
    way = result.solid.way if result.solid else ""
    faults = "; ".join(f.text for f in result.proof.findings if f.severity == "fault")
    return result.proof.verdict, f"{way}{': ' if faults else ''}{faults}", result.model.mesh


def composed(name: str, seed: int, folder: Path) -> tuple[str, str]:
    """What became of a file of a kind of `dirt`, 60 mm long: "fit", "told" (unfit, and not what was composed),
    "false fit", "false unfit", "another size", "refused"; and why."""
    rng = np.random.default_rng([seed, *name.encode()])
    bodies, mesh = dirt.KINDS[name](rng)
    path = folder / "model.stl"
    write_model(path, mesh.as_stored(), replace=True)
    asked = replace(ASKED, drains=PlaceSettings(), auto=True, scale=ScaleSettings(longest_mm=60.0))
    try:
        result = prep(read_model(path), asked)
    except BolvekError as error:
        return "refused", str(error)
    faults = "; ".join(f.text for f in result.proof.findings if f.severity == "fault")
    # a hole through its lowest point takes a little of that
    if abs(float(result.whole.size.max()) / 60.0 - 1) > 1e-3:
        return "another size", str(result.whole.size)
    low, high = mesh.bounds
    pad = 0.05 * (high - low).max()
    places = np.random.default_rng(7).uniform(low - pad, high + pad, (20_000, 3))
    depth = np.max([b.depth(places) for b in bodies], axis=0)
    clear = np.abs(depth) > 0.015 * (high - low).max()
    there = result.whole.tree.winding(places * np.array(result.scale.factors)) > 0.5
    off = float((there != (depth > 0))[clear].sum() / max((depth > 0)[clear].sum(), 1))
    fit = result.proof.verdict == "fit"
    what = ("fit" if fit else "false unfit") if off <= 0.01 else ("false fit" if fit else "told")
    return what, f"{result.solid.way}, {100 * off:.2f}% off; {faults}"


def all_of(kinds: list[str], count: int, first: int, folder: Path) -> int:
    """Count what becomes of files of some kinds."""
    false = 0
    for name in kinds:
        begin = time.perf_counter()
        told = [(seed, *composed(name, seed, folder)) for seed in range(first, first + count)]
        counts = Counter(what for _, what, _ in told)
        took = (time.perf_counter() - begin) / count
        print(f"{name:40} {took:5.1f} s each: {', '.join(f'{n} {w}' for w, n in sorted(counts.items()))}", flush=True)
        for seed, what, why in told:
            if what != "fit":
                print(f"    seed {seed}: {what}: {why[:240]}", flush=True)
        false += sum(counts[w] for w in ("false fit", "false unfit", "another size"))
    print(f"{false} false")
    return int(false > 0)


def main() -> int:
    """Do all, tell what became of each."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--seed", type=int, default=7)
    parser.add_argument("--kind", action="append", choices=[*dirt.KINDS, "all"])
    parser.add_argument("--count", type=int, default=10)
    arguments = parser.parse_args()
    seed = arguments.seed
    if arguments.kind:
        kinds = list(dirt.KINDS) if "all" in arguments.kind else arguments.kind
        with tempfile.TemporaryDirectory() as folder:
            return all_of(kinds, arguments.count, seed, Path(folder))
    fit = 0
    models = troubled(seed)
    with tempfile.TemporaryDirectory() as folder:
        for name, mesh in models.items():
            begin = time.perf_counter()
            verdict, why, made = outcome(mesh, Path(folder))
            if made is not None:
                assert not find_defects(made.as_stored())
                if len(made.faces) < 8000:
                    assert_sound(made)
            fit += verdict == "fit"
            took = time.perf_counter() - begin
            print(f"{verdict:10} {took:5.1f} s  {name}: {len(mesh.faces):,} triangles; {why}", flush=True)
    print(f"{fit} of {len(models)} fit")
    return 0


if __name__ == "__main__":
    raise SystemExit(main())
