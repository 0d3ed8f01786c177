"""Faces told apart by where their corners are, whatever mesh they are in."""

import numpy as np
from numpy.typing import NDArray

from bolvek.mesh.mesh import Mesh


def face_keys(mesh: Mesh) -> NDArray[np.void]:
    """A value a face (F,): the same for faces whose three corners, in their turn, are the same bit for bit."""
    corners = mesh.vertices[mesh.faces]
    # begin each face at its lowest corner, so that the turn alone counts
    key = corners[..., 0] * 0.7310585 + corners[..., 1] * 0.3132617 + corners[..., 2] * 0.6065307
    first = np.argmin(key, axis=1)
    turned = np.take_along_axis(corners, ((first[:, None] + np.arange(3)) % 3)[..., None], axis=1)
    flat = np.ascontiguousarray(turned.reshape(-1, 9) + 0.0)
    return flat.view(np.dtype((np.void, flat.dtype.itemsize * 9))).ravel()
