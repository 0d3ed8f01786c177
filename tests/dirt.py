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
from bolvek.mesh import Mesh
from bolvek.operations.mend import MendRecord, mend
from bolvek.operations.places import remade_places
from bolvek.operations.solid import make_solid
from bolvek.settings.repairs import MendSettings, SolidSettings
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


@dataclass(frozen=True)
class Limb:
    """A round bar from a place to another, its surface open at the first."""

    start: np.ndarray
    end: np.ndarray
    radius: float

    def mesh(self, sides=24, rings=10) -> Mesh:
        """Looking inward; the open end is a plain ring."""
        along = self.end - self.start
        u = np.cross(along, [0.3, 0.5, 0.8])
        u *= self.radius / np.linalg.norm(u)
        w = np.cross(along, u) / np.linalg.norm(along)
        angle = 2 * np.pi * np.arange(sides) / sides
        ring = np.cos(angle)[:, None] * u + np.sin(angle)[:, None] * w
        points = (self.start + along * np.linspace(0, 1, rings)[:, None])[:, None] + ring
        at = np.arange(rings * sides).reshape(rings, sides)
        a, b, c, d = at[:-1], np.roll(at, -1, axis=1)[:-1], at[1:], np.roll(at, -1, axis=1)[1:]
        faces = np.stack([a, d, b, a, c, d], axis=-1).reshape(-1, 3)
        lid = np.stack([np.roll(at[-1], -1), at[-1], np.full(sides, rings * sides)], axis=1)
        return Mesh(np.concatenate([points.reshape(-1, 3), [self.end]]), np.concatenate([faces, lid]).astype(np.int32))

    def depth(self, points) -> np.ndarray:
        """How deep places (N, 3) lie in it, below 0 outside."""
        along = self.end - self.start
        length = np.linalg.norm(along)
        t = (points - self.start) @ along / length
        beside = np.linalg.norm(points - self.start - t[:, None] * along / length, axis=1)
        return np.minimum(np.minimum(t, length - t), self.radius - beside)


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


def ring_snapped_to_a_grid(rng):
    """A thin ring whose vertices within a cell became one: chains of edges of three faces and more."""
    s = np.linspace(0, 2 * np.pi, 240, endpoint=False)
    wide = rng.uniform(12, 18)
    ring = Tube(np.stack([wide * np.cos(s), wide * np.sin(s), rng.uniform(1, 3) * np.sin(2 * s)], axis=1), 1.3)
    mesh = ring.mesh(28)
    key = np.unique(np.floor(mesh.vertices / rng.uniform(0.5, 0.9)).astype(int), axis=0, return_inverse=True)[1].ravel()
    count = np.bincount(key)
    points = np.stack([np.bincount(key, mesh.vertices[:, k]) / count for k in range(3)], axis=1)
    faces = key[mesh.faces].astype(np.int32)
    return ring, Mesh(points, faces[(faces != np.roll(faces, 1, axis=1)).all(axis=1)])


@kind
def vertices_snapped_to_a_grid(rng):
    ring, mesh = ring_snapped_to_a_grid(rng)
    return [ring], mesh


@kind
def snapped_with_fins_and_gaps(rng):
    """As a scan is, thinned out by a program that did not look: fins, faces gone and turned among the chains."""
    ring, mesh = ring_snapped_to_a_grid(rng)
    pick = rng.integers(0, len(mesh.faces), 8)
    tips = mesh.corners[pick].mean(axis=1) + rng.normal(scale=0.3, size=(8, 3))
    fins = np.stack([mesh.corners[pick, 0], mesh.corners[pick, 1], tips], axis=1)
    turn = rng.random(len(mesh.faces)) < 0.01
    corners = np.where(turn[:, None, None], mesh.corners[:, ::-1], mesh.corners)[rng.random(len(mesh.faces)) > 0.01]
    return [ring], Mesh.from_corners(np.concatenate([corners, fins]))


