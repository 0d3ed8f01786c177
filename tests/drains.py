"""Models that must drain, and voids whose exact volume is known. `python drains.py` does all and prints two tables."""

import argparse
import itertools
import time
from pathlib import Path

import numpy as np

from bolvek.analyses.columns import let_stand, make_columns
from bolvek.demo.carp import carp
from bolvek.demo.measured import gourd
from bolvek.demo.pieces import blocks, turned
from bolvek.errors import BolvekError
from bolvek.formats.registry import Model
from bolvek.jobs.prep import prep
from bolvek.mesh import Mesh
from bolvek.settings.parts import ScaleSettings
from bolvek.settings.shape import HollowSettings, PlaceSettings, PrepSettings
from support import box, field, shell_box


def polygon(radius: float, sides: int = 96) -> float:
    """The area of a regular polygon in a circle."""
    return 0.5 * sides * radius**2 * np.sin(2 * np.pi / sides)


def cup(radius=10.0, depth=20.0, wall=2.0) -> Mesh:
    """A round cup, open upward."""
    out, top = radius + wall, depth + wall
    return turned([(0, 0), (out, 0), (out, top), (radius, top), (radius, wall), (0, wall)], 96)


def trough() -> Mesh:
    """A block of 60 mm with a square well of 20 mm in its middle."""
    cells = np.ones((3, 3, 2), bool)
    cells[1, 1, 1] = False
    return blocks(cells, 20.0)


def known() -> dict[str, tuple[Mesh, tuple[float, float, float], float]]:
    """By name: a mesh, the direction up, what stays in it (mm3)."""
    up = (0.0, 0.0, 1.0)
    found = {
        "cup": (cup(), up, polygon(10) * 20),
        "closed cube": (shell_box(), up, 16.0**3),
        "cube in a cube": (box((0, 0, 0), (30,) * 3).joined(box((2,) * 3, (28,) * 3).turned()), up, 26.0**3),
    }
    inner = shell_box()
    nested = found["cube in a cube"][0].joined(inner.moved(inner.vertices + 5))
    found["nested shells"] = nested, up, 26.0**3 - 20**3 + 16**3
    cone = turned([(0, 0), (14, 0), (14, 16), (12, 16), (4, 4), (0, 4)], 96)
    found["conical bowl"] = cone, up, polygon(1) * 12 * (12**2 + 12 * 4 + 4**2) / 3
    for degrees in (5, 20, 35):
        lean = np.radians(degrees)
        volume = 20 * (400 - 200 * np.tan(lean))
        found[f"trough tilted {degrees}"] = trough(), (float(np.sin(lean)), 0.0, float(np.cos(lean))), volume
    siphon = np.ones((9, 3, 9), bool)
    siphon[1:4, 1, 1:6] = siphon[3:8, 1, 5] = siphon[7, 1, :6] = False
    found["siphon"] = blocks(siphon, 2.0), up, 3 * 4 * 8.0
    bend = np.ones((5, 3, 6), bool)
    bend[1, 1, 1:] = bend[3, 1, 1:4] = bend[1:4, 1, 1] = False
    found["bend, one arm closed"] = blocks(bend, 1.0), up, 9.0
    spiral = np.ones((9, 9, 5), bool)
    corners = [(1, 1), (7, 1), (7, 7), (1, 7), (1, 3), (5, 3), (5, 5), (3, 5)]
    for (x, y), (u, v) in itertools.pairwise(corners):
        spiral[min(x, u) : max(x, u) + 1, min(y, v) : max(y, v) + 1, 2] = False
    spiral[1, 1, 2:] = False  # its only way out is up
    spiral[3, 5, 1] = False  # a sump at its end
    found["spiral with a sump"] = blocks(spiral, 1.0), up, float((~spiral).sum())
    chambers = np.ones((12, 5, 8), bool)
    chambers[1:5, 1:4, 1:7] = chambers[7:11, 1:4, 1:7] = False
    chambers[5:7, 2, 3] = False  # a neck
    chambers[2, 2, 0] = False
    found["chamber behind a neck"] = blocks(chambers, 1.5), up, 4 * 3 * 2 * 1.5**3
    return found


