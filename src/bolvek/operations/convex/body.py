"""Convex bodies to cut with."""

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from bolvek.arrays import Floats
from bolvek.mesh import Mesh
from bolvek.spatial.frames import across


@dataclass(frozen=True)
class ConvexBody:
    """A convex body whose corners each join three planes.

    normal (P, 3) outward, offset (P,): points x with normal @ x <= offset; corner (C, 3); rings:
    per plane its corners, counterclockwise seen from outside.
    """

    normal: Floats
    offset: Floats
    corner: Floats
    rings: tuple[tuple[int, ...], ...]


def prism(start: Floats, end: Floats, radius: float, sides: int, turn_deg: float = 0.0) -> ConvexBody:
    """A straight prism around the axis start..end, its corners on a circle of the radius (mm)."""
    axis = end - start
    axis = axis / np.linalg.norm(axis)
    u, w = across(axis)
    angle = np.radians(turn_deg) + 2 * np.pi * np.arange(sides) / sides
    rim = radius * (np.cos(angle)[:, None] * u + np.sin(angle)[:, None] * w)
    corner = np.concatenate([start + rim, end + rim])
    middle = angle + np.pi / sides
    side = np.cos(middle)[:, None] * u + np.sin(middle)[:, None] * w
    apothem = radius * np.cos(np.pi / sides)
    normal = np.concatenate([side, [-axis, axis]])
    offset = np.concatenate([side @ start + apothem, [-axis @ start, axis @ end]])
    n = sides
    rings: list[tuple[int, ...]] = [(k, (k + 1) % n, n + (k + 1) % n, n + k) for k in range(n)]
    rings += [tuple(range(n - 1, -1, -1)), tuple(range(n, 2 * n))]
    return ConvexBody(normal, offset, corner, tuple(rings))


def lofted(rings: Sequence[Floats]) -> Mesh:
    """A closed body between rings (N, 3) of as many points each, counterclockwise seen from the last; both ends are
    fans around their middles."""
    n, last = len(rings[0]), len(rings) - 1
    vertices = np.concatenate([*rings, [rings[0].mean(axis=0), rings[last].mean(axis=0)]])
    a = np.arange(n)
    b = (a + 1) % n
    faces = [np.stack([b, a, np.full(n, len(vertices) - 2)], axis=1)]
    for k in range(last):
        low, high = k * n, (k + 1) * n
        faces += [np.stack([low + a, low + b, high + b], axis=1), np.stack([low + a, high + b, high + a], axis=1)]
    faces.append(np.stack([last * n + a, last * n + b, np.full(n, len(vertices) - 1)], axis=1))
    return Mesh(vertices, np.concatenate(faces))
