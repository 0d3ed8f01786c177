"""Signed distance to a closed, consistently oriented surface."""

import numpy as np

from bolvek.arrays import Floats, Ints32
from bolvek.kernels.tree import signed as kernels
from bolvek.spatial.parallel import run_ranges
from bolvek.spatial.tree import Tree, curve_order


class SignedDistance:
    """Distance to a tree's surface, negative in its material.

    normals (F, 3): face normals of unit length; opposite (3F,): the half-edge across each half-edge.
    """

    def __init__(self, tree: Tree, normals: Floats, opposite: Ints32) -> None:
        self.tree, self.normals, self.opposite = tree, np.ascontiguousarray(normals), opposite
        self.corners = np.zeros((len(tree.vertices), 3))
        kernels.corner_normals(tree.vertices, tree.faces, self.normals, self.corners)

    def at(self, points: Floats, limit: float = np.inf, *, together: int = 0) -> Floats:
        """Signed distance (P,) at points (P, 3) in mm; nan farther from the surface than `limit`. together: so many
        follow each other that lie close together (1: each near the one before); 0: they are sorted first."""
        t = self.tree
        local = np.ascontiguousarray(np.asarray(points, np.float64).reshape(-1, 3) - t.origin)
        along = None if together else curve_order(local)
        local = local if along is None else local[along]
        found = np.empty(len(local))
        known = t.arrays, t.faces, self.opposite, self.normals, self.corners, local, limit
        if together > 1:
            groups = -(-len(local) // together)
            run_ranges(lambda b, e: kernels.signed_distances_together(*known, together, b, e, found), groups, grain=64)
        else:
            run_ranges(lambda b, e: kernels.signed_distances(*known, b, e, found), len(local), grain=512)
        t.check_reach(local, np.fmin(np.abs(found), limit))
        if along is None:
            return found
        out = np.empty_like(found)
        out[along] = found
        return out
