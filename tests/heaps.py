"""Heaps of boxes, hollow ones too, whose union or difference is known cell by cell.

`python tests/heaps.py --count N --seed S` fuses or carves N of each kind and counts what is false or refused. The
truth: all coordinates cut space into cells, each of which lies in a body or not.
"""

import argparse
import sys
from dataclasses import dataclass, field

import numpy as np

from bolvek.errors import WorkError
from bolvek.mesh import Mesh
from bolvek.operations.fuse import carve, fuse, gather_all
from bolvek.settings.parts import FuseSettings
from support import box


@dataclass
class Body:
    """A box with voids that are boxes."""

    low: np.ndarray
    high: np.ndarray
    voids: list = field(default_factory=list)

    def mesh(self) -> Mesh:
        """As a model."""
        made = box(self.low, self.high)
        return made.joined(*(box(*v).turned() for v in self.voids)) if self.voids else made

    def holds(self, points) -> np.ndarray:
        """Points (N, 3) in its material."""
        inside = ((points > self.low) & (points < self.high)).all(axis=1)
        for low, high in self.voids:
            inside &= ~((points > low) & (points < high)).all(axis=1)
        return inside


@dataclass
class Heap:
    """Files of bodies, and tools that are taken out."""

    files: list[list[Body]]
    tools: list[Body] = field(default_factory=list)

    def volume(self) -> float:
        """Of what is to come out."""
        bodies = [b for f in self.files for b in f]
        ends = [e for b in bodies + self.tools for e in ([b.low, b.high] + [x for v in b.voids for x in v])]
        axes = [np.unique([e[k] for e in ends]) for k in range(3)]
        middles = np.stack(np.meshgrid(*(0.5 * (a[1:] + a[:-1]) for a in axes), indexing="ij"), -1).reshape(-1, 3)
        size = np.stack(np.meshgrid(*(np.diff(a) for a in axes), indexing="ij"), -1).reshape(-1, 3).prod(axis=1)
        inside = np.any([b.holds(middles) for b in bodies], axis=0)
        for tool in self.tools:
            inside &= ~tool.holds(middles)
        return float(size[inside].sum())


def body(rng, *, hollow: float, whole=False, spread=8.0) -> Body:
    """A box of 6 to 14, hollow by chance, on whole numbers where asked."""
    low = rng.uniform(0, spread, 3)
    high = low + rng.uniform(6, 14, 3)
    if whole:
        low, high = np.round(low), np.round(high)
    low, high = (x.astype(np.float32).astype(float) for x in (low, high))
    voids = []
    if rng.random() < hollow:
        wall = 1.0 if whole else rng.uniform(0.6, 1.8, 3).astype(np.float32).astype(float)
        voids.append((low + wall, high - wall))
    return Body(low, high, voids)


KINDS = {
    "two_hollow": lambda rng: Heap([[body(rng, hollow=1)], [body(rng, hollow=1)]]),
    "two_hollow_in_one_file": lambda rng: Heap([[body(rng, hollow=1), body(rng, hollow=1)]]),
    "hollow_and_solid": lambda rng: Heap([[body(rng, hollow=1)], [body(rng, hollow=0)]]),
    "mixed_files": lambda rng: Heap([[body(rng, hollow=0.6)] for _ in range(int(rng.integers(3, 7)))]),
    "mixed_in_one_file": lambda rng: Heap([[body(rng, hollow=0.6) for _ in range(int(rng.integers(3, 6)))]]),
    "on_whole_numbers": lambda rng: Heap([[body(rng, hollow=0.5, whole=True)] for _ in range(int(rng.integers(2, 6)))]),
    "carved": lambda rng: Heap([[body(rng, hollow=1)]], [body(rng, hollow=0)]),
    "carved_with_hollow": lambda rng: Heap([[body(rng, hollow=1)]], [body(rng, hollow=1), body(rng, hollow=0.5)]),
    "touching_in_one_file": lambda rng: _touching(rng),
    "cubes_in_files": lambda rng: _cubes(rng),
}


def _touching(rng) -> Heap:
    """Two boxes that share a face or an edge."""
    size = rng.integers(2, 8, 3).astype(float)
    shift = size * rng.permutation([1, int(rng.integers(0, 2)), 0])
    low = np.zeros(3)
    return Heap([[Body(low, size), Body(low + shift, size + shift)]])


def _cubes(rng) -> Heap:
    """Unit cubes side by side, each in a file."""
    n = int(rng.integers(2, 4))
    return Heap([[Body(np.array(p, float), np.array(p, float) + 1)] for p in np.ndindex(n, n, n)])


def joined(bodies: list[Body]) -> Mesh:
    """A file of bodies, welded as reading it does."""
    mesh = bodies[0].mesh().joined(*(b.mesh() for b in bodies[1:]))
    return Mesh.from_indexed(mesh.vertices, mesh.faces)


def judged(heap: Heap) -> tuple[str, float, float]:
    """ "right", "false" or the refusal; the volume and what it should be."""
    truth = heap.volume()
    try:
        parts = gather_all([joined(f) for f in heap.files])
        if heap.tools:
            made, _ = carve(parts, gather_all([joined([t]) for t in heap.tools]), FuseSettings())
        else:
            made, _ = fuse(parts, FuseSettings())
    except WorkError as error:
        return ("right" if truth == 0 else f"refused: {error}"), 0.0, truth
    right = abs(made.volume - truth) <= 2e-4 * truth + 1e-3 and made.topology.sound
    return ("right" if right else "false"), made.volume, truth


def main() -> None:
    """Count."""
    parser = argparse.ArgumentParser()
    parser.add_argument("--count", type=int, default=20)
    parser.add_argument("--seed", type=int, default=0)
    parser.add_argument("--kind", action="append")
    asked = parser.parse_args()
    wrong = refused = total = 0
    for name in asked.kind or KINDS:
        told = []
        for seed in range(asked.seed, asked.seed + asked.count):
            state, volume, truth = judged(KINDS[name](np.random.default_rng([seed, *name.encode()])))
            total += 1
            wrong += state == "false"
            refused += state.startswith("refused")
            if state != "right":
                told.append(f"    seed {seed}: {state}, {volume:.3f} for {truth:.3f}")
        print(f"{name:26} {asked.count - len(told)} of {asked.count}", flush=True)
        print("\n".join(told), end="\n" if told else "")
    print(f"{total} heaps, {wrong} false, {refused} refused")
    sys.exit(wrong > 0)


if __name__ == "__main__":
    main()
