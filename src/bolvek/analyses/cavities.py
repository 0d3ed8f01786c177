"""Cavities, drained or not, of any closed model: rooms a ball cannot roll into from outside.

The air around and inside the model is put on voxels (every voxel the surface touches counts as
wall, so no wall leaks). The outside is all air that a ball of the given diameter reaches from afar
without passing through a wall; what is left and is bounded mostly by wall is a cavity, and where it
meets the outside are its openings. So a drained cavity is told from a groove without knowing how
the model was made. Openings narrower than about two voxels cannot be seen, and the result says so.
"""

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from scipy import ndimage

from bolvek.mesh import Mesh
from bolvek.mesh.topology import OPEN
from bolvek.spatial.voxels import distance_to, surface_voxels

MOST_OPENNESS = 0.2
"""A room with more of its boundary open than this is a groove or a bowl, not a cavity."""
_MOST_VOXELS = 24_000_000
_THIRDS = np.stack(np.meshgrid(*(np.array([-1, 0, 1]) / 3,) * 3, indexing="ij"), -1).reshape(1, -1, 3)
_PROBES = (0.75, 1.25, 1.75, 2.25, 3.0, 4.0)


@dataclass(frozen=True)
class Opening:
    """Where a cavity meets the outside: centre and width (widest ball that passes, about)."""

    where_mm: tuple[float, float, float]
    width_mm: float


@dataclass(frozen=True)
class Cavity:
    """A room: its volume (without the voxels its walls touch), centre and openings.

    `drained` is whether it has an opening; `narrow` that it hangs together with the outside only
    through something narrower than can be seen.
    """

    volume_mm3: float
    where_mm: tuple[float, float, float]
    openings: tuple[Opening, ...]
    narrow: bool

    @property
    def drained(self) -> bool:
        """Whether liquid can leave."""
        return bool(self.openings)


@dataclass(frozen=True)
class Cavities:
    """All cavities, largest first; face (F,) int32 is the cavity each face looks into, -1 outside.

    spacing_mm is the voxel size, ball_mm the diameter of the ball.
    """

    found: tuple[Cavity, ...]
    face: NDArray[np.int32]
    spacing_mm: float
    ball_mm: float


def default_ball_mm(mesh: Mesh) -> float:
    """A tenth of the longest side, between 2 and 12 mm: wider than drains, narrower than bowls."""
    return float(np.clip(0.1 * mesh.size.max(), 2.0, 12.0))


def find_cavities(mesh: Mesh, *, ball_mm: float | None = None, wall_mm: float | None = None) -> Cavities:
    """Cavities of a closed, consistently oriented mesh. Voxels are at most 0.4 of `wall_mm`."""
    ball = ball_mm if ball_mm is not None else default_ball_mm(mesh)
    spacing = min(float(mesh.size.max()) / 200, ball / 6)
    if wall_mm is not None:
        spacing = min(spacing, 0.4 * wall_mm)
    room = mesh.size + 2 * ball
    spacing = max(spacing, float(np.prod(room) / _MOST_VOXELS) ** (1 / 3))
    pad = int(np.ceil(0.5 * ball / spacing)) + 3
    origin = mesh.bounds[0] - pad * spacing
    shape = tuple(int(n) + 2 * pad + 1 for n in np.ceil(mesh.size / spacing))
    surface = surface_voxels(mesh.corners, origin, spacing, shape) > 0  # type: ignore[arg-type]
    air = _air(mesh, surface, origin, spacing)
    radius = 0.5 * ball / spacing
    clearance = distance_to(~air)
    cores, _ = ndimage.label(clearance > radius)
    outside = (distance_to(cores == cores[0, 0, 0]) <= radius) & air
    outside |= _rim(outside, air)
    rooms, count = ndimage.label(air & ~outside)
    contact, open_sides = _boundaries(rooms, count, outside)
    volume = np.bincount(rooms.ravel(), minlength=count + 1)
    enclosed = open_sides <= MOST_OPENNESS * (contact + open_sides)
    tall = ndimage.maximum(clearance, rooms, np.arange(count + 1)) if count else np.zeros(1)
    is_cavity = enclosed & (volume >= 4) & (np.asarray(tall) >= 1.4)
    is_cavity[0] = False
    chosen = sorted(np.flatnonzero(is_cavity), key=lambda c: (-volume[c], c))
    number = np.full(count + 1, -1, np.int32)
    number[chosen] = np.arange(len(chosen))
    face = _faces(mesh, np.where(rooms > 0, number[rooms], np.where(air, -1, -2)), origin, spacing)
    outer_shells = np.unique(mesh.topology.shell[face < 0])
    boxes = ndimage.find_objects(rooms)
    found = []
    for n, c in enumerate(chosen):
        openings = _openings(mesh, rooms, int(c), boxes[c - 1], outside, origin, spacing)
        same = bool(np.isin(mesh.topology.shell[face == n], outer_shells).any())
        middle = np.argwhere(rooms[boxes[c - 1]] == c).mean(axis=0) + [s.start for s in boxes[c - 1]]
        found.append(
            Cavity(
                float(volume[c] * spacing**3), _place(origin + middle * spacing),
                tuple(openings), same and not openings,
            )
        )
    return Cavities(tuple(found), face, spacing, ball)


