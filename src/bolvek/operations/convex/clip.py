"""Clipping a mesh against one convex body.

Each touched triangle is clipped once against the whole body. The signed distance of every local
vertex to every plane is computed once and is the truth from then on: a plane becomes a piecewise
linear function on the surface, and neighbours, who share the values on their edge, always agree.
New points are named by what makes them (edge and plane; face and two planes; a corner of the body)
and made once. What is left of a triangle, and each wall of the body inside the material, is traced
into loops and triangulated.

Values too near to zero to be trusted raise `TooClose`; the caller moves the body a ten-thousandth
of a millimetre and tries again (controlled perturbation; Halperin and Shelton 1998).
"""

from typing import Any

import numpy as np

from bolvek.arrays import Bools, Floats
from bolvek.mesh import Mesh
from bolvek.operations.convex.body import ConvexBody

MARGIN_MM = 1e-7
"""A distance to a plane, or between two crossings, below this is too close to call."""

Node = tuple[Any, ...]
Link = tuple[Node, Node]


class TooClose(Exception):
    """A decision stood on the edge: move the body slightly and try again."""


class Clip:
    """One subtraction: nodes, the steps each face's remainder and each wall is traced from."""

    def __init__(self, mesh: Mesh, body: ConvexBody) -> None:
        self.mesh, self.body = mesh, body
        low, high = body.corner.min(axis=0) - 0.01, body.corner.max(axis=0) + 0.01
        self.local = mesh.tree.faces_in_box(low, high)
        self.dropped: list[int] = []
        self.polygons: list[tuple[Floats, list[list[Node]], int]] = []
        used = np.unique(mesh.faces[self.local])
        value = mesh.vertices[used] @ body.normal.T - body.offset
        self.row = {int(v): i for i, v in enumerate(used)}
        self.value = value
        # faces wholly beyond one plane are not touched
        number = np.searchsorted(used, mesh.faces[self.local])
        beyond = np.any(np.all((value > 0)[number], axis=1), axis=1)
        self.local = self.local[~beyond]
        number = number[~beyond]
        if len(number) and np.abs(value[np.unique(number)]).min() < MARGIN_MM:
            raise TooClose
        self.inside_vertex: Bools = np.all(value < 0, axis=1)
        self.point: dict[Node, Floats] = {}
        self.edge_cache: dict[tuple[int, int], tuple[Node | None, Node | None] | None] = {}
        self.wall_steps: list[list[Link]] = [[] for _ in body.rings]
        self.pierces: dict[tuple[int, int], list[tuple[Node, int]]] = {}

    def run(self) -> None:
        """Find the faces that go (`dropped`) and the polygons that come (`polygons`)."""
        for f in self.local:
            corner = [int(v) for v in self.mesh.faces[f]]
            if all(self.inside_vertex[self.row[v]] for v in corner):
                self.dropped.append(int(f))
                continue
            steps, cut = self._face(int(f), corner)
            if cut:
                self.dropped.append(int(f))
                self.polygons.append((self.mesh.area_vectors[f], _trace(steps), int(f)))
        if not self.dropped:
            raise ValueError("the body touches no face")
        self._body_edges()
        for p, steps in enumerate(self.wall_steps):
            if steps:
                self.polygons.append((-self.body.normal[p], _trace(steps), -1))

    def _edge(self, a: int, b: int) -> tuple[Node | None, Node | None] | None:
        """Part of the edge a b (a < b) inside the body: entry and exit nodes, None at an end inside.

        None when no part is inside.
        """
        key = (a, b)
        if key in self.edge_cache:
            return self.edge_cache[key]
        da, db = self.value[self.row[a]], self.value[self.row[b]]
        answer: tuple[Node | None, Node | None] | None = None
        if not ((da > 0) & (db > 0)).any():
            pa, pb = self.mesh.vertices[a], self.mesh.vertices[b]
            length = float(np.linalg.norm(pb - pa))
            t = da / np.where(da == db, 1.0, da - db)
            enter = np.where((da > 0) & (db < 0), t, -np.inf)
            leave = np.where((da < 0) & (db > 0), t, np.inf)
            _check_apart(enter, leave, MARGIN_MM / max(length, 1e-30))
            p, q = int(np.argmax(enter)), int(np.argmin(leave))
            if enter[p] < leave[q]:
                first = self._edge_node(a, b, p, enter[p]) if np.isfinite(enter[p]) else None
                last = self._edge_node(a, b, q, leave[q]) if np.isfinite(leave[q]) else None
                answer = (first, last)
        self.edge_cache[key] = answer
        return answer

    def _edge_node(self, a: int, b: int, plane: int, t: float) -> Node:
        node = ("edge", a, b, plane)
        pa, pb = self.mesh.vertices[a], self.mesh.vertices[b]
        self.point[node] = pa + t * (pb - pa)
        return node

    def _face(self, f: int, corner: list[int]) -> tuple[list[Link], bool]:
        """Directed boundary of the face's part outside the body, and whether the body cuts it."""
        steps: list[Link] = []
        cut = False
        for k in range(3):
            a, b = corner[k], corner[(k + 1) % 3]
            part = self._edge(min(a, b), max(a, b))
            va, vb = ("vertex", a), ("vertex", b)
            if part is None:
                steps.append((va, vb))
                continue
            cut = True
            first, last = part if a < b else part[::-1]
            if first is not None:
                steps.append((va, first))
            if last is not None:
                steps.append((last, vb))
        value = np.array([self.value[self.row[v]] for v in corner])
        for p in np.flatnonzero((value > 0).any(axis=0) & (value < 0).any(axis=0)):
            segment = self._segment(f, corner, value, int(p))
            if segment is not None:
                cut = True
                steps.append(segment)
                self.wall_steps[int(p)].append(segment[::-1])
        return steps, cut

    def _segment(self, f: int, corner: list[int], value: Floats, p: int) -> Link | None:
        """The part of plane p's line across the face inside the body, body on its right."""
        ends: list[tuple[int, int, Floats, Floats]] = [None, None]  # type: ignore[list-item]
        for k in range(3):
            m = (k + 1) % 3
            if (value[k, p] > 0) == (value[m, p] > 0):
                continue
            a, b = min(corner[k], corner[m]), max(corner[k], corner[m])
            da, db = self.value[self.row[a]], self.value[self.row[b]]
            t = da[p] / (da[p] - db[p])
            pa, pb = self.mesh.vertices[a], self.mesh.vertices[b]
            ends[0 if value[k, p] > 0 else 1] = (a, b, da + t * (db - da), pa + t * (pb - pa))
        (xa, xb, dx, px), (ya, yb, dy, py) = ends
        dx, dy = dx.copy(), dy.copy()
        dx[p] = dy[p] = -1.0
        if ((dx > 0) & (dy > 0)).any():
            return None
        length = float(np.linalg.norm(py - px))
        s = dx / np.where(dx == dy, 1.0, dx - dy)
        enter = np.where((dx > 0) & (dy < 0), s, -np.inf)
        leave = np.where((dx < 0) & (dy > 0), s, np.inf)
        _check_apart(enter, leave, MARGIN_MM / max(length, 1e-30))
        q, r = int(np.argmax(enter)), int(np.argmin(leave))
        if not enter[q] < leave[r]:
            return None
        first: Node = ("edge", xa, xb, p)
        last: Node = ("edge", ya, yb, p)
        if np.isfinite(enter[q]):
            first = self._pierce(f, p, q, px + enter[q] * (py - px))
        elif first not in self.point:
            raise TooClose
        if np.isfinite(leave[r]):
            last = self._pierce(f, p, r, px + leave[r] * (py - px))
        elif last not in self.point:
            raise TooClose
        return first, last

    def _pierce(self, f: int, p: int, q: int, point: Floats) -> Node:
        key = (min(p, q), max(p, q))
        node = ("face", f, *key)
        if node not in self.point:
            self.point[node] = point
            self.pierces.setdefault(key, []).append((node, f))
        return node

    def _body_edges(self) -> None:
        """Turn pierced edges of the body into the sides of its walls inside the material."""
        owner = {(r[k], r[(k + 1) % len(r)]): p for p, r in enumerate(self.body.rings) for k in range(len(r))}
        state: dict[int, bool] = {}
        plain: list[tuple[int, int]] = []
        inner: list[tuple[int, int, list[Node]]] = []
        known = 0
        for (c, d), p in owner.items():
            if c > d:
                continue
            q = owner[(d, c)]
            found = self.pierces.get((min(p, q), max(p, q)), [])
            known += len(found)
            if not found:
                plain.append((c, d))
                continue
            along = self.body.corner[d] - self.body.corner[c]
            along = along / np.linalg.norm(along)
            rows = sorted(
                (
                    float((self.point[node] - self.body.corner[c]) @ along),
                    float(self.mesh.area_vectors[f] @ along) > 0,
                    node,
                )
                for node, f in found
            )
            if any(b[0] - a[0] < MARGIN_MM or a[1] == b[1] for a, b in zip(rows, rows[1:], strict=False)):
                raise TooClose
            for end, inside in ((c, rows[0][1]), (d, not rows[-1][1])):
                if state.setdefault(end, inside) != inside:
                    raise TooClose
            nodes: list[Node] = [row[2] for row in rows]
            if rows[0][1]:
                nodes.insert(0, ("corner", c))
            if not rows[-1][1]:
                nodes.append(("corner", d))
            inner.append((c, d, nodes))
        if known != sum(len(v) for v in self.pierces.values()):
            raise TooClose
        if not state:
            state[0] = bool(self.mesh.tree.winding(self.body.corner[:1])[0] > 0.5)
        while True:
            spread = [(c, d) for c, d in plain if (c in state) != (d in state)]
            if not spread:
                break
            for c, d in spread:
                state[c] = state[d] = state[c] if c in state else state[d]
        for c, d in plain:
            if state[c] != state[d]:
                raise TooClose
            if state[c]:
                inner.append((c, d, [("corner", c), ("corner", d)]))
        for c, d, nodes in inner:
            for end in (c, d):
                self.point[("corner", end)] = self.body.corner[end]
            for a, b in zip(nodes[::2], nodes[1::2], strict=True):
                self.wall_steps[owner[(d, c)]].append((a, b))
                self.wall_steps[owner[(c, d)]].append((b, a))


def _check_apart(enter: Floats, leave: Floats, margin: float) -> None:
    """The crossings that decide must be clear of their rivals."""
    if len(enter) < 2:
        return
    top = np.partition(enter, -2)[-2:]
    bottom = np.partition(leave, 1)[:2]
    rivals = ((top[1], top[0]), (bottom[1], bottom[0]), (bottom[0], top[1]))
    if any(np.isfinite(a) and np.isfinite(b) and abs(a - b) < margin for a, b in rivals):
        raise TooClose


def _trace(steps: list[Link]) -> list[list[Node]]:
    """Loops of directed steps in which every node is left exactly once."""
    following = dict(steps)
    if len(following) != len(steps) or set(following) != set(following.values()):
        raise TooClose
    loops = []
    while following:
        node = next(iter(following))
        loop = []
        while node in following:
            loop.append(node)
            node = following.pop(node)
        loops.append(loop)
    return loops
