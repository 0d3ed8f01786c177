"""Rooms in a closed model, drained or not: where a ball cannot roll in from outside.

The air around and inside each part is put on voxels (every voxel the surface touches counts as wall, so no wall
leaks). The outside is all air that a ball of the given diameter reaches from afar without passing through a
wall; what is left and is bounded mostly by wall is a room, and where it meets the outside are its openings. So a
drained cavity is told from a groove without knowing how the model was made. Openings narrower than about two
voxels cannot be seen.

Nothing is decided here: what closes a void, how wide its ways out are and how thick its wall is, is measured
elsewhere (`necks`, `proof`). This finds the rooms to speak of, and which places of the surface look into them.
"""

from collections.abc import Sequence
from dataclasses import dataclass, field, replace

import numpy as np
from numpy.typing import NDArray

from bolvek.analyses.shells import Shells, nest_exactly
from bolvek.arrays import Bools, Floats, Floats32, Ints, Ints32, extent
from bolvek.kernels.grid.voxels import count_sides
from bolvek.mesh import Mesh
from bolvek.spatial.groups import linked_groups
from bolvek.spatial.tree import Tree
from bolvek.spatial.voxels import distance_to, grown, label_regions, look_along, region_boxes, surface_voxels

OUTSIDE, WALL = -1, -2
MOST_OPENNESS = 0.2
"""A room with more of its boundary open than this is a groove or a bowl, not a cavity."""
_SMALLER, _LEAST_RADIUS = 0.7, 1.5  # balls that tell a groove from what is behind it: each time so much; voxels
BORE_SHARE = 0.9
"""A room whose mouth is at least this share as wide as its widest place within is a bore or a groove."""
_MOST_ASKED = 2000
POCKET_SHARE = 0.01
"""A room smaller than this share of the largest, or a tenth of it of its part's material, is a pocket of the skin."""
_MOST_VOXELS = 24_000_000
_THIRDS = np.stack(np.meshgrid(*(np.array([-1, 0, 1]) / 3,) * 3, indexing="ij"), -1).reshape(1, -1, 3)
_PROBES = (0.75, 1.25, 1.75, 2.25, 3.0, 4.0)


@dataclass(frozen=True)
class WayOut:
    """Where a cavity meets the outside: centre and width (widest ball that passes, about)."""

    where_mm: tuple[float, float, float]
    width_mm: float


@dataclass(frozen=True)
class Cavity:
    """A room: its volume, its middle, its openings; closed: no way out at all; pocket: a small one of the skin; bore:
    as wide at a mouth as it is within, like a hole for a screw: it holds nothing.

    The volume is that of its free voxels and of those its walls touch, so much as the distance of the wall from their
    middle leaves of them; exact for a closed one.
    """

    volume_mm3: float
    where_mm: tuple[float, float, float]
    openings: tuple[WayOut, ...]
    closed: bool = False
    pocket: bool = False
    bore: bool = False

    @property
    def holds(self) -> bool:
        """Whether it is a room to speak of: no pocket of the skin, no bore."""
        return not self.pocket and not self.bore

    @property
    def unvented(self) -> bool:
        """Whether it is a room with one way out: no air comes in while liquid leaves."""
        return self.holds and len(self.openings) == 1


@dataclass(frozen=True)
class _Grid:
    """Rooms of one part on voxels: faces (F,) of the part; label (X, Y, Z) int32: a row of `found`, OUTSIDE or WALL."""

    faces: Ints
    label: Ints32
    origin: Floats


