"""Points near others."""

import numpy as np
from numpy.typing import ArrayLike

from bolvek.arrays import Floats, Ints
from bolvek.kernels.tree import points as kernels
from bolvek.spatial.parallel import run_ranges

_GRAIN = 512


class PointTree:
    """A tree over points (N, 3) or (N, 2), N at least one."""

    def __init__(self, points: ArrayLike) -> None:
        self._points = _in_space(points)
        self._order = np.arange(len(self._points))
        leaves, nodes = len(self._points), 1
        while leaves > kernels.LEAF:
            leaves, nodes = (leaves + 1) // 2, 2 * nodes + 1
        self._box = np.empty((nodes, 2, 3))
        kernels.build_points(self._points, self._order, self._box)

    def nearest(self, places: ArrayLike, within: float = np.inf) -> tuple[Floats, Ints]:
        """How far the nearest point of each place (Q, 3) is, and its number (Q,): inf and N where none is nearer than
        `within`."""
        gap, index = self.nearest_few(places, 1, within)
        return gap[:, 0], index[:, 0]

    def nearest_few(self, places: ArrayLike, count: int, within: float = np.inf) -> tuple[Floats, Ints]:
        """The same of so many points, the nearest first: (Q, count) each."""
        places = _in_space(places)
        gap, index = np.empty((len(places), count)), np.empty((len(places), count), np.int64)
        tree = self._points, self._order, self._box
        run_ranges(
            lambda b, e: kernels.nearest_points(*tree, places, within, b, e, gap, index), len(places), grain=_GRAIN
        )
        return gap, index

    def around(self, places: ArrayLike, reach: ArrayLike) -> tuple[Ints, Ints]:
        """Points within a reach (Q,), or one for all, of places (Q, 3): how many each has (Q,), and their numbers, one
        place after the other."""
        return self._around(_in_space(places), reach, above=False)

    def pairs(self, within: float) -> Ints:
        """Pairs (P, 2) of points no farther apart, the lower number first, in their order."""
        count, found = self._around(self._points, within, above=True)
        return np.stack([np.repeat(np.arange(len(count)), count), found], axis=1)

    def _around(self, places: Floats, reach: ArrayLike, *, above: bool) -> tuple[Ints, Ints]:
        reach = np.ascontiguousarray(np.broadcast_to(np.asarray(reach, np.float64), len(places)))
        start, found = np.zeros(len(places) + 1, np.int64), np.zeros(0, np.int64)
        tree = self._points, self._order, self._box

        def look(fill: bool) -> None:
            run_ranges(
                lambda b, e: kernels.points_around(*tree, places, reach, above, b, e, start, fill, found),
                len(places),
                grain=_GRAIN,
            )

        look(False)
        count = start[1:].copy()
        start = np.cumsum(start)
        found = np.empty(int(start[-1]), np.int64)
        look(True)
        return count, found


def _in_space(points: ArrayLike) -> Floats:
    """Points as (N, 3), flat ones at height 0."""
    points = np.asarray(points, np.float64)
    if points.shape[1] == 2:
        points = np.concatenate([points, np.zeros((len(points), 1))], axis=1)
    return np.ascontiguousarray(points)
