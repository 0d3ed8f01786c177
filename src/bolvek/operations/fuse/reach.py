"""Bodies that hover near others, brought into contact: small ones moved, larger ones grown where they face the other.

The shortest way between two bodies is exact: from a corner of one to a face of the other, or between edges that pass
each other.
"""

from dataclasses import dataclass
from typing import Literal

import numpy as np

from bolvek.analyses.shells import nest_exactly
from bolvek.arrays import Bools, Floats, stored
from bolvek.mesh import Mesh
from bolvek.operations.fuse.parts import fuse_parts
from bolvek.operations.refine import refine
from bolvek.operations.slim import slim
from bolvek.operations.untangle import untangle
from bolvek.units import Triple, as_triple

_INTO_SHARE = 1e-4
"""So far, as a share of its longest side, a body that is brought into contact goes into the other."""
_STRAY_SHARE = 0.02
"""A body smaller than this share of what it comes to is moved; a larger one stays and grows."""
_SLIGHT_SHARE = 1e-4
"""Nor is one grown that lacks less than this share of its longest side."""
_MOST_ACROSS = 80  # pieces that an edge as long as the body may be cut into
_FACING = 0.3  # cosine between a corner's normal and its way to the other body: less does not face it
_FINE = 2.0  # reaches: facing faces are cut up to this, so that only what faces grows
_SLIM = 0.1  # of how far it goes into the other
_MOST_SAMPLES = 400_000


@dataclass(frozen=True, kw_only=True)
class Reached:
    """A body that hovered: how far off, where, its triangles and volume; whether it was moved, or grown where it
    faces the other."""

    distance_mm: float
    where_mm: Triple
    triangles: int
    volume_mm3: float
    how: Literal["moved", "grown"] = "moved"


def brought_together(union: Mesh, reach: float) -> tuple[Mesh, list[Reached]]:
    """Bodies that hover nearer than a reach, the smallest first, each brought into contact with the nearest."""
    reached: list[Reached] = []
    while True:
        bodies = bodies_of(union)
        if len(bodies) == 1:
            return union, reached
        bodies.sort(key=lambda body: (body.volume, len(body.faces)))
        near = _near(bodies, reach)
        for k in np.flatnonzero(near.sum(axis=1) > 1).tolist():
            body = bodies[k]
            beside = [bodies[j] for j in np.flatnonzero(near[k]).tolist() if j != k]
            target = beside[0].joined(*beside[1:])
            way, where, distance = shortest_way(body, target, reach)
            if distance > reach:
                continue
            rest = [other for j, other in enumerate(bodies) if j != k]
            into = _INTO_SHARE * float(body.size.max())
            stray = body.volume < _STRAY_SHARE * max(other.volume for other in beside)
            stray |= distance < _SLIGHT_SHARE * float(body.size.max())
            grown = None if stray else _grown_towards(body, target, reach, into)
            moved = body.moved(body.vertices + way * (distance + into) / max(distance, 1e-12))
            union = fuse_parts([*rest, moved if grown is None else grown])
            reached.append(
                Reached(
                    distance_mm=distance,
                    where_mm=where,
                    triangles=len(body.faces),
                    volume_mm3=body.volume,
                    how="moved" if grown is None else "grown",
                )
            )
            break
        else:
            return union, reached
        if len(bodies_of(union)) >= len(bodies):
            return union, reached[:-1]


def bodies_of(mesh: Mesh) -> list[Mesh]:
    """The pieces of a sound mesh: each outer shell with what lies in it."""
    nested = nest_exactly(mesh)
    shell = mesh.topology.shell
    found = []
    for number in np.flatnonzero(nested.depth == 0).tolist():
        mine = [number, *nested.inner[nested.outer == number].tolist()]
        found.append(mesh.picked(np.isin(shell, mine)))
    return found


def _near(bodies: list[Mesh], reach: float) -> Bools:
    """Which bodies (N, N) have boxes within reach of each other."""
    low, high = (np.array([body.bounds[k] for body in bodies]) for k in (0, 1))
    meet = ((low[:, None] <= high[None] + reach) & (high[:, None] >= low[None] - reach)).all(axis=2)
    return np.asarray(meet)


