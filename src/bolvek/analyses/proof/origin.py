"""Where the faces of a model come from: the original's surface, the inner one, a bore."""

from dataclasses import dataclass

import numpy as np

from bolvek.analyses.deviation import matching_faces
from bolvek.analyses.proof.record import Kept
from bolvek.arrays import Bools, Ints8, Ints32
from bolvek.errors import WorkError
from bolvek.mesh import Mesh

OUTER, INNER, BORE = 0, 1, 2

NEAR_SHARE = 1e-6
"""A face lies on the original's surface when its corners are nearer to it than this share of the longest side."""


@dataclass(frozen=True)
class Origin:
    """Per face (F,) int8 OUTER, INNER or BORE; and what is left of the original's outer surface."""

    face: Ints8
    kept: Kept


def origin_from(mesh: Mesh, original: Mesh) -> Origin:
    """Origins told by comparing with the original, which must stand where the model stands.

    A face that is the original's bit for bit is outer; so is one that lies on it and looks the same way (what a
    hole has left of a face). Raises WorkError when hardly a face of the original is there.
    """
    original = original.as_stored()
    stored = mesh.as_stored() if len(mesh.as_stored().faces) == len(mesh.faces) else mesh
    same = _found_in(stored, original)
    face = np.full(len(mesh.faces), INNER, np.int8)
    face[same] = OUTER
    rest = np.flatnonzero(~same)
    near = NEAR_SHARE * float(np.abs(original.bounds).max(initial=1.0))
    corners = stored.vertices[stored.faces[rest]]
    points = np.concatenate([corners, corners.mean(axis=1, keepdims=True)], axis=1)
    gap, nearest = original.tree.nearest(points.reshape(-1, 3), 4 * near)
    on = (gap.reshape(-1, 4) <= near).all(axis=1)
    middle = np.maximum(nearest.reshape(-1, 4)[:, 3], 0)
    on &= np.einsum("ij,ij->i", stored.normals_of(rest), original.normals_of(middle)) > 0.99
    face[rest[on]] = OUTER
    kept = kept_of(mesh, face, original, int(same.sum()))
    if kept.faces < 0.5 * kept.of:
        raise WorkError(
            f"only {kept.faces:,} of {kept.of:,} faces of the original are in the model: another size or place? "
            "Scale and pose the original alike first"
        )
    return Origin(face, kept)


def origin_by_source(mesh: Mesh, source: Ints32, before: Ints8, original: Mesh) -> Origin:
    """Origins carried through a cut: source (F,) the face of the model before it, -1 for the side of a hole.

    before (G,): origins of those; the first of them are the original's own faces, in its order.
    """
    face = np.where(source >= 0, before[np.maximum(source, 0)], BORE).astype(np.int8)
    outer = np.flatnonzero(face == OUTER)
    uses = np.bincount(source[outer], minlength=len(original.faces))
    # the same corners give the same area to the last bit
    whole = (uses[source[outer]] == 1) & (mesh.face_areas[outer] == original.face_areas[source[outer]])
    return Origin(face, kept_of(mesh, face, original, int(whole.sum())))


def kept_of(mesh: Mesh, face: Ints8, original: Mesh, same: int) -> Kept:
    """What is left of the original's surface, from origins."""
    left = float(mesh.face_areas[face == OUTER].sum())
    return Kept(same, len(original.faces), len(original.faces) - same, max(original.area - left, 0.0))


def _found_in(mesh: Mesh, original: Mesh) -> Bools:
    """Faces (F,) whose three corners, in their turn, are those of a face of the original."""
    return matching_faces(original, mesh)[1] > 0
