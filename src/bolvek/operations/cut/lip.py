"""A lip that follows the rim of a hollow piece inside and goes into the piece on it.

The lip is a level set on a lattice: the points in the room whose distance from its wall is between the clearance and
clearance and thickness, and that lie nearer to that wall than to the outside, above the plane; below it the same band
reaches into the wall, on which it stands with a slope of 45 degrees. All distances are those of the whole model, so
the lip keeps off the other piece wherever its wall goes.
"""

import numpy as np

from bolvek.analyses.cavities import find_cavities
from bolvek.analyses.cavities.rooms import OUTSIDE
from bolvek.arrays import Bools, Floats
from bolvek.errors import WorkError
from bolvek.mesh import Mesh
from bolvek.operations.cut.contacts import Meeting
from bolvek.operations.cut.pegs import fitted, gap_between
from bolvek.operations.cut.planes import Piece, Plane
from bolvek.operations.cut.record import Lip
from bolvek.operations.fuse.arrange import UNION
from bolvek.operations.slim import slim
from bolvek.settings.parts import LipSettings
from bolvek.spatial.isosurface import lipschitz_surface

_CELLS = 4.5  # through the lip
_ROOT = 0.3  # of the wall asked for: so deep the lip goes into the wall it stands on
_EASE = 2.0  # slope with which it goes from the root to the clearance below the plane
_SLIM = 0.04  # of the thickness
_PUSHES = 4
_MOUTH = 0.75  # of a way out's width, and the wall on top: no lip is so near to its middle
_CRUMB = 2.0  # cubed thicknesses: less is no lip


def with_lips(
    mesh: Mesh, pieces: list[Piece], planes: tuple[Plane, ...], met: list[Meeting], s: LipSettings
) -> tuple[list[Piece], tuple[Lip, ...]]:
    """The pieces with lips at every meeting that goes around a room of the model, and what they are. Raises WorkError
    where none does, or no sound piece comes out."""
    inside = _room_faces(mesh, s.wall_mm)
    pairs = sorted({(m.plane, m.one, m.other) for m in met})
    pieces, lips = list(pieces), []
    for plane, one, other in pairs:
        body = _lip(mesh, inside, pieces[one], planes, plane, s)
        if body is None:
            continue
        pieces[one] = fitted(pieces[one], body, UNION)
        lips.append(
            Lip(
                plane=plane + 1,
                pieces=(one + 1, other + 1),
                height_mm=s.height_mm,
                thick_mm=s.thick_mm,
                volume_mm3=body.volume,
                gap_mm=gap_between(body, pieces[other].mesh, planes[plane]),
            )
        )
    if not lips:
        raise WorkError("no lip fits anywhere: no cut goes through a room of the model; pegs hold solid pieces")
    return pieces, tuple(lips)


def _lip(
    mesh: Mesh, inside: Bools, piece: Piece, planes: tuple[Plane, ...], number: int, s: LipSettings
) -> Mesh | None:
    """The lip on one plane of a piece, None where it meets no room there."""
    plane = planes[number]
    thick, root = s.thick_mm, _ROOT * s.wall_mm
    c = s.clearance_mm + _SLIM * thick  # what slimming may take of it
    cell = thick / _CELLS
    # a lattice rounds the foot's crease by a cell: it lies below the plane, where there is no other piece
    foot = thick + c + root + (c + root) / _EASE + cell
    signed, rooms, outside = mesh.signed_distance, mesh.picked(inside).tree, mesh.picked(~inside).tree
    limit = 2 * (thick + c + s.height_mm + foot) + 2

    def value(points: Floats) -> Floats:
        height = plane.above(points)
        distance = np.nan_to_num(signed.at(points, limit), nan=limit)
        to_room, to_outside = (np.minimum(tree.nearest(points, limit)[0], limit) for tree in (rooms, outside))
        clear = np.clip(c + _EASE * (height + cell), -root, c)
        parts = [
            height - s.height_mm,
            distance - (c + thick),
            (clear - distance) / (1 + _EASE),
            (distance - (height + foot)) / 2,
            -(height + foot + root),
            (to_room - to_outside) / 2,  # nearer to a room's wall than to any other face
        ]
        for k, (other, side) in enumerate(zip(planes, piece.sides, strict=True)):
            if k != number:
                parts.append(foot + c - side * other.above(points))  # lips of other planes have their feet there
        return np.asarray(np.max(parts, axis=0))

    around = c + thick + 2 * cell
    found = lipschitz_surface(value, mesh.bounds[0] - around, mesh.bounds[1] + around, cell, thin_sheets=True)
    raw = Mesh(found.vertices, found.faces)
    if not len(raw.faces):
        return None
    large = np.flatnonzero(raw.shell_volumes > _CRUMB * thick**3)
    if not len(large):
        return None
    lip = _kept_off(mesh, raw.picked(np.isin(raw.topology.shell, large)), plane, c, cell)
    return slim(lip.as_stored(), _SLIM * thick)[0]


def _kept_off(mesh: Mesh, lip: Mesh, plane: Plane, c: float, cell: float) -> Mesh:
    """The lip with what the lattice left nearer to the wall than a clearance pushed off it, from a cell below the plane
    on."""
    points = lip.vertices.copy()
    for _ in range(_PUSHES):
        gap, face = mesh.tree.nearest(points, c)
        near = np.flatnonzero(np.isfinite(gap) & (gap > 0) & (plane.above(points) > -cell))
        if not len(near):
            break
        to = points[near] - mesh.tree.closest_points(points[near], face[near])
        points[near] += to * (c / gap[near] - 1.0)[:, None]
    return lip.moved(points)


def _room_faces(mesh: Mesh, wall: float) -> Bools:
    """Faces (F,) that look into a room, those at its ways out aside: a lip must not go into a drain."""
    cavities = find_cavities(mesh, wall_mm=wall)
    inside = cavities.face != OUTSIDE
    middle = mesh.middles
    for opening in cavities.openings:
        reach = _MOUTH * opening.width_mm + wall
        inside &= np.linalg.norm(middle - np.array(opening.where_mm), axis=1) > reach
    return inside