def _place(point: NDArray[np.float64]) -> tuple[float, float, float]:
    return float(point[0]), float(point[1]), float(point[2])


def _air(mesh: Mesh, surface: NDArray[np.bool_], origin: NDArray[np.float64], spacing: float) -> NDArray[np.bool_]:
    """Free voxels outside the material: one winding number per connected region."""
    regions, count = ndimage.label(~surface)
    _, first = np.unique(regions, return_index=True)
    points = origin + spacing * np.stack(np.unravel_index(first, surface.shape), axis=1)
    is_air = mesh.tree.winding(points) < 0.5
    labels = np.unique(regions)
    table = np.zeros(count + 1, bool)
    table[labels] = is_air
    table[0] = False
    return table[regions]


def _rim(outside: NDArray[np.bool_], air: NDArray[np.bool_]) -> NDArray[np.bool_]:
    """Air next to the outside that belongs to it: the ball's surface is ragged on voxels."""
    return ndimage.binary_dilation(outside, iterations=1) & air


def _boundaries(
    rooms: NDArray[np.int32], count: int, outside: NDArray[np.bool_]
) -> tuple[NDArray[np.int64], NDArray[np.int64]]:
    """Voxel sides of each room against wall and against the outside."""
    contact = np.zeros(count + 1, np.int64)
    open_sides = np.zeros(count + 1, np.int64)
    for axis in range(3):
        for step in (1, -1):
            here = np.moveaxis(rooms, axis, 0)[1:] if step == 1 else np.moveaxis(rooms, axis, 0)[:-1]
            there = np.moveaxis(rooms, axis, 0)[:-1] if step == 1 else np.moveaxis(rooms, axis, 0)[1:]
            free = np.moveaxis(outside, axis, 0)
            free = free[:-1] if step == 1 else free[1:]
            edge = (here > 0) & (there != here)
            open_sides += np.bincount(here[edge & free], minlength=count + 1)
            contact += np.bincount(here[edge & ~free], minlength=count + 1)
    return contact, open_sides


def _openings(
    mesh: Mesh,
    rooms: NDArray[np.int32],
    room: int,
    box: tuple[slice, ...],
    outside: NDArray[np.bool_],
    origin: NDArray[np.float64],
    spacing: float,
) -> list[Opening]:
    grown = tuple(slice(max(s.start - 1, 0), s.stop + 1) for s in box)
    here = rooms[grown] == room
    mouth = here & ndimage.binary_dilation(outside[grown])
    labels, count = ndimage.label(mouth, np.ones((3, 3, 3)))
    openings = []
    for n in range(1, count + 1):
        voxels = np.argwhere(labels == n) + [s.start for s in grown]
        points = ((voxels[:, None] + _THIRDS).reshape(-1, 3)) * spacing + origin
        distance, _ = mesh.tree.nearest(points)
        openings.append(Opening(_place(points[int(np.argmax(distance))]), float(2 * distance.max())))
    return sorted(openings, key=lambda o: o.where_mm[2])


def _faces(mesh: Mesh, label: NDArray[np.int32], origin: NDArray[np.float64], spacing: float) -> NDArray[np.int32]:
    """The cavity each face looks into: probe along its normal, then ask the neighbours."""
    normal = mesh.area_vectors / np.maximum(mesh.face_areas, 1e-300)[:, None]
    middle = mesh.corners.mean(axis=1)
    face = np.full(len(mesh.faces), -2, np.int32)
    open_faces = np.arange(len(mesh.faces))
    limit = np.array(label.shape) - 1
    for step in _PROBES:
        at = np.rint((middle[open_faces] + step * spacing * normal[open_faces] - origin) / spacing).astype(np.int64)
        at = np.clip(at, 0, limit)
        seen = label[at[:, 0], at[:, 1], at[:, 2]]
        face[open_faces] = seen
        open_faces = open_faces[seen == -2]
        if not len(open_faces):
            break
    twin = mesh.topology.twin.reshape(-1, 3)
    for _ in range(50):
        unknown = np.flatnonzero(face == -2)
        if not len(unknown):
            break
        across = twin[unknown]
        seen = np.where(across > OPEN, face[across // 3], -2)
        best = seen.max(axis=1)
        if (best == -2).all():
            break
        face[unknown] = best
    face[face == -2] = -1
    return face
