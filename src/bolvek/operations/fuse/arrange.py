"""Two sound meshes cut along each other and put together: union, difference, what they have in common.

Every edge that goes through a face of the other mesh makes a node; that it does is decided exactly, where it is is
rounded. A node is named by its edge and its face and made once, so neighbours agree. Neither mesh crosses itself, so
on each face the nodes are joined by lines that do not cross; with the pieces of the face's edges on the kept side of
the other mesh they make loops, which are triangulated. Which side a piece lies on is read off the nodes, never
measured; only what no line reaches is asked for its winding number. After Lo and Wang 2004, and Zhou et al. 2016
("Mesh Arrangements for Solid Geometry"), for the simple case of two meshes without crossings of their own.

Touching without crossing cannot be decided so: it raises `TooClose`, and the caller moves one mesh a little.

One mesh that crosses itself is cut along itself in the same way: there a place of the surface is not in or out of
another mesh, but has so many layers of material before it.
"""

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from bolvek.arrays import Bools, Floats, Ints, Ints8, Ints32
from bolvek.kernels.exact.pierce import TOUCH, pierce_pairs
from bolvek.kernels.exact.polygons import CROSSED, cut_polygons
from bolvek.mesh import Mesh
from bolvek.operations.convex import TooClose
from bolvek.spatial.groups import linked_groups
from bolvek.spatial.parallel import run_ranges
from bolvek.spatial.polygons import PolygonError, seen_against, signed_area, trace_loops, triangulate
from bolvek.spatial.tree import Tree

UNION, DIFFERENCE, COMMON = (1, 1), (1, -1), (-1, -1)
"""Which side of the other mesh the faces of each mesh are kept on: 1 outside, -1 inside."""

_MOST_PAIRS = 2_000_000
_ABOVE = 1e-4  # of a face's size: how far before it layers are counted
_UNKNOWN = np.iinfo(np.int64).min


def arrange(a: Mesh, b: Mesh, keep: tuple[int, int]) -> tuple[Mesh, Ints32]:
    """One of UNION, DIFFERENCE, COMMON of two sound meshes, and for each face of it the face it is of, b's numbered
    after a's. Faces of a that are not cut come first, bit for bit; vertices are not rounded. Raises TooClose."""
    both = a.joined(b)
    owner = np.zeros(len(both.faces), np.int8)
    owner[len(a.faces) :] = 1
    lines = _Lines.of(both, _meeting(a, b))
    if lines.repeats:
        raise TooClose  # two nodes too near each other to be told apart
    layers = _layers_of_other(both, lines, a, b)
    wanted = np.where(owner == 0, keep[0], keep[1]) < 0
    kept, source = _kept(both, lines, layers, wanted.astype(np.int64))
    if keep[0] != keep[1]:
        turn = owner[source] == 1
        kept[turn] = kept[turn][:, ::-1]
    result = Mesh(np.concatenate([both.vertices, lines.places]), kept).picked(slice(None))
    return result, source.astype(np.int32, copy=False)


def arrange_itself(mesh: Mesh, layers: Callable[[Floats], Ints]) -> tuple[Mesh, Ints32]:
    """The surface of what a closed mesh, which may cross itself, goes around at least once; and for each face of it the
    face it is of. layers: how often it goes around places (N, 3). Raises TooClose, also where three sheets meet."""
    pairs = mesh.meeting[0].astype(np.int64)
    lines = _Lines.of(mesh, pairs)
    depth = _layers_of_itself(mesh, lines, layers)
    # what lies before both sheets of a line: the fewer of the layers on either side of a node along its edge
    after = depth[mesh.edge_ends(lines.edge)[0]] + lines.gained
    before = np.empty(len(lines.edge), np.int64)
    before[lines.node] = np.minimum(after, after - lines.sign)
    if (before[lines.start] != before[lines.end]).any():
        raise TooClose
    bounds = before[lines.start] == 0
    kept, source = _kept(mesh, lines, depth, np.zeros(len(mesh.faces), np.int64), bounds)
    return Mesh(np.concatenate([mesh.vertices, lines.places]), kept).picked(slice(None)), source.astype(np.int32)


def _kept(mesh: Mesh, lines: "_Lines", layers: Ints, wanted: Ints, bounds: Bools | None = None) -> tuple[Ints32, Ints]:
    """Faces and pieces of faces with as many layers before them as wanted (F,), and the face that each is of."""
    cut = np.zeros(len(mesh.faces), bool)
    cut[lines.pairs.ravel()] = True
    whole = ~cut & (layers[mesh.faces[:, 0]] == wanted)
    faces, source = _pieces(mesh, lines, layers, wanted, np.flatnonzero(cut), bounds)
    return np.concatenate([mesh.faces[whole], faces]), np.concatenate([np.flatnonzero(whole), source])


