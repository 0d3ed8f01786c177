"""Where a skin turns in on itself, its other side cannot keep off vertex for vertex.

First the tips: what was made nearer to the skin than half its thickness is taken out and the opening closed, so that
the narrow end of a crease is solid from side to side. Then a body from the distance fills in. It holds what is nearer
to the skin than the thickness, on the side that was made: as far as the middle between that side and the skin where
something else comes near, and not beyond the rim. It ends in walls around the thin zones, so that it crosses cleanly
what is there, and is united with it.
"""

import numpy as np

from bolvek.analyses.soundness import find_defects
from bolvek.analyses.zones import group_faces
from bolvek.arrays import Floats, Ints
from bolvek.errors import WorkError
from bolvek.mesh import Mesh
from bolvek.operations.fuse import unite
from bolvek.operations.fuse.arrange import kept_faces
from bolvek.operations.mend import mend
from bolvek.operations.slim import slim
from bolvek.operations.thicken.solid import Depth, Solid, depth_of, rim_tree
from bolvek.settings.repairs import MendSettings
from bolvek.spatial.isosurface import lipschitz_surface
from bolvek.spatial.tree import Tree

ENOUGH = 0.995
"""The share of the area that is to be thick enough."""
THIN_SHARE = 0.9
"""What is thinner than this share of the thickness asked for is filled."""

_CELLS = (7.0, 20.0)  # cells a thickness, round by round
_MOST_CELLS = 100_000  # on one side of a thin zone
_OVER = 1.05  # thicknesses that the body reaches
_BESIDE = 0.15  # thicknesses that a thin zone may be farther off than the skin
_OFF_RIM = 0.005  # thicknesses
_MOST_SPOTS, _SCATTERED = 40, 0.97  # more thin spots than that, on less than the rest, are noise: left as they are
_NEAR_RIM = 0.3  # thicknesses from the rim: what is thin there stays
_SLIM = 0.01  # thicknesses that the body may be off
_WORTH, _MUCH = 0.001, 0.01  # of the area that a round has to gain; and where it makes some place thinner
_TIP = 0.5  # thicknesses: what is made nearer to the skin is a tip
_MOST_TIPS = 6
_CLOSE = MendSettings(only=("close",), close_ends=True)


def fill_thin(skin: Mesh, solid: Solid, depth: Depth, thickness: float, side: int) -> tuple[Solid, Depth, int, float]:
    """The solid with what is thin filled; how thick it is, how many times that helped and the finest cell (mm).

    Stops when enough of the area is thick enough, or nothing is gained. Raises nothing: what cannot be filled stays.
    """
    done, cell = 0, 0.0
    limit = THIN_SHARE * thickness

    def better(found: Solid | None) -> bool:
        nonlocal solid, depth, done
        if found is None:
            return False
        after = depth_of(skin, found, thickness, side)
        gained = after.share_above(limit) - depth.share_above(limit)
        rise = after.least() / max(depth.least(), 1e-9)
        if gained < 0 or (gained < _WORTH and rise < 1.05) or (gained < _MUCH and rise < 0.9):
            return False
        solid, depth, done = found, after, done + 1
        return True

    if depth.share_above(limit) < ENOUGH:
        better(_plugged(skin, solid, thickness))
    off_rim = rim_tree(skin).nearest(depth.points)[0] > _NEAR_RIM * thickness
    for cells in _CELLS:
        thin = depth.face[(depth.depth < limit) & off_rim]
        if depth.share_above(limit) >= ENOUGH or not len(thin):
            break
        faces = np.unique(thin)
        scattered = int(group_faces(skin, faces).max()) >= _MOST_SPOTS
        if scattered and depth.share_above(limit) >= _SCATTERED:
            break
        zone = skin.picked(faces)
        size = max(thickness / cells, float(np.sqrt(zone.area / _MOST_CELLS)))
        if cell and size > 0.8 * cell:
            break
        if not better(_filled(skin, solid, zone, thickness, size)):
            break
        cell = size
    return solid, depth, done, cell


def _plugged(skin: Mesh, solid: Solid, thickness: float) -> Solid | None:
    """The solid with its tips closed off; None where no tip could be."""
    near = np.zeros(len(solid.mesh.vertices), bool)
    own = np.unique(solid.mesh.faces[solid.made])
    near[own] = skin.tree.nearest(solid.mesh.vertices[own])[0] < _TIP * thickness
    tips = np.flatnonzero(solid.made & near[solid.mesh.faces].all(axis=1))
    if not len(tips):
        return None
    found = _closed(solid, tips)
    if found is not None:
        return found
    group = group_faces(solid.mesh, tips)
    for number in np.argsort(-np.bincount(group), kind="stable")[:_MOST_TIPS].tolist():
        base = solid if found is None else found
        # faces are known by their corners: numbers change from one to the next
        gone = _same_faces(base.mesh, solid.mesh, tips[group == number])
        found = _closed(base, gone) or found
    return found