@dataclass(frozen=True)
class Cavities:
    """All rooms, largest first, then closed voids too small for voxels.

    face (F,) int32: the room the middle of each face looks into, else OUTSIDE. roomless (F,): faces of parts that have
    no room of their own, bores and pockets aside. spacing_mm is the voxel size, ball_mm the diameter of the ball;
    voids: closed ones, by the tree of their shell.
    """

    found: tuple[Cavity, ...]
    face: Ints32
    roomless: Bools
    spacing_mm: float
    ball_mm: float
    shell_room: Ints32 = field(repr=False)
    voids: tuple[tuple[int, Tree], ...] = field(repr=False, default=())
    grids: tuple[_Grid, ...] = field(repr=False, default=())

    @property
    def inside(self) -> Bools:
        """Faces (F,) that look into a room that is more than a pocket."""
        return self.is_room[self.face]

    @property
    def is_room(self) -> Bools:
        """By room, and False for OUTSIDE (the last one): is it more than a pocket."""
        return np.array([not c.pocket for c in self.found] + [False])

    @property
    def openings(self) -> list[WayOut]:
        """All openings of all rooms."""
        return [o for c in self.found for o in c.openings]

    def label_at(self, points: Floats) -> Ints32:
        """The room that places (Q, 3) lie in, else OUTSIDE; WALL where the voxel is touched by a wall."""
        out = np.full(len(points), OUTSIDE, np.int32)
        for grid in self.grids:
            cell = np.rint((points - grid.origin) / self.spacing_mm).astype(np.int64)
            inside = ((cell >= 0) & (cell < grid.label.shape)).all(axis=1)
            found = grid.label[tuple(cell[inside].T)]
            here = out[inside]
            # a room of one part may lie outside of another
            out[inside] = np.where((here >= 0) | (found == OUTSIDE), here, found)
        for room, tree in self.voids:
            low, high = extent(tree.vertices)
            rows = np.flatnonzero(((points >= low) & (points <= high)).all(axis=1))
            out[rows[tree.winding(points[rows]) < -0.5]] = room
        return out

    def in_a_room(self, point: tuple[float, float, float]) -> bool:
        """Whether a place in the air lies in a room that is more than a pocket."""
        for grid in self.grids:
            cell = np.rint((np.array(point) - grid.origin) / self.spacing_mm).astype(np.int64)
            if (cell >= 0).all() and (cell < grid.label.shape).all():
                room = int(grid.label[tuple(cell)])
                if room >= 0 and not self.found[room].pocket:
                    return True
        return False

    def look(
        self,
        mesh: Mesh,
        points: Floats,
        normals: Floats,
        face: NDArray[np.integer] | None = None,
        *,
        unknown: int | None = None,
    ) -> Ints32:
        """The room (Q,) that places (Q, 3) of faces (Q,) (None: one each) look into along normals (Q, 3), else OUTSIDE.

        On the shell of a closed void it is that void, exactly. Where no free voxel is seen, it is the face's room,
        or `unknown`.
        """
        if face is None:
            face = np.arange(len(mesh.faces))
        out = self.shell_room[mesh.topology.shell[face]].copy()
        owner = np.full(len(mesh.faces), -1, np.int32)
        for n, grid in enumerate(self.grids):
            owner[grid.faces] = n
        for n, grid in enumerate(self.grids):
            mine = np.flatnonzero((owner[face] == n) & (out == OUTSIDE))
            seen = look_along(points[mine], normals[mine], _PROBES, grid.label, WALL, grid.origin, self.spacing_mm)
            out[mine] = np.where(seen == WALL, self.face[face[mine]] if unknown is None else unknown, seen)
        return out


def default_ball_mm(mesh: Mesh) -> float:
    """A tenth of the longest side, between 6 and 12 mm: wider than drains, narrower than most bowls."""
    return float(np.clip(0.1 * mesh.size.max(), 6.0, 12.0))


