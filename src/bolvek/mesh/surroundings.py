"""The surroundings of a place: some faces of a sound mesh, as a mesh that answers for the whole.

What lies nearest to a point is so of the whole mesh as long as it lies no farther off than the box whose faces were
taken ends: nothing that was left out comes into that box. A question that needs more is not answered (`Farther`).
"""

import numpy as np

from bolvek.arrays import Floats, Ints, Ints32
from bolvek.mesh.mesh import Mesh
from bolvek.spatial.signed import SignedDistance
from bolvek.spatial.tree import Tree


class Farther(Exception):
    """The surroundings do not tell: the whole mesh must be asked."""


def surroundings(mesh: Mesh, low: Floats, high: Floats) -> tuple[Mesh, Ints]:
    """The faces of a sound mesh in the box low..high, with those that share a vertex with them; their numbers (N,).

    Signed distances, nearest faces and winding numbers of it are those of the whole mesh, or Farther is raised. Rays
    and searches with a reach see what is in the box: whoever asks them keeps within it.
    """
    touched = np.zeros(len(mesh.vertices), bool)
    touched[mesh.faces[in_box(mesh, low, high)].ravel()] = True
    a, b, c = mesh.faces.T
    number = np.flatnonzero(touched[a] | touched[b] | touched[c])
    part = mesh.picked(number)
    tree = _NearTree(part.vertices, part.faces, low, high)
    part = Mesh.with_known(part.vertices, part.faces, tree=tree)
    tree.distance = part.signed_distance
    return part, number


def in_box(mesh: Mesh, low: Floats, high: Floats) -> Ints:
    """Faces (N,) whose boxes meet the box low..high; without a tree."""
    near = np.arange(len(mesh.faces))
    for axis in range(3):
        along = np.ascontiguousarray(mesh.vertices[:, axis])
        for outside in (along < low[axis], along > high[axis]):
            a, b, c = mesh.faces[near].T
            near = near[~(outside[a] & outside[b] & outside[c])]
    return near


class _NearTree(Tree):
    """A tree over all faces that come into a box, and others."""

    distance: SignedDistance

    def __init__(self, vertices: Floats, faces: Ints32, low: Floats, high: Floats) -> None:
        super().__init__(vertices, faces)
        self._low, self._high = low - self.origin, high - self.origin

    def check_reach(self, points: Floats, gap: Floats) -> None:
        room = np.minimum(points - self._low, self._high - points).min(axis=1)
        if (gap > room).any():
            raise Farther

    def winding(self, points: Floats) -> Floats:
        # that of a sound surface: 1 in the material, else 0
        return np.asarray(self.distance.at(points) < 0, np.float64)
