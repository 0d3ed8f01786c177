"""The shortest ways through material: segments between two places of the surface that are locally shortest at both.

A wall is such a segment: at each end its direction lies in the normal cone of the vertex, edge or face it stands on,
so that no step along the surface makes it shorter, and nothing of the surface crosses it. Of a closed polyhedron they
run from a vertex to a vertex, an edge or a face, or from edge to edge; all of these are looked at, whatever angle the
faces around have. A neck is stationary, not shortest (moving around it makes the segment longer, moving on shorter):
from places along creases the edge's own line is not held against a segment within `SQUARE_DEG`. Edges that bend by
less than `FLAT_DEG` count as flat: there samples of the faces, a sixth of a wall apart, tell it to 0.4%.

What rises from the surface by less than `TEXTURE_SHARE` of the wall is its texture, no wall: segments whose ends hang
together so near are left out, unless the material parts farther out (two balls that hardly touch): that is
counted exactly on spheres around them, and where there are several pieces, winding numbers tell whether they show.

Two faces that lie square to each other have a whole field of such segments, and one along a blunt rim none: both are
left to samples of the faces (`probe`).
"""

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from bolvek.analyses.thickness.probe import SKIN_SHARE, SQUARE_DEG
from bolvek.analyses.thickness.samples import CREASE_DEG, points_along
from bolvek.arrays import Bools, Floats, Ints, Ints8
from bolvek.kernels.surface.samples import CREASE_EDGE, INWARD_EDGE, edge_kinds
from bolvek.kernels.tree import shortest as kernels
from bolvek.kernels.tree import spheres
from bolvek.mesh import Mesh
from bolvek.spatial.frames import fibonacci_sphere
from bolvek.spatial.groups import linked_groups
from bolvek.spatial.parallel import run_ranges
from bolvek.spatial.points import PointTree
from bolvek.spatial.tree import curve_order

FLAT_DEG = 2.0
"""Edges that bend by less than this are flat."""
SLACK_DEG = 1.0
"""By how much an end may fail to be shortest."""
_AROUND, _FINELY_AROUND = 300, 1000  # directions looked at around a place
_ONE_PLACE = 0.1  # of the radius: places that share a cell so wide are one
_PARTS_WITHIN = 0.75  # walls: from a place near the surface of a rod as wide as the wall no farther than its other side
TEXTURE_SHARE = 1 / 8
"""Of the wall asked for: how near along the surface the ends of a wall cannot be."""


@dataclass(frozen=True)
class Ways:
    """N segments: start and end (N, 3), length (N,) in mm, the face (N,) at the start and at the end."""

    start: Floats
    end: Floats
    length: Floats
    face: Ints
    far_face: Ints

    @property
    def direction(self) -> Floats:
        """Unit directions (N, 3) from start to end, into the material."""
        return np.asarray((self.end - self.start) / self.length[:, None])

    def chosen(self, rows: Ints | Bools) -> "Ways":
        """Some of them."""
        return Ways(self.start[rows], self.end[rows], self.length[rows], self.face[rows], self.far_face[rows])


