"""Faces that lie hidden in material."""

import numpy as np

from bolvek.analyses.shells import Standing
from bolvek.arrays import Ints, Ints32
from bolvek.mesh import Mesh
from bolvek.mesh.topology import label_patches
from bolvek.spatial.tree import Tree


def find_hidden(mesh: Mesh, pairs: Ints32, found: Standing, touch: Ints) -> Ints:
    """Faces with a closed shell's material before them; pairs (P, 2) of faces meet.

    What lies against another part does not lie in it: touch has pairs of shells, as a S + b, that only touch.

    A face that crosses nothing shares the answer of its whole patch, so one winding number a patch is
    enough; crossing faces are asked one by one, at their middles.
    """
    topology, closed = mesh.topology, found.nested.closed
    if not closed.any() or (topology.shells == 1 and not len(pairs)):
        return np.zeros(0, np.int64)
    crossing = np.zeros(len(mesh.faces), bool)
    crossing[pairs.ravel()] = True
    patch, count = label_patches(topology, ~crossing)
    free = np.flatnonzero(~crossing)
    area = np.zeros(count)
    np.maximum.at(area, patch[free], mesh.face_areas[free])
    largest = free[mesh.face_areas[free] == area[patch[free]]]
    chosen = np.zeros(count, np.int64)
    chosen[patch[largest[::-1]]] = largest[::-1]
    asked = np.concatenate([chosen, np.flatnonzero(crossing)])
    # material is where the closed shells, made to agree and to face out, wind around a point
    wrong = found.sign < 0
    if wrong.any() or not closed.all():
        faces = np.where(wrong[:, None], mesh.faces[:, ::-1], mesh.faces)[closed[topology.shell]]
        tree = Tree(mesh.vertices, np.ascontiguousarray(faces))
    else:
        tree = mesh.tree
    length = np.sqrt(mesh.face_areas[asked])
    normal = mesh.area_vectors[asked] / np.maximum(mesh.face_areas[asked], 1e-300)[:, None]
    normal[wrong[asked]] *= -1
    step = np.minimum(1e-3 * length, 1e-4 * float(mesh.size.max()))
    before = mesh.vertices[mesh.faces[asked]].mean(axis=1) + step[:, None] * normal
    inside = tree.winding(before) > 0.5
    hidden = np.zeros(len(mesh.faces), bool)
    hidden[free] = inside[:count][patch[free]]
    hidden[asked[count:]] = inside[count:]
    if len(touch):
        key = np.sort(topology.shell[pairs].astype(np.int64), axis=1)
        against = np.isin(key[:, 0] * topology.shells + key[:, 1], touch)
        leans, goes_in = np.zeros(len(hidden), bool), np.zeros(len(hidden), bool)
        leans[pairs[against]] = True
        goes_in[pairs[~against]] = True
        hidden &= ~leans | goes_in
    return np.flatnonzero(hidden & ~topology.collapsed)
