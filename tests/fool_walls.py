"""More models made to fool the proof: walls between creases, corners, edges and at waists.

Half of each kind is fit, half is not: what is left of the material is drawn on both sides of the wall asked for, and
known from how the model is composed.
"""

import numpy as np

from bolvek.demo.pieces import turned as spun_profile
from bolvek.mesh import Mesh
from bolvek.operations.convex import ConvexBody
from bolvek.operations.convex.body import lofted
from fool import BLOCK, Case, _solid, bore, bounded, box, brick, drained, hollow_block, kind, spike, void, without

WALL = 2.0


def left_of(rng, wall=WALL) -> float:
    """What is left of a wall, or more than it."""
    return wall * (rng.uniform(0.1, 0.97) if rng.random() < 0.5 else rng.uniform(1.02, 1.5))


def case(mesh: Mesh, left: float, wall: float = WALL) -> Case:
    """A model whose least wall is known."""
    return Case(mesh, {"wall_thin"} if left < wall else set(), wall)


def extruded(profile, low, high, u=(1, 0, 0), w=(0, 0, 1)) -> ConvexBody:
    """A convex profile (N, 2) in the plane of u and w, counterclockwise seen against the third axis, from low to high
    along it."""
    profile, u, w = np.asarray(profile, float), np.asarray(u, float), np.asarray(w, float)
    axis = np.cross(u, w)
    flat = profile[:, :1] * u + profile[:, 1:] * w
    corner = np.concatenate([flat + low * axis, flat + high * axis])
    n = len(profile)
    rings = [(k, (k + 1) % n, n + (k + 1) % n, n + k) for k in range(n)]
    rings += [tuple(range(n - 1, -1, -1)), tuple(range(n, 2 * n))]
    return bounded(corner, rings)


def slanting(rng) -> np.ndarray:
    """A direction into the octant of three negative axes, not along one of them."""
    way = rng.uniform(0.25, 1.0, 3)
    return -way / np.linalg.norm(way)


@kind
def room_with_a_side_that_leans(rng):
    """Its roof edge comes near an upright skin."""
    left, lean = left_of(rng), np.radians(rng.uniform(22, 60))
    low, high = 6.0, BLOCK[2] - 6.0
    foot = left + (high - low) * np.tan(lean)
    room = extruded([(foot, low), (foot + 9, low), (foot + 9, high), (left, high)], -20, -6)
    mesh = box((0, 0, 0), (foot + 15, 26, BLOCK[2])).joined(_solid(room).turned())
    ways = [bore((foot + x, 13, z0), (foot + x, 13, z1), 3.0, rng) for x, z0, z1 in ((2, -1, 7), (5, 23, 15))]
    return case(without(mesh, *ways), left)


@kind
def step_along_an_edge_of_a_room(rng):
    left, turn = left_of(rng), np.radians(rng.uniform(15, 75))
    x, z = 5 - left * np.cos(turn), BLOCK[2] - 5 + left * np.sin(turn)
    return case(without(drained(hollow_block(5.0), 5.0, rng), brick((-1, -1, z), (x, 27, 30))), left)


@kind
def pit_whose_corner_nears_a_corner(rng):
    left = left_of(rng)
    tip = np.full(3, 5.0) + left * slanting(rng)
    return case(without(drained(hollow_block(5.0), 5.0, rng), brick((-1, -1, -1), tip)), left)


@kind
def needle_beside_an_edge(rng):
    """A pointed pit ends beside a room's edge, not beneath it."""
    left, turn = left_of(rng), np.radians(rng.uniform(25, 65))
    way = np.array([-np.cos(turn), 0, np.sin(turn)])
    tip = np.array([5, rng.uniform(8, 20), BLOCK[2] - 5]) + left * way
    pit = spike(tip, tip + 10 * way, rng.uniform(0.3, 1.5), int(rng.integers(3, 9)))
    return case(without(drained(hollow_block(5.0), 5.0, rng), pit), left)


@kind
def grooves_of_both_sides_that_cross(rng):
    left, thick = left_of(rng), 8.0
    mesh = box((-20, -20, 0), (20, 20, thick))
    for up, tip in ((1, 0.5 * (thick + left)), (-1, 0.5 * (thick - left))):
        turn = rng.uniform(0, np.pi / 4) + (np.pi / 2 if up > 0 else 0)
        u = np.array([np.cos(turn), np.sin(turn), 0])
        high = 10.0
        wide = high * np.tan(np.radians(rng.uniform(8, 40)))
        profile = [(0, tip), (up * wide, tip + up * high), (-up * wide, tip + up * high)]
        mesh = without(mesh, extruded(profile, -40, 40, u))
    return case(mesh, left)


