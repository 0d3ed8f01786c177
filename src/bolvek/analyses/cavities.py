"""Cavities, drained or not, of any closed model: rooms a ball cannot roll into from outside.

The air around and inside the model is put on voxels (every voxel the surface touches counts as
wall, so no wall leaks). The outside is all air that a ball of the given diameter reaches from afar
without passing through a wall; what is left and is bounded mostly by wall is a room, and where it
meets the outside are its openings. So a drained cavity is told from a groove without knowing how
the model was made. Openings narrower than about two voxels cannot be seen, and the result says so.

The mesh then tells what belongs together: without the faces around the openings, inner and outer
surface fall apart into patches, each of which is inner or outer as a whole, by the vote of what its
faces look into. Rooms along one inner patch are one cavity.
"""

from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from bolvek.mesh import Mesh
from bolvek.mesh.topology import OPEN, label_patches
from bolvek.spatial.voxels import distance_to, grown, label_regions, look_from_faces, region_boxes, surface_voxels

OUTSIDE, MOUTH = -1, -2
MIXED_SHARE = 0.15
"""A patch whose faces disagree by more than this share of its area was not cut apart."""
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
    """A cavity: its volume, the centre of its largest room, its openings.

    The volume is that of its free voxels and half of those its walls touch.

    narrow_necks: it hangs together with the outside, but only through something too narrow to be
    seen. alcoves and alcoves_mm3: further rooms of it behind necks too narrow to be seen.
    """

    volume_mm3: float
    where_mm: tuple[float, float, float]
    openings: tuple[Opening, ...]
    narrow_necks: bool
    alcoves: int
    alcoves_mm3: float


@dataclass(frozen=True)
class Cavities:
    """All cavities, largest first.

    face (F,) int32: the cavity each face bounds, OUTSIDE, or MOUTH for faces within an opening's
    reach. inside (F,): faces to be shown as inner surface, around openings by what each looks into.
    reach_mm: for each opening, in the order of the cavities, the radius around it. separated:
    whether inner and outer surface fell apart cleanly. spacing_mm is the voxel size, ball_mm the
    diameter of the ball.
    """

    found: tuple[Cavity, ...]
    face: NDArray[np.int32]
    inside: NDArray[np.bool_]
    reach_mm: tuple[float, ...]
    separated: bool
    spacing_mm: float
    ball_mm: float

    @property
    def openings(self) -> list[Opening]:
        """All openings, in the order of `reach_mm`."""
        return [o for c in self.found for o in c.openings]


def default_ball_mm(mesh: Mesh) -> float:
    """A tenth of the longest side, between 6 and 12 mm: wider than drains, narrower than most bowls."""
    return float(np.clip(0.1 * mesh.size.max(), 6.0, 12.0))


def find_cavities(mesh: Mesh, *, ball_mm: float | None = None, wall_mm: float | None = None) -> Cavities:
    """Cavities of a closed, consistently oriented mesh. Voxels are at most 0.4 of `wall_mm`."""
    ball = ball_mm if ball_mm is not None else default_ball_mm(mesh)
    spacing = min(float(mesh.size.max()) / 160, ball / 5)
    if wall_mm is not None:
        spacing = min(spacing, 0.4 * wall_mm)
    room = mesh.size + 2 * ball
    spacing = max(spacing, float(np.prod(room) / _MOST_VOXELS) ** (1 / 3))
    pad = int(np.ceil(0.5 * ball / spacing)) + 3
    origin = mesh.bounds[0] - pad * spacing
    shape = tuple(int(n) + 2 * pad + 1 for n in np.ceil(mesh.size / spacing))
    surface = surface_voxels(mesh.vertices, mesh.faces, origin, spacing, shape) > 0  # type: ignore[arg-type]
    air = _air(mesh, surface, origin, spacing)
    radius = 0.5 * ball / spacing
    clearance = distance_to(~air)
    cores, _ = label_regions(clearance > radius)
    outside = (distance_to(cores == cores[0, 0, 0]) <= radius) & air
    outside |= _rim(outside, air)
    rooms, count = label_regions(air & ~outside)
    contact, open_sides = _boundaries(rooms, count, outside)
    volume = np.bincount(rooms.ravel(), minlength=count + 1)
    enclosed = open_sides <= MOST_OPENNESS * (contact + open_sides)
    is_cavity = enclosed & (volume >= 4)
    is_cavity[0] = False
    boxes = region_boxes(rooms, count)
    chosen = sorted(
        (c for c in np.flatnonzero(is_cavity) if _tallest(clearance, rooms, int(c), boxes[c - 1]) >= 1.4),
        key=lambda c: (-volume[c], c),
    )
    number = np.full(count + 1, -1, np.int32)
    number[chosen] = np.arange(len(chosen))
    looks_into = _faces(
        mesh, np.where(rooms > 0, number[rooms], np.where(air, OUTSIDE, -2)).astype(np.int32), origin, spacing
    )
    found = []
    for c in chosen:
        box = boxes[c - 1]
        middle = np.argwhere(rooms[box] == c).mean(axis=0) + [s.start for s in box]
        openings = _openings(mesh, rooms, int(c), box, outside, origin, spacing)
        found.append(_Room(float(volume[c] * spacing**3), _place(origin + middle * spacing), openings))
    cavities = _by_patches(mesh, found, looks_into, wall_mm, spacing, ball)
    touched = [
        int(surface_voxels(mesh.vertices, mesh.faces[cavities.face == n], origin, spacing, shape).sum())  # type: ignore[arg-type]
        for n in range(len(cavities.found))
    ]
    return replace(
        cavities,
        found=tuple(
            replace(c, volume_mm3=c.volume_mm3 + 0.5 * n * spacing**3)
            for c, n in zip(cavities.found, touched, strict=True)
        ),
    )


