"""Gaps: two loops of open edges that run along each other all around bound one strip of surface that is missing.

As between the side and the lid of a drum, between two lengths of a pipe, between the two skins of a wall. Closed one by
one they would part what belongs together. A band that is there, and not missing, has two such rims too: its surface
goes from each towards the other.
"""

import numpy as np

from bolvek.analyses.shells.islands import newell
from bolvek.arrays import Floats, Ints
from bolvek.mesh import Mesh

GAP_SHARE = 0.25
"""A gap is nowhere wider than this share of its loops' extent."""
_AWAY = 0.5  # cosine between the surface beside a loop and the way to the other, in the mean: more is a band
_AGAINST = -0.5  # of the loops' areas: they run against each other
_LEAST_EDGES, _MOST_LOOPS = 6, 400


def find_gaps(mesh: Mesh, loops: list[tuple[Floats, Ints]]) -> list[tuple[int, int]]:
    """Pairs of loops that bound one gap, each loop in one at most, the longer first. loops: points (N, 3) in the order
    of a fill, and half-edges (N,) of the mesh, from the same point on or not."""
    count = len(loops)
    if not 2 <= count <= _MOST_LOOPS:
        return []
    low, high = (np.array([f(p, axis=0) for p, _ in loops]) for f in (np.min, np.max))
    span = (high - low).max(axis=1)
    normal = np.array([newell(points) for points, _ in loops])
    size = np.linalg.norm(normal, axis=1)
    found = []
    for a in range(count):
        reach = GAP_SHARE * np.minimum(span, span[a])
        near = (np.abs(low - low[a]).max(axis=1) <= reach) & (np.abs(high - high[a]).max(axis=1) <= reach)
        for b in np.flatnonzero(near).tolist():
            if b <= a or min(len(loops[a][0]), len(loops[b][0])) < _LEAST_EDGES:
                continue
            if normal[a] @ normal[b] > _AGAINST * size[a] * size[b]:
                continue
            there, way = _to_loop(loops[a][0], loops[b][0])
            back, way_back = _to_loop(loops[b][0], loops[a][0])
            widest = max(float(there.max()), float(back.max()))
            if widest > reach[b] or not widest > 0:
                continue
            if max(_towards(mesh, *loops[a], way), _towards(mesh, *loops[b], way_back)) > _AWAY:
                continue
            found.append((widest, a, b))
    taken: set[int] = set()
    pairs = []
    for _, a, b in sorted(found):
        if not {a, b} & taken:
            taken |= {a, b}
            pairs.append((a, b) if size[a] >= size[b] else (b, a))
    return pairs


def _to_loop(points: Floats, loop: Floats) -> tuple[Floats, Floats]:
    """How far (N,) points are from a closed loop (M, 3), and the ways there (N, 3)."""
    start, step = loop, np.roll(loop, -1, axis=0) - loop
    square = np.maximum(np.einsum("mk,mk->m", step, step), 1e-300)
    far, way = np.empty(len(points)), np.empty_like(points)
    for k, point in enumerate(points):
        t = np.clip(np.einsum("mk,mk->m", point - start, step) / square, 0.0, 1.0)
        off = start + t[:, None] * step - point
        length = np.einsum("mk,mk->m", off, off)
        best = int(np.argmin(length))
        far[k], way[k] = np.sqrt(length[best]), off[best]
    return far, way


def _towards(mesh: Mesh, points: Floats, half: Ints, way: Floats) -> float:
    """The mean cosine between the way (N, 3) from a loop's points (N, 3) to another loop and the surface beside, as it
    goes away from the loop's edges."""
    a, b = (mesh.vertices[end] for end in mesh.edge_ends(half))
    along = (b - a) / np.maximum(np.linalg.norm(b - a, axis=1), 1e-300)[:, None]
    away = mesh.vertices[mesh.faces[half // 3, (half % 3 + 2) % 3]] - a
    away = away - np.einsum("ij,ij->i", away, along)[:, None] * along
    away /= np.maximum(np.linalg.norm(away, axis=1), 1e-300)[:, None]
    # the edge that begins or ends at each point
    nearest = np.argmin(np.linalg.norm(points[:, None] - 0.5 * (a + b)[None], axis=2), axis=1)
    unit = way / np.maximum(np.linalg.norm(way, axis=1), 1e-300)[:, None]
    return float(np.einsum("ij,ij->i", away[nearest], unit).mean())
