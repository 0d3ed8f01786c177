"""Cutting sound meshes by planes into pieces with caps.

Corners nearer to a plane than a tolerance are laid onto it, so that no sliver is left beside the cut. Where an edge
goes through the plane is computed once, from the edge alone, and rounded to what a file holds before the caps are
triangulated: both pieces have the same rim, bit for bit. Faces the plane does not reach stay as they were.
"""

from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np

from bolvek.analyses.soundness import find_defects
from bolvek.arrays import Bools, Floats, Ints, Ints32, stored
from bolvek.errors import WorkError
from bolvek.mesh import Mesh
from bolvek.spatial.polygons import PolygonError, seen_against, trace_loops, triangulate
from bolvek.units import Triple, point_text

LAID_MM = (1e-3, 4e-3, 1.6e-2)
"""Corners nearer to the plane than this are laid onto it; the next is tried where the one before leaves no sound
pieces."""
_SHIFTS = (0.0, 2.0, -2.0, 7.0, -7.0)  # of the tolerance: the plane itself is moved where that does not help
SURFACE, FITTING = -1, -2
"""Labels of faces that are no cap: the model's own, those of pegs, sockets and lips."""


@dataclass(frozen=True, kw_only=True)
class Plane:
    """A plane through a point with a unit normal; name: as it was asked for."""

    point_mm: Triple
    normal: Triple
    name: str = ""

    @property
    def offset(self) -> float:
        """Signed distance of the plane from the origin along the normal."""
        return float(np.dot(self.point_mm, self.normal))

    def above(self, points: Floats) -> Floats:
        """Signed distance (P,) of points, positive on the side of the normal."""
        return np.asarray(points @ np.array(self.normal) - self.offset)


@dataclass(frozen=True)
class Piece:
    """A piece of a model. label (F,): number of the plane whose cap a face is, or SURFACE or FITTING; sides: for each
    plane so far 1 above it, -1 below; laid_mm: how far a corner was moved onto a plane, or a plane itself, at most."""

    mesh: Mesh
    label: Ints32
    sides: tuple[int, ...] = ()
    laid_mm: float = 0.0

    def cap(self, plane: int) -> Mesh:
        """The faces on a plane."""
        return self.mesh.picked(self.label == plane)


def cut_apart(mesh: Mesh, planes: Sequence[Plane]) -> list[Piece]:
    """The pieces of a sound mesh between planes, each sound as a file holds it, below before above.

    Raises WorkError where a plane misses the model or leaves no sound pieces.
    """
    pieces = [Piece(mesh, np.full(len(mesh.faces), SURFACE, np.int32))]
    for number, plane in enumerate(planes):
        parts: list[Piece] = []
        for piece in pieces:
            parts += _halved(piece, plane, number)
        if len(parts) == len(pieces):
            low, high = plane.above(mesh.vertices).min(), plane.above(mesh.vertices).max()
            where = "all on one side" if low >= 0 or high <= 0 else "and another plane cuts it there already"
            raise WorkError(
                f"the plane {plane.name} cuts nothing: the model lies {low:.2f} to {high:.2f} mm from it, {where}"
            )
        pieces = parts
    return sorted(pieces, key=lambda piece: piece.sides[::-1])


def _halved(piece: Piece, plane: Plane, number: int) -> list[Piece]:
    """One piece or two, where the plane goes through it. Raises WorkError."""
    height = plane.above(piece.mesh.vertices)
    for laid in LAID_MM:
        for shift in _SHIFTS:
            moved = height - shift * laid
            if (moved <= laid).all() or (moved >= -laid).all():
                side = 1 if height.mean() > 0 else -1
                return [Piece(piece.mesh, piece.label, (*piece.sides, side), piece.laid_mm)]
            try:
                halves = _cut(piece, plane, moved, laid, number)
            except PolygonError:
                continue
            halves = [replace(half, laid_mm=max(half.laid_mm, abs(shift) * laid)) for half in halves]
            if not any(find_defects(half.mesh) for half in halves):
                return halves
    where = piece.mesh.vertices[np.argmin(np.abs(height))]
    raise WorkError(
        f"cut along the plane {plane.name} no sound pieces come out, near {point_text(where)}: move it by a little"
    )


def _cut(piece: Piece, plane: Plane, height: Floats, laid: float, number: int) -> list[Piece]:
    """Both sides of a plane; corners within `laid` of it lie on it. Raises PolygonError."""
    mesh = piece.mesh
    near = np.abs(height) <= laid
    onto = mesh.vertices - np.where(near, height, 0.0)[:, None] * np.array(plane.normal)
    vertices = np.where(near[:, None], onto.astype(np.float32), mesh.vertices)
    moved = float(np.linalg.norm(vertices - mesh.vertices, axis=1).max())
    sign = np.where(near, 0, np.sign(height)).astype(np.int64)
    opposite = mesh.topology.opposite
    half = np.arange(len(opposite))
    a, b = (end.astype(np.int64) for end in mesh.edge_ends(half))
    crossed = sign[a] * sign[b] < 0
    own = np.flatnonzero(crossed & (half < opposite))
    low, high = np.where(sign[a[own]] < 0, a[own], b[own]), np.where(sign[a[own]] < 0, b[own], a[own])
    share = height[low] / (height[low] - height[high])
    places = vertices[low] + share[:, None] * (vertices[high] - vertices[low])
    points = np.concatenate([vertices, stored(places)])
    node = np.full(len(half), -1, np.int64)
    node[own] = node[opposite[own]] = len(vertices) + np.arange(len(own))
    # rounded, two nodes or a node and a corner may be one
    same = _same_places(points, np.concatenate([np.flatnonzero(near), len(vertices) + np.arange(len(own))]))
    node = np.where(node >= 0, same[np.maximum(node, 0)], -1)
    caps: dict[bytes, Ints] = {}
    return [_side(piece, points, same, -side * sign, node, side, plane, number, moved, caps) for side in (-1, 1)]


