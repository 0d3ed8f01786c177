"""Which stretches of material hold in the layers of a build, swept from the lowest layer upward.

Stretches are those of columns (see `grid.columns`), column p = i * ny + j; lengths are in pixels. A debt is how far a
place reaches out beyond what holds it, less `pay` for every layer climbed; what owes more than `reach` does not hold.

Paths do not bend with the pixels: a stretch knows where its path last turned (its pivot), and the length from there is
that of a straight line, as long as the debt along that line is met layer by layer and it stays in the material. So a
debt is that of a real path, never less than the least.
"""

from typing import NamedTuple

import numpy as np

from bolvek.arrays import Floats, Ints, Ints32
from bolvek.kernels import bundle, helper, kernel
from bolvek.kernels.roots import join, root_of


class Build(NamedTuple):
    """A model in layers, and the rules.

    start (P + 1,) int64: the first stretch of each column; column (S,) int32 of each stretch; span (S, 2) int32: its
    first layer, and the one after its last. order (S,) int32: stretches by first layer, first (L + 1,) int32: where
    those of each layer begin. rules (6,) float64: columns a row (ny), pay, reach, the longest straight line of a path,
    the longest bridge (0: none), how deep its ends lie.
    """

    start: Ints
    column: Ints32
    span: Ints32
    order: Ints32
    first: Ints32
    rules: Floats


bundle("build", Build, "i8[:] i4[:] i4[:,:] i4[:] i4[:] f8[:]")

# columns of a state (S, 7) int32: the layer since which it holds as it does (-1: it does not); its pivot; the layer of
# that; the tip whose credit the pivot has (-1: none); the layer since which it holds at all; the one in which to ask
# again; the one in which it is on the queue
SINCE, PIVOT, TURNED, TIP, HELD, ASK, QUEUED = range(7)
# columns of a debt (S, 2): in the layer SINCE, not yet raised to nothing; that of the pivot. Below nothing it counts
# where it is credit: what a tip carries beyond the reach, spent by going sideways, never earned by climbing.
OWN, OWED = range(2)
_SAME = 1e-2
"""Pixels: a debt less than this better is no better."""
DIRECTIONS = 180
"""Bridges are looked for in so many directions: one of 20 mm lies off by 0.09 mm at its end."""
BRIDGE_SHARE = 0.95
"""A bridge owes this share of the reach: nearly all, so that little hangs on it."""


@helper
def _in_layer(start, span, p, k):
    """The stretch of column p that is in layer k; -1 for none, also beside the grid."""
    if p < 0 or p >= start.shape[0] - 1:
        return np.int64(-1)
    for s in range(start[p], start[p + 1]):
        if span[s, 1] > k:
            return s if span[s, 0] <= k else np.int64(-1)
    return np.int64(-1)


@helper
def _debt_in(build, expires, state, debt, s, k):
    """The debt of a stretch that holds, in layer k, not before it began to hold as it does; below 0 only as credit."""
    d = debt[s, OWN]
    if d < 0.0 and (state[s, TIP] < 0 or k > expires[state[s, TIP]]):
        d = 0.0
    if d > 0.0 and k > state[s, SINCE]:
        d = max(d - build.rules[1] * (k - state[s, SINCE]), 0.0)
    return d


@helper
def _climbed(d, pay, layers):
    """A debt some layers higher, one at least; the last payment is not yet raised to nothing."""
    return max(max(d, 0.0) - pay * (layers - 1), 0.0) - pay


