"""Where tips of supports go: as few as hold every layer.

From below upward, since what is held holds what is above it: in the first layer in which something begins that nothing
holds, a tip is set where it holds most of it beside its outermost place, and so on until all of that layer holds. What
that leaves is pruned by the measure itself: tips far from each other are taken out together, from the top down, and
those come back without which something is not held.
"""

from collections.abc import Callable, Iterator
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
GOOD, POOR, NEVER = 0, 1, 2
"""How good a stretch is for a tip: POOR ones get one only where no other holds as well."""
Ranking = Callable[[Ints], Ints]
"""How good stretches (N,) are for tips (N,)."""


def place_tips(stretches: Stretches, settings: HeldSettings) -> tuple[Held, Tips, Held]:
    """What holds without tips; the fewest found, by layer, with which no place that counts is left without hold; what
    holds with them."""
    tips, bare = Tips.carrying(settings), hold(stretches)
    wanted = told_stretches(bare, settings)
    if not wanted.any():
        return bare, tips, bare
    return bare, *prune_tips(stretches, set_tips(stretches, wanted, tips, settings), settings)


def told_stretches(held: Held, settings: HeldSettings) -> Bools:
    """Stretches (S,) that begin without hold, in places that count."""
    number, places = held.places()
    return np.array([p.counts(settings) for p in places] + [False])[number]


def set_tips(
    stretches: Stretches, wanted: Bools, tips: Tips, settings: HeldSettings, ranking: Ranking | None = None
) -> Tips:
    """Tips (those there are, and more) that hold what is wanted (S,), layer by layer, where they may be."""
    sweep = Sweep(stretches, tips, wanted=wanted)
    radius = settings.carry_mm / stretches.columns.pixel_mm - _SLACK
    width = stretches.columns.shape[1]
    while sweep.layer < stretches.layers:
        lacking = sweep.go_on()
        for least in (GOOD, POOR):
            while len(lacking):
                place = np.stack(np.divmod(stretches.build.column[lacking], width), axis=1)
                may = np.ones(len(lacking), bool) if ranking is None else ranking(lacking) <= least
                chosen = lacking[cover(place.astype(np.float64), radius, may)]
                if not len(chosen):
                    break
                sweep.add(chosen)
                lacking = sweep.lacking()
    return sweep.tips


def cover(places: Floats, radius: float, may: Bools) -> Ints:
    """Rows of places (N, 2), of those that may (N,) be taken, whose discs of a radius cover all that such discs can:
    the fewest of several tries. One begins with nothing, the others with hexagons over all, laid in different ways
    (Kershner 1939: none cover a plane with less)."""
    if not may.any():
        return np.zeros(0, np.int64)
    tree = PointTree(places)
    can = PointTree(places[may]).nearest(places)[0] <= radius
    tries = [_completed(tree, places, radius, may, can, [])]
    if len(tries[0]) > _HEXAGONS_FROM:
        begun = (some[may[some]] for some in _hexagons(tree, places, radius))
        tries += [_completed(tree, places, radius, may, can, some.tolist()) for some in begun]
    return np.array(min(tries, key=len), np.int64)


def _hexagons(tree: PointTree, places: Floats, radius: float) -> Iterator[Ints]:
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
        yield np.unique(row[apart <= 0.5 * radius])


def _completed(tree: PointTree, places: Floats, radius: float, may: Bools, can: Bools, chosen: list[int]) -> list[int]:
    """Rows whose discs cover all places that can be: those chosen that cover something, and then, again and again, one
    that covers the outermost place left together with as many others as may be."""
    left = can.copy()
    left[tree.around(places[chosen], radius)[1]] = False
    chosen = list(chosen)
    for row in np.lexsort(places.T):
        if not left[row]:
            continue
        near = np.sort(tree.around(places[[row]], 2 * radius)[1])
        tried = near[may[near] & (np.linalg.norm(places[near] - places[row], axis=1) <= radius)]
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


def prune_tips(
    stretches: Stretches,
    tips: Tips,
    settings: HeldSettings,
    *,
    asked: int = 0,
    wide_mm: float = 0.0,
    touched: Bools | None = None,
) -> tuple[Tips, Held]:
    """The tips without those without which all that holds with them holds too, and what holds then. The first `asked`
    of them stay. wide_mm: their diameter; each holds all the stretches of touched (S,) that are so near to it."""
    fixed = np.argsort(np.argsort(tips.layer, kind="stable"))[:asked]
    tips = tips.sorted()
    place = stretches.bottoms[tips.stretch]
    rows, of = _discs(stretches, tips, 0.5 * wide_mm, touched)
    keep, held = np.ones(len(tips), bool), hold(stretches, rows)
    untried, hung = np.ones(len(tips), bool), told_stretches(held, settings)
    untried[fixed] = False
    while True:
        rest, left = rows.chosen(keep[of]), of[keep[of]]
        for tip in np.flatnonzero(untried):
            own = np.flatnonzero(left == tip)
            untried[tip] = not is_needed(held, rest, own, settings.carry_mm, settings.least_place_mm2)
        if not untried.any():
            return tips.chosen(keep), held
        trial = keep.copy()
        for tip in np.flatnonzero(untried)[::-1]:
            out = np.flatnonzero(keep & ~trial)
            if not (np.linalg.norm(place[out] - place[tip], axis=1) < _APART * settings.carry_mm).any():
                trial[tip] = untried[tip] = False
        while (trial != keep).any():
            tried = hold(stretches, rows.chosen(trial[of]))
            lost = stretches.bottoms[told_stretches(tried, settings) & ~hung]
            if not len(lost):
                keep, held = trial, tried
                break
            out = np.flatnonzero(keep & ~trial)
            trial[out[np.unique(PointTree(place[out]).nearest(lost)[1])]] = True


def _discs(stretches: Stretches, tips: Tips, radius: float, touched: Bools | None) -> tuple[Tips, Ints]:
    """All stretches that tips of a radius (mm) touch, by layer, and the tip that each is of; its own first."""
    of = np.arange(len(tips))
    if touched is None or not len(tips):
        return tips, of
    rows = np.flatnonzero(touched)
    near, at = stretches.bottoms[rows], stretches.bottoms[tips.stretch]
    count, found = PointTree(near[:, :2]).around(at[:, :2], radius)
    tip = np.repeat(of, count)
    beside = np.abs(near[found, 2] - at[tip, 2]) <= 2 * radius
    stretch, tip = rows[found[beside]], tip[beside]
    other = stretch != tips.stretch[tip]
    more = tips.under(stretches, stretch[other])
    of = np.concatenate([of, tip[other]])
    order = np.argsort(more.layer, kind="stable")
    return more.sorted(), of[order]