def shortest_way(body: Mesh, other: Mesh, reach: float) -> tuple[Floats, Triple, float]:
    """The way (3,) from a body to another, where it begins, and how long it is (inf beyond the reach)."""
    best = np.zeros(3), as_triple(np.zeros(3)), np.inf
    for one, two, sign in ((body, other, 1.0), (other, body, -1.0)):
        points = one.vertices
        low, high = two.bounds
        points = points[((points >= low - reach) & (points <= high + reach)).all(axis=1)]
        if not len(points):
            continue
        gap, face = two.tree.nearest(points, reach)
        k = int(np.argmin(gap))
        if not gap[k] < best[2] or face[k] < 0:
            continue
        to = two.tree.closest_points(points[[k]], face[[k]])[0]
        best = sign * (to - points[k]), as_triple(points[k] if sign > 0 else to), float(gap[k])
    if reach < _SLIGHT_SHARE * float(body.size.max()):
        return best  # for contact, corners will do
    start, end = _between_edges(body, other, min(reach, best[2]))
    if len(start):
        gap = np.linalg.norm(end - start, axis=1)
        k = int(np.argmin(gap))
        if gap[k] < best[2]:
            best = end[k] - start[k], as_triple(start[k]), float(gap[k])
    return best


def _between_edges(body: Mesh, other: Mesh, reach: float) -> tuple[Floats, Floats]:
    """Nearest places (N, 3) on edges of a body and on edges of another that pass it within reach."""
    half = np.flatnonzero(body.topology.opposite > np.arange(3 * len(body.faces)))
    p, q = (body.vertices[end] for end in body.edge_ends(half))
    low, high = other.bounds
    close = ((np.minimum(p, q) <= high + reach) & (np.maximum(p, q) >= low - reach)).all(axis=1)
    p, q = p[close], q[close]
    length = np.linalg.norm(q - p, axis=1)
    count = np.ceil(length / max(reach, 1e-12)).astype(np.int64)
    count = np.maximum(np.minimum(count, max(1, _MOST_SAMPLES // max(len(p), 1))), 1)
    edge = np.repeat(np.arange(len(p)), count)
    step = np.arange(len(edge)) - np.repeat(np.cumsum(count) - count, count)
    share = (step + 0.5) / count[edge]
    samples = p[edge] + share[:, None] * (q - p)[edge]
    far = reach + 0.5 * float((length / np.maximum(count, 1)).max(initial=0.0))
    _, face = other.tree.nearest(samples, far)
    pairs = np.unique(np.stack([edge, face], axis=1)[face >= 0], axis=0)
    found = []
    for k in range(3):
        a, b = (other.vertices[other.faces[pairs[:, 1], j % 3]] for j in (k, k + 1))
        found.append(closest_between(p[pairs[:, 0]], q[pairs[:, 0]], a, b))
    if not found:
        return np.zeros((0, 3)), np.zeros((0, 3))
    return np.concatenate([f[0] for f in found]), np.concatenate([f[1] for f in found])


def closest_between(p: Floats, q: Floats, a: Floats, b: Floats) -> tuple[Floats, Floats]:
    """The nearest places (N, 3) of segments p q and a b, row by row (Ericson, Real-Time Collision Detection, 2004)."""
    d, e, r = q - p, b - a, p - a
    dd, ee, de = (np.einsum("ij,ij->i", u, v) for u, v in ((d, d), (e, e), (d, e)))
    dr, er = np.einsum("ij,ij->i", d, r), np.einsum("ij,ij->i", e, r)
    cross = dd * ee - de * de
    s = np.clip((de * er - dr * ee) / np.where(cross > 1e-30, cross, np.inf), 0.0, 1.0)
    t = np.clip((de * s + er) / np.maximum(ee, 1e-300), 0.0, 1.0)
    s = np.clip((de * t - dr) / np.maximum(dd, 1e-300), 0.0, 1.0)
    return p + s[:, None] * d, a + t[:, None] * e


def _grown_towards(body: Mesh, other: Mesh, reach: float, into: float) -> Mesh | None:
    """The body with what faces another within reach drawn onto it; None where nothing faces it so."""
    longest = max(_FINE * reach, float(body.size.max()) / _MOST_ACROSS)
    fine, _ = refine(body, _facing_faces(body, other, reach), longest)
    gap, face = other.tree.nearest(fine.vertices, reach)
    close = np.flatnonzero(np.isfinite(gap) & (gap > 0))
    if not len(close):
        return None
    way = other.tree.closest_points(fine.vertices[close], face[close]) - fine.vertices[close]
    facing = np.einsum("ij,ij->i", way, fine.vertex_normals[close]) > _FACING * gap[close]
    close, way = close[facing], way[facing]
    if not len(close):
        return None
    vertices = fine.vertices.copy()
    vertices[close] += way * (1 + into / gap[close])[:, None]
    grown = untangle(fine, fine.moved(stored(vertices)))
    # what was only cut up comes together again; the body's own corners stay
    return slim(grown, _SLIM * into, np.arange(len(fine.vertices)) < len(body.vertices))[0]


def _facing_faces(body: Mesh, other: Mesh, reach: float) -> Bools:
    """Faces (F,) some of which may come within reach of another body."""
    low, high = other.bounds
    corner = body.vertices[body.faces]
    return np.asarray(((corner.min(axis=1) <= high + reach) & (corner.max(axis=1) >= low - reach)).all(axis=1))
