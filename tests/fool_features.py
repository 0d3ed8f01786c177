"""Still more models made to fool the proof: features of a drained hollow block, held against what prints at all.

A third of each kind is thinner than the least wall, a third between it and the wall asked for, a third thicker. What
is between is fit, and told.
"""

import numpy as np

from bolvek.demo.pieces import turned
from bolvek.mesh import Mesh
from bolvek.operations.fuse import unite
from bolvek.settings.measures import LEAST_WALL_MM
from fool import BLOCK, Case, _solid, bore, box, brick, drained, kind, spike, void, without
from fool_walls import WALL, extruded

SHELL = WALL + 0.2
"""The block's own wall."""
AWAY = 16.0
"""How far features stand away from the block's side."""


def drawn(rng) -> float:
    """A thickness on one of the sides of both limits."""
    low, high = [(0.1, 0.97), (1.03, 2.4), (2.55, 3.5)][rng.integers(3)]
    return LEAST_WALL_MM * rng.uniform(low, high)


def featured(mesh: Mesh, left: float) -> Case:
    """A model whose thinnest feature is known."""
    faults = {"thin_features"} if left < LEAST_WALL_MM else set()
    return Case(mesh, faults, WALL, notes={"slender_features"} if LEAST_WALL_MM < left < WALL else set())


def block_with(rng, *taken, away=AWAY) -> Mesh:
    """A drained hollow block with solid material beside it, less some bodies."""
    size = BLOCK + [away, 0, 0]
    whole = box((0, 0, 0), size).joined(void((SHELL,) * 3, BLOCK - SHELL))
    return without(drained(whole, SHELL, rng), *taken)


def aside(x0, x1, y0, y1, z0, z1):
    """A box to be taken out, in places from the block's side; None goes beyond the model."""
    low = [BLOCK[0] + x0, -1 if y0 is None else y0, -1 if z0 is None else z0]
    high = [BLOCK[0] + x1, 27 if y1 is None else y1, 23 if z1 is None else z1]
    return brick(low, high)


FAR = AWAY + 1


@kind
def fin_on_a_hollow_block(rng):
    left, y, top = drawn(rng), rng.uniform(6, 16), rng.uniform(3, 19)
    around = [aside(0, FAR, None, y, None, None), aside(0, FAR, y + left, None, None, None)]
    return featured(block_with(rng, *around, aside(0, FAR, None, None, top, None)), left)


@kind
def ear_with_a_screw_hole(rng):
    """The ear is thick; what is left beside its hole is drawn."""
    left, d = drawn(rng), rng.uniform(2.5, 4)
    x, top = rng.uniform(4, 7), 6.0
    end = x + d / 2 * np.cos(np.pi / 32) + left  # the hole has 32 sides, one of them square to the ear's end
    hole = extruded(_bar(d * np.cos(np.pi / 32), 180 / 32, 32) + [BLOCK[0] + x, 13], -2, top + 2, w=(0, 1, 0))
    around = aside(0, FAR, None, None, top, None), aside(end, FAR, None, None, None, None)
    return featured(block_with(rng, *around, hole), left)


@kind
def strut_between_two_feet(rng):
    """A square bar, turned about its own axis, from one foot to another."""
    left, turn = drawn(rng), rng.uniform(0, 90)
    bar = _bar(left, turn, 4)
    return featured(_strut(rng, bar), left)


@kind
def round_neck_of_a_knob(rng):
    """A hollow turned body with a knob on a neck that is as wide as drawn across its sides."""
    left, sides = drawn(rng), 4 * int(rng.integers(3, 10))
    r, above = 0.5 * left / np.cos(np.pi / sides), 24 + rng.uniform(1, 6)
    skin = [(12.0, 0.0), (12.0, 24.0), (r, 24.0), (r, above), (5.0, above), (5.0, above + 5)]
    room = [(12 - SHELL, SHELL), (12 - SHELL, 24 - SHELL)]
    mesh = turned(skin, sides).joined(turned(room, sides).turned())
    ways = bore((3, 1, -2), (3, 1, 3), 3.5, rng), bore((0, -15, 18), (0, -8, 18), 3.5, rng)
    return featured(without(mesh, *ways), left)


