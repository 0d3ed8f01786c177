"""Bridges over a raster of what holds and what hangs."""

import numpy as np

from bolvek.kernels import kernel


@kernel("i1[:,:] f8[:,:] f8[:]! f8[:]!")
def bridge_spans(raster, ways, share, span):
    """How a flat zone is held when lines of one direction cross it.

    raster (X, Y) int8: 0 outside, 1 zone, 2 what holds it, 3 beside it, where lines may run; ways (N, 2) unit
    directions. share (N,): of the cells, how many have what holds them both ways before the zone ends; span (N,): the
    longest such line, in cells.
    """
    width, depth = raster.shape
    for n in range(ways.shape[0]):
        dx, dy = 0.5 * ways[n, 0], 0.5 * ways[n, 1]
        total = 0
        held = 0
        longest = 0.0
        for i in range(width):
            for j in range(depth):
                if raster[i, j] != 1:
                    continue
                total += 1
                length = 0.0
                fine = True
                for side in range(2):
                    x, y = i + 0.5, j + 0.5
                    steps = 0
                    while True:
                        x += dx if side == 0 else -dx
                        y += dy if side == 0 else -dy
                        steps += 1
                        what = raster[np.int64(np.floor(x)), np.int64(np.floor(y))]
                        if what == 2:
                            break
                        if what == 0:
                            fine = False
                            break
                    length += 0.5 * steps
                    if not fine:
                        break
                if fine:
                    held += 1
                    longest = max(longest, length)
        share[n] = held / total if total > 0 else 1.0
        span[n] = longest