def _same_faces(mesh: Mesh, other: Mesh, faces: Ints) -> Ints:
    """The faces of a mesh that have the corners of some faces of another."""
    known = {other.vertices[f].tobytes() for f in other.faces[faces]}
    return np.array([k for k, f in enumerate(mesh.faces) if mesh.vertices[f].tobytes() in known], np.int64)


def _closed(solid: Solid, gone: Ints) -> Solid | None:
    """The solid without some faces, and the openings closed; None where that is not sound."""
    keep = np.ones(len(solid.mesh.faces), bool)
    keep[gone] = False
    if not len(gone):
        return None
    mesh, record, origin = mend(solid.mesh.picked(keep).as_stored(), _CLOSE)
    if record.verdict != "sound" or find_defects(mesh.as_stored()):
        return None
    return _carried(solid, mesh.as_stored(), np.where(origin >= 0, np.flatnonzero(keep)[np.maximum(origin, 0)], -1))


def _carried(solid: Solid, mesh: Mesh, source: Ints) -> Solid:
    """What each face of another mesh is, from the face of the solid that it is of (-1: a new one)."""
    own = source >= 0
    return Solid(
        mesh,
        np.where(own, solid.keeps[np.maximum(source, 0)], -1),
        own & solid.rim[np.maximum(source, 0)],
    )


def _filled(skin: Mesh, solid: Solid, zone: Mesh, thickness: float, cell: float) -> Solid | None:
    """The solid united with a body around the zone's other side; None where that would break the skin."""
    field = _Body(skin, solid, zone, thickness)
    pad = 2 * _OVER * thickness + 2 * cell
    low, high = zone.bounds[0] - pad, zone.bounds[1] + pad
    try:
        surface = lipschitz_surface(field.at, low, high, cell, bound=field.bound)
        if not len(surface.faces):
            return None
        rough = Mesh(surface.vertices, surface.faces)
        for body in (slim(rough, _SLIM * thickness)[0].as_stored(), rough.as_stored()):
            if not find_defects(body):
                break
        else:
            return None
        mesh, source = unite(solid.mesh, body, tries=2)
    except WorkError:
        return None
    if not kept_faces(source, solid.mesh, mesh)[solid.keeps >= 0].all():
        return None
    found = _carried(solid, mesh, np.where(source < len(solid.mesh.faces), source, -1))
    return _without_voids(found, thickness)


def _without_voids(solid: Solid, thickness: float) -> Solid:
    """Small voids that were closed in are filled; bodies that touch nothing go."""
    mesh = solid.mesh
    if mesh.topology.shells == 1:
        return solid
    skin = np.bincount(mesh.topology.shell, solid.keeps >= 0, mesh.topology.shells) > 0
    large = mesh.shell_volumes < -((2 * thickness) ** 3)
    keep = (skin | large)[mesh.topology.shell]
    return Solid(mesh.picked(keep), solid.keeps[keep], solid.rim[keep])


class _Body:
    """The distance-like field of the body: negative in it."""

    def __init__(self, skin: Mesh, solid: Solid, zone: Mesh, thickness: float) -> None:
        mesh, origin = solid.mesh, skin.tree.origin
        self.skin, self.zone, self.thickness, self.mesh = skin.tree, zone.tree, thickness, mesh
        self.other = Tree(mesh.vertices, mesh.faces[solid.keeps < 0], origin)
        self.edge = rim_tree(skin)

    def _parts(self, points: Floats) -> tuple[Floats, Floats, Floats]:
        """What keeps the body near the zone and off the rim; on the side that was made; how far that may jump."""
        t = self.thickness
        skin, other, rim = (tree.nearest(points)[0] for tree in (self.skin, self.other, self.edge))
        zone = self.zone.nearest(points)[0]
        near = np.maximum(skin - _OVER * t, 0.5 * (zone - skin - _BESIDE * t))
        near = np.maximum(near, 0.5 * (_OFF_RIM * t - (rim - skin)))
        inside = self.mesh.signed_distance.at(points) < 0
        mean = 0.5 * (skin + other)
        side = np.where(inside, 0.5 * (other - skin), np.where(other < skin, -mean, mean))
        return near, side, 0.5 * np.abs(other - skin)

    def at(self, points: Floats) -> Floats:
        """Values (P,) mm."""
        near, side, _ = self._parts(points)
        return np.maximum(near, side)

    def bound(self, points: Floats) -> Floats:
        """At least how far (P,) a change of sign is off."""
        near, side, jump = self._parts(points)
        return np.maximum(near, np.minimum(np.abs(np.maximum(near, side)), jump))
