"""Plain bodies and sheets for models whose faults are planned: every triangle is known."""

from collections.abc import Sequence

import numpy as np

from bolvek.arrays import Bools, Floats
from bolvek.mesh import Mesh


def turned(profile: Sequence[tuple[float, float]], sides: int, *, ring: bool = False) -> Mesh:
    """A body turned about z from (radius, height) points going up; ring closes the profile on itself.

    Radius 0 at the first or last point makes a tip; other ends of an open profile are closed by fans.
    """
    points = [*profile]
    if not ring:
        points = ([] if points[0][0] == 0 else [(0.0, points[0][1])]) + points
        points += [] if points[-1][0] == 0 else [(0.0, points[-1][1])]
    angle = 2 * np.pi * np.arange(sides) / sides
    rows = [[(r * np.cos(a), r * np.sin(a), z) for a in angle] if r else [(0.0, 0.0, z)] for r, z in points]
    start = np.cumsum([0, *(len(row) for row in rows)])
    faces: list[tuple[int, int, int]] = []
    for k in range(len(rows) if ring else len(rows) - 1):
        low, high = k, (k + 1) % len(rows)
        for i in range(sides):
            j = (i + 1) % sides
            a, b = start[low] + i % len(rows[low]), start[low] + j % len(rows[low])
            c, d = start[high] + i % len(rows[high]), start[high] + j % len(rows[high])
            faces += [(a, b, d)] if a != b else []
            faces += [(a, d, c)] if c != d else []
    return Mesh(np.array([p for row in rows for p in row]), faces)


def block(low: tuple[float, float, float], high: tuple[float, float, float]) -> Mesh:
    """A box of twelve triangles facing out."""
    ends = np.array([low, high], float)
    vertices = np.array([[ends[i & 1, 0], ends[i >> 1 & 1, 1], ends[i >> 2 & 1, 2]] for i in range(8)])
    quads = [(0, 2, 3, 1), (4, 5, 7, 6), (0, 1, 5, 4), (2, 6, 7, 3), (0, 4, 6, 2), (1, 3, 7, 5)]
    return Mesh(vertices, [t for a, b, c, d in quads for t in ((a, b, c), (a, c, d))])


def globe(radius: float, centre: tuple[float, float, float], sides: int = 24) -> Mesh:
    """A ball of latitudes and longitudes."""
    polar = np.pi * np.arange(sides // 2 + 1) / (sides // 2)
    profile = [
        (float(radius * np.sin(p)) if 0 < k < sides // 2 else 0.0, float(-radius * np.cos(p)))
        for k, p in enumerate(polar)
    ]
    body = turned(profile, sides)
    return body.moved(body.vertices + np.array(centre))


def sheet(points: Floats, keep: Bools | None = None) -> Mesh:
    """Two triangles a cell of a grid of points (M, N, 3), where keep (M - 1, N - 1) says so."""
    m, n = points.shape[:2]
    number = np.arange(m * n).reshape(m, n)
    a, b, c, d = number[:-1, :-1], number[1:, :-1], number[1:, 1:], number[:-1, 1:]
    cells = np.stack([np.stack([a, b, c], -1), np.stack([a, c, d], -1)], axis=2)
    if keep is not None:
        cells = cells[keep]
    return Mesh(points.reshape(-1, 3), cells.reshape(-1, 3)).picked(slice(None))


def blocks(cells: Bools, size: float) -> Mesh:
    """The surface of filled cells (X, Y, Z) of a grid, two triangles a side that has no neighbour."""
    wide = np.pad(cells, 1)
    shape = np.array(cells.shape) + 1
    corners = []
    for axis in range(3):
        for side in (0, 1):
            beside = np.roll(wide, 1 - 2 * side, axis=axis)[1:-1, 1:-1, 1:-1]
            at = np.argwhere(cells & ~beside)
            u, v = np.eye(3, dtype=int)[(axis + 1) % 3], np.eye(3, dtype=int)[(axis + 2) % 3]
            base = at + side * np.eye(3, dtype=int)[axis]
            quad = np.stack([base, base + u, base + u + v, base + v], axis=1)
            corners.append(quad if side else quad[:, ::-1])
    points = np.concatenate(corners)
    number = (points[..., 0] * shape[1] + points[..., 1]) * shape[2] + points[..., 2]
    used, index = np.unique(number, return_inverse=True)
    index = index.reshape(-1, 4)
    faces = np.concatenate([index[:, [0, 1, 2]], index[:, [0, 2, 3]]])
    grid = np.stack(np.unravel_index(used, tuple(shape)), axis=1)
    return Mesh(size * grid, faces)


def in_one(pieces: Sequence[Mesh]) -> Mesh:
    """Pieces in one mesh as a file holds them: float32, equal points welded."""
    return pieces[0].joined(*pieces[1:]).as_stored()
