"""Faces cut where they are longer than asked, their neighbours with them, the surface as it was."""

import numpy as np

from bolvek.arrays import Bools, Ints, stored
from bolvek.mesh import Mesh

_ROUNDS = 20
_MOST_FACES = 4_000_000


def refine(mesh: Mesh, chosen: Bools, longest_mm: float) -> tuple[Mesh, Ints]:
    """The mesh with edges of chosen faces (F,) halved until none is longer, and the face each face is of. Edges keep
    their two faces; others are cut only beside them. New points lie in the middle of edges, as files will hold them."""
    source = np.arange(len(mesh.faces))
    for _ in range(_ROUNDS):
        a, b = mesh.faces.ravel().astype(np.int64), np.roll(mesh.faces, -1, axis=1).ravel().astype(np.int64)
        low, high = np.minimum(a, b), np.maximum(a, b)
        length = np.linalg.norm(mesh.vertices[a] - mesh.vertices[b], axis=1)
        cut = np.repeat(chosen[source], 3) & (length > longest_mm)
        if not cut.any() or len(mesh.faces) > _MOST_FACES:
            break
        key = low * np.int64(len(mesh.vertices)) + high
        names, first = np.unique(key[cut], return_index=True)
        at = np.searchsorted(names, key)
        at = np.where((at < len(names)) & (names[np.minimum(at, len(names) - 1)] == key), at, -1).reshape(-1, 3)
        rows = np.flatnonzero(cut)[first]
        middle = 0.5 * (mesh.vertices[low[rows]] + mesh.vertices[high[rows]])
        faces, of = _split(mesh.faces.astype(np.int64), np.where(at >= 0, at + len(mesh.vertices), -1))
        points = np.concatenate([mesh.vertices, stored(middle)])
        mesh, source = Mesh(points, faces), source[of]
    return mesh, source


def _split(faces: Ints, middle: Ints) -> tuple[Ints, Ints]:
    """Faces (F, 3) cut at the middles (F, 3; -1 for none) of their edges, and the face that each is of."""
    count = (middle >= 0).sum(axis=1)
    done, of = [faces[count == 0]], [np.flatnonzero(count == 0)]
    # turned so that one cut edge is the first, or one whole edge the last
    first = np.where(count == 1, np.argmax(middle >= 0, axis=1), (np.argmax(middle < 0, axis=1) + 1) % 3)
    turn = (first[:, None] + np.arange(3)) % 3
    rows = np.arange(len(faces))[:, None]
    (a, b, c), (m, n, o) = faces[rows, turn].T, middle[rows, turn].T
    for number, triangles in (
        (1, ((a, m, c), (m, b, c))),
        (2, ((a, m, c), (m, n, c), (m, b, n))),
        (3, ((a, m, o), (m, b, n), (o, n, c), (m, n, o))),
    ):
        own = np.flatnonzero(count == number)
        for three in triangles:
            done.append(np.stack([corner[own] for corner in three], axis=1))
            of.append(own)
    order = np.argsort(np.concatenate(of), kind="stable")
    return np.concatenate(done)[order], np.concatenate(of)[order]