@kind
def bores_that_pass_each_other(rng):
    left, wide = left_of(rng), rng.uniform(2, 5, 2)
    turn = np.radians(rng.uniform(0, 50))
    z = 8.0
    one = bore((-2, 13, z), (32, 13, z), wide[0], rng, 64)
    z += 0.5 * wide.sum() + left
    off = 20 * np.tan(turn)
    other = bore((15 - off, -7, z), (15 + off, 33, z), wide[1], rng, 64)
    return case(without(box((0, 0, 0), (30, 26, 24)), one, other), left)


@kind
def bore_beside_an_edge_of_a_room(rng):
    left, wide = left_of(rng, 2.0), rng.uniform(1.5, 3)
    turn = np.radians(rng.uniform(30, 60))
    x, z = np.array([6, BLOCK[2] - 6]) + (left + 0.5 * wide) * np.array([-np.cos(turn), np.sin(turn)])
    # what is left beside the outer skin is another matter
    mesh = box((-8, 0, 0), (BLOCK[0], BLOCK[1], BLOCK[2] + 8)).joined(void((6, 6, 6), BLOCK - 6))
    ways = [bore((11, 10, -2), (11, 10, 7), 3.5, rng), bore((20, 17, 32), (20, 17, 15), 3.5, rng)]
    return case(without(mesh, *ways, bore((x, -2, z), (x, 28, z), wide, rng, 64)), left)


@kind
def rooms_that_near_each_other_by_their_edges(rng):
    left, turn = left_of(rng), np.radians(rng.uniform(15, 75))
    x, z = 15 + left * np.cos(turn), 12 + left * np.sin(turn)
    mesh = box((0, 0, 0), (30, 26, 25)).joined(void((4, 4, 4), (15, 22, 12)), void((x, 5, z), (26, 21, 21)))
    ways = [bore((9, y, -2), (9, y, 5), 3, rng) for y in (8, 18)]
    ways += [bore((22, y, 27), (22, y, 20), 3, rng) for y in (8, 18)]
    return case(without(mesh, *ways), left)


def spun(radius, height, sides) -> Mesh:
    """Rings of corners at radii and heights (N,)."""
    angle = 2 * np.pi * np.arange(sides) / sides
    return lofted(
        [
            np.stack([r * np.cos(angle), r * np.sin(angle), np.full(sides, h)], axis=1)
            for r, h in zip(radius, height, strict=True)
        ]
    )


@kind
def balls_grown_together(rng):
    """A crease around the neck; corners of few or many sides."""
    left, sides = left_of(rng), int(rng.integers(5, 40))
    neck = 0.5 * left / np.cos(np.pi / sides)
    r = rng.uniform(5, 9, 2)
    radius = [r[0] * np.sin(np.pi - a) for a in np.linspace(0.5, np.pi - np.arcsin(neck / r[0]), 9)]
    height = [-r[0] * np.cos(a) for a in np.linspace(0.5, np.pi - np.arcsin(neck / r[0]), 9)]
    middle = height[-1] + np.sqrt(r[1] ** 2 - neck**2)
    above = np.linspace(np.arcsin(neck / r[1]), np.pi - 0.5, 9)[1:]
    radius += [r[1] * np.sin(a) for a in above]
    height += [middle - r[1] * np.cos(a) for a in above]
    return case(spun(radius, height, sides), left)


@kind
def hourglass(rng):
    """A waist without a crease."""
    left, sides = left_of(rng), int(rng.integers(8, 40))
    neck = 0.5 * left / np.cos(np.pi / sides)
    t = np.linspace(-1, 1, 2 * int(rng.integers(4, 12)) + 1)
    return case(spun(neck + rng.uniform(3, 6) * t**2, 8 * t, sides), left)


@kind
def waist_of_three_or_four_sides(rng):
    left, sides = left_of(rng), int(rng.integers(3, 5))
    neck = 0.5 * left / np.cos(np.pi / sides)
    return case(spun([9, neck, 9], [-9, 0, 9], sides), left)


@kind
def three_sided_rod(rng):
    left = left_of(rng)
    return case(spun([left, left], [0, 40], 3), left)


@kind
def blade(rng):
    """It tapers to an edge, by more than sides that face each other do: no wall."""
    angle = np.radians(rng.uniform(25, 80))
    side = rng.uniform(15, 30)
    body = extruded([(0, 0), (side, 0), (side * np.cos(angle), side * np.sin(angle))], 0, 30)
    return Case(_solid(body), set(), WALL)