@helper
def _along(build, pivot, column, k0, d, credit, goal, k):
    """The debt in layer k along the straight line from a pivot, in a column with a debt in layer k0, to a goal, and
    whether it is credit still; inf if it leaves the material or does not hold. It climbs as late as the material lets
    it: what is paid early is paid for nothing."""
    ny, pay, reach = np.int64(build.rules[0]), build.rules[1], build.rules[2]
    i, j = column // ny, column % ny
    di, dj = build.column[goal] // ny - i, build.column[goal] % ny - j
    steps = max(abs(di), abs(dj))
    length = np.sqrt(np.float64(di * di + dj * dj)) / steps
    here = pivot
    for n in range(1, steps + 1):
        p = (i + np.int64(np.floor(n * di / steps + 0.5))) * ny + j + np.int64(np.floor(n * dj / steps + 0.5))
        following = np.int64(-1)
        for s in range(build.start[p], build.start[p + 1]):
            if build.span[s, 1] > k0:
                if build.span[s, 0] <= k and build.span[s, 0] < build.span[here, 1]:
                    following = s
                break
        if following < 0:
            return np.inf, False
        layers = np.int64(build.span[following, 0]) - k0
        if layers > 0:
            d = d if credit else _climbed(d, pay, layers)
            k0 += layers
        d += length
        credit = credit and d < 0.0
        if d > reach:
            return np.inf, False
        here = following
    if here != goal:
        return np.inf, False
    return (_climbed(d, pay, k - k0) if k > k0 and not credit else d), credit


@helper
def _pass_on(build, expires, state, debt, waiting, s, t, k, queue):
    """Let stretch s hold its neighbour t in layer k, if that is better than what t has; what would do so only in a
    later layer is asked again then, and waits: waiting[0] how many do, then which."""
    ny, pay, reach = np.int64(build.rules[0]), build.rules[1], build.rules[2]
    p, q = np.int64(build.column[s]), np.int64(build.column[t])
    di, dj = p // ny - q // ny, p % ny - q % ny
    step = np.sqrt(np.float64(di * di + dj * dj))
    now = state[s, SINCE] == k
    if now:
        d, turned = debt[s, OWN], k
        credit = d < 0.0 and state[s, TIP] >= 0
        found = d + step
    else:
        d, turned = _debt_in(build, expires, state, debt, s, k - 1), k - 1
        credit = d < 0.0 and d + step < max(step - pay, 0.0)
        found = d + step if credit else max(d, 0.0) + step - pay
    pivot, owed = np.int64(s), d if now or credit else max(d, 0.0)
    lent = credit
    # what t has: to be beaten in the layer it began to hold in as it was found, later as what became of it
    fresh = state[t, SINCE] == k
    has = debt[t, OWN] if fresh else np.inf
    if not fresh and state[t, SINCE] >= 0:
        has = _debt_in(build, expires, state, debt, t, k)
    r = np.int64(state[s, PIVOT])
    if r != s and (now or d != 0.0):
        o, there, back = np.int64(build.column[r]), debt[s, OWED], np.int64(state[s, TURNED])
        di, dj = o // ny - q // ny, o % ny - q % ny
        at_best = there + np.sqrt(np.float64(di * di + dj * dj)) - pay * (k - back)
        if o != q and max(abs(di), abs(dj)) <= build.rules[3] and at_best < found and at_best < has - _SAME:
            straight, spare = _along(build, r, o, back, there, there < 0.0 and state[s, TIP] >= 0, np.int64(t), k)
            if straight <= found:
                found, pivot, turned, owed, credit = straight, r, back, there, spare
                lent = there < 0.0 and state[s, TIP] >= 0
    if lent and not credit:
        found = max(found, 0.0)
    raised = found if credit else max(found, 0.0)
    if raised > reach:
        if state[t, SINCE] < 0:
            later = np.int32(k + np.int64(np.ceil((found - reach) / pay)))
            if state[t, ASK] < 0:
                waiting[0] += 1
                waiting[waiting[0]] = t
                state[t, ASK] = later
            state[t, ASK] = min(state[t, ASK], later)
        return
    if (found if fresh else raised) >= has - _SAME:
        return
    if state[t, SINCE] < 0:
        state[t, HELD] = k
    state[t, SINCE], state[t, PIVOT], state[t, TURNED] = k, pivot, turned
    state[t, TIP] = state[s, TIP] if lent else -1
    debt[t, OWN], debt[t, OWED] = found, owed
    if state[t, QUEUED] != k:
        _put(state, queue, t, k)