def shortest_ways(
    mesh: Mesh,
    limit_mm: float,
    wall_mm: float,
    spacing_mm: float,
    only: Bools | None = None,
    judged: Bools | None = None,
) -> Ways:
    """All segments through the material of a sound mesh up to a length, that are locally shortest at both ends.

    wall_mm: the wall asked for, by which texture is told; creases are looked at every `spacing_mm`. Where two faces,
    or an edge and a face, are parallel a few stand for all. only (F,): those that begin or end at an edge or a corner
    of these faces. judged (F,): ways with neither end on these faces are not needed.
    """
    kind = _edge_kinds(mesh)
    inward = np.flatnonzero(kind >= INWARD_EDGE)
    if only is not None:
        inward = inward[only[inward // 3] | only[mesh.topology.opposite[inward] // 3]]
    if not len(inward):
        return no_ways()
    ours = inward
    if judged is not None:
        ours = inward[judged[inward // 3] | judged[mesh.topology.opposite[inward] // 3]]
    crease = inward[kind[inward] == CREASE_EDGE]
    found = joined_ways(
        [
            _from_vertices(mesh, inward, limit_mm),
            _from_creases(mesh, crease, limit_mm, spacing_mm),
            _between_edges(mesh, ours, kind > 0, limit_mm),
        ]
    )
    return found.chosen(~_texture(mesh, found, TEXTURE_SHARE * wall_mm))


def _texture(mesh: Mesh, ways: Ways, radius: float) -> Bools:
    """Segments (N,) whose ends hang together within a radius around their middle, where the material ends too: that of
    a neck goes on to either side."""
    out = np.zeros(len(ways.length), bool)
    rows = np.flatnonzero(ways.length < 2 * radius)
    joined = np.zeros(len(rows), bool)
    ends = np.stack([ways.face[rows], ways.far_face[rows]], axis=1)
    middle = 0.5 * (ways.start[rows] + ways.end[rows])
    run_ranges(
        lambda b, e: kernels.joined_nearby(
            mesh.vertices, mesh.faces, mesh.topology.opposite, ends, middle, radius, b, e, joined
        ),
        len(rows),
        grain=64,
    )
    rows, middle = rows[joined], middle[joined]
    for reach, count in ((radius, _AROUND), (_PARTS_WITHIN / TEXTURE_SHARE * radius, _FINELY_AROUND)):
        one = _pieces_around(mesh, middle, reach, count) <= 1
        rows, middle = rows[one], middle[one]
    out[rows] = True
    return out


def _pieces_around(mesh: Mesh, middle: Floats, radius: float, directions: int) -> Ints:
    """How many pieces of material lie on the sphere of a radius around each place (N, 3): where that is more than one,
    as they show in so many directions. Of places in one small cell the first is asked."""
    sphere = fibonacci_sphere(directions)
    beside = PointTree(sphere).pairs(4.0 / np.sqrt(directions))
    counted = np.empty(len(middle), np.int32)
    v, f, opposite, normal = mesh.vertices, mesh.faces, mesh.topology.opposite, mesh.unit_normals
    run_ranges(
        lambda b, e: spheres.pieces_on_spheres(
            mesh.tree.arrays, v, f, opposite, normal, middle, radius, 1 / directions, b, e, counted
        ),
        len(middle),
        grain=64,
    )
    found = np.ones(len(middle), np.int64)
    doubtful = np.flatnonzero((counted < 0) | (counted > 1))
    cells = np.floor(middle[doubtful] / (_ONE_PLACE * radius)).astype(np.int64)
    _, first, cell = np.unique(cells, axis=0, return_index=True, return_inverse=True)
    pieces = np.empty(len(first), np.int64)
    for k, place in enumerate(middle[doubtful[first]]):
        inside = mesh.tree.winding(place + radius * sphere) > 0.5
        group = linked_groups(directions, beside[inside[beside].all(axis=1)])
        pieces[k] = len(np.unique(group[inside]))
    found[doubtful] = pieces[cell.ravel()]
    return found


def _edge_kinds(mesh: Mesh) -> Ints8:
    """The kind (3F,) of every edge, at its lower half-edge."""
    # of two unit normals so far apart
    flat, crease = (2 * np.sin(np.radians(0.5 * deg)) for deg in (FLAT_DEG, CREASE_DEG))
    kind = np.empty(3 * len(mesh.faces), np.int8)
    v, f, opposite, normal = mesh.vertices, mesh.faces, mesh.topology.opposite, mesh.unit_normals
    run_ranges(lambda b, e: edge_kinds(v, f, opposite, normal, flat, crease, b, e, kind), len(f))
    return kind


def _slack() -> float:
    return float(np.sin(np.radians(SLACK_DEG)))


def _from_vertices(mesh: Mesh, inward: Ints, limit: float) -> Ways:
    """From vertices with an edge that bends inward."""
    face, k = np.divmod(inward, 3)
    half = np.concatenate([inward, 3 * face + (k + 1) % 3])  # that start at its ends
    _, first = np.unique(mesh.faces.ravel()[half], return_index=True)
    home = half[first]
    # neighbours in space follow each other
    home = home[curve_order(mesh.vertices[mesh.faces.ravel()[home]])]
    axis, cosine = np.zeros((len(home), 3)), np.empty(len(home))
    v, f, opposite, outward = mesh.vertices, mesh.faces, mesh.topology.opposite, mesh.signed_distance.corners
    run_ranges(
        lambda b, e: kernels.vertex_cones(v, f, opposite, outward, home, _slack(), b, e, axis, cosine),
        len(home),
        grain=256,
    )
    some = cosine <= 1.0
    home = home[some]
    return _from_points(mesh, v[f.ravel()[home]], home, axis[some], cosine[some] - _slack(), limit, on_edge=False)


def _from_creases(mesh: Mesh, crease: Ints, limit: float, spacing: float) -> Ways:
    """From places along creases."""
    points, row = points_along(mesh, crease, spacing)
    home = crease[row]
    normal = mesh.unit_normals
    axis = -(normal[home // 3] + normal[mesh.topology.opposite[home] // 3])
    size = np.linalg.norm(axis, axis=1)
    good = size > 1e-6  # both sides of a slit stand square to it: its ends tell
    half_bend = np.arccos(np.minimum(0.5 * size[good], 1.0))
    cosine = np.cos(np.minimum(half_bend + np.radians(SQUARE_DEG + SLACK_DEG), np.pi))
    return _from_points(mesh, points[good], home[good], axis[good] / size[good, None], cosine, limit, on_edge=True)


def _from_points(
    mesh: Mesh, points: Floats, home: Ints, axis: Floats, cosine: Floats, limit: float, *, on_edge: bool
) -> Ways:
    local = np.ascontiguousarray(points - mesh.tree.origin)
    far = float(np.sin(np.radians(SQUARE_DEG))) if on_edge else _slack()
    skin = SKIN_SHARE * float(mesh.size.max())
    normal, opposite, outward = mesh.unit_normals, mesh.topology.opposite, mesh.signed_distance.corners

    def work(begin: int, end: int, pair: Ints, way: Floats) -> int:
        return int(
            kernels.ways_from_points(
                mesh.tree.arrays, mesh.vertices, mesh.faces, opposite, normal, outward, local, home, on_edge, axis,
                cosine, limit, _slack(), far, skin, begin, end, pair, way,
            )
        )  # fmt: skip

    pair, way = _filled(work, len(local), np.int32, 4)
    return Ways(
        points[pair[:, 0]],
        way[:, :3] + mesh.tree.origin,
        way[:, 3].copy(),
        home[pair[:, 0]] // 3,
        mesh.tree.order[pair[:, 1]].astype(np.int64),
    )


def _between_edges(mesh: Mesh, edges: Ints, bends_in: Bools, limit: float) -> Ways:
    skin = SKIN_SHARE * float(mesh.size.max())
    normal, opposite = mesh.unit_normals, mesh.topology.opposite

    def work(begin: int, end: int, pair: Ints, way: Floats) -> int:
        return int(
            kernels.ways_between_edges(
                mesh.tree.arrays, mesh.vertices, mesh.faces, opposite, normal, bends_in, edges, limit, _slack(), skin,
                begin, end, pair, way,
            )
        )  # fmt: skip

    pair, way = _filled(work, len(edges), np.int64, 7)
    origin = mesh.tree.origin
    return Ways(way[:, :3] + origin, way[:, 3:6] + origin, way[:, 6].copy(), pair[:, 0] // 3, pair[:, 1] // 3)


def _filled(work: Callable[[int, int, Ints, Floats], int], total: int, kind: type, columns: int) -> tuple[Ints, Floats]:
    """What a kernel that counts what it finds gives over all ranges: pairs (N, 2) and numbers (N, columns)."""

    def part(begin: int, end: int) -> tuple[Ints, Floats]:
        room = 256
        while True:
            pair: Ints = np.empty((room, 2), kind)
            way = np.empty((room, columns))
            n = work(begin, end, pair, way)
            if n <= room:
                return pair[:n], way[:n]
            room = n

    parts = run_ranges(part, total, grain=64)
    if not parts:
        return np.zeros((0, 2), np.int64), np.zeros((0, columns))
    return np.concatenate([p for p, _ in parts]).astype(np.int64), np.concatenate([w for _, w in parts])


def no_ways() -> Ways:
    """None."""
    none = np.zeros(0, np.int64)
    return Ways(np.zeros((0, 3)), np.zeros((0, 3)), np.zeros(0), none, none)


def joined_ways(parts: list[Ways]) -> Ways:
    """All of them."""
    return Ways(
        *(np.concatenate([getattr(p, name) for p in parts]) for name in ("start", "end", "length", "face", "far_face"))
    )
