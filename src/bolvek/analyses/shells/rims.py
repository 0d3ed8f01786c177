"""Open edges followed into loops; edges that lie on each other (seams) zipped in thought first."""

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from bolvek.arrays import Bools, Floats, Ints, Ints32
from bolvek.kernels.surface import defects as kernels
from bolvek.mesh import Mesh
from bolvek.mesh.topology import CROWDED, OPEN
from bolvek.spatial.frames import across
from bolvek.spatial.groups import linked_groups
from bolvek.spatial.points import PointTree

NEAR_SHARE, MOST_NEAR_MM = 1e-4, 0.02
"""Vertices nearer than this share of the longest side, at most so many mm, count as doubled."""

_SAME_WAY = 1e-9  # radians: two edges that leave a vertex side by side

_MOST_CANDIDATES = 20_000_000  # vertices beside edges that are looked at, beyond which no T-junction is looked for


def near_mm(mesh: Mesh) -> float:
    """The distance up to which vertices count as doubled unless said otherwise."""
    return float(min(NEAR_SHARE * mesh.size.max(), MOST_NEAR_MM))


@dataclass(frozen=True)
class Rims:
    """Pieces of open edges: from, to (E, 3), the half-edge (E,) of each; loops and seams as rows of pieces.

    A loop runs through edges of odd use too (half-edges of faces whose edge is crowded). Of a seam, the pieces
    lie on each other two by two. links (L, 2): shells that a seam holds together.
    """

    start: Floats
    end: Floats
    half: Ints
    loops: list[Ints]
    seams: list[Ints]
    links: Ints


def open_pairs(mesh: Mesh, radius: float) -> Ints:
    """Pairs (P, 2) of vertices on open edges, within `radius` mm of each other, that share no edge."""
    half = np.flatnonzero(mesh.topology.opposite == OPEN)
    rim = np.unique(np.stack(mesh.edge_ends(half)))
    if not radius > 0 or len(rim) < 2:
        return np.zeros((0, 2), np.int64)
    points = mesh.vertices[rim]
    table = np.full(1 << max(4, int(2 * len(points) - 1).bit_length()), -1, np.int32)
    room = np.empty((4 * len(points) + 16, 2), np.int32)
    found = room[: kernels.near_pairs(points - mesh.bounds[0], radius, table, np.empty(len(points), np.int32), room)]
    if not len(found):
        return np.zeros((0, 2), np.int64)
    pairs = np.unique(np.sort(rim[found].astype(np.int64), axis=1), axis=0)
    involved = np.zeros(len(mesh.vertices), bool)
    involved[pairs.ravel()] = True
    a, b, c = involved[mesh.faces.T]
    own = mesh.faces[(a & b) | (b & c) | (c & a)]
    ends = np.sort(np.stack([own, np.roll(own, -1, axis=1)], axis=2).reshape(-1, 2), axis=1)
    ends = ends[involved[ends[:, 0]] & involved[ends[:, 1]]].astype(np.int64)
    size = np.int64(len(mesh.vertices))
    return pairs[~np.isin(pairs[:, 0] * size + pairs[:, 1], ends[:, 0] * size + ends[:, 1])]


