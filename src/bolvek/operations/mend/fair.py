"""Curved fills: the free vertices of a fill moved until it goes on as the surface around it does.

First the thin plate (a bilaplacian, Kobbelt 1998), which meets the surroundings without a crease. Where a band of three
rings around the opening lies on one quadric (a sphere, an ellipsoid, a cylinder, a cone), the fill is then brought
onto that, as Taubin 1991 fits it, so that a deep cap comes back too; what is left between rim and quadric is spread
over the fill.
"""

from typing import TYPE_CHECKING

import numpy as np

from bolvek.arrays import Bools, Floats, Ints

if TYPE_CHECKING:
    from scipy.sparse import csr_matrix

_COTANGENT = 20.0  # of a corner: larger ones, and those smaller than its opposite, are cut
QUADRIC_RMS, QUADRIC_MOST = 4e-3, 1.5e-2
"""The band lies on a quadric when its points are nearer to it than these shares of the rim's extent, in the mean
square and at most."""
_STEPS = 12


def fair(points: Floats, faces: Ints, free: Bools, rim: Bools) -> tuple[Floats, bool]:
    """Points (P, 3) with the free ones moved, and whether onto a quadric that the others lie on. faces (F, 3): the
    fill's and some rings around it; rim (P,): vertices between the two."""
    if not free.any():
        return points, False
    plate = _thin_plate(points, faces, free, rim)
    if not np.isfinite(plate).all():
        return points, False
    found = _onto_quadric(plate, faces, free, rim)
    return (plate, False) if found is None else (found, True)


def _laplacian(points: Floats, faces: Ints) -> "tuple[csr_matrix, Floats]":
    """Cotangent stiffness and the area (P,) that belongs to each vertex."""
    from scipy.sparse import csr_matrix

    n = len(points)
    corner = points[faces]
    double = np.linalg.norm(np.cross(corner[:, 1] - corner[:, 0], corner[:, 2] - corner[:, 0]), axis=1)
    rows, columns, values = [], [], []
    for k in range(3):
        i, j, o = faces[:, k], faces[:, (k + 1) % 3], faces[:, (k + 2) % 3]
        dot = np.einsum("ij,ij->i", points[i] - points[o], points[j] - points[o])
        w = 0.5 * np.clip(dot / np.maximum(double, 1e-300), -_COTANGENT, _COTANGENT)
        rows += [i, j, i, j]
        columns += [j, i, i, j]
        values += [-w, -w, w, w]
    stiff = csr_matrix((np.concatenate(values), (np.concatenate(rows), np.concatenate(columns))), shape=(n, n))
    area = np.bincount(faces.ravel(), np.repeat(double / 6, 3), n)
    return stiff, np.maximum(area, 1e-300)


def _thin_plate(points: Floats, faces: Ints, free: Bools, rim: Bools) -> Floats:
    """The free points where they bend least, at the rim too."""
    from scipy.sparse import diags
    from scipy.sparse.linalg import splu

    stiff, area = _laplacian(points, faces)
    rows = np.flatnonzero(free | rim)
    bend = diags(1 / np.sqrt(area[rows])) @ stiff[rows]
    own = bend[:, np.flatnonzero(free)]
    target = -(bend[:, np.flatnonzero(~free)] @ points[~free])
    moved = points.copy()
    try:
        moved[free] = splu((own.T @ own).tocsc()).solve(own.T @ target)
    except RuntimeError:  # singular: triangles without area around it
        return points
    return moved


def _onto_quadric(points: Floats, faces: Ints, free: Bools, rim: Bools) -> Floats | None:
    """The free points brought onto the quadric that the other points lie on; None where there is none."""
    middle = points[rim].mean(axis=0)
    extent = float(np.ptp(points[rim], axis=0).max())
    local = (points - middle) / extent
    band = faces[~free[faces].any(axis=1)]
    vertices, whole = _whole_fans(band)
    normals = _normals(local, band)[vertices[whole]]
    for kind in (_SPHERES, np.eye(10)):
        c = _quadric(local[vertices], local[vertices[whole]], normals, kind)
        if c is not None:
            break
    else:
        return None
    near = np.flatnonzero(free | rim)
    on, arrived = _project(local[near], c)
    if not arrived:
        return None
    moved = local.copy()
    moved[near] = on
    # what the rim is off the quadric is spread over the fill
    stiff, _ = _laplacian(local, faces)
    inner, border = np.flatnonzero(free), np.flatnonzero(rim)
    from scipy.sparse.linalg import splu

    rows = stiff[inner]
    try:
        spread = splu(rows[:, inner].tocsc()).solve(-(rows[:, border] @ (local[border] - moved[border])))
    except RuntimeError:
        return None
    result = points.copy()
    result[inner] = middle + extent * (moved[inner] + spread)
    return result if np.isfinite(result).all() else None


