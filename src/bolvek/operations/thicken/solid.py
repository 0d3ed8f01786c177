"""A thickened skin, and how thick it is."""

from dataclasses import dataclass

import numpy as np

from bolvek.analyses.thickness import SAMPLES_A_WALL, measure, sample_surface, shortest_ways
from bolvek.arrays import Bools, Floats, Ints
from bolvek.mesh import Mesh
from bolvek.mesh.topology import OPEN
from bolvek.settings.measures import wall_tolerance_mm
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
        # the first station must not lie beyond a back that is nearer than it
        rows = np.flatnonzero(before)
        hits = other.rays(samples.points[rows], way * normals[rows], near=1e-9 * reach, far=_STATIONS[0] * reach)
        depth[rows] = hits.distance[:, 0]
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


@dataclass(frozen=True)
class Thin:
    """Samples with a wall thinner than asked: points (N, 3), outward normals, walls (mm) and areas (mm2)."""

    points: Floats
    normals: Floats
    wall: Floats
    area: Floats

    @property
    def middles(self) -> Floats:
        """The middles of the wall (P, 3)."""
        return np.asarray(self.points - 0.5 * self.wall[:, None] * self.normals)

    def picked(self, rows: Bools) -> "Thin":
        """Some of the places."""
        return Thin(self.points[rows], self.normals[rows], self.wall[rows], self.area[rows])


def thin_places(mesh: Mesh, least: float) -> Thin:
    """Where the wall is thinner than asked, its sides square to each other."""
    spacing = least / SAMPLES_A_WALL
    samples = sample_surface(mesh, spacing)
    normals = mesh.normals_of(samples.face)
    ones = np.ones(len(mesh.faces))
    m = measure(mesh, samples.points, samples.face, ones, widest_ball_mm=1.25 * least, far_mm=1.25 * least)
    limit = least - wall_tolerance_mm(least)
    rows = np.flatnonzero(m.square & (m.wall < limit))
    ways = shortest_ways(mesh, limit, least, spacing)
    into = ways.direction
    # a way has two ends, and no area
    return Thin(
        np.concatenate([samples.points[rows], ways.start, ways.end]),
        np.concatenate([normals[rows], -into, into]),
        np.concatenate([m.wall[rows], ways.length, ways.length]),
        np.concatenate([samples.area[rows], np.zeros(2 * len(into))]),
    )
