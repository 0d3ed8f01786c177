"""Files as dirty as real ones, made from bodies that are known: what comes out of `solid` is what they were made from.

`python tests/dirt.py --count N --seed S` makes N of each kind and counts results that are said to be what the file
shows and are not, results that are said to be something else and are right, and refusals. The truth: which places lie
in the boxes and balls that were put together.
"""

import argparse
import sys
from dataclasses import dataclass

import numpy as np

from bolvek.analyses.soundness import find_defects
from bolvek.errors import WorkError
from bolvek.jobs.prep import just_do
from bolvek.mesh import Mesh
from bolvek.operations.solid import SolidSettings, make_solid
from support import ball, box

_PLACES, _CLOSE, _MOST = 40_000, 0.015, 0.01
"""Places asked; nearer to the bodies' surface than this share of the size they say nothing; how many may differ."""


@dataclass(frozen=True)
class Solid:
    """A box turned about the vertical, or a ball."""

    middle: np.ndarray
    half: np.ndarray
    turn: float = 0.0
    round: bool = False

    def mesh(self, cell=None) -> Mesh:
        """In faces of about a size (None: as few as there can be)."""
        made = ball(float(self.half[0]), cell or self.half[0] / 8) if self.round else box(-self.half, self.half)
        while not self.round and cell and np.sqrt(made.face_areas.max()) > cell:
            made = quartered(made)
        c, s = np.cos(self.turn), np.sin(self.turn)
        return Mesh(made.vertices @ np.array([[c, s, 0], [-s, c, 0], [0, 0, 1]]) + self.middle, made.faces)

    def depth(self, points) -> np.ndarray:
        """How deep places (N, 3) lie in it, below 0 outside."""
        off = points - self.middle
        if self.round:
            return self.half[0] - np.linalg.norm(off, axis=1)
        c, s = np.cos(self.turn), np.sin(self.turn)
        off = off @ np.array([[c, -s, 0], [s, c, 0], [0, 0, 1]])
        return (self.half - np.abs(off)).min(axis=1)


@dataclass(frozen=True)
class Tube:
    """A closed pipe of so wide a radius along a closed path (N, 3); it may run through itself."""

    path: np.ndarray
    radius: float

    def mesh(self, sides=20) -> Mesh:
        """One shell, whatever it runs through."""
        along = np.roll(self.path, -1, axis=0) - np.roll(self.path, 1, axis=0)
        u = np.cross(along, [0.0, 0.0, 1.0])
        u /= np.linalg.norm(u, axis=1)[:, None]
        w = np.cross(along, u)
        w /= np.linalg.norm(w, axis=1)[:, None]
        angle = 2 * np.pi * np.arange(sides) / sides
        ring = np.cos(angle)[None, :, None] * u[:, None] + np.sin(angle)[None, :, None] * w[:, None]
        at = np.arange(len(u) * sides).reshape(len(u), sides)
        a, b, c, d = at, np.roll(at, -1, axis=1), np.roll(at, -1, axis=0), np.roll(at, (-1, -1), axis=(0, 1))
        faces = np.stack([a, b, d, a, d, c], axis=-1).reshape(-1, 3)
        made = Mesh((self.path[:, None] + self.radius * ring).reshape(-1, 3), faces.astype(np.int32))
        return made if made.volume > 0 else made.turned()

    def depth(self, points) -> np.ndarray:
        """How deep places (N, 3) lie in it, below 0 outside."""
        start, step = self.path, np.roll(self.path, -1, axis=0) - self.path
        near = np.full(len(points), np.inf)
        for p, s in zip(start, step, strict=True):
            t = np.clip((points - p) @ s / (s @ s), 0.0, 1.0)
            near = np.minimum(near, np.linalg.norm(points - p - t[:, None] * s, axis=1))
        return self.radius - near


def figure_of_eight(rng) -> Tube:
    """It runs through itself in the middle, more or less squarely."""
    s = np.linspace(0, 2 * np.pi, 120, endpoint=False)
    path = [rng.uniform(15, 25) * np.sin(s), rng.uniform(15, 25) * np.sin(2 * s) / 2, rng.uniform(-1, 1) * np.sin(s)]
    return Tube(np.stack(path, axis=1) + rng.uniform(-2, 2, 3), rng.uniform(1.5, 3.0))


