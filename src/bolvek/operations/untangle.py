"""Moving vertices without letting faces cross: what crosses goes back to where it was."""

import numpy as np

from bolvek.analyses.soundness.around import crossing_pairs
from bolvek.mesh import Mesh

_ROUNDS = 8


def untangle(clean: Mesh, wanted: Mesh) -> Mesh:
    """`wanted` with the vertices of crossing faces put back to `clean`, until nothing crosses."""
    mesh = wanted
    pairs = mesh.tree.meeting_pairs()[0].astype(np.int64)
    for _ in range(_ROUNDS):
        if not len(pairs):
            return mesh
        around = np.zeros(len(mesh.vertices), bool)
        around[mesh.faces[pairs.ravel()].ravel()] = True
        ring = mesh.faces[around[mesh.faces].any(axis=1)].ravel()
        vertices = mesh.vertices.copy()
        vertices[ring] = clean.vertices[ring]
        mesh = clean.moved(vertices)
        # only what was put back can cross anything anew
        touched = np.zeros(len(mesh.vertices), bool)
        touched[ring] = True
        pairs = crossing_pairs(mesh, np.flatnonzero(touched[mesh.faces].any(axis=1)))
    return clean
