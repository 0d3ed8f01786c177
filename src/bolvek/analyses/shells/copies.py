"""Faces that stand there more than once: they count once for every measure."""

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from bolvek.arrays import Bools, Ints, Ints32
from bolvek.kernels.surface import defects as kernels
from bolvek.mesh import Mesh, once_a_mesh
from bolvek.mesh.topology import OPEN, build_topology
from bolvek.spatial.parallel import run_ranges


@dataclass(frozen=True)
class Alike:
    """Faces (N,) that share their three corners with another: key (N,) numbers the corners, odd (N,) the way round."""

    faces: Ints
    key: Ints
    odd: Bools


@once_a_mesh
def faces_alike(mesh: Mesh) -> Alike:
    """Faces with the same three different corners as another one, whichever way round."""
    mask = np.zeros(len(mesh.faces), bool)
    run_ranges(lambda b, e: kernels.double_candidates(mesh.faces, mesh.topology.opposite, b, e, mask), len(mask))
    faces = np.flatnonzero(mask)
    a, b, c = mesh.faces[faces].T
    faces = faces[(a != b) & (b != c) & (c != a)]
    if not len(faces):
        return Alike(faces, faces, np.zeros(0, bool))
    corners = mesh.faces[faces]
    order = np.argsort(corners, axis=1)
    # an even permutation sorts the corners of one way round, an odd one those of the other
    odd = (order[:, 1] - order[:, 0]) % 3 == 2
    _, key, size = np.unique(np.sort(corners, axis=1), axis=0, return_inverse=True, return_counts=True)
    several = size[key.ravel()] > 1
    return Alike(faces[several], key.ravel()[several], odd[several])


def counted_once(mesh: Mesh) -> tuple[Mesh, Ints | None]:
    """The mesh without copies of faces that run the same way round, and the faces kept (None: all, the mesh itself).

    A face and its copy bound the same material: volume, winding, thickness and support know it once.
    """
    once = _without_copies(mesh)
    return (mesh, None) if once is None else once


@once_a_mesh
def _without_copies(mesh: Mesh) -> tuple[Mesh, Ints] | None:
    """The mesh without copies and the faces kept; None where there are none."""
    alike = faces_alike(mesh)
    _, first = np.unique(2 * alike.key + alike.odd, return_index=True)
    copies = np.delete(alike.faces, first)
    if not len(copies):
        return None
    keep = np.delete(np.arange(len(mesh.faces)), copies)
    return Mesh(mesh.vertices, mesh.faces[keep]), keep


def for_all_faces(values: NDArray, keep: Ints | None, mesh: Mesh) -> NDArray:  # type: ignore[type-arg]
    """What was found for the faces kept (K,), for all faces (F,) of the mesh: a copy has what its first has."""
    if keep is None:
        return values
    first = np.arange(len(mesh.faces))
    alike = faces_alike(mesh)
    way = 2 * alike.key + alike.odd
    _, start, at = np.unique(way, return_index=True, return_inverse=True)
    first[alike.faces] = alike.faces[start][at.ravel()]
    number = np.zeros(len(mesh.faces), np.int64)
    number[keep] = np.arange(len(keep))
    return values[number[first]]


def part_by_part(mesh: Mesh, part: Ints32) -> Mesh:
    """The mesh with its parts (F,) no longer welded to each other where each is closed by itself.

    Parts that touch exactly share vertices once equal points are one; each is a body of its own all the same.
    Parts that close only together (the painted regions of one surface) stay as they are.
    """
    corner = mesh.faces.astype(np.int64) * (int(part.max(initial=0)) + 1) + part[:, None]
    pairs, at = np.unique(corner, return_inverse=True)
    vertex = pairs // (int(part.max(initial=0)) + 1)
    if len(np.unique(vertex)) == len(vertex):
        return mesh
    apart = build_topology(np.ascontiguousarray(at.reshape(-1, 3), np.int32), len(pairs))
    ragged = np.zeros(int(part.max()) + 1, bool)
    ragged[part[np.flatnonzero(apart.opposite == OPEN) // 3]] = True
    joined = np.where(ragged[part], ragged.size, part)
    corner = mesh.faces.astype(np.int64) * (ragged.size + 1) + joined[:, None]
    pairs, at = np.unique(corner, return_inverse=True)
    return Mesh(mesh.vertices[pairs // (ragged.size + 1)], at.reshape(-1, 3))