def quartered(mesh: Mesh) -> Mesh:
    """Each face in four."""
    a, b, c = mesh.corners.transpose(1, 0, 2)
    ab, bc, ca = (a + b) / 2, (b + c) / 2, (c + a) / 2
    parts = ((a, ab, ca), (ab, b, bc), (ca, bc, c), (ab, bc, ca))
    return Mesh.from_corners(np.concatenate([np.stack(p, axis=1) for p in parts]))


def one(rng, *, fine=True) -> tuple[list[Solid], Mesh]:
    """A body in faces small beside it."""
    size = rng.uniform(6, 12, 3)
    made = Solid(rng.uniform(-2, 2, 3), size, rng.uniform(0, 3), bool(rng.random() < 0.4))
    return [made], made.mesh(size.min() / 4 if fine else None)


KINDS = {}


def kind(make):
    """Register a kind of dirt under its name."""
    KINDS[make.__name__] = make
    return make


@kind
def faces_missing_at_random(rng):
    bodies, mesh = one(rng)
    return bodies, Mesh(mesh.vertices, mesh.faces[rng.random(len(mesh.faces)) > rng.uniform(0.02, 0.3)])


@kind
def patches_missing(rng):
    bodies, mesh = one(rng)
    middle = mesh.corners.mean(axis=1)
    gone = np.zeros(len(middle), bool)
    for _ in range(int(rng.integers(1, 4))):
        at = middle[rng.integers(len(middle))]
        far = np.linalg.norm(middle - at, axis=1)
        gone |= (far < rng.uniform(2, 5)) & (far > rng.choice([0.0, 1.5]))
    return bodies, Mesh(mesh.vertices, mesh.faces[~gone])


@kind
def faces_turned(rng):
    bodies, mesh = one(rng)
    turn = rng.random(len(mesh.faces)) < rng.uniform(0.05, 0.6)
    return bodies, Mesh(mesh.vertices, np.where(turn[:, None], mesh.faces[:, ::-1], mesh.faces))


@kind
def faces_of_their_own(rng):
    """Nothing welded: a bag of triangles, each corner a little off."""
    bodies, mesh = one(rng)
    shaken = mesh.corners + rng.uniform(-2e-4, 2e-4, mesh.corners.shape)
    return bodies, Mesh.from_corners(shaken)


@kind
def copies_and_sheets_within(rng):
    bodies, mesh = one(rng)
    copies = mesh.corners[rng.random(len(mesh.faces)) < 0.2]
    turned = mesh.corners[rng.random(len(mesh.faces)) < 0.1][:, ::-1]
    m, h = bodies[0].middle, 0.3 * bodies[0].half.min()
    sheet = m + h * np.array([[[-1, -1, 0], [1, -1, 0], [1, 1, 0]], [[-1, -1, 0], [1, 1, 0], [-1, 1, 0]]])
    return bodies, Mesh.from_corners(np.concatenate([mesh.corners, copies, turned, sheet]))


@kind
def bodies_that_share_faces(rng):
    """A CAD export of touching boxes: edges that four faces use."""
    corners = rng.integers(0, 3, (int(rng.integers(2, 6)), 3))
    corners = np.unique(corners, axis=0) * 8.0
    bodies = [Solid(c + 4.0, np.full(3, 4.0)) for c in corners]
    return bodies, Mesh.from_corners(np.concatenate([b.mesh().corners for b in bodies]))


@kind
def bodies_that_cross(rng):
    bodies = [
        Solid(rng.uniform(-6, 6, 3), rng.uniform(4, 9, 3), rng.uniform(0, 3), bool(rng.random() < 0.4))
        for _ in range(int(rng.integers(2, 6)))
    ]
    return bodies, Mesh.from_corners(np.concatenate([b.mesh(b.half.min() / 3).corners for b in bodies]))


@kind
def bodies_that_cross_with_holes(rng):
    bodies, mesh = bodies_that_cross(rng)
    return bodies, Mesh(mesh.vertices, mesh.faces[rng.random(len(mesh.faces)) > 0.05])


