"""Moving vertices without letting faces cross: what crosses goes back to where it was."""

import numpy as np

from bolvek.mesh import Mesh

_ROUNDS = 8


def untangle(clean: Mesh, wanted: Mesh) -> Mesh:
    """`wanted` with the vertices of crossing faces put back to `clean`, until nothing crosses."""
    mesh = wanted
    for _ in range(_ROUNDS):
        pairs, count = mesh.tree.meeting_pairs()
        if not count:
            return mesh
        around = np.zeros(len(mesh.vertices), bool)
        around[mesh.faces[pairs.ravel()].ravel()] = True
        ring = mesh.faces[around[mesh.faces].any(axis=1)].ravel()
        vertices = mesh.vertices.copy()
        vertices[ring] = clean.vertices[ring]
        mesh = clean.moved(vertices)
    return clean
