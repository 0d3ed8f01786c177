"""How far one surface is from another: a bound on whole faces, not only on places of them.

The distance to one face is convex, so on a triangle it is largest at a corner: the least over a few faces near it of
the largest distance of its corners bounds the triangle. Where that says too little, so does the distance at its middle
and how far its corners lie from there. Where both do, the triangle is cut along an edge of the face that its middle is
nearest to, by the plane that halves the angle there; or in four, where it is large beside that face.
"""

from dataclasses import dataclass

import numpy as np

from bolvek.arrays import Floats
from bolvek.kernels.tree import apart as kernels
from bolvek.mesh import Mesh
from bolvek.spatial.parallel import run_ranges

_ALLOWED_SHARE, _SIZE_SHARE = 0.05, 1e-6
"""A bound below these shares of what is allowed, of the surface's extent, is sharp enough."""


@dataclass(frozen=True)
class Apart:
    """least, most (mm): the largest distance lies between; places (P, 3): where it may be more than allowed."""

    least: float
    most: float
    places: Floats


def farthest(mesh: Mesh, other: Mesh, allowed_mm: float) -> Apart:
    """How far a surface gets from another one at most, and where that may be more than allowed."""
    if not len(mesh.faces):
        return Apart(0.0, 0.0, np.zeros((0, 3)))
    tree = other.tree
    row = np.empty(len(other.faces), np.int32)
    row[tree.order] = np.arange(len(row), dtype=np.int32)
    off, near = tree.nearest(mesh.vertices)
    corners = np.ascontiguousarray((mesh.vertices - tree.origin)[mesh.faces].reshape(-1, 9))
    middles, _ = tree.nearest(mesh.middles)
    least = max(float(off.max()), float(middles.max()))
    enough = max(least, _ALLOWED_SHARE * allowed_mm, _SIZE_SHARE * float(mesh.size.max()))
    outward, at_corners = _edge_planes(other)[tree.order].reshape(-1, 3), row[near[mesh.faces]]
    out = np.zeros((len(mesh.faces), 5))
    run_ranges(
        lambda b, e: kernels.farthest(tree.arrays, outward, corners, at_corners, enough, b, e, out),
        len(corners),
        grain=256,
    )
    far = mesh.vertices[off > allowed_mm], out[out[:, 1] > allowed_mm, 2:] + tree.origin
    return Apart(max(least, float(out[:, 0].max())), max(least, float(out[:, 1].max())), np.concatenate(far))


def _edge_planes(mesh: Mesh) -> Floats:
    """For each face and edge (F, 3, 3) the unit normal, outward, of the plane that halves the angle between it and its
    neighbour there; at a border of the plane square to it."""
    half = np.arange(3 * len(mesh.faces))
    begin, end = (mesh.vertices[v] for v in mesh.edge_ends(half))
    across, normal = mesh.topology.opposite, mesh.unit_normals
    up = np.repeat(normal, 3, axis=0) + np.where((across >= 0)[:, None], normal[across // 3], 0.0)
    outward = np.cross(end - begin, up)
    outward /= np.maximum(np.linalg.norm(outward, axis=1), 1e-300)[:, None]
    return outward.reshape(-1, 3, 3)