@helper
def _beside(build, s, k, found):
    """The stretches of the eight columns around that of s which are in layer k, and how many."""
    n, start, span = 0, build.start, build.span
    ny, p = np.int64(build.rules[0]), np.int64(build.column[s])
    for di in range(-1, 2):
        for dj in range(-1, 2):
            q = p + di * ny + dj
            t = _in_layer(start, span, q, k) if q != p else np.int64(-1)
            if t >= 0:
                found[n] = t
                n += 1
    return n


@helper
def _ask(build, expires, state, debt, waiting, t, k, queue, around):
    """Ask what held in the layer below whether it holds stretch t in layer k: first what may do so best, since most
    others then need not be looked at."""
    n = _beside(build, t, k, around)
    ny, q = np.int64(build.rules[0]), np.int64(build.column[t])
    first, least = -1, np.inf
    for m in range(n):
        s = around[m]
        if state[s, SINCE] < 0 or state[s, SINCE] >= k:
            around[m] = -1
            continue
        o = np.int64(build.column[state[s, PIVOT]])
        di, dj = o // ny - q // ny, o % ny - q % ny
        bound = debt[s, OWED] + np.sqrt(np.float64(di * di + dj * dj)) - build.rules[1] * (k - state[s, TURNED])
        if bound < least:
            first, least = m, bound
    if first >= 0:
        _pass_on(build, expires, state, debt, waiting, around[first], t, k, queue)
    for m in range(n):
        if m != first and around[m] >= 0:
            _pass_on(build, expires, state, debt, waiting, around[m], t, k, queue)


@helper
def _put(state, queue, s, k):
    """Put a stretch on the queue: queue[0] where it begins, queue[1] where it ends, both counted on and on; then what
    is on it, around and around."""
    state[s, QUEUED] = k
    queue[2 + queue[1] % (queue.shape[0] - 2)] = s
    queue[1] += 1


@helper
def _settle(build, expires, state, debt, waiting, k, queue, around):
    """Pass on in layer k what the stretches on the queue have, until nothing gets better (Bellman 1958)."""
    while queue[0] < queue[1]:
        s = np.int64(queue[2 + queue[0] % (queue.shape[0] - 2)])
        queue[0] += 1
        state[s, QUEUED] = -1
        n = _beside(build, s, k, around)
        for m in range(n):
            t = around[m]
            if state[t, SINCE] < 0 or state[t, SINCE] == k or debt[t, OWN] > 0.0 or debt[s, OWN] < 0.0:
                _pass_on(build, expires, state, debt, waiting, s, t, k, queue)


@helper
def _stand(state, debt, s, k, tip, owed):
    """Let a stretch stand on its own in layer k: on the bed, or on a tip."""
    if state[s, SINCE] < 0:
        state[s, HELD] = k
    state[s, SINCE], state[s, PIVOT], state[s, TURNED], state[s, TIP] = k, s, k, tip
    debt[s, OWN], debt[s, OWED] = owed, owed


@helper
def _end_of_bridge(build, state, p, di, dj, k, mark, seen, run, n):
    """How far a line in layer k goes from column p to what held in the layer below, and on there as deep as an end must
    lie; inf if it leaves the material before, gets too long or meets what hangs already. run[:n] takes the stretches
    on it, seen (S,) their mark.

    A pixel beside the line will do: along a rim that is not along the pixels the line itself is now in, now out.
    """
    ny, most, deep = np.int64(build.rules[0]), build.rules[4], build.rules[5]
    beside = 1 if abs(di) > abs(dj) else ny
    i, j = p // ny, p % ny
    far, step = np.inf, 0
    while step < far + deep:
        step += 1
        if step - 0.5 > most and far == np.inf:
            return far, n
        q = (i + np.int64(np.floor(step * di + 0.5))) * ny + j + np.int64(np.floor(step * dj + 0.5))
        s = _in_layer(build.start, build.span, q, k)
        if s >= 0 and build.span[s, 0] == k:
            seen[s] = mark if seen[s] >= 0 else seen[s]
            run[n] = s
            n += 1
        if s < 0:
            s = _in_layer(build.start, build.span, q + beside, k)
        if s < 0:
            s = _in_layer(build.start, build.span, q - beside, k)
        if s < 0 or (state[s, SINCE] < 0 and build.span[s, 0] < k):
            return np.inf, n
        if state[s, SINCE] >= 0 and state[s, SINCE] < k and build.span[s, 0] < k:
            far = min(far, step - 0.5)
        elif far < np.inf:
            return np.inf, n
    return far, n