def find_rims(mesh: Mesh, radius: float) -> Rims:
    """All loops and seams of open edges; vertices within `radius` mm lie on each other."""
    half = np.flatnonzero(mesh.topology.opposite == OPEN)
    a, b = (end.astype(np.int64) for end in mesh.edge_ends(half))
    half, a, b = (x[a != b] for x in (half, a, b))  # edges from a vertex to itself bound nothing
    none = np.zeros(0, np.int64)
    if not len(half):
        return Rims(np.zeros((0, 3)), np.zeros((0, 3)), none, [], [], np.zeros((0, 2), np.int64))
    near = open_pairs(mesh, radius)
    label = linked_groups(len(mesh.vertices), near).astype(np.int64) if len(near) else np.arange(len(mesh.vertices))
    half, a, b, split = _split(mesh, half, a, b, radius)
    # pieces that run between the same places cancel two by two: a seam
    low, high = np.minimum(label[a], label[b]), np.maximum(label[a], label[b])
    fine = low != high
    half, a, b, low, high = (x[fine] for x in (half, a, b, low, high))
    order = np.lexsort((half, high, low))
    first = np.concatenate([[True], (np.diff(low[order]) != 0) | (np.diff(high[order]) != 0)])
    group = np.cumsum(first) - 1
    size = np.bincount(group)
    rank = np.arange(len(order)) - np.flatnonzero(first)[group]
    cancelled = np.zeros(len(order), bool)
    cancelled[order] = rank < size[group] // 2 * 2
    zipped = np.flatnonzero(cancelled)
    merged = np.zeros(len(mesh.vertices), bool)  # by label: places where fans are no longer told apart
    merged[label[split]] = True
    merged[low[zipped]] = merged[high[zipped]] = True
    odd = odd_edges(mesh)
    crowded = np.flatnonzero(mesh.topology.opposite == CROWDED)
    for end in mesh.edge_ends(crowded):
        merged[label[end]] = True
    kept = np.flatnonzero(~cancelled)
    half = np.concatenate([half, odd])
    a, b = (
        np.concatenate([known, end.astype(np.int64)]) for known, end in zip((a, b), mesh.edge_ends(odd), strict=True)
    )
    rows = np.concatenate([kept, np.arange(len(half) - len(odd), len(half))])
    loops = _trace(mesh, half[rows], a[rows], b[rows], label, merged)
    seams = _chains(label[a[zipped]], label[b[zipped]])
    shell = mesh.topology.shell[half // 3].astype(np.int64)
    mates = zipped[np.argsort(order.argsort()[zipped], kind="stable")]
    return Rims(
        mesh.vertices[a],
        mesh.vertices[b],
        half,
        [rows[loop] for loop in loops if (mesh.topology.opposite[half[rows[loop]]] == OPEN).any()],
        [zipped[seam] for seam in seams],
        np.stack([shell[mates[0::2]], shell[mates[1::2]]], axis=1),
    )


def lying_on_edges(mesh: Mesh, radius: float) -> tuple[Ints, Ints, Floats]:
    """Vertices of open edges that lie within `radius` mm on another open edge: which (the row of the open half-edge
    in ascending order), the vertex, and how far along it is (mm); sorted along each edge."""
    half = np.flatnonzero(mesh.topology.opposite == OPEN)
    a, b = (end.astype(np.int64) for end in mesh.edge_ends(half))
    return _lying_on(mesh, half, a, b, radius)


def _lying_on(mesh: Mesh, half: Ints, a: Ints, b: Ints, radius: float) -> tuple[Ints, Ints, Floats]:
    """`lying_on_edges` of some half-edges that run from a to b."""
    nothing = np.zeros(0, np.int64), np.zeros(0, np.int64), np.zeros(0)
    rim = np.unique(np.concatenate([a, b]))
    if not radius > 0 or len(rim) < 3:
        return nothing
    p, q = mesh.vertices[a], mesh.vertices[b]
    length = np.linalg.norm(q - p, axis=1)
    tree = PointTree(mesh.vertices[rim])
    reach = 0.5 * length + radius
    long_enough = np.flatnonzero(length > 2 * radius)
    counts, _ = tree.around(0.5 * (p + q)[long_enough], reach[long_enough])
    rows = long_enough[counts > 2]
    if not len(rows) or int(counts.sum()) > _MOST_CANDIDATES:
        return nothing
    counts, near = tree.around(0.5 * (p + q)[rows], reach[rows])
    edge, vertex = np.repeat(rows, counts), rim[near]
    opposite = mesh.faces[half // 3, (half % 3 + 2) % 3].astype(np.int64)
    other = (vertex != a[edge]) & (vertex != b[edge]) & (vertex != opposite[edge])
    edge, vertex = edge[other], vertex[other]
    along = (q - p)[edge] / length[edge, None]
    off = mesh.vertices[vertex] - p[edge]
    t = np.einsum("ij,ij->i", off, along)
    on = (t > radius) & (t < length[edge] - radius)
    on &= np.linalg.norm(off - t[:, None] * along, axis=1) <= radius
    edge, vertex, t = edge[on], vertex[on], t[on]
    order = np.lexsort((t, edge))
    return edge[order], vertex[order], t[order]


def _split(mesh: Mesh, half: Ints, a: Ints, b: Ints, radius: float) -> tuple[Ints, Ints, Ints, Ints]:
    """Open edges cut where vertices of other open edges lie on them (T-junctions), and those vertices."""
    edge, vertex, _ = _lying_on(mesh, half, a, b, radius)
    if not len(edge):
        return half, a, b, vertex
    whole = np.setdiff1d(np.arange(len(half)), edge)
    stops = np.concatenate([np.arange(len(half)), edge, np.arange(len(half))])
    turn = np.concatenate([np.zeros(len(half)), np.arange(1, len(edge) + 1), np.full(len(half), len(edge) + 1)])
    place = np.concatenate([a, vertex, b])
    cut = ~np.isin(stops, whole)
    order = np.lexsort((turn[cut], stops[cut]))
    stops, place = stops[cut][order], place[cut][order]
    step = stops[1:] == stops[:-1]
    return (
        np.concatenate([half[whole], half[stops[:-1][step]]]),
        np.concatenate([a[whole], place[:-1][step]]),
        np.concatenate([b[whole], place[1:][step]]),
        np.unique(vertex),
    )


def odd_edges(mesh: Mesh) -> Ints:
    """A half-edge of every edge used by three faces, five, and so on: the border runs along it too."""
    crowded = np.flatnonzero(mesh.topology.opposite == CROWDED)
    if not len(crowded):
        return crowded
    ends = np.sort(np.stack(mesh.edge_ends(crowded), axis=1), axis=1)
    _, first, uses = np.unique(ends, axis=0, return_index=True, return_counts=True)
    return crowded[first[uses % 2 == 1]]


def across_gaps(mesh: Mesh) -> tuple[Ints, Ints]:
    """At vertices where several fans of faces meet: open half-edges that end there, and those that follow on the other
    side of the gap, so that what hangs together by corners only is not gone around, but what is missing between.

    The fans must lie around the vertex one after the other, as seen along their mean normal; elsewhere a rim follows
    its fan.
    """
    topology = mesh.topology
    half = np.flatnonzero(topology.opposite == OPEN)
    none = np.zeros(0, np.int64), np.zeros(0, np.int64)
    if not topology.extra_fans or not len(half):
        return none
    begin, end = (e.astype(np.int64) for e in mesh.edge_ends(half))
    several = np.bincount(end, minlength=len(mesh.vertices)) > 1
    several &= np.bincount(begin, minlength=len(mesh.vertices)) == np.bincount(end, minlength=len(mesh.vertices))
    into, out = np.flatnonzero(several[end]), np.flatnonzero(several[begin])
    if not len(into):
        return none
    normal = np.zeros((len(mesh.vertices), 3))
    there = several[mesh.faces]
    for k in range(3):
        at = np.flatnonzero(there[:, k])
        np.add.at(normal, mesh.faces[at, k], mesh.unit_normals[at])
    into, out = into[np.argsort(end[into], kind="stable")], out[np.argsort(begin[out], kind="stable")]
    where, starts = np.unique(end[into], return_index=True)
    found: list[tuple[int, int]] = []
    for v, first, last in zip(where.tolist(), starts.tolist(), [*starts[1:].tolist(), len(into)], strict=True):
        size = float(np.linalg.norm(normal[v]))
        if not size > 0:
            continue
        u, w = across(normal[v] / size)
        own, following = into[first:last], out[first:last]
        angle = [
            np.arctan2(away @ w, away @ u)
            for away in (mesh.vertices[begin[own]] - mesh.vertices[v], mesh.vertices[end[following]] - mesh.vertices[v])
        ]
        turn = np.mod(angle[1][None, :] - angle[0][:, None], 2 * np.pi)
        turn[turn < _SAME_WAY] = 2 * np.pi
        chosen = turn.argmin(axis=1)
        if len(np.unique(chosen)) == len(chosen):
            found += [
                (int(half[o]), int(half[following[c]])) for o, c in zip(own.tolist(), chosen.tolist(), strict=True)
            ]
    pairs = np.array(found, np.int64).reshape(-1, 2)
    return pairs[:, 0], pairs[:, 1]


def _trace(mesh: Mesh, half: Ints, a: Ints, b: Ints, label: Ints, merged: Bools) -> list[Ints]:
    """Loops as rows of edges; at a vertex they follow the fan of faces: skins that touch in a point stay apart; or
    cross the gap to the next fan, see `across_gaps`."""
    if not len(half):
        return []
    begins = mesh.topology.fan.astype(np.int64)
    ends = begins.reshape(-1, 3)[:, [1, 2, 0]].ravel()
    into, following = across_gaps(mesh)
    ends[into] = begins[following]
    face, k = np.divmod(half, 3)
    corner = mesh.faces[face, k].astype(np.int64)
    # the fan at an end of the whole edge; a place within it is merged
    at_a = np.where(corner == a, begins[half], -1)
    at_b = np.where(mesh.faces[face, (k + 1) % 3] == b, ends[half], -1)
    size = np.int64(3 * len(mesh.faces) + 1)
    tail = np.where(merged[label[a]] | (at_a < 0), size + label[a], at_a)
    head = np.where(merged[label[b]] | (at_b < 0), size + label[b], at_b)
    names, node = np.unique(np.stack([tail, head]), return_inverse=True)
    node32 = node.reshape(2, -1).astype(np.int32)
    places = label[np.stack([a, b])]
    return [loop for chain in _walks(node32, len(names)) for loop in _simple(places, chain)]


def _walks(node: Ints32, count: int) -> list[Ints]:
    both = node.T.ravel()
    edges = (np.argsort(both, kind="stable") // 2).astype(np.int32)
    first = np.concatenate([[0], np.cumsum(np.bincount(both, minlength=count))])
    n = node.shape[1]
    order, ends = np.empty(n, np.int32), np.empty(n, np.int32)
    chains = kernels.trace_rims(node[0], node[1], first, edges, order, ends, np.zeros(n, bool))
    return [piece.astype(np.int64) for piece in np.split(order, ends[: chains - 1])]


def _simple(places: Ints, chain: Ints) -> list[Ints]:
    """Cut a loop at places (2, E) it passes more than once."""
    a, b = places[0, chain], places[1, chain]
    # an edge is entered by the end it does not share with the next one
    forward = (b == np.roll(a, -1)) | (b == np.roll(b, -1))
    entered = np.where(forward, a, b) if len(chain) > 2 else a
    if len(chain) < 4 or len(np.unique(entered)) == len(entered):
        return [chain]
    return [chain[rows] for rows in cut_at_repeats(entered)]


def cut_at_repeats(places: NDArray[np.integer]) -> list[list[int]]:
    """Rows of a loop through places (N,), cut into loops that pass no place twice."""
    found, stack, at = list[list[int]](), list[int](), dict[int, int]()
    for i, v in enumerate(places.tolist()):
        if v in at:
            loop = stack[at[v] :]
            found.append(loop)
            for j in loop:
                at.pop(int(places[j]), None)
            del stack[len(stack) - len(loop) :]
        at[v] = len(stack)
        stack.append(i)
    return [*found, stack] if stack else found


def _chains(a: Ints, b: Ints) -> list[Ints]:
    """Rows of edges that hang together at their ends."""
    if not len(a):
        return []
    _, node = np.unique(np.stack([a, b]), return_inverse=True)
    node = node.reshape(2, -1)
    group = linked_groups(int(node.max()) + 1, node.T)[node[0]]
    order = np.argsort(group, kind="stable")
    return np.split(order, np.flatnonzero(np.diff(group[order])) + 1)