@kind
def a_pipe_through_itself(rng):
    """One shell, wound twice around where it crosses."""
    pipe = figure_of_eight(rng)
    return [pipe], pipe.mesh()


@kind
def metres_read_as_millimetres(rng):
    """Six digits of text, a few hundredths of a millimetre across."""
    bodies, mesh = KINDS[str(rng.choice(["faces_missing_at_random", "patches_missing", "faces_of_their_own"]))](rng)
    scale = 1e-3
    small = [Solid(b.middle * scale, b.half * scale, b.turn, b.round) for b in bodies]
    written = np.array([[float(f"{x:.6g}") for x in v] for v in mesh.vertices * scale])
    return small, Mesh.from_corners(written[mesh.faces])


@kind
def sides_meshed_apart(rng):
    """Two halves with other divisions: T-junctions all along the seam."""
    bodies, mesh = one(rng, fine=False)
    if bodies[0].round:
        return one(rng)
    mesh = quartered(mesh)
    upper = mesh.corners[:, :, 2].mean(axis=1) > bodies[0].middle[2]
    low, high = mesh.picked(~upper), quartered(mesh.picked(upper))
    return bodies, Mesh.from_corners(np.concatenate([low.corners, high.corners]))


@kind
def a_lid_of_strips(rng):
    """Of one side only strips are left."""
    half = rng.uniform(6, 12, 3)
    bodies = [Solid(np.zeros(3), half)]
    mesh = bodies[0].mesh(half.min() / 6)
    middle = mesh.corners.mean(axis=1)
    top = middle[:, 2] > half[2] - 1e-6
    strip = np.floor((middle[:, 0] / half[0] + 1) * rng.integers(2, 5)).astype(int) % 2 == 1
    return bodies, Mesh(mesh.vertices, mesh.faces[~(top & strip)])


@dataclass(frozen=True)
class Told:
    """What came out: "right", "wrong" (said to be what the file shows, and is not), "alarm" (said not to be, and is),
    "told" (said not to be, and is not), "refused"; and by which way."""

    what: str
    text: str


def judged(name: str, seed: int) -> Told:
    """One file of a kind, made solid."""
    rng = np.random.default_rng([seed, *name.encode()])
    bodies, mesh = KINDS[name](rng)
    mesh = mesh.as_stored()
    try:
        made, record = make_solid(mesh, SolidSettings(skin_mm=0.05 * float(mesh.size.max())), just_do)
    except WorkError as error:
        return Told("refused", str(error))
    if find_defects(made.as_stored()):
        return Told("wrong", "it is not sound")
    low, high = mesh.bounds
    pad = 0.05 * (high - low).max()
    places = np.random.default_rng(7).uniform(low - pad, high + pad, (_PLACES, 3))
    depth = np.max([b.depth(places) for b in bodies], axis=0)
    clear = np.abs(depth) > _CLOSE * (high - low).max()
    off = float(((made.tree.winding(places) > 0.5) != (depth > 0))[clear].sum() / max((depth > 0)[clear].sum(), 1))
    said = not any(f.severity == "fault" for f in record.findings)
    what = ("right" if said else "alarm") if off <= _MOST else ("wrong" if said else "told")
    return Told(what, f"{record.way}, {100 * off:.2f}% off; {'; '.join(f.text for f in record.findings)}")


def main() -> int:
    """Count."""
    parser = argparse.ArgumentParser()
    parser.add_argument("--count", type=int, default=10)
    parser.add_argument("--seed", type=int, default=0)
    parser.add_argument("--kind", action="append")
    asked = parser.parse_args()
    false = 0
    for name in asked.kind or KINDS:
        told = [(s, judged(name, s)) for s in range(asked.seed, asked.seed + asked.count)]
        count = {w: sum(t.what == w for _, t in told) for w in ("right", "wrong", "alarm", "told", "refused")}
        print(f"{name:36}", ", ".join(f"{n} {w}" for w, n in count.items() if n), flush=True)
        for s, t in told:
            if t.what != "right":
                print(f"    seed {s}: {t.what}: {t.text[:220]}")
        false += count["wrong"]
    print(f"{false} wrong")
    return int(false > 0)


if __name__ == "__main__":
    sys.exit(main())
