"""The other side of a skin, vertex for vertex, as far off as nothing crosses."""

from dataclasses import dataclass

import numpy as np

from bolvek.analyses.soundness.around import crossing_pairs
from bolvek.analyses.zones import Zone, face_zones
from bolvek.arrays import Floats, Ints
from bolvek.mesh import Mesh
from bolvek.operations.thicken.cover import Cover

BACK_OFF = 0.8
"""What a thickness is taken down by where faces cross."""
LEAST_SHARE = 0.02
"""Less of the thickness than that is none."""
_SLOPE = 1.0
_ROUNDS = 60


@dataclass(frozen=True)
class Offset:
    """The solid (faces as the cover's, then the rim); share (N,) of the thickness that each vertex got; stuck: zones of
    faces that cross even without a thickness; stuck_faces (K,): those of the skin."""

    solid: Mesh
    share: Floats
    stuck: list[Zone]
    stuck_faces: Ints


def offset(cover: Cover, front_mm: float, back_mm: float, part: Floats | None = None) -> Offset:
    """Both sides moved outward, by less around what crosses, until nothing does or nothing is left to take. part (N,):
    the share of the back's thickness that each vertex is to get."""
    asked = np.where(cover.front, front_mm, back_mm)
    if part is not None:
        asked = np.where(cover.front, front_mm, back_mm * part)
    if cover.one_sided:
        asked = np.full(len(cover.place), 0.5 * (front_mm + back_mm))
    share = np.ones(len(asked))
    solid = cover.solid(asked)
    pairs = solid.tree.meeting_pairs()[0].astype(np.int64)
    stuck = np.zeros(0, np.int64)
    a, b = cover.edges()
    length = np.linalg.norm(cover.skin.vertices[cover.place[a]] - cover.skin.vertices[cover.place[b]], axis=1)
    slope = _SLOPE * length / max(front_mm, back_mm, front_mm + back_mm)
    for turn in range(_ROUNDS):
        if not len(pairs):
            break
        vertices = np.unique(solid.faces[pairs.ravel()])
        vertices = np.union1d(vertices, cover.mate[vertices])
        free = share[vertices] > LEAST_SHARE
        if not free.any():
            stuck = pairs
            break
        before = share.copy()
        share[vertices] *= BACK_OFF if turn < 8 else BACK_OFF**2
        share = _limited(share, a, b, slope, cover.mate)
        share[share < LEAST_SHARE] = 0.5 * LEAST_SHARE
        solid = cover.solid(asked * share)
        moved = share != before
        touched = np.flatnonzero(moved[solid.faces].any(axis=1))
        pairs = crossing_pairs(solid, np.union1d(touched, np.unique(pairs)))
    else:
        stuck = pairs
    faces = _of_skin(cover, np.unique(stuck))
    return Offset(solid, share, face_zones(cover.skin, faces), faces)


def _of_skin(cover: Cover, faces: Ints) -> Ints:
    """The skin's faces of faces of the solid."""
    n = len(cover.skin.faces)
    rim = np.concatenate([cover.half, cover.half]).reshape(2, -1).T.ravel() // 3
    return np.unique(np.where(faces < 2 * n, faces % max(n, 1), rim[np.maximum(faces - 2 * n, 0)] if len(rim) else 0))


def _limited(share: Floats, a: Ints, b: Ints, slope: Floats, mate: Ints) -> Floats:
    """Shares that change by no more than the slope along an edge; both sides of a skin alike."""
    share = np.minimum(share, share[mate])
    for _ in range(1000):
        new = share.copy()
        np.minimum.at(new, a, share[b] + slope)
        np.minimum.at(new, b, share[a] + slope)
        new = np.minimum(new, new[mate])
        if np.array_equal(new, share):
            break
        share = new
    return share