def _meeting(a: Mesh, b: Mesh) -> Ints:
    """Pairs (P, 2) of faces, of a and of b (numbered after a's), that meet."""
    low = np.maximum(a.bounds[0], b.bounds[0])
    high = np.minimum(a.bounds[1], b.bounds[1])
    if (low > high).any():
        return np.zeros((0, 2), np.int64)
    ours, theirs = _reaching(a, low, high), _reaching(b, low, high)
    n = len(a.faces)
    rows = np.concatenate([ours, n + theirs])
    faces = np.concatenate([a.faces[ours], b.faces[theirs] + np.int32(len(a.vertices))])
    vertices = np.concatenate([a.vertices, b.vertices])
    pairs, count = Tree(vertices, faces, a.bounds.mean(axis=0)).meeting_pairs(_MOST_PAIRS)
    if count > _MOST_PAIRS:
        raise TooClose
    found = rows[pairs.astype(np.int64)]
    return found[(found[:, 0] < n) & (found[:, 1] >= n)]


def _reaching(mesh: Mesh, low: Floats, high: Floats) -> Ints:
    """Faces whose boxes meet a box, a little wider: no tree is worth building for one question."""
    slack = 1e-6 * float(np.abs(mesh.bounds).max())
    beyond = np.zeros(len(mesh.faces), bool)
    for k in range(3):
        x = mesh.vertices[:, k]
        beyond |= (x < low[k] - slack)[mesh.faces].all(axis=1) | (x > high[k] + slack)[mesh.faces].all(axis=1)
    return np.flatnonzero(~beyond)


@dataclass(frozen=True)
class _Lines:
    """Where two meshes cross. pairs (P, 2): faces that meet; places (N, 3): nodes; start, end (P,): nodes of the line
    on the first face of each pair, with what lies outside the second on its left. edge, node, sign (N,): nodes along
    edges, in their order; edge: its lower half-edge, in whose direction the sign is 1 where it enters the other mesh.
    """

    pairs: Ints
    places: Floats
    start: Ints
    end: Ints
    edge: Ints
    node: Ints
    sign: Ints8

    @classmethod
    def of(cls, mesh: Mesh, pairs: Ints) -> "_Lines":
        """The lines of some pairs of faces that meet. Raises TooClose."""
        hits = np.zeros((len(pairs), 6), np.int8)
        run_ranges(lambda b, e: pierce_pairs(mesh.vertices, mesh.faces, pairs, b, e, hits), len(pairs), grain=256)
        if (hits == TOUCH).any() or ((hits != 0).sum(axis=1) != 2).any():
            raise TooClose
        row, k = np.nonzero(hits)
        sign = hits[row, k].astype(np.int64)
        second = k >= 3
        half = 3 * pairs[row, second.astype(np.int64)] + k % 3
        other = pairs[row, 1 - second.astype(np.int64)]
        across = mesh.topology.opposite[half]
        edge = np.minimum(half, across)
        key, first, node = np.unique(edge * np.int64(len(mesh.faces)) + other, return_index=True, return_inverse=True)
        if len(row) != 2 * len(key):
            raise TooClose
        # on the first face a line begins where its own edge enters the other, or where the other's edge leaves it
        begins = (sign == 1) ^ second
        if (begins[0::2] == begins[1::2]).any():
            raise TooClose
        ends = node.reshape(-1, 2)
        flip = ~begins[0::2]
        start = np.where(flip, ends[:, 1], ends[:, 0])
        end = np.where(flip, ends[:, 0], ends[:, 1])
        along = np.where(half[first] == edge[first], sign[first], -sign[first])
        places, share = _places(mesh, edge[first], other[first])
        order = np.lexsort((share, edge[first]))
        edges, signs = edge[first][order], along[order]
        return cls(pairs, places, start, end, edges, order, signs.astype(np.int8))

    @property
    def repeats(self) -> bool:
        """Whether an edge enters, or leaves, twice in a row."""
        same = self.edge[1:] == self.edge[:-1]
        return bool((self.sign[1:][same] == self.sign[:-1][same]).any())

    @property
    def first(self) -> Bools:
        """Which nodes (N,) are the first on their edges."""
        return np.concatenate([[True], self.edge[1:] != self.edge[:-1]]) if len(self.edge) else np.zeros(0, bool)

    @property
    def gained(self) -> Ints:
        """By how much entering outnumbers leaving on each node's edge (N,), up to and with the node."""
        total = np.cumsum(self.sign, dtype=np.int64)
        begin = np.flatnonzero(self.first)
        return total - np.repeat((total - self.sign)[begin], np.diff([*begin, len(total)]))