def find_cavities(
    mesh: Mesh, *, ball_mm: float | None = None, wall_mm: float | None = None, nested: Shells | None = None
) -> Cavities:
    """Rooms of a closed, consistently oriented mesh, part by part. Voxels are at most 0.4 of `wall_mm`."""
    ball = ball_mm if ball_mm is not None else default_ball_mm(mesh)
    spacing = min(float(mesh.size.max()) / 160, ball / 5)
    if wall_mm is not None:
        spacing = min(spacing, 0.4 * wall_mm)
    spacing = max(spacing, float(np.prod(mesh.size + 2 * ball) / _MOST_VOXELS) ** (1 / 3))
    nested = nested or nest_exactly(mesh)
    rooms: list[Cavity] = []
    grids = []
    # a closed void is exact already, and voxels need not look for it: a part is its shell that faces out
    for shell in np.flatnonzero((nested.volume > 0) & ~convex_shells(mesh)):
        faces = np.flatnonzero(mesh.topology.shell == shell)
        part = mesh if len(faces) == len(mesh.faces) else mesh.picked(faces)
        found, label, origin = _rooms_of(part, ball, spacing)
        label[label >= 0] += len(rooms)
        rooms += found
        if found:
            grids.append(_Grid(faces, label, origin))
    shell_room = np.full(mesh.topology.shells, OUTSIDE, np.int32)
    voids: list[tuple[int, Tree]] = []
    for shell, volume in zip(*nested.voids, strict=True):
        low, high = mesh.shell_boxes
        shell_room[shell] = len(rooms)
        middle = 0.5 * (low[shell] + high[shell])
        rooms.append(Cavity(float(volume), _place(middle), (), closed=True))
        lone = mesh.picked(mesh.topology.shell == shell)
        voids.append((int(shell_room[shell]), lone.tree))
    everywhere = np.full(len(mesh.faces), OUTSIDE, np.int32), np.ones(len(mesh.faces), bool)
    result = Cavities((), *everywhere, spacing, ball, shell_room, grids=tuple(grids))
    if not rooms:
        return result
    seen = result.look(mesh, mesh.middles, mesh.unit_normals, unknown=WALL)
    seen = _spread(mesh, seen)
    group = linked_groups(len(rooms), _run_together(mesh, result, seen))
    merged = [
        _merged([r for r, g in zip(rooms, group.tolist(), strict=True) if g == n]) for n in range(group.max() + 1)
    ]
    largest = max(c.volume_mm3 for c in merged)
    least = POCKET_SHARE * max(largest, 0.1 * abs(mesh.volume))
    merged = [replace(c, pocket=not c.closed and c.volume_mm3 < least) for c in merged]
    order = sorted(range(len(merged)), key=lambda n: (-merged[n].volume_mm3, merged[n].where_mm))
    rank = np.empty(len(merged), np.int32)
    rank[order] = np.arange(len(merged))
    table = np.concatenate([rank[group], [WALL, OUTSIDE]]).astype(np.int32)  # negative labels stay
    for grid in grids:
        grid.label[:] = table[grid.label]
    return Cavities(
        tuple(merged[n] for n in order),
        table[np.maximum(seen, OUTSIDE)],
        _roomless(mesh, nested, grids, [merged[n] for n in order]),
        spacing,
        ball,
        table[shell_room],
        tuple((int(table[room]), tree) for room, tree in voids),
        tuple(grids),
    )


