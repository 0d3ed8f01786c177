"""What lies on or almost on something else: twin faces and near-double vertices."""

import numpy as np

from bolvek.analyses.survey_record import Faces, Near, Twins
from bolvek.analyses.zones import face_zones, gather
from bolvek.kernels import inspect as kernels
from bolvek.mesh import Mesh
from bolvek.mesh.topology import build_topology
from bolvek.spatial.parallel import run_ranges


def find_twins(mesh: Mesh) -> tuple[Twins, Faces]:
    """Pairs of faces with the same three different corners, and the faces in them."""
    mask = np.zeros(len(mesh.faces), bool)
    run_ranges(lambda b, e: kernels.twin_candidates(mesh.faces, mesh.topology.twin, b, e, mask), len(mask))
    a, b, c = mesh.faces.T
    faces = np.flatnonzero(mask & (a != b) & (b != c) & (c != a))
    if not len(faces):
        return Twins(), faces
    corners = mesh.faces[faces]
    order = np.argsort(corners, axis=1)
    # an even permutation sorts the corners of one way round, an odd one those of the other
    odd = (order[:, 1] - order[:, 0]) % 3 == 2
    _, key, size = np.unique(np.sort(corners, axis=1), axis=0, return_inverse=True, return_counts=True)
    key = key.ravel()
    several = size[key] > 1
    faces, odd, key = faces[several], odd[several], key[several]
    if not len(faces):
        return Twins(), faces
    one = np.bincount(key, odd).astype(np.int64)
    other = np.bincount(key, ~odd).astype(np.int64)
    same = int((one * (one - 1) // 2 + other * (other - 1) // 2).sum())
    return Twins(same, int((one * other).sum()), face_zones(mesh, faces)), faces


def find_near(mesh: Mesh, radius: float) -> Near:
    """Vertices within `radius` mm of one they share no edge with, and what welding them would close."""
    points = mesh.vertices
    if not radius > 0 or len(points) < 2:
        return Near(max(radius, 0.0))
    table = np.full(1 << max(4, int(2 * len(points) - 1).bit_length()), -1, np.int32)
    room = np.empty((4 * len(points) + 16, 2), np.int32)
    found = room[: kernels.near_pairs(points - mesh.bounds[0], radius, table, np.empty(len(points), np.int32), room)]
    if not len(found):
        return Near(radius)
    pairs = np.unique(np.sort(found, axis=1), axis=0)
    code = pairs[:, 0] * np.int64(len(points)) + pairs[:, 1]
    ends = np.sort(np.stack([mesh.faces, np.roll(mesh.faces, -1, axis=1)], axis=2).reshape(-1, 2), axis=1)
    involved = np.zeros(len(points), bool)
    involved[pairs.ravel()] = True
    ends = ends[involved[ends[:, 0]] & involved[ends[:, 1]]]
    apart = pairs[~np.isin(code, ends[:, 0] * np.int64(len(points)) + ends[:, 1])]
    closes = 0
    if len(apart) and mesh.topology.open_edges:
        welded = gather(len(points), apart)
        faces = welded[mesh.faces]
        # a face whose corners fall together is gone
        whole = (faces[:, 0] != faces[:, 1]) & (faces[:, 1] != faces[:, 2]) & (faces[:, 2] != faces[:, 0])
        after = build_topology(np.ascontiguousarray(faces[whole], np.int32), len(points))
        closes = max(0, mesh.topology.open_edges - after.open_edges)
    return Near(radius, len(np.unique(apart)), closes)
