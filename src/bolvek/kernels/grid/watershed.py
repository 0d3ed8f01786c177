"""Rooms of air on a lattice: how wide the widest way between them is.

The lattice is made of blocks of two cells a side. `block` (X, Y, Z) int32 holds -1 for a block without air,
-2 - r for one that lies wholly in deep region r, else its row in `value` (B, 8) float32: the signed distance
at the middle of each of its cells (bit 0 of the column x, bit 1 y, bit 2 z), cut off where it is deep.
Nodes are the cells, 8 * row + column, and after them the deep regions, 8 * B + r.
"""

import heapq

import numpy as np

from bolvek.kernels import helper, kernel
from bolvek.kernels.roots import join, root_of


@helper
def _node(block, rows, x, y, z):
    """The node of the cell at x, y, z; -1 where there is none."""
    if x < 0 or y < 0 or z < 0:
        return np.int64(-1)
    i, j, k = x >> 1, y >> 1, z >> 1
    if i >= block.shape[0] or j >= block.shape[1] or k >= block.shape[2]:
        return np.int64(-1)
    b = np.int64(block[i, j, k])
    if b == -1:
        return np.int64(-1)
    if b < -1:
        return 8 * rows + (-2 - b)
    return 8 * b + (x & 1) + 2 * (y & 1) + 4 * (z & 1)


@kernel("i4[:,:,:] i4[:,:] f4[:,:] i8[:] f8[:] i8[:]! i8[:]! i8[:]! i8[:]! f8[:]! i8[:]!")
def grow_rooms(block, place, value, order, peak, parent, label, died, into, saddle, at):
    """Flood the air from its widest places down; record where rooms meet.

    place (B, 3) int32 is each row's block; order (N,) int64 the cells with air at their middle, widest first;
    peak (8 B + R,) float64 comes with the value of each node, infinite for the outside. parent, label (same
    size, int64) come as -1, for deep regions as themselves. label gets the widest node of the room a cell
    belongs to (its watershed). Of every two rooms that meet, the one with the lower peak ends: died, into
    (M,) int64 get its label and the other's, saddle (M,) float64 and at (M,) int64 the width and the cell
    where they meet. Cells are neighbours across sides, edges and corners. Returns how many ended.
    """
    rows = value.shape[0]
    n = 0
    for q in range(order.shape[0]):
        node = order[q]
        b, c = node >> 3, node & 7
        x = 2 * place[b, 0] + (c & 1)
        y = 2 * place[b, 1] + (c >> 1 & 1)
        z = 2 * place[b, 2] + (c >> 2 & 1)
        mine = np.int64(-1)
        widest = -1.0
        for dx in range(-1, 2):
            for dy in range(-1, 2):
                for dz in range(-1, 2):
                    other = _node(block, rows, x + dx, y + dy, z + dz)
                    if other < 0 or parent[other] < 0 or other == node:
                        continue
                    if peak[other] > widest:
                        widest = peak[other]
                        label[node] = label[other]
                    root = root_of(parent, other)
                    if mine < 0:
                        mine = root
                    elif root != mine:
                        # a root is its room's widest node
                        if peak[root] > peak[mine] or (peak[root] == peak[mine] and root > mine):
                            root, mine = mine, root
                        died[n], into[n] = root, mine
                        saddle[n], at[n] = peak[node], node
                        n += 1
                        parent[root] = mine
        if mine < 0:
            mine = node
            label[node] = node
        parent[node] = mine
    return n


@helper
def _passes(a, b, gap2, least):
    """Whether a straight way, so long (squared), between two places surely stays farther from the surface than `least`,
    when they are so far from it; see `spatial.air.least_between`."""
    aa, bb = a * a, b * b
    t = min(max(0.5 + 0.5 * (aa - bb) / gap2, 0.0), 1.0)
    return aa + t * (bb - aa) - t * (1.0 - t) * gap2 >= least * least


@kernel("i4[:,:,:] i4[:,:] f8[:] f8 f8 f8 i8[:]!")
def join_blocks(block, place, middle, deep, size, radius, parent):
    """Join blocks from whose middle a ball of a radius surely gets straight to that of one beside it.

    place (B, 3): blocks, middle (B,) the distance at their middles; deep: that of blocks in deep regions, at least;
    size: how far apart they are. parent (B + R,) int64 comes as 0, 1, 2 ..., and gets the roots of what hangs together:
    blocks, then deep regions. Beside is across sides, edges and corners.
    """
    rows = place.shape[0]
    for row in range(rows):
        if middle[row] < radius:
            continue
        for dx in range(-1, 2):
            for dy in range(-1, 2):
                for dz in range(-1, 2):
                    i, j, k = place[row, 0] + dx, place[row, 1] + dy, place[row, 2] + dz
                    if i < 0 or j < 0 or k < 0 or i >= block.shape[0] or j >= block.shape[1] or k >= block.shape[2]:
                        continue
                    b = np.int64(block[i, j, k])
                    if b == -1 or b == row or (b >= 0 and (b > row or middle[b] < radius)):
                        continue
                    other, width = (b, middle[b]) if b >= 0 else (rows - 2 - b, deep)
                    gap2 = size * size * np.float64(dx * dx + dy * dy + dz * dz)
                    if _passes(middle[row], width, gap2, radius):
                        join(parent, np.int64(row), other)
    for node in range(parent.shape[0]):
        parent[node] = root_of(parent, np.int64(node))