def _bar(left, turn, sides) -> np.ndarray:
    """A regular outline (N, 2) that is as wide as drawn across its sides."""
    angle = np.radians(turn) + 2 * np.pi * np.arange(sides) / sides
    return 0.5 * left / np.cos(np.pi / sides) * np.stack([np.cos(angle), np.sin(angle)], axis=1)


def _strut(rng, outline) -> Mesh:
    """Two feet beside the block, and between them a bar along y of an outline, sunk into both."""
    feet = block_with(rng, aside(1, FAR, 6, 20, None, None))
    bar = _solid(extruded(outline + [BLOCK[0] + 8.0, 11.0], -24.0, -2.0))
    return unite(feet, bar)[0]


@kind
def strut_of_three_sides(rng):
    """No two of its sides look at each other: as thick as the ball that fits in."""
    left = drawn(rng)
    return featured(_strut(rng, _bar(left, rng.uniform(0, 90), 3)), left)


@kind
def handle_on_a_hollow_block(rng):
    left = drawn(rng)
    window = aside(1, AWAY - left, None, None, 5, 17)
    sides = [aside(0, FAR, None, 8, None, None), aside(0, FAR, 16, None, None, None)]
    return featured(block_with(rng, window, *sides), left)


@kind
def web_between_two_bores(rng):
    """Screw holes are no rooms, and what is between them bounds none."""
    left, d = drawn(rng), rng.uniform(2, 4)
    across = d * np.cos(np.pi / 32)
    ring = _bar(across, 180 / 32, 32) + [BLOCK[0] + 8, 8]
    holes = [extruded(ring + [0, z], -28, 2) for z in (0, across + left)]
    return featured(block_with(rng, *holes), left)


@kind
def web_between_two_slots(rng):
    left, wide = drawn(rng), rng.uniform(0.6, 3)
    slots = [aside(4, FAR, None, None, 8 - wide, 8), aside(4, FAR, None, None, 8 + left, 8 + left + wide)]
    return featured(block_with(rng, *slots), left)


@kind
def floor_of_a_blind_hole(rng):
    left, d = drawn(rng), rng.uniform(2, 5)
    return featured(block_with(rng, bore((BLOCK[0] + 8, 13, left), (BLOCK[0] + 8, 13, 24), d, rng)), left)


@kind
def step_beside_a_step(rng):
    """The crease of a step above comes near the crease of one below, aslant."""
    left, turn = drawn(rng), np.radians(rng.uniform(15, 75))
    x, z = 8.0, 11.0
    dx, dz = left * np.cos(turn), left * np.sin(turn)
    return featured(
        block_with(rng, aside(x + dx, FAR, None, None, z + dz, None), aside(1, x, None, None, None, z)), left
    )


@kind
def neck_of_a_knob(rng):
    """Notches from four sides leave a square neck."""
    left, wide = drawn(rng), rng.uniform(1, 4)
    low, high = (np.array([13.0, 11.0]) + h * left / 2 for h in (-1, 1))
    sides = [(None, low[0], None, None), (high[0], None, None, None), (None, None, None, low[1])]
    sides.append((None, None, high[1], None))
    notches = [aside(9 - rng.uniform(0, 0.3), 9 + wide + rng.uniform(0, 0.3), *side) for side in sides]
    return featured(block_with(rng, *notches), left)


@kind
def pit_beside_a_pit(rng):
    """Two pointed pits from opposite sides, tip near tip."""
    left = drawn(rng)
    x, z = BLOCK[0] + 8, 11.0
    pits = [spike((x, 13 - left / 2, z), (x, -3, z), 1.0), spike((x, 13 + left / 2, z), (x, 29, z), 1.0)]
    return featured(block_with(rng, *pits), left)


@kind
def wedge_on_a_hollow_block(rng):
    """It tapers to an edge, which is no wall."""
    slope, tip = np.tan(np.radians(rng.uniform(6, 20))), BLOCK[0] + AWAY - 2
    foot = tip - AWAY + 3
    above = np.array([(tip + 9, 11 - 9 * slope), (tip + 9, 24), (foot, 24), (foot, 11 + (tip - foot) * slope)])
    below = above * [1, -1] + [-0.1, 22]
    return Case(block_with(rng, extruded(above, -28, 2), extruded(below[::-1], -28.5, 2.5)), set(), WALL)