@helper
def _walk_bridges(build, state, k, seen, some, count, walk):
    """Walk lines in layer k from the first of some stretches, each once a direction: seen (S,) remembers, and is -1 for
    what lies on a bridge. walk: 0, or 1 for one only from those that lie on none yet."""
    most = build.rules[4]
    run = np.empty(2 * np.int64(most) + 4, np.int64)
    for turn in range(DIRECTIONS):
        di, dj = np.cos(np.pi * turn / DIRECTIONS), np.sin(np.pi * turn / DIRECTIONS)
        mark = 2 * (k * DIRECTIONS + turn) + 1 + walk
        for m in range(count):
            t = some[m]
            if seen[t] == mark or (walk == 1 and seen[t] < 0):
                continue
            run[0] = t
            p = np.int64(build.column[t])
            one, n = _end_of_bridge(build, state, p, di, dj, k, mark, seen, run, np.int64(1))
            other, n = _end_of_bridge(build, state, p, -di, -dj, k, mark, seen, run, n)
            if one + other <= most:
                for r in range(n):
                    seen[run[r]] = -1


@helper
def _bridge(build, state, debt, k, seen, queue, around):
    """Hold what begins in layer k and lies on a straight bridge no longer than the longest. Lines are walked from
    beside what held in the layer below, where that is less than what does not hold; then from what is left, if that is
    little."""
    some, count = np.empty(build.first[k + 1] - build.first[k], np.int64), 0
    for m in range(build.first[k], build.first[k + 1]):
        if state[build.order[m], SINCE] < 0:
            some[count] = build.order[m]
            count += 1
    begins, ends = np.empty(some.shape[0], np.int64), 0
    for m in range(build.first[k], build.first[k + 1] if count else 0):
        for r in range(_beside(build, np.int64(build.order[m]), k, around)):
            s = around[r]
            if state[s, SINCE] >= 0 and state[s, SINCE] < k and build.span[s, 0] < k:
                begins[ends] = build.order[m]
                ends += 1
                break
    if ends < 2:
        return
    if ends < count:
        _walk_bridges(build, state, k, seen, begins, np.int64(ends), np.int64(0))
    left = np.empty(count, np.int64)
    n = 0
    for m in range(count):
        if seen[some[m]] >= 0:
            left[n] = some[m]
            n += 1
    if n <= ends:
        _walk_bridges(build, state, k, seen, left, np.int64(n), np.int64(1))
    for m in range(count):
        if seen[some[m]] < 0:
            _stand(state, debt, some[m], k, np.int64(-1), BRIDGE_SHARE * build.rules[2])
            _put(state, queue, some[m], k)