def _same_places(points: Floats, rows: Ints) -> Ints:
    """For each point (P,) the first of those among rows in the same place, itself for the others."""
    same = np.arange(len(points))
    if len(rows):
        _, first, name = np.unique(points[rows], axis=0, return_index=True, return_inverse=True)
        same[rows] = rows[first[name.ravel()]]
    return same


def _side(
    piece: Piece,
    points: Floats,
    same: Ints,
    sign: Ints,
    node: Ints,
    side: int,
    plane: Plane,
    number: int,
    moved: float,
    caps: dict[bytes, Ints],
) -> Piece:
    """What has a negative sign, closed by a cap. Raises PolygonError."""
    faces = same[piece.mesh.faces.astype(np.int64)]
    s = sign[piece.mesh.faces]
    whole = (s.max(axis=1) <= 0) & (s.min(axis=1) < 0)
    rows = np.flatnonzero((s.max(axis=1) > 0) & (s.min(axis=1) < 0))
    kept, source = [faces[whole]], [np.flatnonzero(whole)]
    # turned so that a corner whose sign stands alone comes first
    f, t, edge = faces[rows], s[rows], node.reshape(-1, 3)[rows]
    lone = np.array([np.sum(t[:, [k]] == t, axis=1) == 1 for k in range(3)]) & (t.T != 0)
    lone[:, (t == 0).any(axis=1)] &= t.T[:, (t == 0).any(axis=1)] < 0
    turn = (np.argmax(lone, axis=0)[:, None] + np.arange(3)) % 3
    f, t, edge = (np.take_along_axis(x, turn, axis=1) for x in (f, t, edge))
    # the corner and its two neighbours along the edges: a node, or a corner on the plane
    first = np.where(edge[:, 0] >= 0, edge[:, 0], f[:, 1])
    last = np.where(edge[:, 2] >= 0, edge[:, 2], f[:, 2])
    tip = t[:, 0] < 0
    kept.append(np.stack([f[tip, 0], first[tip], last[tip]], axis=1))
    source.append(rows[tip])
    p, q, m, n = first[~tip], last[~tip], f[~tip, 1], f[~tip, 2]
    shorter = _apart(points, p, n) < _apart(points, m, q)
    kept.append(np.where(shorter[:, None], np.stack([p, m, n], axis=1), np.stack([p, m, q], axis=1)))
    kept.append(np.where(shorter[:, None], np.stack([p, n, q], axis=1), np.stack([m, n, q], axis=1)))
    source += [rows[~tip]] * 2
    made, origin = np.concatenate(kept), np.concatenate(source)
    flat = (made[:, 0] == made[:, 1]) | (made[:, 1] == made[:, 2]) | (made[:, 2] == made[:, 0])
    made, origin = made[~flat], origin[~flat]
    on = np.zeros(len(points), bool)
    on[same[np.flatnonzero(sign == 0)]] = True
    on[node[node >= 0]] = True
    cap = _cap(points, made, on, -side * np.array(plane.normal), caps)
    label = np.concatenate([piece.label[origin], np.full(len(cap), number, np.int32)])
    mesh = Mesh(points, np.concatenate([made, cap])).picked(slice(None))
    return Piece(mesh, label.astype(np.int32), (*piece.sides, side), max(piece.laid_mm, moved))


def _apart(points: Floats, a: Ints, b: Ints) -> Floats:
    return np.asarray(((points[a] - points[b]) ** 2).sum(axis=1))


def _cap(points: Floats, faces: Ints, on: Bools, normal: Floats, caps: dict[bytes, Ints]) -> Ints:
    """Triangles (C, 3) that close the faces where their edges in the plane have no partner. caps: those made already,
    by their rims; that of the other side serves, turned. Raises PolygonError."""
    start, end = faces.ravel(), np.roll(faces, -1, axis=1).ravel()
    inside = on[start] & on[end]
    start, end = start[inside], end[inside]
    n = len(points)
    alone = ~np.isin(end * n + start, start * n + end)
    rim = np.sort(start[alone] * n + end[alone]).tobytes()
    if rim in caps:
        return caps[rim][:, ::-1]
    after = dict(zip(end[alone].tolist(), start[alone].tolist(), strict=True))
    if len(after) != int(alone.sum()):
        raise PolygonError("pieces of the section touch at a corner")
    loops = trace_loops(after)
    if not loops:
        return np.zeros((0, 3), np.int64)
    flat = seen_against(normal.tolist(), {k: points[k].tolist() for loop in loops for k in loop})
    cap = np.array(triangulate(flat, loops), np.int64)  # type: ignore[arg-type]
    caps[np.sort(end[alone] * n + start[alone]).tobytes()] = cap
    return cap