@kernel("i4[:,:,:] i4[:,:] f4[:,:] i4[:,:] i8[:] f8 i8 i8 f8 i8[:]! i4[:]! i8[:]!")
def widest_ways(block, place, width, deep, deep_start, deep_width, start, wanted, step, before, level, following):
    """The widest ways from node `start` to so many wanted ones, and those reached on the way.

    A cell is as wide as `width` (B, 8) float32 says, a deep region as `deep_width`; only what is wider than zero is
    passed, across sides. deep (D, 3) int32 lists the blocks of deep regions, sorted by region, deep_start
    (R + 1,) where each begins. before (8 B + R,) int64 comes as -2, -3 where wanted (-1 wanted: all are), and gets the
    node each was reached from; level (same size, int32) the narrowest width on the way, in steps, rounded up;
    following (same size, int64) is scratch.

    Buckets of equal width are emptied from the widest down. A node's first way is its widest one: either the
    node itself is the narrowest of it, or the bucket is, and none to come is wider.
    """
    rows = width.shape[0]
    top = np.int64(np.ceil(deep_width / step))
    head = np.full(top + 2, -1, np.int64)
    tail = np.full(top + 2, -1, np.int64)
    before[start] = -1
    level[start] = top
    following[start] = -1
    head[top] = start
    tail[top] = start
    for bucket in range(top, 0, -1):
        while head[bucket] >= 0:
            node = head[bucket]
            head[bucket] = following[node]
            is_cell = node < 8 * rows
            first, last = np.int64(0), np.int64(1)
            long = np.int64(1)
            x0, y0, z0 = np.int64(0), np.int64(0), np.int64(0)
            if is_cell:
                b, c = node >> 3, node & 7
                x0 = 2 * np.int64(place[b, 0]) + (c & 1)
                y0 = 2 * np.int64(place[b, 1]) + (c >> 1 & 1)
                z0 = 2 * np.int64(place[b, 2]) + (c >> 2 & 1)
            else:
                first, last = deep_start[node - 8 * rows], deep_start[node - 8 * rows + 1]
                long = np.int64(2)
            for m in range(first, last):
                if not is_cell:
                    x0, y0, z0 = 2 * np.int64(deep[m, 0]), 2 * np.int64(deep[m, 1]), 2 * np.int64(deep[m, 2])
                for side in range(6):
                    if not is_cell:
                        # within a deep region nothing is to be reached
                        away = np.int64(1 - 2 * (side % 2))
                        i = deep[m, 0] + (away if side < 2 else 0)
                        j = deep[m, 1] + (away if 2 <= side < 4 else 0)
                        k = deep[m, 2] + (away if side >= 4 else 0)
                        if i < 0 or j < 0 or k < 0:
                            continue
                        if i >= block.shape[0] or j >= block.shape[1] or k >= block.shape[2] or block[i, j, k] < 0:
                            continue
                    for u in range(long):
                        for w in range(long):
                            away = long if side % 2 == 0 else np.int64(-1)
                            if side < 2:
                                x, y, z = x0 + away, y0 + u, z0 + w
                            elif side < 4:
                                x, y, z = x0 + u, y0 + away, z0 + w
                            else:
                                x, y, z = x0 + u, y0 + w, z0 + away
                            other = _node(block, rows, x, y, z)
                            if other < 0 or before[other] > -2:
                                continue
                            wide = np.float64(deep_width)
                            if other < 8 * rows:
                                wide = np.float64(width[other >> 3, other & 7])
                            if wide <= 0.0:
                                continue
                            reach = min(bucket, np.int64(np.ceil(wide / step)))
                            found = before[other] == -3
                            before[other] = node
                            level[other] = reach
                            if found:
                                wanted -= 1
                                if wanted == 0:
                                    return
                            # first come, first served: of equally wide ways the shorter one
                            following[other] = -1
                            if head[reach] < 0:
                                head[reach] = other
                            else:
                                following[tail[reach]] = other
                            tail[reach] = other


@kernel("i8[:] f8[:] i8[:] i8 i8 i8[:]!")
def widest_among(keys, width, steps, start, goal, before):
    """Whether a way leads from cell `start` to cell `goal` (rows) of a set of cells, across sides.

    keys (N,) int64, sorted, name the cells; a neighbour's key is a step (3,) away. Only cells wider than zero are
    passed. before (N,) int64 comes as -1 and gets the row that each was reached from on its widest way.
    """
    done = np.zeros(keys.shape[0], np.bool_)
    best = np.full(keys.shape[0], -np.inf)
    best[start] = np.inf
    heap = [(-np.inf, np.int64(start))]
    while len(heap) > 0:
        key, row = heapq.heappop(heap)
        if done[row]:
            continue
        done[row] = True
        if row == goal:
            return True
        for side in range(6):
            wanted = keys[row] + (steps[side >> 1] if side & 1 else -steps[side >> 1])
            other = np.searchsorted(keys, wanted)
            if other == keys.shape[0] or keys[other] != wanted or done[other] or width[other] <= 0.0:
                continue
            reach = min(-key, width[other])
            if reach > best[other]:
                best[other] = reach
                before[other] = row
                heapq.heappush(heap, (-reach, np.int64(other)))
    return False
