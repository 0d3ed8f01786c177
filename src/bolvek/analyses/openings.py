"""Openings: open edges followed into loops, measured, and told apart as holes, cracks and rims."""

from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from bolvek.kernels import inspect as kernels
from bolvek.mesh import Mesh
from bolvek.mesh.topology import OPEN

RIM_SHARE = 0.4
"""A loop is the rim of an open skin when a disc as long around has at least this share of the skin's area."""

CRACK_SHARE = 1e-3
"""A loop is a crack when its mean width is below this share of its length."""

_MOST_PAIRS = 300  # rim points up to which all pairs are measured for the span

Triple = tuple[float, float, float]


@dataclass(frozen=True)
class Opening:
    """One loop (or chain, where non-manifold edges break it) of open edges.

    kind: "hole", "crack" or "rim" (of an open skin). span_mm: widest distance between two rim points;
    bent_mm: farthest rim point from the mean plane; shell counts from 1.
    """

    kind: str
    edges: int
    length_mm: float
    span_mm: float
    bent_mm: float
    area_mm2: float
    where_mm: Triple
    size_mm: Triple
    shell: int
    closed: bool


def open_chains(mesh: Mesh) -> list[tuple[NDArray[np.int64], bool]]:
    """Open half-edges chain by chain, and whether each comes back. No vertex twice in a closed one.

    A chain follows the fan of faces around each vertex, so that skins touching in a point stay apart.
    """
    topology = mesh.topology
    half = np.flatnonzero(topology.twin == OPEN)
    # edges from a vertex to itself bound nothing
    face, k = np.divmod(half, 3)
    half = half[mesh.faces[face, k] != mesh.faces[face, (k + 1) % 3]]
    if not len(half):
        return []
    face, k = np.divmod(half, 3)
    fans, node = np.unique(topology.fan[np.stack([half, 3 * face + (k + 1) % 3])], return_inverse=True)
    node = node.reshape(2, -1).astype(np.int32)
    both = node.T.ravel()
    edges = (np.argsort(both, kind="stable") // 2).astype(np.int32)
    first = np.concatenate([[0], np.cumsum(np.bincount(both, minlength=len(fans)))])
    order, ends = np.empty(len(half), np.int32), np.empty(len(half), np.int32)
    closed = np.zeros(len(half), bool)
    chains = kernels.trace_rims(node[0], node[1], first, edges, order, ends, closed)
    found: list[tuple[NDArray[np.int64], bool]] = []
    for c, piece in enumerate(np.split(half[order], ends[: chains - 1])):
        found += [(piece, bool(closed[c]))] if len(piece) < 4 else _simple(mesh, piece, bool(closed[c]))
    return found


def _walk(mesh: Mesh, chain: NDArray[np.int64]) -> NDArray[np.int64]:
    """The vertex each edge of a chain is entered by."""
    face, k = np.divmod(chain, 3)
    a, b = mesh.faces[face, k], mesh.faces[face, (k + 1) % 3]
    if len(chain) == 1:
        return a.astype(np.int64)
    # an edge is entered by the end it does not share with the next one
    forward = (b == np.roll(a, -1)) | (b == np.roll(b, -1))
    return np.where(forward, a, b).astype(np.int64)


def _simple(mesh: Mesh, chain: NDArray[np.int64], closed: bool) -> list[tuple[NDArray[np.int64], bool]]:
    """Cut a closed chain at vertices it passes more than once."""
    entered = _walk(mesh, chain)
    if not closed or len(np.unique(entered)) == len(entered):
        return [(chain, closed)]
    found, stack, place = [], list[int](), dict[int, int]()
    for i, v in enumerate(entered.tolist()):
        if v in place:
            loop = stack[place[v] :]
            found.append((chain[loop], True))
            for j in loop:
                place.pop(int(entered[j]), None)
            del stack[len(stack) - len(loop) :]
        place[v] = len(stack)
        stack.append(i)
    if stack:
        found.append((chain[stack], True))
    return found


def find_openings(mesh: Mesh) -> tuple[list[Opening], list[NDArray[np.int64]]]:
    """All openings, smallest span first, and the open half-edges of each."""
    chains = open_chains(mesh)
    if not chains:
        return [], []
    measured = _measure(mesh, chains)
    shell_area = np.bincount(mesh.topology.shell, mesh.face_areas, mesh.topology.shells)
    longest: dict[int, float] = {}
    for row in measured:
        longest[row.shell] = max(longest.get(row.shell, 0.0), row.length_mm)
    judged = []
    for row in measured:
        disc = row.length_mm**2 / (4 * np.pi)
        kind = "hole"
        if row.closed and row.area_mm2 < 0.5 * CRACK_SHARE * row.length_mm**2:
            kind = "crack"
        elif disc >= RIM_SHARE * shell_area[row.shell - 1] and row.length_mm >= 0.5 * longest[row.shell]:
            kind = "rim"
        judged.append(row if kind == "hole" else replace(row, kind=kind))
    order = sorted(range(len(judged)), key=lambda i: (judged[i].span_mm, judged[i].where_mm))
    return [judged[i] for i in order], [chains[i][0] for i in order]


def _measure(mesh: Mesh, chains: list[tuple[NDArray[np.int64], bool]]) -> list[Opening]:
    """Every chain measured, as a hole."""
    edges = np.array([len(chain) for chain, _ in chains])
    starts = np.concatenate([[0], np.cumsum(edges)[:-1]])
    owner = np.repeat(np.arange(len(chains)), edges)
    face, k = np.divmod(np.concatenate([chain for chain, _ in chains]), 3)
    a, b = mesh.vertices[mesh.faces[face, k]], mesh.vertices[mesh.faces[face, (k + 1) % 3]]
    length = np.linalg.norm(b - a, axis=1)
    total = np.add.reduceat(length, starts)
    weight = length / np.maximum(total, 1e-300)[owner]
    middle = np.add.reduceat(0.5 * (a + b) * weight[:, None], starts)
    area = np.linalg.norm(0.5 * np.add.reduceat(np.cross(a - middle[owner], b - middle[owner]), starts), axis=1)
    low, high = (f.reduceat(f(a, b), starts) for f in (np.minimum, np.maximum))
    span, bent = np.maximum.reduceat(length, starts), np.zeros(len(chains))
    for c in np.flatnonzero((edges != 3) | ~np.array([closed for _, closed in chains])):
        rows = slice(starts[c], starts[c] + edges[c])
        points = np.unique(np.concatenate([a[rows], b[rows]]), axis=0)
        span[c] = _span(points)
        if len(points) > 3:  # the mean plane: least spread of the rim points
            off = points - points.mean(axis=0)
            bent[c] = np.abs(off @ np.linalg.svd(off, full_matrices=False)[2][-1]).max()
    shell = mesh.topology.shell[face[starts]] + 1
    columns = (edges, total, span, bent, area, middle, high - low, shell)
    return [
        Opening("hole", n, around, widest, off, within, (x, y, z), (u, v, w), number, closed)
        for (n, around, widest, off, within, (x, y, z), (u, v, w), number), (_, closed) in zip(
            zip(*(column.tolist() for column in columns), strict=True), chains, strict=True
        )
    ]


def _span(points: NDArray[np.float64]) -> float:
    """The widest distance between two of the points."""
    if len(points) > _MOST_PAIRS:
        from scipy.spatial import ConvexHull, QhullError  # slow to import, and hardly ever needed

        try:
            points = points[ConvexHull(points).vertices]
        except QhullError:  # a flat rim: its hull in the plane it lies in
            axes = np.linalg.svd(points - points.mean(axis=0), full_matrices=False)[2][:2]
            try:
                points = points[ConvexHull(points @ axes.T).vertices]
            except QhullError:
                along = points @ axes[0]
                points = points[[int(along.argmin()), int(along.argmax())]]
    widest = 0.0
    for at in range(0, len(points), 1000):
        apart = points[at : at + 1000, None] - points
        widest = max(widest, float(np.einsum("ijk,ijk->ij", apart, apart).max()))
    return float(np.sqrt(widest))