@kernel("build i4[:] i4[:,:] f8[:] i8 i8 b1 b1[:] i4[:,:]! f8[:,:]! i4[:]! i8[:]!")
def sweep(build, expires, tips, credit, begin, end, bed, wanted, state, debt, waiting, queue):
    """Sweep the layers begin up to end, exclusive, and return the layer after the last one swept: it stops early where
    stretches that are wanted (S,) begin and nothing holds them.

    tips (T, 2): the stretch and the layer of each, by layer; credit (T,): its debt, below 0; expires (T + 1,): the last
    layer in which it has that, -1 in the last row. bed: whether what begins in the lowest layer holds.
    """
    at, around = 0, np.empty(8, np.int64)
    seen = np.zeros(state.shape[0] if build.rules[4] > 0.0 else 0, np.int32)
    for k in range(begin, end):
        while at < tips.shape[0] and tips[at, 1] <= k:
            s = np.int64(tips[at, 0])
            if tips[at, 1] == k:
                _stand(state, debt, s, k, np.int64(at), credit[at])
                _put(state, queue, s, k)
            at += 1
        for m in range(build.first[k], build.first[k + 1]):
            t = np.int64(build.order[m])
            if k == 0:
                if bed:
                    _stand(state, debt, t, k, np.int64(-1), 0.0)
                continue
            if t > build.start[build.column[t]] and build.span[t - 1, 1] == k and state[t - 1, SINCE] >= 0:
                _pass_on(build, expires, state, debt, waiting, t - 1, t, k, queue)
            _ask(build, expires, state, debt, waiting, t, k, queue, around)
        kept = 0
        for m in range(1, waiting[0] + 1):
            t = np.int64(waiting[m])
            if state[t, SINCE] >= 0 or build.span[t, 1] <= k:
                continue
            kept += 1
            waiting[kept] = t
            if state[t, ASK] <= k:
                state[t, ASK] = build.first.shape[0]
                _ask(build, expires, state, debt, waiting, t, k, queue, around)
        waiting[0] = kept
        _settle(build, expires, state, debt, waiting, k, queue, around)
        if build.rules[4] > 0.0 and k > 0:
            _bridge(build, state, debt, k, seen, queue, around)
            _settle(build, expires, state, debt, waiting, k, queue, around)
        for m in range(build.first[k], build.first[k + 1]):
            t = build.order[m]
            if wanted[t] and state[t, SINCE] < 0:
                return k + 1
    return end


@kernel("build i4[:] i4[:] i8 i8 f8 i4[:,:]! f8[:,:]! i4[:]! i8[:]!")
def stand_on_tips(build, expires, some, tip, k, credit, state, debt, waiting, queue):
    """Let stretches `some` (N,) stand on tips numbered from `tip` on, in the layer k that was swept last."""
    around = np.empty(8, np.int64)
    for m in range(some.shape[0]):
        _stand(state, debt, np.int64(some[m]), k, np.int64(tip + m), credit)
        _put(state, queue, np.int64(some[m]), k)
    _settle(build, expires, state, debt, waiting, k, queue, around)


@helper
def _until(build, state, s):
    """The layer from which a stretch holds, the one after its last if it never does."""
    return state[s, HELD] if state[s, HELD] >= 0 else build.span[s, 1]


@kernel("build i4[:,:] i4[:]! b1[:]!")
def gather_unheld(build, state, place, beside):
    """The place (S,) to which each stretch belongs that begins without hold: the lowest stretch that hangs together
    with it while neither holds, or one layer later; -1 for what holds. beside (S,): whether what holds is next
    to where it begins.

    place comes as each stretch itself.
    """
    ny = np.int64(build.rules[0])
    for s in range(place.shape[0]):
        k, until = build.span[s, 0], _until(build, state, s)
        if until == k:
            continue
        p = np.int64(build.column[s])
        for di in range(-1, 2):
            for dj in range(-1, 2):
                q = p + di * ny + dj
                if q == p or q < 0 or q >= build.start.shape[0] - 1:
                    continue
                for t in range(build.start[q], build.start[q + 1]):
                    if build.span[t, 0] > until:
                        break
                    begin, end = build.span[t, 0], _until(build, state, t)
                    if begin <= k and end <= k and build.span[t, 1] > k:
                        beside[s] = True
                    if q > p and begin < end and end >= k:
                        join(place, s, t)
        above = s + 1
        if above < build.start[p + 1] and until == build.span[s, 1] and build.span[above, 0] == until:
            if _until(build, state, above) > until:
                join(place, s, above)
    for s in range(place.shape[0]):
        place[s] = root_of(place, s)
    for s in range(place.shape[0]):
        if _until(build, state, s) == build.span[s, 0]:
            place[s] = -1