@kind
def void_behind_a_groove(rng):
    """Its only way out opens into a groove. It is a room: held over, it runs out."""
    off = rng.uniform(9, 11, 2)
    mesh = box((0, 0, 0), (70, 70, 14)).joined(void((20, 20, 3), (50, 50, 6.5)))
    for k in range(5):
        one, other = off + 12 * k
        mesh = without(
            mesh,
            brick((-1 - k, one, 9 - 0.01 * k), (71 + k, one + 5, 15 + k)),
            brick((other, -1 - k, 9.3 + 0.01 * k), (other + 5, 71 + k, 16 + k)),
        )
    one, other = off + 26.5
    return Case(without(mesh, bore((other, one, 5), (other, one, 12), 2.5, rng)), set(), WALL)


@kind
def part_with_a_closed_void_in_a_room(rng):
    """The closed void is a fault of its own, and none of the room's."""
    part = box((8, 8, 8), (20, 18, 14)).joined(void((10, 10, 10), (18, 16, 12)))
    return Case(drained(hollow_block(2.0).joined(part), 2.0, rng), {"cavity_closed"}, 2.0)


@kind
def fin_on_a_body(rng):
    left, high, y = left_of(rng), rng.uniform(4.5, 10), rng.uniform(8, 14)
    mesh = box((0, 0, 0), (30, 26, 12 + high))
    beside = [brick((-1, -1, 12), (31, y, 40)), brick((-1, y + left, 12), (31, 27, 40))]
    return case(without(mesh, *beside), left)


@kind
def small_solid(rng):
    """A box whose sides may all be far below the wall."""
    sides = WALL * 10 ** rng.uniform(-1.5, 0.5, 3)
    return case(box((0, 0, 0), tuple(sides)), float(sides.min()))


@kind
def hollow_ring(rng):
    """Concentric tubes of facets that face each other; two holes above and two below."""
    left, r, n, around = left_of(rng), 4.0, 24, 64

    def tube(radius):
        a = np.arange(n) * 2 * np.pi / n
        mesh = spun_profile(list(zip(20.0 + radius * np.cos(a), radius * np.sin(a), strict=True)), around, ring=True)
        return mesh if mesh.volume > 0 else mesh.turned()

    mesh = tube(r + left / np.cos(np.pi / n)).joined(tube(r).turned())
    places = [(20 * np.cos(a), 20 * np.sin(a), z) for a in (0.3, 3.4) for z in (-r - left - 3, r + left + 3)]
    return case(without(mesh, *(bore((x, y, z), (x, y, 0), 3.2, rng) for x, y, z in places)), left)


@kind
def spring(rng):
    """A wire of facets that face each other, wound; the wall is its width."""
    left, major, per, wound = left_of(rng), 9.0, 40, 2.5
    n = 2 * int(rng.integers(4, 10))
    radius, pitch = left / 2 / np.cos(np.pi / n), left * 1.5 + 3
    a = np.linspace(0, 2 * np.pi * wound, int(per * wound) + 1)
    centre = np.c_[major * np.cos(a), major * np.sin(a), pitch * a / (2 * np.pi)]
    out = np.c_[np.cos(a), np.sin(a), 0 * a]
    along = np.c_[-major * np.sin(a), major * np.cos(a), np.full(len(a), pitch / (2 * np.pi))]
    up = np.cross(out, along / np.linalg.norm(along, axis=1)[:, None])
    t = np.arange(n) * 2 * np.pi / n
    rings = centre[:, None] + radius * (np.cos(t)[:, None] * out[:, None] + np.sin(t)[:, None] * up[:, None])
    low = (np.arange(len(a) - 1) * n)[:, None] + np.arange(n)
    on = (np.arange(len(a) - 1) * n)[:, None] + (np.arange(n) + 1) % n
    faces = [np.stack([low, on, on + n], axis=2), np.stack([low, on + n, low + n], axis=2)]
    first, last, k = len(a) * n, len(a) * n + 1, np.arange(n)
    ends = [np.c_[(k + 1) % n, k, np.full(n, first)]]
    ends += [np.c_[first - n + k, first - n + (k + 1) % n, np.full(n, last)]]
    points = np.concatenate([rings.reshape(-1, 3), centre[[0, -1]]])
    mesh = Mesh(points, np.concatenate([*(f.reshape(-1, 3) for f in faces), *ends]))
    # between facets that a turn tilts against each other it is a hair less
    return case(mesh if mesh.volume > 0 else mesh.turned(), left * 0.995)