@kind
def shaken_until_it_crosses(rng):
    """Noise as wide as the faces: it crosses itself all over; sometimes with holes."""
    bodies, _ = one(rng)
    cell = bodies[0].half.min() / 16
    mesh = bodies[0].mesh(cell)
    mesh = Mesh(mesh.vertices + rng.normal(scale=0.2 * cell, size=mesh.vertices.shape), mesh.faces)
    middle = mesh.corners.mean(axis=1)
    far = np.linalg.norm(middle - middle[rng.integers(len(middle))], axis=1)
    return bodies, Mesh(mesh.vertices, mesh.faces[far > rng.choice([0.0, 2.5 * cell])])


@kind
def scans_laid_over_each_other(rng):
    """What is seen from fourteen sides, each a little off."""
    bodies, mesh = one(rng)
    sides = np.concatenate([np.eye(3), -np.eye(3), [[a, b, c] for a in (-1, 1) for b in (-1, 1) for c in (-1, 1)]])
    seen = []
    for side in sides / np.linalg.norm(sides, axis=1)[:, None]:
        view = mesh.picked(mesh.unit_normals @ side > 0.4)
        seen.append(
            (view.vertices + rng.normal(scale=0.03, size=3) + rng.normal(scale=0.03, size=view.vertices.shape))[
                view.faces
            ]
        )
    return bodies, Mesh.from_corners(np.concatenate(seen))


@kind
def limbs_stuck_into_a_body(rng):
    """Each open where it ends within."""
    wide = rng.uniform(6, 9)
    body = Solid(np.zeros(3), np.full(3, wide), 0.0, True)
    ways = rng.normal(size=(int(rng.integers(1, 5)), 3))
    limbs = [
        Limb(w * wide * rng.uniform(0.3, 0.8), w * wide * rng.uniform(1.5, 2.2), rng.uniform(0.8, 2.0))
        for w in ways / np.linalg.norm(ways, axis=1)[:, None]
    ]
    return [body, *limbs], Mesh.from_corners(np.concatenate([b.mesh().corners for b in (body, *limbs)]))


@kind
def an_assembly_on_a_lattice(rng):
    """Boxes that go through each other and share corners, edges and parts of faces, some finely meshed."""
    low = rng.integers(0, 6, (int(rng.integers(4, 12)), 3)) * 4.0
    high = low + rng.integers(1, 4, low.shape) * 4.0
    bodies = [Solid((a + b) / 2, (b - a) / 2) for a, b in zip(low, high, strict=True)]
    return bodies, Mesh.from_corners(np.concatenate([b.mesh(rng.choice([None, 4.0])).corners for b in bodies]))


def lathe(outline, sides=32) -> Mesh:
    """The surface that an outline of radii and heights (N, 2) sweeps around the vertical."""
    angle = 2 * np.pi * np.arange(sides) / sides
    points = [[r * np.cos(t), r * np.sin(t), h] for r, h in outline for t in angle]
    at = np.arange(len(outline) * sides).reshape(len(outline), sides)
    a, b, c, d = at[:-1], np.roll(at, -1, axis=1)[:-1], at[1:], np.roll(at, -1, axis=1)[1:]
    faces = np.stack([a, b, d, a, d, c], axis=-1).reshape(-1, 3)
    made = Mesh(np.array(points), faces.astype(np.int32))
    return Mesh.from_corners(made.corners[made.face_areas > 0])


def placed(rod, start, end) -> Mesh:
    """A mesh around the vertical put around the line from a place to another."""
    w = (end - start) / np.linalg.norm(end - start)
    u = np.cross(w, [0.3, 0.5, 0.8])
    u /= np.linalg.norm(u)
    return Mesh(rod.vertices @ np.stack([u, np.cross(w, u), w]) + start, rod.faces)