def _run_together(mesh: Mesh, rooms: Cavities, seen: Ints32) -> Ints:
    """Pairs (N, 2) of rooms whose surfaces run into each other: they are one, seen apart by too narrow a place. seen
    (F,): what the middles of faces look into; that of a large one may lie far from the edge."""
    half = np.flatnonzero(mesh.topology.opposite > np.arange(len(mesh.topology.opposite)))
    pair = np.stack([half, mesh.topology.opposite[half]])
    here = seen[pair // 3]
    apart = (here >= 0).all(axis=0) & (here[0] != here[1])
    pair, here = pair[:, apart], here[:, apart]
    for k in range(2):
        face = pair[k] // 3
        large = mesh.face_areas[face] > 4 * rooms.spacing_mm**2
        a, b = mesh.edge_ends(pair[k, large])
        place = 0.5 * (mesh.vertices[a] + mesh.vertices[b])
        inward = mesh.vertices[mesh.faces[face[large]]].mean(axis=1) - place
        length = np.linalg.norm(inward, axis=1, keepdims=True)
        place += inward * np.minimum(1.0, rooms.spacing_mm / np.maximum(length, 1e-300))
        here[k, large] = rooms.look(mesh, place, mesh.normals_of(face[large]), face[large])
    return np.asarray(here[:, (here >= 0).all(axis=0)].T)


def _roomless(mesh: Mesh, nested: Shells, grids: Sequence[_Grid], found: Sequence[Cavity]) -> Bools:
    """Faces (F,) of parts that hold no room but bores and pockets. A closed void is a room of the smallest part around
    it."""
    has = np.zeros(mesh.topology.shells, bool)
    holds = np.array([c.holds for c in found])
    for grid in grids:
        inside = np.unique(grid.label[grid.label >= 0])
        has[mesh.topology.shell[grid.faces[0]]] |= bool(holds[inside].any())
    for shell in nested.voids[0]:
        around = nested.outer[(nested.inner == shell) & (nested.volume[nested.outer] > 0)]
        has[shell] = True
        if len(around):
            has[around[np.argmin(nested.volume[around])]] = True
    return np.asarray(~has[mesh.topology.shell])


_BEND = 1e-6  # sine: edges that bend inward by less are flat
_EDGES_AT_ONCE = 100_000


def convex_shells(mesh: Mesh) -> Bools:
    """Shells (S,) of a closed mesh without an edge that bends inward: they have no hollow of their own."""
    opposite, shell = mesh.topology.opposite, mesh.topology.shell
    convex = np.ones(mesh.topology.shells, bool)
    # the first edges tell of nearly every shell
    for begin in range(0, len(opposite), _EDGES_AT_ONCE):
        half = np.arange(begin, min(begin + _EDGES_AT_ONCE, len(opposite)))
        half = half[(opposite[half] > half) & convex[shell[half // 3]]]
        a, _ = mesh.edge_ends(half)
        third = mesh.faces[opposite[half] // 3, (opposite[half] % 3 + 2) % 3]
        across = mesh.vertices[third] - mesh.vertices[a]
        rise = np.einsum("ij,ij->i", mesh.normals_of(half // 3), across)
        inward = rise > _BEND * np.maximum(np.linalg.norm(across, axis=1), 1e-300)
        convex[shell[half[inward] // 3]] = False
        if not convex.any():
            break
    return convex


def _merged(rooms: list[Cavity]) -> Cavity:
    """Rooms that are one."""
    largest = max(rooms, key=lambda r: r.volume_mm3)
    openings = sorted((o for r in rooms for o in r.openings), key=lambda o: o.where_mm[::-1])
    volume, bore = sum(r.volume_mm3 for r in rooms), all(r.bore for r in rooms)
    return replace(largest, volume_mm3=volume, openings=tuple(openings), bore=bore)


def _spread(mesh: Mesh, seen: Ints32) -> Ints32:
    """Labels of faces, those that see no free voxel after their neighbours'."""
    seen = seen.copy()
    twin = mesh.topology.opposite.reshape(-1, 3)
    for _ in range(50):
        unknown = np.flatnonzero(seen == WALL)
        around = np.where(twin[unknown] >= 0, seen[twin[unknown] // 3], WALL)
        best = around.max(axis=1)
        if not (best > WALL).any():
            break
        seen[unknown] = best
    return seen


def _rooms_of(mesh: Mesh, ball: float, spacing: float) -> tuple[list[Cavity], Ints32, Floats]:
    """Rooms of one shell; the voxels' labels and where they begin."""
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
    rooms, count, outside = _told_apart(air, clearance, outside, radius)
    volume = np.bincount(rooms.ravel(), minlength=count + 1)
    is_cavity = _enclosed(rooms, count, outside) & (volume >= 4)
    is_cavity[0] = False
    boxes = region_boxes(rooms, count)
    chosen = sorted(
        (c for c in np.flatnonzero(is_cavity) if _tallest(clearance, rooms, int(c), boxes[c - 1]) >= 1.4),
        key=lambda c: (-volume[c], c),
    )
    number = np.full(count + 1, OUTSIDE, np.int32)
    number[chosen] = np.arange(len(chosen))
    label = np.where(rooms > 0, number[rooms], np.where(air, OUTSIDE, WALL)).astype(np.int32)
    found = []
    for n, c in enumerate(chosen):
        box = boxes[c - 1]
        middle = np.argwhere(rooms[box] == c).mean(axis=0) + [s.start for s in box]
        touched = origin + spacing * np.argwhere(grown(label == n) & surface)
        free = np.clip(0.5 + mesh.signed_distance.at(touched) / spacing, 0.0, 1.0)  # of a voxel that a wall crosses
        size = float((volume[c] + free.sum()) * spacing**3)
        openings = _openings(mesh, rooms, int(c), box, outside, origin, spacing)
        widest = _widest(mesh, clearance, rooms, int(c), box, origin, spacing)
        bore = max((o.width_mm for o in openings), default=0.0) >= BORE_SHARE * widest
        found.append(Cavity(size, _place(origin + middle * spacing), tuple(openings), bore=bore))
    return found, label, origin


def _enclosed(rooms: Ints32, count: int, outside: Bools) -> Bools:
    """Regions (count + 1,) whose boundary is mostly wall."""
    if not count:
        return np.ones(1, bool)
    box = _around(region_boxes(rooms, count), np.arange(1, count + 1), 1, rooms.shape)
    contact, open_sides = np.zeros((2, count + 1), np.int64)
    count_sides(np.ascontiguousarray(rooms[box]), np.ascontiguousarray(outside[box]), contact, open_sides)
    return np.asarray(open_sides <= MOST_OPENNESS * (contact + open_sides))


def _told_apart(air: Bools, clearance: Floats32, outside: Bools, radius: float) -> tuple[Ints32, int, Bools]:
    """Regions of the air that the ball does not reach, how many, and the outside.

    A region that is open and yet goes deep is a groove with something behind it: smaller balls, down to three voxels
    wide, take the groove to the outside until what lies behind is enclosed."""
    rooms, count = label_regions(air & ~outside)
    outside = outside.copy()
    while count:
        open_ones = np.flatnonzero(~_enclosed(rooms, count, outside))
        open_ones = open_ones[open_ones > 0]
        if not len(open_ones):
            break
        # nothing farther off than the ball tells whether a place is deep, or reached by a smaller one
        box = _around(region_boxes(rooms, count), open_ones, int(radius) + 2, rooms.shape)
        depth = np.zeros(count + 1, np.float32)
        np.maximum.at(depth, rooms[box].ravel(), distance_to(outside[box]).ravel())
        open_ones = open_ones[depth[open_ones] > radius]
        radius *= _SMALLER
        if not len(open_ones) or radius < _LEAST_RADIUS:
            break
        inside = np.isin(rooms[box], open_ones)
        may = outside.copy()
        may[box] |= inside
        cores, _ = label_regions((clearance > radius) & may)
        outside[box] |= (distance_to(cores[box] == cores[0, 0, 0]) <= radius) & inside
        outside[box] |= _rim(outside[box], air[box]) & inside
        rooms, count = label_regions(air & ~outside)
    return rooms, count, outside


def _around(
    boxes: Sequence[tuple[slice, ...]], regions: Ints, pad: int, shape: tuple[int, ...]
) -> tuple[slice, slice, slice]:
    """The box around some regions, numbered from 1, so much wider on all sides."""
    mine = [boxes[k - 1] for k in regions.tolist()]
    x, y, z = (
        slice(max(min(box[k].start for box in mine) - pad, 0), min(max(box[k].stop for box in mine) + pad, shape[k]))
        for k in range(3)
    )
    return x, y, z


def _place(point: Floats) -> tuple[float, float, float]:
    return float(point[0]), float(point[1]), float(point[2])


def _air(mesh: Mesh, surface: Bools, origin: Floats, spacing: float) -> Bools:
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


def _tallest(clearance: Floats32, rooms: Ints32, room: int, box: tuple[slice, ...]) -> float:
    return float(clearance[box][rooms[box] == room].max())


def _widest(
    mesh: Mesh,
    clearance: Floats32,
    rooms: Ints32,
    room: int,
    box: tuple[slice, ...],
    origin: Floats,
    spacing: float,
) -> float:
    """The width (mm) of a room where it is widest, about: at its voxels that are farthest from any wall."""
    here = np.where(rooms[box] == room, clearance[box], -1.0)
    places = np.argwhere(here >= 0.98 * here.max())[:_MOST_ASKED] + [s.start for s in box]
    return float(2 * mesh.tree.nearest(origin + spacing * places)[0].max())


def _rim(outside: Bools, air: Bools) -> Bools:
    """Air next to the outside that belongs to it: the ball's surface is ragged on voxels."""
    return grown(outside) & air


def _openings(
    mesh: Mesh,
    rooms: Ints32,
    room: int,
    box: tuple[slice, ...],
    outside: Bools,
    origin: Floats,
    spacing: float,
) -> list[WayOut]:
    around = tuple(slice(max(s.start - 1, 0), s.stop + 1) for s in box)
    here = rooms[around] == room
    mouth = here & grown(outside[around])
    labels, count = label_regions(mouth, corners=True)
    openings = []
    for n in range(1, count + 1):
        voxels = np.argwhere(labels == n) + [s.start for s in around]
        points = ((voxels[:, None] + _THIRDS).reshape(-1, 3)) * spacing + origin
        distance, _ = mesh.tree.nearest(points)
        openings.append(WayOut(_place(points[int(np.argmax(distance))]), float(2 * distance.max())))
    # slivers of a mouth's ragged rim are not openings of their own
    kept: list[WayOut] = []
    for opening in sorted(openings, key=lambda o: -o.width_mm):
        gaps = [
            np.linalg.norm(np.subtract(opening.where_mm, k.where_mm)) - 0.5 * (opening.width_mm + k.width_mm)
            for k in kept
        ]
        if all(gap > 2 * spacing for gap in gaps):
            kept.append(opening)
    return sorted(kept, key=lambda o: o.where_mm[2])
