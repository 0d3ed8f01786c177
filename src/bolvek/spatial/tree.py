"""The one tree over triangles: nearest points, rays, winding numbers and meeting pairs."""

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from bolvek.kernels import tree_build, tree_query, triangles
from bolvek.kernels.tree import stab
from bolvek.spatial.parallel import run_ranges

Floats = NDArray[np.float64]
Ints = NDArray[np.int32]

WINDING_ACCURACY = 2.0
"""Distance, in bounding radii, from which a group of faces counts as one dipole."""


@dataclass(frozen=True)
class Hits:
    """Hits of R rays, H columns: distances (inf where none) and face numbers (-1)."""

    distance: Floats
    face: Ints
    found: Ints


class Tree:
    """Bounding-volume tree over the triangles of vertices (V, 3) float64, faces (F, 3) int32.

    Distances are millimetres when the vertices are. An empty face array gives a tree that answers
    "nothing near" (infinite distance, face -1). `origin` is subtracted before anything is computed (the
    middle of the bounds unless given).
    """

    def __init__(self, vertices: Floats, faces: Ints, origin: Floats | None = None) -> None:
        self.vertices = np.ascontiguousarray(vertices, np.float64)
        self.faces = np.ascontiguousarray(faces, np.int32)
        n = len(self.faces)
        self.origin, extent = np.zeros(3), 1.0
        if n:
            used = np.zeros(len(self.vertices), bool)
            used[self.faces.ravel()] = True
            spread = self.vertices if used.all() else self.vertices[used]
            low, high = spread.min(axis=0), spread.max(axis=0)
            self.origin = 0.5 * (low + high) if origin is None else origin
            extent = float(np.maximum(high - self.origin, self.origin - low).max() * 2)
        # float32 holds a coordinate to 6e-8 of its size; overlap tests must not miss a touch
        self.slack = 1e-6 * max(extent, 1e-30)
        v, f, o = self.vertices, self.faces, self.origin
        rec = np.empty((n, 6), np.float32)
        run_ranges(lambda b, e: tree_build.pack_boxes(v, f, o, b, e, rec), n)
        self.order = np.arange(n, dtype=np.int32)
        self.first, self.count, self.child = self._nodes(rec, self.order)
        self.triangles = np.empty((n, 9))
        run_ranges(lambda b, e: tree_build.pack_corners(v, f, o, self.order, b, e, self.triangles), n)
        nodes = len(self.child)
        self.box = np.empty((nodes, 6, 8), np.float32)
        self.disc = np.zeros((nodes, 8, 8), np.float32)
        self.moment = np.zeros((nodes, 4, 8), np.float32)
        run_ranges(self._bound, nodes, grain=256)
        self._boxes = rec

    def _bound(self, begin: int, end: int) -> None:
        tree_build.bound_children(
            self.triangles,
            self.first,
            self.count,
            self.child,
            begin,
            end,
            self.slack,
            self.box,
            self.disc,
            self.moment,
        )

    @staticmethod
    def _nodes(rec: NDArray[np.float32], order: Ints) -> tuple[Ints, Ints, Ints]:
        """Nodes in breadth-first order per subtree: the root's eight subtrees are built apart."""

        def build(start: int, end: int, single: bool) -> tuple[Ints, Ints, Ints]:
            room = 1 if single else max(1, (end - start) // 2 + 1)
            first = np.zeros((room, 8), np.int32)
            count = np.zeros((room, 8), np.int32)
            child = np.full((room, 8), -2, np.int32)
            used = tree_build.build_nodes(rec, order, start, end, single, first, count, child)
            return first[:used], count[:used], child[:used]

        first, count, child = build(0, len(order), True)
        if not len(order):
            child[:] = -2
            return first, count, child
        big = [k for k in range(8) if child[0, k] == -1 and count[0, k] > tree_build.LEAF]
        starts = [(int(first[0, k]), int(first[0, k] + count[0, k])) for k in big]
        built = run_ranges(lambda b, e: [build(*starts[i], False) for i in range(b, e)], len(big), grain=1)
        parts = [part for chunk in built for part in chunk]
        offset = 1
        for k, (_, _, sub) in zip(big, parts, strict=True):
            child[0, k] = offset
            sub[sub >= 0] += offset
            offset += len(sub)
        return (
            np.concatenate([first, *(p[0] for p in parts)]),
            np.concatenate([count, *(p[1] for p in parts)]),
            np.concatenate([child, *(p[2] for p in parts)]),
        )

    @classmethod
    def joined(cls, one: "Tree", other: "Tree", vertices: Floats, faces: Ints) -> "Tree":
        """One tree over the faces of two trees of the same origin, `other`'s faces numbered after `one`'s."""
        if not np.array_equal(one.origin, other.origin):
            raise ValueError("trees to be joined must share their origin")
        tree = cls.__new__(cls)
        tree.vertices, tree.faces, tree.origin = vertices, faces, one.origin
        tree.slack = max(one.slack, other.slack)
        n = len(one.order)
        tree.order = np.concatenate([one.order, other.order + np.int32(n)])
        tree.triangles = np.concatenate([one.triangles, other.triangles])
        tree._boxes = np.concatenate([one._boxes, other._boxes])
        tree.first = np.zeros((1 + len(one.child) + len(other.child), 8), np.int32)
        tree.count, tree.child = np.zeros_like(tree.first), np.full_like(tree.first, -2)
        tree.box, tree.disc, tree.moment = (
            np.concatenate([np.zeros((1, *a.shape[1:]), np.float32), a, b])
            for a, b in ((one.box, other.box), (one.disc, other.disc), (one.moment, other.moment))
        )
        at = 1
        for slot, (part, shift) in enumerate(((one, 0), (other, n))):
            end = at + len(part.child)
            tree.first[at:end] = part.first + np.int32(shift)
            tree.count[at:end] = part.count
            tree.child[at:end] = np.where(part.child >= 0, part.child + np.int32(at), part.child)
            tree.first[0, slot], tree.count[0, slot], tree.child[0, slot] = shift, len(part.order), at
            at = end
        tree._bound(0, 1)
        return tree

    def nearest(self, points: Floats, limit: float = np.inf, *, sort: bool = True) -> tuple[Floats, Ints]:
        """Distance (P,) and face (P,) nearest to points (P, 3), up to `limit`; ties may take either."""
        local = np.ascontiguousarray(np.asarray(points, np.float64).reshape(-1, 3) - self.origin)
        along = curve_order(local) if sort else None
        if along is not None:
            local = local[along]
        dist2 = np.empty(len(local))
        face = np.empty(len(local), np.int32)
        run_ranges(
            lambda b, e: tree_query.nearest(
                self.triangles,
                self.box,
                self.disc,
                self.child,
                self.first,
                self.count,
                local,
                limit,
                b,
                e,
                dist2,
                face,
            ),
            len(local),
            grain=512,
        )
        found = face >= 0
        face[found] = self.order[face[found]]
        distance = np.sqrt(dist2)
        if along is not None:
            back_distance, back_face = np.empty_like(distance), np.empty_like(face)
            back_distance[along], back_face[along] = distance, face
            return back_distance, back_face
        return distance, face

    def closest_points(self, points: Floats, face: Ints) -> Floats:
        """Closest point (P, 3) to each point on the face named for it (none may be -1)."""
        a, b, c = (self.vertices[self.faces[face, k]] for k in range(3))
        return closest_on_triangles(np.asarray(points, np.float64), a, b, c)

    def rays(
        self,
        origins: Floats,
        directions: Floats,
        *,
        near: float = 0.0,
        far: float = np.inf,
        most: int = 1,
        alone: bool = False,
    ) -> Hits:
        """The first `most` hits of each ray with near < t < far, t in units of the direction.

        alone: in the calling thread, for callers that are one of several.
        """
        local = np.ascontiguousarray(np.asarray(origins, np.float64).reshape(-1, 3) - self.origin)
        directions = np.ascontiguousarray(np.asarray(directions, np.float64).reshape(-1, 3))
        hits = np.empty((len(local), most))
        faces = np.empty((len(local), most), np.int32)
        found = np.empty(len(local), np.int32)

        def work(begin: int, end: int) -> None:
            tree_query.ray_hits(
                self.triangles,
                self.box,
                self.child,
                self.first,
                self.count,
                local,
                directions,
                near,
                far,
                begin,
                end,
                hits,
                faces,
                found,
            )

        if alone:
            work(0, len(local))
        else:
            run_ranges(work, len(local), grain=512)
        ok = faces >= 0
        faces[ok] = self.order[faces[ok]]
        return Hits(hits, faces, found)

    def stab(self, starts: NDArray[np.int64]) -> NDArray[np.int64]:
        """Faces that lines along +x from vertices (N,) go through, exactly: rows (H, 3) of start, face, sign.

        The sign is 1 where the line leaves through a face, -1 where it enters.
        """

        def work(begin: int, end: int) -> Ints:
            room = 64
            while True:
                found = np.empty((room, 3), np.int32)
                n = stab.stab_faces(
                    self.vertices,
                    self.faces,
                    self.order,
                    self.origin,
                    self.box,
                    self.child,
                    self.first,
                    self.count,
                    starts,
                    begin,
                    end,
                    found,
                )
                if n <= room:
                    return found[:n]
                room = n

        parts = run_ranges(work, len(starts), grain=64)
        return np.concatenate(parts).astype(np.int64) if parts else np.zeros((0, 3), np.int64)

    def winding(self, points: Floats) -> Floats:
        """Generalized winding number (P,) of points (P, 3); see `WINDING_ACCURACY`."""
        local = np.ascontiguousarray(np.asarray(points, np.float64).reshape(-1, 3) - self.origin)
        out = np.empty(len(local))
        run_ranges(
            lambda b, e: tree_query.winding(
                self.triangles,
                self.disc,
                self.moment,
                self.child,
                self.first,
                self.count,
                local,
                WINDING_ACCURACY,
                b,
                e,
                out,
            ),
            len(local),
            grain=256,
        )
        return out

    def faces_in_box(self, low: Floats, high: Floats) -> NDArray[np.int64]:
        """Faces whose box meets the box low..high, in ascending order (conservative by `slack`)."""
        near = np.ones(len(self._boxes), bool)
        for k in range(3):
            near &= self._boxes[:, k] <= high[k] - self.origin[k] + self.slack
            near &= self._boxes[:, k + 3] >= low[k] - self.origin[k] - self.slack
        return np.sort(self.order[near]).astype(np.int64)

    def meeting_pairs(self, most: int = 1_000_000) -> tuple[Ints, int]:
        """Pairs (P, 2) of faces that meet beyond what they share, sorted; and how many there are.

        Faces without area take no part: they are a defect of their own. At most about `most` pairs are
        listed; the count is always whole.
        """
        boxes = self._boxes.copy()
        boxes[:, :3] -= self.slack
        boxes[:, 3:] += self.slack
        flat = np.empty(len(self.order), bool)
        run_ranges(lambda b, e: triangles.mark_flat(self.vertices, self.faces, b, e, flat), len(flat))
        boxes[flat[self.order]] = np.repeat([np.inf, -np.inf], 3)  # a box that meets nothing
        plane = np.empty((len(self.order), 4))
        run_ranges(lambda b, e: triangles.planes(self.vertices, self.faces, self.order, b, e, plane), len(plane))

        def work(begin: int, end: int) -> tuple[Ints, int]:
            room = 256
            while True:
                pairs = np.empty((room, 2), np.int32)
                n = tree_query.meeting_pairs(
                    self.vertices,
                    self.faces,
                    boxes,
                    plane,
                    self.order,
                    self.box,
                    self.child,
                    self.first,
                    self.count,
                    begin,
                    end,
                    pairs,
                )
                if n <= room or room >= most:
                    return pairs[: min(n, room)], n
                room = min(n, most)

        parts = run_ranges(work, len(self.child), grain=64)
        pairs = np.concatenate([p for p, _ in parts]) if parts else np.zeros((0, 2), np.int32)
        return pairs[np.lexsort((pairs[:, 1], pairs[:, 0]))][:most], sum(n for _, n in parts)


def closest_on_triangles(p: Floats, a: Floats, b: Floats, c: Floats) -> Floats:
    """Closest point (P, 3) to p on triangle a b c, row by row."""
    ab, ac = b - a, c - a
    candidates = [_on_segment(p, a, b), _on_segment(p, b, c), _on_segment(p, c, a)]
    normal = np.cross(ab, ac)
    size = np.einsum("ij,ij->i", normal, normal)
    with np.errstate(divide="ignore", invalid="ignore"):
        flat = p - normal * (np.einsum("ij,ij->i", p - a, normal) / size)[:, None]
        inside = size > 0
        for s, e in ((a, b), (b, c), (c, a)):
            inside &= np.einsum("ij,ij->i", np.cross(e - s, flat - s), normal) >= 0
    flat[~inside] = np.inf
    stacked = np.stack([*candidates, flat])
    with np.errstate(invalid="ignore"):
        gap = np.linalg.norm(stacked - p, axis=2)
    return np.asarray(stacked[np.nanargmin(gap, axis=0), np.arange(len(p))])


def _on_segment(p: Floats, a: Floats, b: Floats) -> Floats:
    d = b - a
    size = np.einsum("ij,ij->i", d, d)
    t = np.divide(np.einsum("ij,ij->i", p - a, d), size, out=np.zeros(len(p)), where=size > 0)
    return np.asarray(a + np.clip(t, 0, 1)[:, None] * d)


def curve_order(points: Floats) -> NDArray[np.int64]:
    """Order of points (P, 3) along a Z-curve of 2^10 cells a side, stable."""
    if len(points) < 2:
        return np.arange(len(points))
    low = points.min(axis=0)
    extent = max(float(np.ptp(points, axis=0).max()), 1e-30)
    cell = ((points - low) * (1023.0 / extent)).astype(np.uint32)
    for shift, mask in ((16, 0x030000FF), (8, 0x0300F00F), (4, 0x030C30C3), (2, 0x09249249)):
        cell = (cell | (cell << np.uint32(shift))) & np.uint32(mask)
    code = cell[:, 0] | (cell[:, 1] << np.uint32(1)) | (cell[:, 2] << np.uint32(2))
    return np.argsort(code, kind="stable")