def organic(seed: int) -> Mesh:
    """A bumpy body of a few balls and arms, never the same twice."""
    rng = np.random.default_rng([9, seed])
    balls = [(rng.uniform(-6, 6, 3), rng.uniform(3.5, 7)) for _ in range(rng.integers(2, 6))]
    arms = [(rng.uniform(-5, 5, 3), rng.uniform(-9, 9, 3), rng.uniform(1.6, 3)) for _ in range(rng.integers(0, 4))]
    bump, wave = rng.uniform(0.1, 0.5), rng.uniform(1.0, 2.0, 3)

    def shape(x, y, z):
        p = np.stack([x, y, z], axis=-1)
        parts = [np.linalg.norm(p - at, axis=-1) - r for at, r in balls]
        for a, b, r in arms:
            t = np.clip(((p - a) @ (b - a)) / ((b - a) @ (b - a)), 0, 1)[..., None]
            parts.append(np.linalg.norm(p - a - t * (b - a), axis=-1) - r)
        skin = bump * np.sin(wave[0] * x) * np.cos(wave[1] * y) * np.sin(wave[2] * z + 1)
        # joined softly, so that it is one body with necks
        return -np.log(np.sum([np.exp(-2 * q) for q in parts], axis=0)) / 2 + skin

    mesh = field(shape, 15.0, 0.5)
    largest = int(np.argmax(mesh.shell_volumes))
    return mesh.picked(mesh.topology.shell == largest)


def prepared(mesh: Mesh, longest: float, wall: float = 2.0):
    """The way of `prep` with drains by themselves."""
    settings = PrepSettings(
        hollow=HollowSettings(wall_mm=wall),
        drains=PlaceSettings(diameter_mm=3.5),
        auto=True,
        scale=ScaleSettings(longest_mm=longest),
    )
    return prep(Model(Path("model.stl"), mesh, "stl", "mm", 0.0), settings)


def main() -> None:
    """Both tables."""
    parser = argparse.ArgumentParser()
    parser.add_argument("--organic", type=int, default=12)
    asked = parser.parse_args()
    print("| what | exact mm3 | found | off | seconds |\n|---|---|---|---|---|")
    for name, (mesh, up, exact) in known().items():
        begin = time.perf_counter()
        stays = let_stand(make_columns(mesh, up)).volume_mm3
        seconds, off = time.perf_counter() - begin, 100 * (stays / exact - 1)
        print(f"| {name} | {exact:.2f} | {stays:.2f} | {off:+.2f}% | {seconds:.2f} |")
    print("\n| model | verdict | cavities | holes | stays | of | seconds | notes |\n|---|---|---|---|---|---|---|---|")
    models = {"carp": (carp(), 90.0), "gourd": (gourd()[0], 76.0)}
    models |= {f"organic {k}": (organic(k), float(60 + 8 * k)) for k in range(asked.organic)}
    for name, (mesh, longest) in models.items():
        begin = time.perf_counter()
        try:
            result = prepared(mesh, longest)
        except BolvekError as error:
            print(f"| {name} | refused: {error} |", flush=True)
            continue
        seconds = time.perf_counter() - begin
        proof, drain = result.proof, result.drain
        told = "; ".join(f.text for f in proof.findings if f.severity == "fault" or f.code == "left_solid")
        rooms = drain.auto.rooms if drain is not None and drain.auto is not None else ()
        stays, of = sum(r.stays_mm3 for r in rooms), sum(r.volume_mm3 for r in rooms)
        share = f"{100 * stays / of:.3f}% of {of / 1000:.1f} cm3" if of else "-"
        count = len(rooms)
        holes = len(drain.holes) if drain is not None else 0
        print(
            f"| {name} | {proof.verdict} | {count} | {holes} | {stays:.2f} mm3 | {share} | {seconds:.1f} | {told} |",
            flush=True,
        )


if __name__ == "__main__":
    main()
