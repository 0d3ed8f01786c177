"""Lids where the winding number of open faces says that material ends: for what no bridge is wide enough to close in.

The generalized winding number (Jacobson and others 2013) of a surface with holes goes over from one to nothing across
each hole. Its level one half, taken on a coarse lattice away from the faces, is a lid on the hole, as far as the faces
around say where it lies.
"""

import numpy as np

from bolvek.analyses.shells import material_tree
from bolvek.mesh import Mesh
from bolvek.spatial.isosurface import dense_surface

_CELLS = 100  # along the longest side
_AWAY = 0.3  # cells: nearer to a face than this the level is the face itself


def with_lids(soup: Mesh) -> tuple[Mesh, float]:
    """The faces with such lids, and how wide the gaps between lids and faces may be (mm); the mesh itself where there
    are none."""
    longest = float(soup.size.max())
    cell = longest / _CELLS
    origin = soup.bounds[0] - 2 * cell
    counts = np.ceil(soup.size / cell).astype(int) + 5
    grid = np.stack(np.meshgrid(*(np.arange(n) for n in counts), indexing="ij"), axis=-1).reshape(-1, 3)
    value = 0.5 - material_tree(soup).winding(origin + grid * cell)
    level = dense_surface(value.reshape(tuple(counts)), origin, cell)
    found = Mesh(level.vertices, level.faces)
    if not len(found.faces):
        return soup, 0.0
    away = soup.tree.nearest(found.vertices[found.faces].mean(axis=1))[0] > _AWAY * cell
    return (soup.joined(found.picked(away)), 1.2 * cell) if away.any() else (soup, 0.0)
