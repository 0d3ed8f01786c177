"""Triangles cut off at a height."""

import numpy as np

from bolvek.arrays import Floats, Ints


def clip_below(corners: Floats, height: Floats, limit: Floats) -> tuple[Floats, Ints]:
    """What lies at or below a limit (N,) of triangles (N, 3, 3) with heights (N, 3) at their corners: triangles
    (M, 3, 3) that face the same way, and the row (M,) each comes from."""
    below = height <= limit[:, None]
    count = below.sum(axis=1)
    whole = np.flatnonzero(count == 3)
    pieces, rows = [corners[whole]], [whole]
    for number in (1, 2):
        some = np.flatnonzero(count == number)
        # the corner alone on its side comes first
        lone = np.argmax(below[some] if number == 1 else ~below[some], axis=1)
        order = (lone[:, None] + np.arange(3)) % 3
        at = np.arange(len(some))[:, None]
        p, h = corners[some][at, order], height[some][at, order]
        cuts = []
        for k in (1, 2):
            t = (limit[some] - h[:, 0]) / np.where(h[:, k] == h[:, 0], 1.0, h[:, k] - h[:, 0])
            cuts.append(p[:, 0] + np.clip(t, 0, 1)[:, None] * (p[:, k] - p[:, 0]))
        if number == 1:
            pieces.append(np.stack([p[:, 0], cuts[0], cuts[1]], axis=1))
            rows.append(some)
        else:
            pieces += [np.stack([cuts[0], p[:, 1], p[:, 2]], axis=1), np.stack([cuts[0], p[:, 2], cuts[1]], axis=1)]
            rows += [some, some]
    return np.concatenate(pieces), np.concatenate(rows)