@dataclass(frozen=True)
class _Room:
    volume_mm3: float
    where_mm: tuple[float, float, float]
    openings: list[Opening]


def _by_patches(
    mesh: Mesh, rooms: list[_Room], looks_into: NDArray[np.int32], wall_mm: float | None, spacing: float, ball: float
) -> Cavities:
    """Cut the surface around the openings, let each patch vote, and gather rooms by inner patch."""
    inner, outer = looks_into >= 0, looks_into < 0
    if not rooms or not inner.any() or not outer.any():
        nothing = np.full(len(mesh.faces), OUTSIDE, np.int32)
        return Cavities((), nothing, nothing >= 0, (), True, spacing, ball)
    openings = [o for room in rooms for o in room.openings]
    if wall_mm is None:
        some = np.flatnonzero(inner)[:: max(1, int(inner.sum()) // 2000)]
        wall_mm = float(np.median(mesh.tree.only(outer).nearest(mesh.vertices[mesh.faces[some]].mean(axis=1))[0]))
    for widen in (1.0, 1.5, 2.2, 3.2):
        reach = [widen * (0.75 * o.width_mm + 1.5 * wall_mm) for o in openings]
        mouth = np.zeros(len(mesh.faces), bool)
        for opening, radius in zip(openings, reach, strict=True):
            gap = np.linalg.norm(mesh.vertices - opening.where_mm, axis=1)
            mouth |= (gap < radius)[mesh.faces].any(axis=1)
        rest = np.flatnonzero(~mouth)
        patch, patches = label_patches(mesh.topology, ~mouth)
        patch = patch[rest]
        area = mesh.face_areas[rest]
        votes = np.zeros((patches, len(rooms) + 1))
        np.add.at(votes, (patch, looks_into[rest]), area)  # column -1 holds the outside
        inside_share = votes[:, :-1].sum(axis=1) / np.maximum(votes.sum(axis=1), 1e-300)
        separated = not ((inside_share > MIXED_SHARE) & (inside_share < 1 - MIXED_SHARE)).any()
        if separated or not openings:
            break
    is_inner = inside_share > 0.5
    owner = np.where(is_inner, np.arange(patches), OUTSIDE)
    # patches along one room, and rooms along one patch, are one cavity
    main: dict[int, int] = {}
    for p in np.flatnonzero(is_inner):
        for room in np.flatnonzero(votes[p, :-1] > 0.02 * votes[p, :-1].sum()):
            owner[p] = min(owner[p], main.setdefault(int(room), int(owner[p])))
            main[int(room)] = int(owner[p])
    face = np.full(len(mesh.faces), MOUTH, np.int32)
    outer_shells = set(np.unique(mesh.topology.shell[rest[~is_inner[patch]]]).tolist())
    groups: dict[int, list[int]] = {}
    for n, _room in enumerate(rooms):
        best = int(np.argmax(np.where(is_inner, votes[:, n], -1.0))) if is_inner.any() else -1
        # a room along no inner patch is told all the same: its mouth was not found
        told = best >= 0 and votes[best, n] > 0
        groups.setdefault(int(owner[best]) if told else -2 - n, []).append(n)
    cavities: list[Cavity] = []
    number: dict[int, int] = {}
    for group, members in sorted(groups.items(), key=lambda g: min(g[1])):
        number[group] = len(cavities)
        mine = [rooms[n] for n in members]
        ways = tuple(o for room in mine for o in room.openings)
        if group >= 0:
            shells = set(np.unique(mesh.topology.shell[rest[owner[patch] == group]]).tolist())
        else:
            shells = set(np.unique(mesh.topology.shell[looks_into == members[0]]).tolist())
        alcoves = [r.volume_mm3 for r in mine[1:] if not r.openings] if ways else [r.volume_mm3 for r in mine[1:]]
        cavities.append(
            Cavity(
                sum(r.volume_mm3 for r in mine),
                mine[0].where_mm,
                ways,
                not ways and bool(shells & outer_shells),
                len(alcoves),
                sum(alcoves),
            )
        )
    table = np.array([number.get(int(o), OUTSIDE) for o in owner], np.int32)
    face[rest] = table[patch]
    # reach in the order of the cavities' openings
    radius_of = {id(o): r for o, r in zip(openings, reach, strict=True)}
    return Cavities(
        tuple(cavities),
        face,
        np.where(face == MOUTH, looks_into >= 0, face >= 0),
        tuple(radius_of[id(o)] for c in cavities for o in c.openings),
        separated,
        spacing,
        ball,
    )


def _place(point: NDArray[np.float64]) -> tuple[float, float, float]:
    return float(point[0]), float(point[1]), float(point[2])


def _air(mesh: Mesh, surface: NDArray[np.bool_], origin: NDArray[np.float64], spacing: float) -> NDArray[np.bool_]:
    """Free voxels outside the material: one winding number per connected region."""
    regions, count = label_regions(~surface)
    places = []
    for label, box in enumerate(region_boxes(regions, count), 1):
        inside = regions[box] == label
        first = np.unravel_index(int(np.argmax(inside)), inside.shape)
        places.append([s.start + i for s, i in zip(box, first, strict=True)])
    table = np.zeros(count + 1, bool)
    table[1:] = mesh.tree.winding(origin + spacing * np.array(places, np.float64).reshape(-1, 3)) < 0.5
    return table[regions]


def _tallest(clearance: NDArray[np.float32], rooms: NDArray[np.int32], room: int, box: tuple[slice, ...]) -> float:
    return float(clearance[box][rooms[box] == room].max())


def _rim(outside: NDArray[np.bool_], air: NDArray[np.bool_]) -> NDArray[np.bool_]:
    """Air next to the outside that belongs to it: the ball's surface is ragged on voxels."""
    return grown(outside) & air


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
    around = tuple(slice(max(s.start - 1, 0), s.stop + 1) for s in box)
    here = rooms[around] == room
    mouth = here & grown(outside[around])
    labels, count = label_regions(mouth, corners=True)
    openings = []
    for n in range(1, count + 1):
        voxels = np.argwhere(labels == n) + [s.start for s in around]
        points = ((voxels[:, None] + _THIRDS).reshape(-1, 3)) * spacing + origin
        distance, _ = mesh.tree.nearest(points)
        openings.append(Opening(_place(points[int(np.argmax(distance))]), float(2 * distance.max())))
    # slivers of a mouth's ragged rim are not openings of their own
    kept: list[Opening] = []
    for opening in sorted(openings, key=lambda o: -o.width_mm):
        gaps = [
            np.linalg.norm(np.subtract(opening.where_mm, k.where_mm)) - 0.5 * (opening.width_mm + k.width_mm)
            for k in kept
        ]
        if all(gap > 2 * spacing for gap in gaps):
            kept.append(opening)
    return sorted(kept, key=lambda o: o.where_mm[2])


def _faces(mesh: Mesh, label: NDArray[np.int32], origin: NDArray[np.float64], spacing: float) -> NDArray[np.int32]:
    """The cavity each face looks into: probe along its normal, then ask the neighbours."""
    face = look_from_faces(mesh.vertices, mesh.faces, mesh.area_vectors, _PROBES, label, -2, origin, spacing)
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
