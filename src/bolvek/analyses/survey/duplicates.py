"""What lies on or almost on something else: twin faces and near-double vertices."""

import numpy as np

from bolvek.analyses.shells import faces_alike, open_pairs
from bolvek.analyses.survey.record import Near, Twins
from bolvek.analyses.zones import face_zones
from bolvek.arrays import Ints, Ints32
from bolvek.mesh import Mesh
from bolvek.mesh.topology import build_topology
from bolvek.spatial.groups import linked_groups


def find_twins(mesh: Mesh, part: Ints32 | None = None) -> tuple[Twins, Ints]:
    """Pairs of faces with the same three different corners, and the faces in them.

    Faces of two parts (F,) that run the opposite way round are two bodies laid against each other, not twins.
    """
    alike = faces_alike(mesh)
    faces, key, odd = alike.faces, alike.key, alike.odd
    if not len(faces):
        return Twins(), faces
    one, other = np.bincount(key, odd).astype(np.int64), np.bincount(key, ~odd).astype(np.int64)
    same = int((one * (one - 1) // 2 + other * (other - 1) // 2).sum())
    twin = (np.where(odd, one[key], other[key]) > 1) | (np.where(odd, other[key], one[key]) > 0)
    if part is not None:
        _, key = np.unique(np.stack([key, part[faces]], axis=1), axis=0, return_inverse=True)
        key = key.ravel()
        copies = np.where(odd, one[alike.key], other[alike.key]) > 1
        one, other = np.bincount(key, odd).astype(np.int64), np.bincount(key, ~odd).astype(np.int64)
        twin = copies | (np.where(odd, other[key], one[key]) > 0)
    faces = faces[twin]
    return Twins(same, int((one * other).sum()), face_zones(mesh, faces)), faces


def find_near(mesh: Mesh, radius: float) -> Near:
    """Vertices of open edges within `radius` mm of each other, where welding them would close edges."""
    pairs = open_pairs(mesh, radius)
    if not len(pairs):
        return Near(max(radius, 0.0))
    faces = linked_groups(len(mesh.vertices), pairs)[mesh.faces]
    # a face whose corners fall together is gone
    whole = (faces[:, 0] != faces[:, 1]) & (faces[:, 1] != faces[:, 2]) & (faces[:, 2] != faces[:, 0])
    after = build_topology(np.ascontiguousarray(faces[whole], np.int32), len(mesh.vertices))
    closes = mesh.topology.open_edges - after.open_edges
    return Near(radius, len(np.unique(pairs)), closes) if closes > 0 else Near(radius)
