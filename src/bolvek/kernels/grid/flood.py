"""Flooding stretches of columns: what is under the lowest way out.

Nodes are stretches of the columns of a grid, `node_start` (P + 1,) int64 the first node of each column, floor and
ceiling (N,) float64 their ends, infinite where they have none. Column p = i * ny + j has up to four neighbours, and
stretches of neighbours that overlap are joined.
"""

import numpy as np

from bolvek.kernels import helper, kernel
from bolvek.kernels.roots import root_of


@helper
def _beside(p, side, ny, columns):
    """The column beside column p: the next along either direction (0, 1), then those before it (2, 3); -1 for none."""
    if side == 0:
        return p + ny if p + ny < columns else np.int64(-1)
    if side == 1:
        return p + 1 if p % ny < ny - 1 else np.int64(-1)
    if side == 2:
        return p - ny if p >= ny else np.int64(-1)
    return p - 1 if p % ny > 0 else np.int64(-1)


@kernel("i8[:] i8 f8[:] f8[:] i4[:] i4[:] i1[:] i4[:]! f8[:]! i4[:]! i4[:]!")
def flood(node_start, ny, floor, ceiling, column, order, base, parent, level, sill, pool):
    """The level to which each node fills before what is in it finds its way out, over the lowest sill on any way.

    Barnes 2014 ("Priority-flood") by growing and joining components in the order of their floors: `order` (M,) the
    nodes that are not outside, lowest first; base (N,) 1 where a node is outside,
    2 where an outlet opens at its floor. parent (N,) comes as each node itself, but
    for those outside, which come with one of them; level as infinite, sill and pool as -1. level gets the height, sill
    the node over which it leaves, pool the number of the pool, those without a way out last. Returns the number of
    pools that have a way out, and of all.
    """
    columns = node_start.shape[0] - 1
    following = np.full(floor.shape[0], -1, np.int32)
    tail = np.arange(floor.shape[0]).astype(np.int32)
    done = np.zeros(base.shape[0], np.int8)
    for n in range(base.shape[0]):
        done[n] = 1 if base[n] == 1 else 0
    roots = np.empty(64, np.int32)
    pools = 0
    for q in range(order.shape[0]):
        n = order[q]
        low, high = floor[n], ceiling[n]
        p = np.int64(column[n])
        found = 0
        outside = base[n] == 2
        for side in range(4):
            o = _beside(p, side, ny, columns)
            if o < 0:
                continue
            for m in range(node_start[o], node_start[o + 1]):
                if floor[m] >= high:
                    break
                if ceiling[m] <= low or done[m] == 0:
                    continue
                r = root_of(parent, m)
                if base[r] == 1:
                    outside = True
                    continue
                known = False
                for k in range(found):
                    known = known or roots[k] == r
                if not known:
                    if found == roots.shape[0]:  # in so many rooms at once: join them now
                        parent[r] = roots[0]
                        following[tail[roots[0]]] = r
                        tail[roots[0]] = tail[r]
                    else:
                        roots[found] = r
                        found += 1
        done[n] = 1
        if outside:
            for k in range(found):
                m = roots[k]
                while m >= 0:
                    level[m] = low
                    sill[m] = n
                    pool[m] = pools
                    m = following[m]
                parent[roots[k]] = parent[node_start[0]]
                pools += 1
            parent[n] = parent[node_start[0]]
            level[n] = low
            sill[n] = n
        else:
            if found == 0:
                continue
            r = roots[0]
            for k in range(1, found):
                parent[roots[k]] = r
                following[tail[r]] = roots[k]
                tail[r] = tail[roots[k]]
            parent[n] = r
            following[tail[r]] = n
            tail[r] = n
    leaving = pools
    for q in range(order.shape[0]):
        n = order[q]
        if parent[n] == n and base[n] != 1:
            m = n
            while m >= 0:
                pool[m] = pools
                m = following[m]
            pools += 1
    return leaving, pools


@kernel("i8[:] i8 f8[:] f8[:] i4[:] i1[:] i4[:]!")
def link_nodes(node_start, ny, floor, ceiling, column, chosen, parent):
    """Join chosen nodes that overlap; parent (N,) comes as each node itself and becomes a forest."""
    columns = node_start.shape[0] - 1
    for n in range(floor.shape[0]):
        if chosen[n] == 0:
            continue
        p = np.int64(column[n])
        for side in range(2):
            o = _beside(p, side, ny, columns)
            if o < 0:
                continue
            for m in range(node_start[o], node_start[o + 1]):
                if floor[m] >= ceiling[n]:
                    break
                if ceiling[m] <= floor[n] or chosen[m] == 0:
                    continue
                a, b = root_of(parent, n), root_of(parent, m)
                if a != b:
                    parent[max(a, b)] = min(a, b)
    for n in range(floor.shape[0]):
        parent[n] = root_of(parent, n)


@kernel("i8[:] i8 f8[:] f8[:] i4[:] i1[:] i8[:]! i8[:]!")
def rims_of(node_start, ny, floor, ceiling, column, chosen, held, free):
    """How much of the rim of chosen nodes is next to other nodes and how much to nothing, in sides of a pixel.

    held, free (N,) int64 get, for each chosen node, its sides next to a node that is not chosen, or to no node.
    """
    columns = node_start.shape[0] - 1
    for n in range(floor.shape[0]):
        if chosen[n] == 0:
            continue
        p = np.int64(column[n])
        for side in range(4):
            o = _beside(p, side, ny, columns)
            beside = 0
            if o >= 0:
                for m in range(node_start[o], node_start[o + 1]):
                    if floor[m] < ceiling[n] and ceiling[m] > floor[n]:
                        beside = max(beside, 1 if chosen[m] == 1 else 2)
            if beside == 2:
                held[n] += 1
            elif beside == 0:
                free[n] += 1
