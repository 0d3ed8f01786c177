"""Where tips of supports go: as few as hold every layer.

From below upward, since what is held holds what is above it: in the first layer in which something begins that nothing
holds, a tip is set where it holds most of it beside its outermost place, and so on until all of that layer holds. What
that leaves is pruned by the measure itself: tips far from each other are taken out together, from the top down, and
those come back without which something is not held.
"""

from collections.abc import Iterator
from itertools import product

import numpy as np

from bolvek.analyses.held.held import Held, Sweep, Tips, hold
from bolvek.analyses.held.needed import is_needed
from bolvek.analyses.held.stretches import Stretches
from bolvek.arrays import Bools, Floats, Ints
from bolvek.settings.supports import HeldSettings
from bolvek.spatial.points import PointTree

_SLACK = 0.01  # columns: so much less a tip is trusted with, for rounding
_MOST_TRIED = 48
_HEXAGONS_FROM = 6  # tips: fewer are as well set one by one
_APART = 3.0  # times what a tip carries: tips that far apart are tried together


def place_tips(stretches: Stretches, settings: HeldSettings) -> tuple[Held, Tips, Held]:
    """What holds without tips; the fewest found, by layer, with which no place that counts is left without hold; what
    holds with them."""
    carry = settings.carry_mm
    tips = Tips.none(settings.reach_mm - carry, carry)
    bare = hold(stretches, tips)
    wanted = _told(bare, settings)
    if not wanted.any():
        return bare, tips, bare
    tips = _set(Sweep(stretches, tips, wanted=wanted), carry)
    return bare, *_pruned(stretches, tips, settings)


def _told(held: Held, settings: HeldSettings) -> Bools:
    """Stretches (S,) that begin without hold, in places that count."""
    number, places = held.places()
    return np.array([p.counts(settings) for p in places] + [False])[number]


def _set(sweep: Sweep, carry_mm: float) -> Tips:
    stretches = sweep.stretches
    radius = carry_mm / stretches.columns.pixel_mm - _SLACK
    while sweep.layer < stretches.layers:
        lacking = sweep.go_on()
        while len(lacking):
            place = np.stack(np.divmod(stretches.build.column[lacking], stretches.columns.shape[1]), axis=1)
            sweep.add(lacking[cover(place.astype(np.float64), radius)])
            lacking = sweep.lacking()
    return sweep.tips


def cover(places: Floats, radius: float) -> Ints:
    """Rows of places (N, 2) whose discs of a radius cover all of them: the fewest of several tries. One begins with
    nothing, the others with hexagons over all, laid in different ways (Kershner 1939: none cover a plane with less)."""
    tree = PointTree(places)
    tries = [_completed(tree, places, radius, [])]
    if len(tries[0]) > _HEXAGONS_FROM:
        tries += [_completed(tree, places, radius, begun) for begun in _hexagons(tree, places, radius)]
    return np.array(min(tries, key=len), np.int64)


def _hexagons(tree: PointTree, places: Floats, radius: float) -> Iterator[list[int]]:
    """Rows of the places nearest to the middles of hexagons whose corners lie on discs of a radius, and of one a column
    less, since the nearest place is not quite there."""
    centre = places.mean(axis=0)
    count = int(np.ceil(np.linalg.norm(places - centre, axis=1).max() / radius)) + 2
    i, j = np.meshgrid(*2 * [np.arange(-count, count + 1)], indexing="ij")
    lattice = np.stack([i + 0.5 * j, 0.75**0.5 * j], axis=-1).reshape(-1, 2)
    main = np.linalg.svd(places - centre, full_matrices=False)[2] if len(places) > 2 else np.eye(2)
    shifts = np.array([(0, 0), (2, 0), (1, 1), (2, 2), (1, 3), (0, 2)]) / 4 @ np.array([(1, 0), (0.5, 0.75**0.5)])
    for spacing, frame, shift in product((radius, radius - 1), (main, main[::-1]), shifts):
        apart, row = tree.nearest(np.sqrt(3) * spacing * (lattice + shift) @ frame + centre)
        yield np.unique(row[apart <= 0.5 * radius]).tolist()


def _completed(tree: PointTree, places: Floats, radius: float, chosen: list[int]) -> list[int]:
    """Rows whose discs cover all places: those chosen that cover something, and then, again and again, one that covers
    the outermost place left together with as many others as may be."""
    left = np.ones(len(places), bool)
    left[tree.around(places[chosen], radius)[1]] = False
    chosen = list(chosen)
    for row in np.lexsort(places.T):
        if not left[row]:
            continue
        near = np.sort(tree.around(places[[row]], 2 * radius)[1])
        tried = near[np.linalg.norm(places[near] - places[row], axis=1) <= radius]
        tried = tried[:: max(1, len(tried) // _MOST_TRIED)]
        near = near[left[near]]  # no other can be covered with it
        covers = np.linalg.norm(places[near] - places[tried, None], axis=2) <= radius
        gain = covers.sum(axis=1)
        best = np.flatnonzero(gain == gain.max())
        # of the equally good the one in the middle of what it covers
        off = np.linalg.norm(places[tried[best]] - covers[best] @ places[near] / gain.max(), axis=1)
        k = int(best[int(np.argmin(off))])
        chosen.append(int(tried[k]))
        left[near[covers[k]]] = False
    return chosen


def _pruned(stretches: Stretches, tips: Tips, settings: HeldSettings) -> tuple[Tips, Held]:
    place = stretches.bottoms[tips.stretch]
    keep, held = np.ones(len(tips), bool), hold(stretches, tips)
    untried = np.ones(len(tips), bool)
    while True:
        rest, number = tips.chosen(keep), np.cumsum(keep) - 1
        for row in np.flatnonzero(untried):
            untried[row] = not is_needed(held, rest, int(number[row]), settings.carry_mm, settings.least_place_mm2)
        if not untried.any():
            return rest, held
        trial = keep.copy()
        for row in np.flatnonzero(untried)[::-1]:
            out = np.flatnonzero(keep & ~trial)
            if not (np.linalg.norm(place[out] - place[row], axis=1) < _APART * settings.carry_mm).any():
                trial[row] = untried[row] = False
        while (trial != keep).any():
            tried = hold(stretches, tips.chosen(trial))
            lost = [p.where_mm for p in tried.places()[1] if p.counts(settings)]
            if not lost:
                keep, held = trial, tried
                break
            out = np.flatnonzero(keep & ~trial)
            trial[out[np.unique(PointTree(place[out]).nearest(lost)[1])]] = True
