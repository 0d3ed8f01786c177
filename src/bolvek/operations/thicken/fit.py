"""The best way to keep a skin's other side off: as the normals say, or smoothed ones, or filled."""

import numpy as np

from bolvek.mesh import Mesh
from bolvek.operations.thicken.cover import Cover, cover
from bolvek.operations.thicken.fill import ENOUGH, THIN_SHARE
from bolvek.operations.thicken.offset import Offset, offset
from bolvek.operations.thicken.solid import Depth, Solid, depth_of

_SMOOTH = (0.0, 0.5, 1.0, 2.0)  # thicknesses over which normals are smoothed, tried in turn
_MOST_ROUNDS = 300


def best_offset(skin: Mesh, front_mm: float, back_mm: float, side: int) -> tuple[Cover, Offset, Solid, Depth, int]:
    """The first way that is thick enough nearly everywhere, or else the one that is on most of the area; and the
    rounds of smoothing."""
    thickness = front_mm + back_mm
    edge = float(np.sqrt(skin.area / max(len(skin.faces), 1)) * 1.5)
    best, least = None, (0, 0.0)
    tried: set[int] = set()
    for reach in _SMOOTH:
        rounds = min(int(np.ceil(2 * (reach * thickness / edge) ** 2)), _MOST_ROUNDS)
        if rounds in tried:
            continue
        tried.add(rounds)
        double = cover(skin, rounds)
        found = offset(double, front_mm, back_mm)
        solid = as_solid(double, found, front_mm, back_mm)
        depth = depth_of(skin, solid, thickness, side)
        rank = len(found.stuck_faces), -depth.share_above(THIN_SHARE * thickness)
        if best is None or rank < least:
            best, least = (double, found, solid, depth, rounds), rank
        if rank <= (0, -ENOUGH):
            break
    assert best is not None
    return best


def as_solid(double: Cover, found: Offset, front_mm: float, back_mm: float) -> Solid:
    """The offset with what each of its faces is."""
    n = len(double.skin.faces)
    keeps = np.full(len(found.solid.faces), -1, np.int64)
    if not front_mm:
        keeps[:n] = np.arange(n)
    elif not back_mm:
        keeps[n : 2 * n] = np.arange(n)
    rim = np.zeros(len(keeps), bool)
    rim[2 * n :] = True
    return Solid(found.solid, keeps, rim)
