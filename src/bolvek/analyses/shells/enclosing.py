"""Solids with holes told from skins: an open body encloses what is beneath its surface, whatever its rims look like.

The generalized winding number (Jacobson and others 2013) of an open surface is, beneath it, one less the share of all
directions that its openings take. So a place from which hardly a direction leads out lies in a solid that lacks a lid,
and where that is so nearly everywhere beneath a surface, nothing but the lid is missing.
"""

import numpy as np

from bolvek.analyses.shells.standing import standing
from bolvek.arrays import Bools
from bolvek.mesh import Mesh, once_a_mesh
from bolvek.mesh.topology import OPEN

ENCLOSED = 0.85
"""A place is enclosed where its winding number is at least this."""
NEARLY = 0.95
"""A body is a solid with a hole where so much of its surface has such places beneath it."""
_PLACES, _BENEATH = 400, 1e-3  # places asked a body; how far beneath its surface, of its longest side
_TURN = 0.7548776662466927  # of places spread evenly over a square, and its square (Roberts 2018)
_MOST_BODIES = 300


@once_a_mesh
def enclosing_shells(mesh: Mesh) -> Bools:
    """Shells (S,) that are open, alone or together with those that their openings hold to them, and enclose what is
    beneath them all the same."""
    topology = mesh.topology
    found = np.zeros(topology.shells, bool)
    if not topology.open_edges:
        return found
    group = standing(mesh).openings.group
    ragged = np.zeros(topology.shells, bool)
    ragged[group[topology.shell[np.flatnonzero(topology.opposite == OPEN) // 3]]] = True
    names = np.flatnonzero(ragged)
    if len(names) > _MOST_BODIES:
        return found
    for name in names.tolist():
        body = mesh.picked(group[topology.shell] == name)
        found[group == name] = _enclosed_share(body) >= NEARLY
    return found


def _enclosed_share(body: Mesh) -> float:
    """The share of a body's area that has an enclosed place beneath it, on whichever side."""
    total = float(body.area)
    if not total > 0:
        return 0.0
    at = (np.arange(_PLACES) + 0.5) * total / _PLACES
    face = np.minimum(np.searchsorted(np.cumsum(body.face_areas), at), len(body.faces) - 1)
    u, v = np.sqrt(1 - (np.arange(_PLACES) * _TURN) % 1), (np.arange(_PLACES) * _TURN**2) % 1
    a, b, c = body.vertices[body.faces[face]].transpose(1, 0, 2)
    place = a + (u * (1 - v))[:, None] * (b - a) + (u * v)[:, None] * (c - a)
    off = _BENEATH * float(body.size.max()) * body.normals_of(face)
    beneath = np.maximum(np.abs(body.tree.winding(place - off)), np.abs(body.tree.winding(place + off)))
    return float((beneath >= ENCLOSED).mean())
