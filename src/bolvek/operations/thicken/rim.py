"""The rim of a skin, trimmed by as little as works.

Faces that hang by a corner, cross others or fold where the rim strip is to go are taken off, if they are near the rim;
large ones are cut up first, so that no wide strip goes with them.
"""

from collections.abc import Callable

import numpy as np

from bolvek.analyses.zones import face_zones
from bolvek.arrays import Ints
from bolvek.errors import WorkError
from bolvek.mesh import Mesh
from bolvek.mesh.topology import OPEN
from bolvek.operations.refine import refine
from bolvek.operations.thicken.solid import rim_tree, thin_places
from bolvek.settings import remedy
from bolvek.settings.repairs import ThickenSettings
from bolvek.settings.ways_on import ANEW, SOLID
from bolvek.units import count_text, point_text

_ROUNDS = 24
_FEW_ROUNDS = 12  # where there is another way
_PATIENCE = 4  # times that large faces are cut before what is in the way is held against what may go
_SAFE = 1.03  # of the least width: a later look takes its samples elsewhere
_FINE = 0.35  # thicknesses: longer faces are cut up before any goes
_REACH = 2.0  # thicknesses from the rim
_ISLAND = 1.0  # square thicknesses: pieces cut off that are smaller go too


def hanging_faces(mesh: Mesh) -> Ints:
    """Faces of every fan at a vertex but the largest."""
    topology = mesh.topology
    corners = np.flatnonzero(topology.fan >= 0)
    fan = topology.fan[corners]
    vertex = mesh.faces.ravel()[corners]
    names, number = np.unique(fan, return_inverse=True)
    area = np.bincount(number, mesh.face_areas[corners // 3])
    owner = mesh.faces.ravel()[names]
    best = np.zeros(len(mesh.vertices))
    np.maximum.at(best, owner, area)
    several = np.bincount(owner, minlength=len(mesh.vertices)) > 1
    first = np.full(len(mesh.vertices), -1)
    rows = np.flatnonzero(area == best[owner])
    first[owner[rows[::-1]]] = rows[::-1]
    return np.unique(corners[several[vertex] & (number != first[vertex])] // 3)


def trimmed(
    skin: Mesh, thickness: float, faulty: Callable[[Mesh], Ints], most_share: float = 1.0
) -> tuple[Mesh, float]:
    """The skin without what is in the way at its rim, and its area (mm2). faulty: tells the faces that are.

    Raises WorkError where some of them are far from the rim, nothing helps, or more than a share of it would go.
    """
    waited, gone, most = 0, 0.0, most_share * skin.area
    _refuse_far(skin, np.unique(skin.meeting[0]), thickness)
    rounds = _ROUNDS if most_share >= 1 else _FEW_ROUNDS
    for _ in range(rounds if len(skin.faces) else 0):
        bad = hanging_faces(skin)
        if not len(bad):
            bad = faulty(skin)
        if not len(bad):
            return skin, gone
        edges = np.linalg.norm(np.roll(skin.corners[bad], -1, axis=1) - skin.corners[bad], axis=2).max(axis=1)
        chosen = np.zeros(len(skin.faces), bool)
        chosen[bad[edges > 2 * _FINE * thickness]] = True
        if chosen.any():
            waited += 1
            if waited > _PATIENCE and float(skin.face_areas[bad].sum()) > most:
                raise WorkError(f"more than {100 * most_share:.0f}% of the skin would be trimmed away", ANEW)
            # step by step: most of a large face is soon out of the way
            skin, _ = refine(skin, chosen, max(_FINE * thickness, 0.4 * float(edges.max())))
            continue
        _refuse_far(skin, bad, thickness)
        keep = np.ones(len(skin.faces), bool)
        keep[bad] = False
        before = skin.area
        skin = _without_islands(skin.picked(keep), thickness)
        gone += before - skin.area
        if gone > most:
            raise WorkError(f"more than {100 * most_share:.0f}% of the skin would be trimmed away", ANEW)
        if not len(skin.faces):
            break
    raise WorkError("nothing of the skin is left to thicken once its rim is trimmed", ANEW)


def _refuse_far(skin: Mesh, bad: Ints, thickness: float) -> None:
    """Raise WorkError where one of some faces is as a whole too far from the rim to be trimmed."""
    if not len(bad):
        return
    corners = skin.corners[bad]
    middles = corners.mean(axis=1)
    reach = np.linalg.norm(corners - middles[:, None], axis=2).max(axis=1)
    reach[reach <= _FINE * thickness] = 0.0  # small ones go whole
    off = rim_tree(skin).nearest(middles)[0] - reach
    if (off > _REACH * thickness).any():
        raise WorkError(
            f"{count_text(len(bad), 'face')} of the skin cross or fold away from its rim, as at "
            f"{point_text(middles[int(np.argmax(off))])}",
            SOLID,
        )


def narrow_teeth(skin: Mesh, solid: Mesh, least: float) -> Ints:
    """Faces at the rim of a skin where what was made of it is narrower than `least` mm from side to side."""
    thin = thin_places(solid, _SAFE * least)
    if not len(thin.points):
        return np.zeros(0, np.int64)
    middles = thin.middles
    near = rim_tree(skin).nearest(middles)[0] < 2.0 * least
    if not near.any():
        return np.zeros(0, np.int64)
    _, face = skin.tree.nearest(middles[near])
    rim = np.zeros(len(skin.vertices), bool)
    for end in skin.edge_ends(np.flatnonzero(skin.topology.opposite == OPEN)):
        rim[end] = True
    found = np.unique(face)
    return found[rim[skin.faces[found]].any(axis=1)].astype(np.int64)


def _without_islands(skin: Mesh, thickness: float) -> Mesh:
    if not len(skin.faces):
        return skin
    area = np.bincount(skin.topology.shell, skin.face_areas)
    keep = area >= min(_ISLAND * thickness**2, float(area.max()))
    return skin if keep.all() else skin.picked(keep[skin.topology.shell])


def refuse_rim(skin: Mesh, bad: Ints) -> WorkError:
    """What is wrong with a rim that was not to be trimmed."""
    zones = face_zones(skin, bad)
    return WorkError(
        f"{count_text(len(bad), 'face')} of the skin cross, fold or hang by a corner in "
        f"{count_text(len(zones), 'place')}, the largest at {point_text(zones[0].where_mm)}",
        remedy("", "takes such off the rim", ThickenSettings(trim=True)),
        SOLID,
    )
