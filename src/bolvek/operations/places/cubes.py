"""Small cubes around places: a body without crossings that holds them, whatever shape the places have.

The lattice of the cubes is turned by an odd angle, so that none of its planes lies on a face of what people model.
"""

from dataclasses import dataclass

import numpy as np

from bolvek.analyses.soundness import split_vertices
from bolvek.arrays import Bools, Floats, Ints
from bolvek.mesh import Mesh
from bolvek.mesh.topology import CROWDED
from bolvek.spatial.groups import linked_groups

_AROUND = np.stack(np.meshgrid(*(np.arange(-1, 2),) * 3, indexing="ij"), axis=-1).reshape(-1, 3)
_CORNERS = np.array([[k & 1, k >> 1 & 1, k >> 2 & 1] for k in range(8)])
_SIDES = (
    ((-1, 0, 0), (0, 4, 6, 2)),
    ((1, 0, 0), (1, 3, 7, 5)),
    ((0, -1, 0), (0, 1, 5, 4)),
    ((0, 1, 0), (2, 6, 7, 3)),
    ((0, 0, -1), (0, 2, 3, 1)),
    ((0, 0, 1), (4, 5, 7, 6)),
)
"""Neighbours of a cube, and the corners of the side towards each, seen from there counter-clockwise."""
_BITS = 20  # of a coordinate in a cube's name
_TURNS = ((0.37, 0.61, 0.23), (0.53, 0.19, 0.71), (0.83, 0.47, 0.41))  # radians, a frame a try


@dataclass(frozen=True)
class Cubes:
    """Cubes of one lattice. names (C,) int64, sorted; side_mm; frame (3, 3): rows are its axes; origin (3,) mm."""

    names: Ints
    side_mm: float
    frame: Floats
    origin: Floats

    @classmethod
    def around(cls, points: Floats, side_mm: float, origin: Floats, turn: int = 0) -> "Cubes":
        """The cubes in which points (N, 3) lie, and those beside them. turn: another frame for another try."""
        frame = _frame(_TURNS[turn % len(_TURNS)])
        empty = cls(np.zeros(0, np.int64), side_mm, frame, np.asarray(origin, np.float64))
        return cls(np.unique(empty._named(points)), side_mm, frame, empty.origin).wider()

    def _named(self, points: Floats) -> Ints:
        return _name(np.floor((points - self.origin) @ self.frame.T / self.side_mm).astype(np.int64))

    def hold(self, points: Floats) -> Bools:
        """Which points (N, 3) lie in a cube."""
        return np.isin(self._named(points), self.names)

    def wider(self) -> "Cubes":
        """With all cubes that touch these."""
        near = (_cells(self.names)[:, None] + _AROUND).reshape(-1, 3)
        return Cubes(np.unique(_name(near)), self.side_mm, self.frame, self.origin)

    def body(self) -> tuple["Cubes", Mesh]:
        """Their surface, sound and facing out; with more cubes where some touch along an edge or at a corner only."""
        found = self
        while True:
            mesh, corner = found._surface()
            crowded = mesh.edge_ends(np.flatnonzero(mesh.topology.opposite == CROWDED))
            pinched = np.unique(np.concatenate([*crowded, split_vertices(mesh)]))
            if not len(pinched):
                return found, mesh
            more = (corner[pinched][:, None] - _CORNERS).reshape(-1, 3)
            found = Cubes(np.union1d(found.names, _name(more)), self.side_mm, self.frame, self.origin)

    def _surface(self) -> tuple[Mesh, Ints]:
        """The sides that have no cube beyond, in triangles; and the lattice point (V, 3) of each vertex."""
        cells = _cells(self.names)
        quads = []
        for way, side in _SIDES:
            shown = cells[~np.isin(_name(cells + np.array(way)), self.names)]
            quads.append(shown[:, None] + _CORNERS[list(side)])
        corners = np.concatenate(quads)
        names, index = np.unique(_name(corners.reshape(-1, 3)), return_inverse=True)
        a, b, c, d = index.reshape(-1, 4).T
        faces = np.concatenate([np.stack([a, b, c], axis=1), np.stack([a, c, d], axis=1)]).astype(np.int32)
        lattice = _cells(names)
        return Mesh(self.origin + self.side_mm * lattice @ self.frame, faces), lattice

    def groups(self) -> Ints:
        """The group (C,) of cubes, joined by sides, edges and corners, that each belongs to."""
        near = _name((_cells(self.names)[:, None] + _AROUND).reshape(-1, 3))
        at = np.minimum(np.searchsorted(self.names, near), len(self.names) - 1)
        known = self.names[at] == near
        own = np.repeat(np.arange(len(self.names)), len(_AROUND))
        return linked_groups(len(self.names), np.stack([own[known], at[known]], axis=1)).astype(np.int64)

    def group_of(self, points: Floats) -> Ints:
        """The group (N,) of the cube in which each point lies; -1 for none."""
        named = self._named(points)
        at = np.minimum(np.searchsorted(self.names, named), len(self.names) - 1)
        return np.where(self.names[at] == named, self.groups()[at], -1)


def _name(cells: Ints) -> Ints:
    half = 1 << (_BITS - 1)
    x, y, z = (cells[:, k].astype(np.int64) + half for k in range(3))
    return (x << 2 * _BITS) | (y << _BITS) | z


def _cells(names: Ints) -> Ints:
    mask, half = (1 << _BITS) - 1, 1 << (_BITS - 1)
    return np.stack([names >> 2 * _BITS, names >> _BITS & mask, names & mask], axis=1) - half


def _frame(turn: tuple[float, float, float]) -> Floats:
    found = np.eye(3)
    for axis, angle in enumerate(turn):
        i, j = (axis + 1) % 3, (axis + 2) % 3
        step = np.eye(3)
        step[[i, i, j, j], [i, j, i, j]] = np.cos(angle), -np.sin(angle), np.sin(angle), np.cos(angle)
        found = found @ step
    return found