def _places(mesh: Mesh, edge: Ints, face: Ints) -> tuple[Floats, Floats]:
    """Where edges (N,) go through the planes of faces (N,): places (N, 3), and how far along the edges they are."""
    p, q = (mesh.vertices[end] for end in mesh.edge_ends(edge))
    a, b, c = (mesh.vertices[mesh.faces[face, k]] for k in range(3))
    normal = np.cross(b - a, c - a)
    dp, dq = np.einsum("ij,ij->i", p - a, normal), np.einsum("ij,ij->i", q - a, normal)
    share = np.clip(dp / np.where(dp == dq, 1.0, dp - dq), 0.0, 1.0)
    return p + share[:, None] * (q - p), share


def _layers_of_other(mesh: Mesh, lines: _Lines, a: Mesh, b: Mesh) -> Ints:
    """For each vertex 0 outside the other mesh, 1 in it: told by nodes on its edges, passed on along edges without."""
    group = _without_nodes(mesh, lines)
    told = np.full(int(group.max()) + 1, -1, np.int64)
    first, last = lines.first, np.roll(lines.first, -1)
    p, q = mesh.edge_ends(lines.edge[first])[0], mesh.edge_ends(lines.edge[last])[1]
    known = np.concatenate([group[p], group[q]])
    says = np.concatenate([lines.sign[first] < 0, lines.sign[last] > 0]).astype(np.int64)
    told[known] = says
    if (told[known] != says).any():
        raise TooClose
    ask = np.flatnonzero(told[group] < 0)
    ask = ask[np.unique(group[ask], return_index=True)[1]]
    for rows, other in ((ask[ask < len(a.vertices)], b), (ask[ask >= len(a.vertices)], a)):
        if len(rows):
            told[group[rows]] = other.tree.winding(mesh.vertices[rows]) > 0.5
    return told[group]


def _layers_of_itself(mesh: Mesh, lines: _Lines, layers: Callable[[Floats], Ints]) -> Ints:
    """For each vertex how many layers of material lie just before it: asked once where no node lies between, and held
    against what the nodes say."""
    group = _without_nodes(mesh, lines)
    cut = np.zeros(len(mesh.faces), bool)
    cut[lines.pairs.ravel()] = True
    # the largest face of each group that is not cut
    free = np.flatnonzero(~cut)
    free = free[np.argsort(-mesh.face_areas[free], kind="stable")]
    number, first = np.unique(group[mesh.faces[free, 0]], return_index=True)
    face = free[first]
    above = _ABOVE * np.sqrt(mesh.face_areas[face])
    found = np.full(int(group.max()) + 1, _UNKNOWN)
    found[number] = layers(mesh.vertices[mesh.faces[face]].mean(axis=1) + above[:, None] * mesh.normals_of(face))
    last = np.flatnonzero(np.roll(lines.first, -1))
    p, q = mesh.edge_ends(lines.edge[last])
    one, other, more = group[p], group[q], lines.gained[last]
    while (found[one] == _UNKNOWN).any() or (found[other] == _UNKNOWN).any():
        ahead = (found[one] != _UNKNOWN) & (found[other] == _UNKNOWN)
        back = (found[other] != _UNKNOWN) & (found[one] == _UNKNOWN)
        if not (ahead | back).any():
            raise TooClose
        found[other[ahead]] = found[one[ahead]] + more[ahead]
        found[one[back]] = found[other[back]] - more[back]
    if (found[one] + more != found[other]).any() or (found[group] == _UNKNOWN).any():
        raise TooClose
    return found[group]


def _without_nodes(mesh: Mesh, lines: _Lines) -> Ints:
    """Groups (V,) of vertices that edges without nodes join."""
    pierced = np.zeros(3 * len(mesh.faces), bool)
    pierced[lines.edge] = True
    free = np.flatnonzero(~pierced & (mesh.topology.opposite > np.arange(3 * len(mesh.faces))))
    return linked_groups(len(mesh.vertices), np.stack(mesh.edge_ends(free), axis=1)).astype(np.int64)


