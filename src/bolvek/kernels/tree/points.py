"""A tree over points: the nearest ones, those within a reach, pairs (Bentley 1975).

Points are halved along the longest side of their box until few are left; node n has the children 2n + 1 and 2n + 2,
and what belongs to it follows from halving 0..N. Of points equally far the one with the lower number counts as nearer.
"""

import numpy as np

from bolvek.kernels import helper, kernel

LEAF = 12
"""A node of no more points than that is not halved."""


@kernel("f8[:,:] i8[:]! f8[:,:,:]!")
def build_points(points, order, box):
    """Order points (N, 3) and fill the boxes (M, 2, 3) of nodes; order (N,) comes in as 0..N - 1."""
    node, begin, end = np.zeros(128, np.int64), np.zeros(128, np.int64), np.zeros(128, np.int64)
    depth = 1
    end[0] = len(order)
    while depth > 0:
        depth -= 1
        n, b, e = node[depth], begin[depth], end[depth]
        for k in range(3):
            low, high = np.inf, -np.inf
            for i in range(b, e):
                low, high = min(low, points[order[i], k]), max(high, points[order[i], k])
            box[n, 0, k], box[n, 1, k] = low, high
        if e - b <= LEAF:
            continue
        axis = np.int64(0)
        for k in range(1, 3):
            if box[n, 1, k] - box[n, 0, k] > box[n, 1, axis] - box[n, 0, axis]:
                axis = k
        middle = (b + e) // 2
        low, high = b, e - 1
        while low < high:  # Hoare's selection: the middle one in its place, lesser ones before it
            pivot = order[(low + high) // 2]
            i, j = low, high
            while i <= j:
                while _before(points, axis, order[i], pivot):
                    i += 1
                while _before(points, axis, pivot, order[j]):
                    j -= 1
                if i <= j:
                    order[i], order[j] = order[j], order[i]
                    i += 1
                    j -= 1
            if middle <= j:
                high = j
            elif middle >= i:
                low = i
            else:
                break
        node[depth], begin[depth], end[depth] = 2 * n + 1, b, middle
        node[depth + 1], begin[depth + 1], end[depth + 1] = 2 * n + 2, middle, e
        depth += 2


@helper
def _before(points, axis, i, j):
    """Whether point i comes before j along an axis."""
    return points[i, axis] < points[j, axis] or (points[i, axis] == points[j, axis] and i < j)


@helper
def _off(box, n, x, y, z):
    """The squared distance from a place to the box of a node."""
    dx = max(box[n, 0, 0] - x, 0.0, x - box[n, 1, 0])
    dy = max(box[n, 0, 1] - y, 0.0, y - box[n, 1, 1])
    dz = max(box[n, 0, 2] - z, 0.0, z - box[n, 1, 2])
    return dx * dx + dy * dy + dz * dz


@kernel("f8[:,:] i8[:] f8[:,:,:] f8[:,:] f8 i8 i8 f8[:,:]! i8[:,:]!")
def nearest_points(points, order, box, queries, within, first, last, gap, index):
    """The nearest points of places first..last of (Q, 3), nearer than a distance: gap (Q, K), index (Q, K), nearest
    first, inf and N where there are no more."""
    count = gap.shape[1]
    node, begin, end = np.zeros(128, np.int64), np.zeros(128, np.int64), np.zeros(128, np.int64)
    for q in range(first, last):
        x, y, z = queries[q, 0], queries[q, 1], queries[q, 2]
        for k in range(count):
            gap[q, k], index[q, k] = np.inf, len(order)
        worst = within * within
        node[0], begin[0], end[0] = 0, 0, len(order)
        depth = 1
        while depth > 0:
            depth -= 1
            n, b, e = node[depth], begin[depth], end[depth]
            if _off(box, n, x, y, z) > worst:
                continue
            if e - b > LEAF:
                middle = (b + e) // 2
                left_first = _off(box, 2 * n + 1, x, y, z) <= _off(box, 2 * n + 2, x, y, z)
                for turn in range(2):  # what is taken up next is put on last
                    if left_first == (turn == 1):
                        node[depth], begin[depth], end[depth] = 2 * n + 1, b, middle
                    else:
                        node[depth], begin[depth], end[depth] = 2 * n + 2, middle, e
                    depth += 1
                continue
            for at in range(b, e):
                i = order[at]
                dx, dy, dz = points[i, 0] - x, points[i, 1] - y, points[i, 2] - z
                d = dx * dx + dy * dy + dz * dz
                if not np.sqrt(d) < within:
                    continue
                k = count
                while k > 0 and (d < gap[q, k - 1] or (d == gap[q, k - 1] and i < index[q, k - 1])):
                    k -= 1
                if k == count:
                    continue
                for m in range(count - 1, k, -1):
                    gap[q, m], index[q, m] = gap[q, m - 1], index[q, m - 1]
                gap[q, k], index[q, k] = d, i
                worst = min(worst, gap[q, count - 1])
        for k in range(count):
            gap[q, k] = np.sqrt(gap[q, k])


@kernel("f8[:,:] i8[:] f8[:,:,:] f8[:,:] f8[:] b1 i8 i8 i8[:]! b1 i8[:]!")
def points_around(points, order, box, queries, reach, above, first, last, start, fill, found):
    """Points within a reach (Q,) of places first..last of (Q, 3); above: only those of a higher number than the place.

    start (Q + 1,) gets how many each place has, one place on, when fill is False; when True it says where they go in
    found, in the order of their numbers.
    """
    node, begin, end = np.zeros(128, np.int64), np.zeros(128, np.int64), np.zeros(128, np.int64)
    for q in range(first, last):
        x, y, z = queries[q, 0], queries[q, 1], queries[q, 2]
        most = reach[q] * reach[q]
        node[0], begin[0], end[0] = 0, 0, len(order)
        depth = 1
        count = 0
        while depth > 0:
            depth -= 1
            n, b, e = node[depth], begin[depth], end[depth]
            if _off(box, n, x, y, z) > most:
                continue
            if e - b > LEAF:
                middle = (b + e) // 2
                node[depth], begin[depth], end[depth] = 2 * n + 1, b, middle
                node[depth + 1], begin[depth + 1], end[depth + 1] = 2 * n + 2, middle, e
                depth += 2
                continue
            for at in range(b, e):
                i = order[at]
                if above and i <= q:
                    continue
                dx, dy, dz = points[i, 0] - x, points[i, 1] - y, points[i, 2] - z
                if dx * dx + dy * dy + dz * dz <= most:
                    if fill:
                        found[start[q] + count] = i
                    count += 1
        if fill:
            found[start[q] : start[q] + count].sort()
        else:
            start[q + 1] = count
