"""Where the distance to a surface surely grows in one direction."""

import numpy as np

from bolvek.arrays import Bools, Floats
from bolvek.kernels.tree import climbs as kernels
from bolvek.spatial.parallel import run_ranges
from bolvek.spatial.signed import SignedDistance


class Slopes:
    """Of the distance to a closed, consistently oriented surface, on its outer side: see `kernels.tree.climbs`."""

    def __init__(self, distance: SignedDistance) -> None:
        self._tree = distance.tree
        nodes = len(self._tree.arrays.child)
        self._normal = np.ascontiguousarray(distance.normals[self._tree.order])
        self._axis, self._cosine = np.zeros((nodes, 3, 8), np.float32), np.empty((nodes, 8), np.float32)
        run_ranges(
            lambda b, e: kernels.normal_cones(self._tree.arrays, self._normal, b, e, self._axis, self._cosine),
            nodes,
            grain=64,
        )

    def surely_grow(self, middle: Floats, distance: Floats, radius: float) -> Bools:
        """Whether in balls of a radius around middles (P, 3), of which the signed distance (P,) is known, one direction
        leads away from all that may be nearest to any of the air. False proves nothing."""
        local = np.ascontiguousarray(middle - self._tree.origin)
        # nearest to a point of the ball is nothing farther from the middle than this
        reach = np.maximum(distance + 2 * radius, 0.0)
        grows = np.empty(len(local), bool)
        run_ranges(
            lambda b, e: kernels.where_it_grows(
                self._tree.arrays, self._normal, self._axis, self._cosine, local, reach, b, e, grows
            ),
            len(local),
            grain=256,
        )
        return grows
