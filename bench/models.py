"""Organic models of any size for benchmarks and sweeps: seeded blobs with a bumpy skin."""

import numpy as np
from numpy.typing import NDArray
from scipy.spatial import cKDTree

from bolvek.demo.fields import blend, capsule, field_mesh
from bolvek.mesh import Mesh

Floats = NDArray[np.float64]


def blob(seed: int, height_mm: float, cell_mm: float, *, limbs: int = 6, bump_mm: float = 0.6) -> Mesh:
    """A trunk with limbs and a bumpy skin, `height_mm` tall, about 4 area / cell**2 triangles."""
    rng = np.random.default_rng(seed)
    h = height_mm
    sticks = [(np.array([0, 0, 0.16 * h]), np.array([0.05 * h, 0.03 * h, 0.74 * h]), 0.15 * h, 0.19 * h)]
    for _ in range(limbs):
        z = rng.uniform(0.2, 0.8) * h
        turn, lift = rng.uniform(0, 2 * np.pi), rng.uniform(-0.1, 0.2) * h
        reach = rng.uniform(0.22, 0.33) * h
        tip = np.array([reach * np.cos(turn), reach * np.sin(turn), np.clip(z + lift, 0.15 * h, 0.85 * h)])
        sticks.append((np.array([0, 0, z]), tip, rng.uniform(0.07, 0.1) * h, rng.uniform(0.055, 0.09) * h))
    waves = rng.normal(size=(5, 3)) * 2 * np.pi / (0.16 * h)
    phase = rng.uniform(0, 2 * np.pi, 5)

    def field(p: Floats) -> Floats:
        value = capsule(p, *sticks[0])
        for stick in sticks[1:]:
            value = blend(value, capsule(p, *stick), 0.05 * h)
        return np.asarray(value + bump_mm * np.sin(p @ waves.T + phase).sum(axis=1) / 2.2)

    box = np.array([0.5 * h, 0.5 * h, 0.0])
    mesh = field_mesh(field, -box - 0.01 * h, box + np.array([0.01 * h, 0.01 * h, 1.02 * h]), cell_mm, within_mm=0.0)
    return mesh.moved((mesh.vertices - mesh.bounds[0]) * (h / mesh.size[2])).as_stored()


def hurt(mesh: Mesh, faults: int, seed: int = 1) -> Mesh:
    """A sound mesh with so many faults, of six kinds in turn, at random places: holes, flipped patches, copies, folds,
    fins and cracks of up to 3 micrometres."""
    rng = np.random.default_rng(seed)
    middles = mesh.corners.mean(axis=1)
    tree = cKDTree(middles)
    edge = float(np.sqrt(mesh.area / len(mesh.faces)))
    n = len(mesh.vertices)
    faces, vertices = np.array(mesh.faces), np.array(mesh.vertices)
    keep = np.ones(len(faces), bool)
    more: list[tuple[int, ...]] = []
    points: list[Floats] = []
    for k, f in enumerate(rng.choice(len(faces), faults, replace=False).tolist()):
        near = tree.query_ball_point(middles[f], edge * rng.uniform(1, 6))
        a, b, c = (int(v) for v in faces[f])
        if max(a, b, c) >= n:  # a crack runs here
            continue
        if k % 6 == 0:
            keep[near] = False
        elif k % 6 == 1:
            faces[near] = faces[near][:, ::-1]
        elif k % 6 == 2:
            more += [tuple(faces[g].tolist()) for g in near]
        elif k % 6 == 3:
            vertices[a] += 1.6 * (vertices[b] - vertices[a])
        elif k % 6 == 4:
            out = np.cross(vertices[b] - vertices[a], vertices[c] - vertices[a])
            points.append(0.5 * (vertices[a] + vertices[b]) + edge * out / np.linalg.norm(out))
            more.append((a, b, n + len(points) - 1))
        else:
            own = np.unique(faces[near])
            own = own[own < n]
            copy = {int(v): n + len(points) + i for i, v in enumerate(own)}
            points += list(vertices[own] + rng.uniform(-3e-3, 3e-3, (len(own), 3)))
            faces[near] = [[copy.get(int(v), int(v)) for v in row] for row in faces[near]]
    all_faces = np.concatenate([faces[keep], np.array(more, faces.dtype)])
    return Mesh(np.concatenate([vertices, np.array(points)]), all_faces).picked(slice(None)).as_stored()
