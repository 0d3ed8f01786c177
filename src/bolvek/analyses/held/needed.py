"""Whether a tip is needed: what would hang without it in a window around it, swept for some layers.

Outside of the window and in the layer below all is taken to hold as it does with the tip, so that none hangs in the
window proves nothing; whoever takes the tip out measures all. A place that hangs there hangs without the tip, but for
paths that turned below the window: they are taken to turn at its lowest layer, which makes them a hair longer.
"""

import numpy as np

from bolvek.analyses.held.held import Held, Tips
from bolvek.arrays import Floats, Ints
from bolvek.kernels.grid import held as kernels
from bolvek.kernels.grid.held import Build

_WIDE = 2.5  # times what a tip carries: half the width of the window
_HIGH = 3.0  # times what a tip carries


def is_needed(held: Held, tips: Tips, rows: Ints, carry_mm: float, least_place_mm2: float) -> bool:
    """Whether a place of the least area hangs without one of the tips: `rows` of them, which come by layer, are its.
    held: what holds with all."""
    s, build, below = held.stretches, held.stretches.build, int(tips.layer[rows].min()) - 1
    if below < 0:
        return True
    pixel = s.columns.pixel_mm
    some, column, wide, border = _window(build, int(build.column[tips.stretch[rows[0]]]), int(_WIDE * carry_mm / pixel))
    high = int(_HIGH * carry_mm / s.layer_mm)
    inside = (build.span[some, 1] > below) & (build.span[some, 0] < below + high)
    some, column, border = some[inside], column[inside], border[inside]
    span = np.clip(build.span[some] - below, 0, high)
    order = np.argsort(span[:, 0], kind="stable")
    start = np.searchsorted(column, np.arange(wide[0] * wide[1] + 1))
    first = np.searchsorted(span[order, 0], np.arange(high + 1))
    rules = build.rules.copy()
    rules[0] = wide[1]
    window = Build(start, column.astype(np.int32), span, order.astype(np.int32), first.astype(np.int32), rules)
    for array in window:
        array.flags.writeable = False

    state, debt = np.full((len(some), 7), -1, np.int32), np.zeros((len(some), 2))
    since = held.state[some, kernels.HELD] - below
    owed = _owed(held, some, np.maximum(held.state[some, kernels.HELD], below), tips)
    already = (since <= 0) & (held.state[some, kernels.HELD] >= 0)
    state[already, kernels.SINCE] = state[already, kernels.TURNED] = state[already, kernels.HELD] = 0
    state[already, kernels.PIVOT] = np.flatnonzero(already)
    debt[already] = owed[already, None]
    # what stands on its own: credit from below, what holds at the border, and the other tips
    own = np.full(len(build.column), -1, np.int64)
    own[some] = np.arange(len(some))
    others = np.flatnonzero((own[tips.stretch] >= 0) & (tips.layer > below) & (tips.layer < below + high))
    others = others[~np.isin(others, rows)]
    given = np.flatnonzero((already & (owed < 0)) | (border & (since > 0) & (since < high)))
    stretch = np.concatenate([given, own[tips.stretch[others]]])
    layer = np.concatenate([np.maximum(since[given], 0), tips.layer[others] - below])
    credit = np.concatenate([owed[given], np.full(len(others), tips.owed_mm / pixel)])
    last = np.append(layer + int(tips.high_mm / s.layer_mm), -1)
    rank = np.argsort(layer, kind="stable")
    stood = np.ascontiguousarray(np.stack([stretch, layer], axis=1)[rank].astype(np.int32))
    expires = np.append(last[:-1][rank], -1).astype(np.int32)
    lists = np.zeros(len(some) + 1, np.int32), np.zeros(len(some) + 2, np.int64)
    nothing = np.zeros(len(some), bool)
    args = window, expires, stood, credit[rank]
    # the lowest layer is given, but for the credit in it
    kernels.sweep(*args, 0, high, False, nothing, state, debt, *lists)
    place, beside = np.arange(len(some), dtype=np.int32), np.zeros(len(some), bool)
    kernels.gather_unheld(window, state, place, beside)
    hangs = place[(place >= 0) & (span[:, 0] > 0)]
    return bool(len(hangs) and np.bincount(hangs).max() * s.columns.pixel_mm2 >= least_place_mm2)


def _window(build: Build, column: int, half: int) -> tuple[Ints, Ints, tuple[int, int], np.ndarray]:
    """The stretches (N,) of the columns within `half` of one, their columns in the window, how many columns it has both
    ways, and which stretches are in its border."""
    ny = int(build.rules[0])
    nx = (len(build.start) - 1) // ny
    i, j = divmod(column, ny)
    i0, i1, j0, j1 = max(i - half, 0), min(i + half + 1, nx), max(j - half, 0), min(j + half + 1, ny)
    p = (np.arange(i0, i1)[:, None] * ny + np.arange(j0, j1)).ravel()
    count = build.start[p + 1] - build.start[p]
    local = np.repeat(np.arange(len(p)), count)
    some = np.repeat(build.start[p] - np.concatenate([[0], np.cumsum(count)[:-1]]), count) + np.arange(len(local))
    u, v = np.divmod(local, j1 - j0)
    border = (u == 0) | (u == i1 - i0 - 1) | (v == 0) | (v == j1 - j0 - 1)
    return some, local, (i1 - i0, j1 - j0), border


def _owed(held: Held, some: Ints, layer: Ints, tips: Tips) -> Floats:
    """The debts (N,), in columns, of stretches in layers in which they hold; nothing where they came to hold as they do
    only later."""
    state, debt = held.state[some], held.debt[some]
    own, tip = debt[:, kernels.OWN], state[:, kernels.TIP]
    credit = (tip >= 0) & (own < 0) & (layer <= tips.expires(held.stretches)[tip])
    climbed = layer - state[:, kernels.SINCE]
    paid = np.maximum(own - held.stretches.build.rules[1] * climbed, 0.0)
    return np.where(climbed < 0, 0.0, np.where(credit, own, np.where(own > 0, paid, 0.0)))