def turned_at_random(rng, bodies, mesh):
    """A rod (`Limb`) and a mesh turned alike."""
    q = np.linalg.qr(rng.normal(size=(3, 3)))[0]
    q[:, 0] *= np.linalg.det(q)
    bodies = [Limb(b.start @ q.T, b.end @ q.T, b.radius) for b in bodies]
    return bodies, Mesh(mesh.vertices @ q.T, mesh.faces)


def drum(rng):
    """A rod's outline, from the middle of its bottom to that of its lid, and the rod."""
    wide, high = rng.uniform(6, 10), rng.uniform(12, 40)
    side = [(wide, h) for h in np.linspace(0, high, 9)]
    outline = [(0.0, 0.0), (0.5 * wide, 0.0), *side, (0.5 * wide, high), (0.0, high)]
    return np.array(outline), [Limb(np.zeros(3), np.array([0, 0, high]), wide)]


@kind
def a_strip_missing_around_a_corner(rng):
    """No band between side and lid."""
    outline, bodies = drum(rng)
    wide, high = outline[2, 0], outline[-1, 1]
    strip = rng.uniform(0.03, 0.07, 2) * wide
    side = outline[2:-2].copy()
    side[-1, 1] -= strip[0]
    lid = np.array([(wide - strip[1], high), (0.5 * wide, high), (0.0, high)])
    parts = [lathe(outline[:3]), lathe(side), lathe(lid)]
    return turned_at_random(rng, bodies, Mesh.from_corners(np.concatenate([p.corners for p in parts])))


@kind
def a_ring_missing_of_a_pipe(rng):
    outline, bodies = drum(rng)
    wide, high = outline[2, 0], outline[-1, 1]
    low = rng.uniform(0.2, 0.7) * high
    cut = np.array([[wide, low], [wide, low + rng.uniform(0.05, 0.35) * wide]])
    side = outline[2:-2]
    parts = [
        lathe(np.concatenate([outline[:2], side[side[:, 1] < cut[0, 1]], cut[:1]])),
        lathe(np.concatenate([cut[1:], side[side[:, 1] > cut[1, 1]], outline[-2:]])),
    ]
    return turned_at_random(rng, bodies, Mesh.from_corners(np.concatenate([p.corners for p in parts])))


@kind
def a_tube_with_holes_beside_each_other(rng):
    """Some of them share a corner, some of their rims are jagged, one is wide."""
    outline, bodies = drum(rng)
    mesh = lathe(outline)
    side = np.arange(96, 96 + 8 * 64)
    gone = np.zeros(len(mesh.faces), bool)
    for _ in range(int(rng.integers(2, 7))):
        at = int(rng.choice(side))
        gone[[at, at ^ 1]] = True
        gone[[(at + 66) % len(gone), at + 2]] |= rng.random() < 0.5
    gone[: side[0]] = gone[side[-1] + 1 :] = False
    return turned_at_random(rng, bodies, mesh.picked(~gone))


@kind
def islands_in_an_opening(rng):
    """A side of a block lacks a square ring."""
    half = rng.uniform(5, 9, 3)
    bodies = [Solid(rng.uniform(-2, 2, 3), half, rng.uniform(0, 3))]
    mesh = bodies[0].mesh(half.min() / 5)
    c, s = np.cos(bodies[0].turn), np.sin(bodies[0].turn)
    own = (mesh.corners.mean(axis=1) - bodies[0].middle) @ np.array([[c, -s, 0], [s, c, 0], [0, 0, 1]])
    axis = int(rng.integers(3))
    on = np.abs(own[:, axis] - half[axis]) < 1e-6
    far = np.abs(np.delete(own, axis, axis=1) / np.delete(half, axis)).max(axis=1)
    return bodies, mesh.picked(~(on & (far > rng.uniform(0.3, 0.45)) & (far < rng.uniform(0.6, 0.85))))


