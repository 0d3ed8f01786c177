"""Lids where the winding number of open faces says that material ends: for what no bridge is wide enough to close in.

The generalized winding number (Jacobson and others 2013) of a surface with holes goes over from one to nothing across
each hole. Its level one half, taken on a coarse lattice away from the faces, is a lid on the hole, as far as the faces
around say where it lies.
"""

import numpy as np

from bolvek.analyses.shells import material_tree
from bolvek.mesh import Mesh
from bolvek.spatial.isosurface import dense_surface
from bolvek.spatial.tree import Tree

_CELLS = 100  # along the longest side
_OWN, _AWAY = 0.9, 0.3
"""Cells: nearer to a face than the first the level is that face, unless an open edge is what is nearest; nearer than
the second in any case."""


def with_lids(soup: Mesh, *, anywhere: bool = False) -> tuple[Mesh, float]:
    """The faces with such lids, and how wide the gaps between lids and faces may be (mm); the mesh itself where there
    are none. anywhere: also where the level passes faces at a small distance that are no rim, as where sides disagree;
    what comes of that may stand off them by half a cell."""
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
    middle = found.middles
    off = soup.tree.nearest(middle)[0]
    away = off > _OWN * cell
    rim = np.flatnonzero(soup.topology.opposite < 0)
    if anywhere:
        away = off > _AWAY * cell
    elif len(rim):
        a, b = (soup.vertices[end] for end in soup.edge_ends(rim))
        corners = np.stack([a, b, b], axis=1).reshape(-1, 3)
        edges = Tree(corners, np.arange(len(corners), dtype=np.int32).reshape(-1, 3))
        away |= (off > _AWAY * cell) & (edges.nearest(middle)[0] <= off * (1 + 1e-9))
    return (soup.joined(found.picked(away)), 1.2 * cell) if away.any() else (soup, 0.0)