def _pieces(
    mesh: Mesh, lines: _Lines, layers: Ints, wanted: Ints, cut: Ints, bounds: Bools | None
) -> tuple[Ints32, Ints]:
    """What is kept of the faces that are cut, in triangles, and the face that each is of; bounds (P,): the lines that
    part what is kept from what is not (None: all)."""
    base = len(mesh.vertices)
    steps: dict[int, list[tuple[int, int]]] = {int(f): [] for f in cut}
    rows = slice(None) if bounds is None else bounds
    start, end = (base + lines.start[rows]).tolist(), (base + lines.end[rows]).tolist()
    # outside lies on the left of a line on the first face, on its right on the second
    for (f, g), s, e in zip(lines.pairs[rows].tolist(), start, end, strict=True):
        steps[f].append((e, s) if wanted[f] else (s, e))
        steps[g].append((s, e) if wanted[g] else (e, s))
    chains: dict[int, list[tuple[int, int]]] = {}
    for edge, node, sign in zip(lines.edge.tolist(), lines.node.tolist(), lines.sign.tolist(), strict=True):
        chains.setdefault(edge, []).append((base + node, sign))
    points = np.concatenate([mesh.vertices, lines.places])
    opposite = mesh.topology.opposite
    plain: list[list[int]] = []
    owner: list[int] = []
    holed: list[tuple[int, int, int]] = []
    source: list[int] = []
    for f in cut.tolist():
        own, keep = steps[f], int(wanted[f])
        corner = mesh.faces[f].tolist()
        for k in range(3):
            half = 3 * f + k
            at, level = corner[k], int(layers[corner[k]])
            for node, sign in [*_run(chains, half, int(opposite[half])), (corner[(k + 1) % 3], 0)]:
                if level == keep:
                    own.append((at, node))
                at, level = node, level + sign
        if not own:
            continue
        loops = _trace(own)
        flat = _flat(mesh.area_vectors[f], points, loops)
        if len(loops) == 1 or all(signed_area(flat, loop) > 0 for loop in loops):  # type: ignore[arg-type]
            plain += loops
            owner += [f] * len(loops)
            continue
        try:
            holed += triangulate(flat, loops)  # type: ignore[arg-type]
        except PolygonError:
            raise TooClose from None
        source += [f] * (len(holed) - len(source))
    normals = mesh.area_vectors[np.array(owner, np.int64)]
    faces = np.concatenate([_triangles(points, plain, normals), np.array(holed, np.int32).reshape(-1, 3)])
    sizes = np.array([len(loop) for loop in plain], np.int64) - 2
    return faces, np.concatenate([np.repeat(np.array(owner, np.int64), sizes), np.array(source, np.int64)])


_NEEDLE = 1e-3
"""Height over longest side: polygons that fell into thinner triangles are triangulated with more care."""


def _triangles(points: Floats, loops: list[list[int]], normals: Floats) -> Ints32:
    """Triangles of simple polygons with normals (P, 3), those of each together."""
    start = np.cumsum([0] + [len(loop) for loop in loops])
    corners = np.array([node for loop in loops for node in loop], np.int64)
    count = len(loops)
    faces = np.empty((len(corners) - 2 * count, 3), np.int32)
    kind, bent = np.zeros(count, np.uint8), np.zeros(count)
    run_ranges(lambda b, e: cut_polygons(points, start, corners, b, e, faces, kind, bent), count, grain=256)
    if (kind & CROSSED).any():
        raise TooClose
    a, b, c = (points[faces[:, k]] for k in range(3))
    longest = np.maximum.reduce([((q - p) ** 2).sum(axis=1) for p, q in ((a, b), (b, c), (c, a))])
    thin = np.linalg.norm(np.cross(b - a, c - a), axis=1) < _NEEDLE * longest
    first = start[:-1] - 2 * np.arange(count)
    for p in np.unique(np.searchsorted(first, np.flatnonzero(thin), side="right") - 1).tolist():
        if len(loops[p]) == 3:
            continue
        try:
            found = triangulate(_flat(normals[p], points, [loops[p]]), [loops[p]])  # type: ignore[arg-type]
        except PolygonError:
            continue  # as it is
        faces[first[p] : first[p] + len(found)] = found
    return faces


def _run(chains: dict[int, list[tuple[int, int]]], half: int, across: int) -> list[tuple[int, int]]:
    """The nodes on a half-edge and their signs, in its direction."""
    found = chains.get(min(half, across), [])
    return found if half < across else [(node, -sign) for node, sign in reversed(found)]


def _trace(steps: list[tuple[int, int]]) -> list[list[int]]:
    """Loops of directed steps; each place is left once."""
    after = dict(steps)
    if len(after) != len(steps):
        raise TooClose
    try:
        return trace_loops(after)
    except PolygonError:
        raise TooClose from None


def _flat(normal: Floats, points: Floats, loops: list[list[int]]) -> dict[int, tuple[float, float]]:
    """The places of loops, seen against a normal."""
    return seen_against(normal.tolist(), {n: points[n].tolist() for loop in loops for n in loop})


def kept_faces(source: Ints32, mesh: Mesh, result: Mesh) -> Bools:
    """Which faces (F,) of the first mesh are left in a result as they were, bit for bit."""
    kept = np.zeros(len(mesh.faces), bool)
    rows = np.flatnonzero((source >= 0) & (source < len(mesh.faces)))
    same = (result.vertices[result.faces[rows]] == mesh.vertices[mesh.faces[source[rows]]]).all(axis=(1, 2))
    kept[source[rows[same]]] = True
    return kept