def _monomials(p: Floats) -> Floats:
    """Values (N, 10) of the monomials up to the second degree."""
    x, y, z = p.T
    return np.stack([x * x, y * y, z * z, x * y, y * z, z * x, x, y, z, np.ones(len(p))], axis=1)


def _gradients(p: Floats) -> Floats:
    """Gradients (N, 3, 10) of the monomials."""
    x, y, z = p.T
    o, i = np.zeros(len(p)), np.ones(len(p))
    return np.stack(
        [
            np.stack([2 * x, o, o, y, o, z, i, o, o, o], axis=1),
            np.stack([o, 2 * y, o, x, z, o, o, i, o, o], axis=1),
            np.stack([o, o, 2 * z, o, y, x, o, o, i, o], axis=1),
        ],
        axis=1,
    )


def _whole_fans(faces: Ints) -> tuple[Ints, Bools]:
    """The vertices of faces, and which of them have faces all around: as many edges as faces."""
    ends = np.sort(np.stack([faces, np.roll(faces, -1, axis=1)], axis=2).reshape(-1, 2), axis=1)
    edges = np.unique(ends, axis=0)
    n = int(faces.max()) + 1
    degree = np.bincount(edges.ravel(), minlength=n)
    uses = np.bincount(faces.ravel(), minlength=n)
    vertices = np.unique(faces)
    return vertices, np.asarray(degree[vertices] == uses[vertices])


_SPHERES = np.zeros((10, 5))
_SPHERES[:3, 0] = _SPHERES[6, 1] = _SPHERES[7, 2] = _SPHERES[8, 3] = _SPHERES[9, 4] = 1.0
"""What quadrics are spheres (and planes)."""


def _quadric(points: Floats, at: Floats, normals: Floats, kind: Floats) -> Floats | None:
    """Coefficients (10,) of the quadric that points (N, 3) lie on, with unit normals (M, 3) at some (M, 3) of them;
    None where there is none. kind (10, K): the combinations to choose from.

    Least squares of the value and of the gradient across the normal, against the gradient along it.
    """
    value, gradient = _monomials(points) @ kind, _gradients(at) @ kind
    if len(at) < 12:
        return None
    along = np.einsum("nkc,nk->nc", gradient, normals)
    across = gradient - along[:, None] * normals[:, :, None]
    a = value.T @ value + np.einsum("nkc,nkd->cd", across, across)
    b = along.T @ along
    size = float(np.trace(b))
    values, vectors = np.linalg.eig(np.linalg.solve(a + 1e-12 * size * np.eye(len(a)), b))
    c = np.real(vectors[:, int(np.argmax(np.real(values)))])
    slope = along @ c
    if slope.sum() < 0:
        c, slope = -c, -slope
    if not slope.min() > 0:
        return None
    c = kind @ c
    off = np.abs(_monomials(points) @ c) / np.linalg.norm(_gradients(points) @ c, axis=1)
    return c if np.sqrt((off**2).mean()) <= QUADRIC_RMS and off.max() <= QUADRIC_MOST else None


def _project(points: Floats, c: Floats) -> tuple[Floats, bool]:
    """Points (N, 3) moved along the gradient onto the quadric, and whether all arrived without going far."""
    p = points.copy()
    off = np.full(len(p), np.inf)
    for _ in range(_STEPS):
        gradient = _gradients(p) @ c
        square = np.maximum((gradient**2).sum(axis=1), 1e-12)
        step = (_monomials(p) @ c) / square
        off = np.abs(step) * np.sqrt(square)
        p -= np.clip(step, -0.5 / np.sqrt(square), 0.5 / np.sqrt(square))[:, None] * gradient
    return p, bool(np.isfinite(p).all() and off.max() < 1e-6 and np.linalg.norm(p - points, axis=1).max() < 1.0)


def _normals(points: Floats, faces: Ints) -> Floats:
    """Unit normals (P, 3), weighted by area."""
    corner = points[faces]
    cross = np.cross(corner[:, 1] - corner[:, 0], corner[:, 2] - corner[:, 0])
    total = np.stack([np.bincount(faces.ravel(), np.repeat(cross[:, k], 3), len(points)) for k in range(3)], axis=1)
    return np.asarray(total / np.maximum(np.linalg.norm(total, axis=1), 1e-300)[:, None])
