"""The cavity worth having: nowhere narrower than a room, and beside it no material thinner than the wall.

With d the distance to the surface, D = {d >= wall + r} holds the middles of balls as wide as the room (r is half of
it) that stay a wall away from the outside. The cavity is D grown by r + s and shrunk by s (s half the wall), within
{d >= wall}. So every point of the material beside it lies in a ball as wide as the wall that is all material: no
fin, thread or septum is thinner. Every step is a distance, so bricks of cells that cannot hold the surface are
never looked at.
"""

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from bolvek.arrays import Floats
from bolvek.mesh import Mesh
from bolvek.operations.untangle import untangle
from bolvek.spatial.isosurface import Surface, lipschitz_surface
from bolvek.spatial.points import PointTree
from bolvek.spatial.tree import Tree


@dataclass
class Room:
    """The distance-like field of a cavity: negative in it. `filled` are middles of balls as wide as the wall, `plugs`
    balls (x, y, z, radius), that stay material."""

    mesh: Mesh
    wall_mm: float
    grown: Mesh | None
    filled: Floats
    plugs: tuple[tuple[float, float, float, float], ...] = ()

    def value(self, level: float) -> Callable[[Floats], Floats]:
        """The field (P,) at points (P, 3), for a wall of `level` mm."""
        solid = self.mesh.signed_distance
        half = 0.5 * self.wall_mm

        def at(points: Floats) -> Floats:
            found = level + solid.at(points, together=1)
            if self.grown is not None:
                found = np.maximum(found, self.grown.signed_distance.at(points, together=1) + half)
            if len(self.filled):
                gap, _ = PointTree(self.filled).nearest(points)
                found = np.maximum(found, 1.05 * half - gap)
            for x, y, z, radius in self.plugs:
                found = np.maximum(found, radius - np.linalg.norm(points - (x, y, z), axis=1))
            return found

        return at


def find_room(
    mesh: Mesh,
    level: float,
    wall: float,
    room: float,
    cell: float,
    plugs: tuple[tuple[float, float, float, float], ...] = (),
) -> Room | None:
    """The cavity of a solid for a wall and a room (mm); None when no ball as wide as the room fits anywhere."""
    low, high = mesh.bounds
    none = np.zeros((0, 3))
    if not room > 0:
        return Room(mesh, wall, None, none, plugs)
    solid, radius, half = mesh.signed_distance, 0.5 * room, 0.5 * wall
    core = lipschitz_surface(lambda p: level + radius + solid.at(p, together=1), low, high, cell, thin_sheets=True)
    if not len(core.faces):
        return None
    middles = _on_level(core, mesh.tree, level + radius, cell)
    reach = radius + half
    pad = reach + 4 * cell
    low, high = middles.bounds[0] - pad, middles.bounds[1] + pad
    # round everywhere, it needs no fine cells
    coarse = min(2 * cell, 0.5 * reach)
    grown = lipschitz_surface(
        lambda p: middles.signed_distance.at(p, together=1) - reach, low, high, coarse, thin_sheets=True
    )
    return Room(mesh, wall, _on_level(grown, middles.tree, reach, coarse), none, plugs)


def _on_level(surface: Surface, tree: Tree, level: float, cell: float) -> Mesh:
    """A surface with its vertices put at a distance from a tree's, by one short Newton step each."""
    plain = Mesh(surface.vertices, surface.faces)
    # a surface that crossed itself would have no side to speak of
    return untangle(plain, plain.moved(surface.vertices + tree.step_to(surface.vertices, level, 0.15 * cell)))
