"""More models made to fool the proof: solid parts with bores, and parts beside, inside and around hollow ones.

A room anywhere once switched the wall off everywhere else. Half of each kind is fit, half is not, as in `fool_walls`.
"""

import numpy as np

from fool import BLOCK, _solid, at, bore, box, brick, drained, hollow_block, kind, without
from fool_walls import WALL, case, left_of


def winged(rng, *bores):
    """A foot of 20 x 20 x 12 mm with a wing of some thickness on it, bores through the foot, and that thickness."""
    left = left_of(rng)
    return without(box((0, 0, 0), (20, 20, 30)), brick((left, -1, 12), (21, 21, 31)), *bores), left


@kind
def wing_beside_a_round_bore(rng):
    d = rng.uniform(2.0, 5.0)
    return case(*winged(rng, bore((12, -2, 6), (12, 22, 6), d, rng)))


@kind
def wing_beside_a_square_bore(rng):
    half = rng.uniform(1.0, 2.5)
    return case(*winged(rng, brick((12 - half, -2, 6 - half), (12 + half, 22, 6 + half))))


@kind
def wing_beside_many_bores(rng):
    bores = [bore((5 + 5 * k, -2, 6), (5 + 5 * k, 22, 6), rng.uniform(1.7, 2.4), rng) for k in range(3)]
    return case(*winged(rng, *bores))


@kind
def wing_beside_a_blind_hole(rng):
    """A hole for a screw that ends within the foot is as wide within as at its mouth."""
    return case(*winged(rng, bore((12, -2, 6), (12, rng.uniform(6, 14), 6), rng.uniform(2.5, 5), rng)))


@kind
def wing_beside_a_groove(rng):
    half = rng.uniform(0.8, 2.0)
    return case(*winged(rng, brick((12 - half, -2, 7), (12 + half, 22, 13))))


@kind
def pin_in_a_knuckle(rng):
    """Print in place: the pin turns in its knuckle and touches nothing."""
    left = left_of(rng)
    hole = max(left, 2.4) + rng.uniform(0.8, 1.6)
    knuckle = without(box((0, 0, 0), (12, 12, 10)), bore((6, 6, -2), (6, 6, 12), hole, rng))
    # of 32 sides; the way between two of them is the width
    pin = _solid(bore((6, 6, -3), (6, 6, 13), left / np.cos(np.pi / 32), rng))
    return case(knuckle.joined(pin), left)


@kind
def plate_beside_a_drained_block(rng):
    left = left_of(rng)
    block = drained(hollow_block(WALL + 0.2), WALL + 0.2, rng)
    return case(block.joined(box((40, 0, 0), (55, 20, left))), left)


@kind
def plate_loose_in_a_drained_room(rng):
    left = left_of(rng)
    block = drained(hollow_block(WALL + 0.2), WALL + 0.2, rng)
    middle = BLOCK / 2
    plate = box((-3, -0.5 * left, -3), (3, 0.5 * left, 3))
    return case(block.joined(at(plate, middle)), left)


@kind
def drained_block_within_a_ring(rng):
    """The ring around it is a part of its own."""
    left = left_of(rng)
    block = drained(hollow_block(WALL + 0.2), WALL + 0.2, rng)
    low, high = np.array([-4.0, -4.0, 8.0]), np.array([*(BLOCK[:2] + 4.0), 14.0])
    ring = without(box(low - [left, left, 0], high + [left, left, 0]), brick(low - [0, 0, 9], high + [0, 0, 9]))
    return case(block.joined(ring), left)


@kind
def chain_of_two_links(rng):
    """Two square links, one through the other, whose bars are as thick as drawn."""
    left = left_of(rng)
    gap = left + 1.5

    def link():
        outer = 2 * left + gap
        whole = box((0, 0, 0), (2 * outer, outer, left))
        return without(whole, brick((left, left, -1), (2 * outer - left, outer - left, left + 1)))

    one, size = link(), 2 * left + gap
    two = link()
    upright = two.moved(two.vertices[:, [0, 2, 1]] * [1, -1, 1])  # turned about x, on its side
    place = [2 * size - left - 0.75 - left, 0.5 * (size + left), -0.5 * (size - left)]
    return case(one.joined(upright.moved(upright.vertices + place)), left)