@kind
def a_body_inside_out_with_rods_through_it(rng):
    """Which of them are turned is chance."""
    body = Solid(np.zeros(3), rng.uniform(6, 9, 3), rng.uniform(0, 3), bool(rng.random() < 0.5))
    reach = float(body.half.max()) * 2.0
    bodies: list = [body]
    for _ in range(int(rng.integers(1, 4))):
        way = rng.normal(size=3)
        way *= reach / np.linalg.norm(way)
        aside = rng.uniform(-0.2, 0.2, 3) * reach
        bodies.append(Limb(aside - way, aside + way, rng.uniform(0.8, 1.6)))
    parts = [body.mesh(body.half.min() / 3)]
    for rod in bodies[1:]:
        start = np.linalg.norm(rod.end - rod.start)
        made = lathe([(0.0, 0.0), *((rod.radius, h) for h in np.linspace(0, start, 6)), (0.0, start)], 24)
        parts.append(placed(made, rod.start, rod.end))
    turn = rng.random(len(parts)) < 0.6
    corners = [p.corners[:, ::-1] if t else p.corners for p, t in zip(parts, turn, strict=True)]
    return bodies, Mesh.from_corners(np.concatenate(corners))


def hurt(rng, mesh: Mesh, count: int, radius: float) -> Mesh:
    """A mesh with so many places at fault: shaken until it crosses there, torn, with fins, doubled, or turned."""
    points, faces = mesh.vertices.copy(), mesh.faces.copy()
    keep, more = np.ones(len(faces), bool), []
    for _ in range(count):
        near = np.linalg.norm(mesh.vertices - mesh.vertices[rng.integers(len(points))], axis=1) < radius
        own = np.flatnonzero(near[faces].all(axis=1))
        if not len(own):
            continue
        what = rng.integers(5)
        if what != 4:
            points[near] += rng.normal(scale=0.25 * radius, size=(int(near.sum()), 3))
        if what == 1:
            keep[rng.choice(own, max(1, len(own) // 4))] = False
        elif what == 2:
            more += [[faces[f, 0], faces[f, 1], faces[rng.choice(own), 2]] for f in own[:4]]
        elif what == 3:
            more += faces[rng.choice(own, 3)].tolist()
        elif what == 4:
            faces[own] = faces[own][:, ::-1]
            keep[own[: len(own) // 3]] = False
    added = np.array([f for f in more if len(set(f)) == 3], np.int32).reshape(-1, 3)
    return Mesh(points, np.concatenate([faces[keep], added]))


@kind
def places_at_fault(rng):
    """A fine surface with a few places where nothing is right."""
    bodies, _ = one(rng)
    cell = bodies[0].half.min() / 14
    return bodies, hurt(rng, bodies[0].mesh(cell), int(rng.integers(2, 9)), 2.0 * cell)


@kind
def walls_within(rng):
    """Rooms side by side with one sheet between them: edges that three and four faces use; a place or two is hurt."""
    low = np.unique(rng.integers(0, 3, (int(rng.integers(2, 6)), 3)), axis=0) * 8.0
    bodies = [Solid(c + 4.0, np.full(3, 4.0)) for c in low]
    corners = np.concatenate([b.mesh(1.5).corners for b in bodies])
    _, first = np.unique(np.sort(np.round(corners, 6), axis=1), axis=0, return_index=True)
    mesh = Mesh.from_corners(corners[np.sort(first)])
    return bodies, hurt(rng, mesh, int(rng.integers(0, 3)), 1.5)


@kind
def a_cage_of_ribs(rng):
    """Rings that go through a rod, all of them hurt here and there."""
    rod = Limb(np.array([0.0, 0.0, -14.0]), np.array([0.0, 0.0, 14.0]), rng.uniform(1.5, 2.5))
    made = lathe([(0.0, 0.0), *((rod.radius, h) for h in np.linspace(0, 28, 24)), (0.0, 28.0)], 24)
    bodies: list = [rod]
    parts = [hurt(rng, placed(made, rod.start, rod.end), 2, 1.0)]
    for height in np.linspace(-10, 10, int(rng.integers(2, 5))):
        s = np.linspace(0, 2 * np.pi, 72, endpoint=False)
        wide = rng.uniform(6, 10)
        path = np.stack([wide + wide * np.cos(s), wide * np.sin(s), height + np.sin(s)], axis=1)
        bodies.append(Tube(path, rng.uniform(0.8, 1.2)))
        parts.append(hurt(rng, bodies[-1].mesh(), 2, 0.8))
    return bodies, Mesh.from_corners(np.concatenate([p.corners for p in parts]))


@kind
def a_head_of_lumps(rng):
    """Balls that go through each other, some in a point only, each with places at fault."""
    core = Solid(np.zeros(3), np.full(3, rng.uniform(7, 9)), 0.0, True)
    ways = rng.normal(size=(int(rng.integers(3, 7)), 3))
    lumps = []
    for way in ways / np.linalg.norm(ways, axis=1)[:, None]:
        wide = rng.uniform(2.5, 4.5)
        off = core.half[0] + wide * rng.choice([0.0, 0.5, 1.0])
        lumps.append(Solid(way * off, np.full(3, wide), 0.0, True))
    parts = [hurt(rng, b.mesh(b.half[0] / 10), int(rng.integers(0, 3)), 0.2 * b.half[0]) for b in (core, *lumps)]
    return [core, *lumps], Mesh.from_corners(np.concatenate([p.corners for p in parts]))


@kind
def a_net_of_rods(rng):
    """Square rods that end flush in each other's sides, and go through each other, torn in places."""
    bodies = []
    for axis in range(3):
        for at in rng.permutation(np.array([[a, b] for a in (0, 8, 16) for b in (0, 8, 16)]))[: rng.integers(1, 4)]:
            middle, half = np.full(3, 8.0), np.full(3, 1.2)
            middle[np.arange(3) != axis], half[axis] = at, 9.2
            bodies.append(Solid(middle, half))
    parts = [hurt(rng, b.mesh(0.8), int(rng.integers(0, 3)), 0.7) for b in bodies]
    return bodies, Mesh.from_corners(np.concatenate([p.corners for p in parts]))


@dataclass(frozen=True)
class Told:
    """What came out: "right", "wrong" (said to be what the file shows, and is not), "alarm" (said not to be, and is),
    "told" (said not to be, and is not), "refused"; and by which way."""

    what: str
    text: str


def mended(mesh: Mesh) -> tuple[Mesh, MendRecord]:
    """What `bolvek mend` makes of it. Raises WorkError where that is not sound."""
    found, record, _ = mend(mesh)
    made, record = remade_places(found, record, MendSettings())
    if not record.ok:
        raise WorkError(record.verdict)
    return made, record


def judged(name: str, seed: int, *, by_mending: bool = False) -> Told:
    """One file of a kind, made solid, or mended only."""
    rng = np.random.default_rng([seed, *name.encode()])
    bodies, mesh = KINDS[name](rng)
    mesh = mesh.as_stored()
    try:
        skin = SolidSettings(skin_mm=0.05 * float(mesh.size.max()))
        made, record = mended(mesh) if by_mending else make_solid(mesh, skin)
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
    way = record.verdict if isinstance(record, MendRecord) else record.way
    return Told(what, f"{way}, {100 * off:.2f}% off; {'; '.join(f.text for f in record.findings)}")


def main() -> int:
    """Count."""
    parser = argparse.ArgumentParser()
    parser.add_argument("--count", type=int, default=10)
    parser.add_argument("--seed", type=int, default=0)
    parser.add_argument("--kind", action="append")
    parser.add_argument("--mend", action="store_true", help="mended only")
    asked = parser.parse_args()
    false = 0
    for name in asked.kind or KINDS:
        told = [(s, judged(name, s, by_mending=asked.mend)) for s in range(asked.seed, asked.seed + asked.count)]
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
