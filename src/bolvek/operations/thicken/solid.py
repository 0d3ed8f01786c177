"""A thickened skin, and how thick it is."""

from dataclasses import dataclass

import numpy as np

from bolvek.analyses.thickness import sample_surface
from bolvek.arrays import Bools, Floats, Ints
from bolvek.mesh import Mesh
from bolvek.mesh.topology import OPEN
from bolvek.spatial.tree import Tree

_SPACING = 0.25  # thicknesses between samples
_STATIONS = (0.125, 0.25, 0.5)  # thicknesses below the skin from which the other side is looked for


@dataclass(frozen=True)
class Solid:
    """A thickened skin: its mesh; keeps (F,): the skin's face each face is, or -1; rim (F,): faces of the strip."""

    mesh: Mesh
    keeps: Ints
    rim: Bools

    @property
    def made(self) -> Bools:
        """Faces (F,) of the side that was made."""
        return (self.keeps < 0) & ~self.rim


@dataclass(frozen=True)
class Depth:
    """How thick a skin is: at points (Q, 3) of it, on faces (Q,), thickness (Q,) mm, for an area (Q,) each."""

    points: Floats
    face: Ints
    depth: Floats
    area: Floats

    def share_above(self, limit: float) -> float:
        """The share of the area that is at least so thick."""
        return float(self.area[self.depth >= limit].sum() / max(float(self.area.sum()), 1e-300))

    def least(self) -> float:
        """The least thickness (mm)."""
        return float(self.depth.min(initial=np.inf))


def depth_of(skin: Mesh, solid: Solid, thickness: float, side: int) -> Depth:
    """From samples of the skin to the nearest place of the side that was made: -1 behind the skin, 1 before it, 0 both
    (the two added). Seen from stations below the skin, so that what lies before it is not taken for its back."""
    samples = sample_surface(skin, _SPACING * thickness)
    normals = skin.normals_of(samples.face)
    other = Tree(solid.mesh.vertices, solid.mesh.faces[solid.made], skin.tree.origin)
    found = np.zeros(len(samples.points))
    for way in (side,) if side else (-1, 1):
        reach = thickness if side else 0.5 * thickness
        near, face = other.nearest(samples.points)
        away = other.closest_points(samples.points, face) - samples.points
        before = way * np.einsum("ij,ij->i", away, normals) < 0.1 * near
        depth = np.where(before, np.inf, near)
        for station in _STATIONS:
            off = station * reach
            seen = off + other.nearest(samples.points + way * off * normals)[0]
            # a station counts as long as it is known to lie in the material
            depth = np.where(np.isinf(depth), seen, np.where(depth >= off, np.maximum(depth, seen), depth))
        found += depth
    return Depth(samples.points, samples.face, found, samples.area)


def rim_tree(skin: Mesh) -> Tree:
    """The tree over the open edges of a skin."""
    a, b = skin.edge_ends(np.flatnonzero(skin.topology.opposite == OPEN))
    return Tree(skin.vertices, np.stack([a, b, b], axis=1).astype(np.int32), skin.tree.origin)
