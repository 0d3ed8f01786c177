"""The one tree over triangles: nearest points, rays, winding numbers and meeting pairs."""

from dataclasses import dataclass

import numpy as np

from bolvek.arrays import Floats, Floats32, Ints, Ints32, extent, frozen
from bolvek.kernels.exact import triangles
from bolvek.kernels.tree import between, build, distance, pairs, rays, stab, winding
from bolvek.kernels.tree.arrays import TreeArrays
from bolvek.spatial.parallel import run_ranges

WINDING_ACCURACY = 2.0
"""Distance, in bounding radii, from which a group of faces counts as one dipole."""
_FEW = 1024  # faces in a box, at first
_SMALL = 4096  # faces: fewer are not worth several threads


@dataclass(frozen=True)
class Hits:
    """Hits of R rays, H columns: distances (inf where none) and face numbers (-1)."""

    distance: Floats
    face: Ints32
    found: Ints32


class Tree:
    """Bounding-volume tree over the triangles of vertices (V, 3) float64, faces (F, 3) int32.

    Distances are millimetres when the vertices are. An empty face array gives a tree that answers
    "nothing near" (infinite distance, face -1). `origin` is subtracted before anything is computed (the
    middle of the bounds unless given). Everything it holds is read-only.
    """

    def __init__(self, vertices: Floats, faces: Ints32, origin: Floats | None = None) -> None:
        v = np.ascontiguousarray(vertices, np.float64)
        f = np.ascontiguousarray(faces, np.int32)
        n = len(f)
        o, longest = np.zeros(3), 1.0
        if n:
            used = np.zeros(len(v), bool)
            used[f.ravel()] = True
            spread = v if used.all() else v[used]
            low, high = extent(spread)
            o = 0.5 * (low + high) if origin is None else origin
            longest = float(np.maximum(high - o, o - low).max() * 2)
        # float32 holds a coordinate to 6e-8 of its size; overlap tests must not miss a touch
        slack = 1e-6 * max(longest, 1e-30)
        boxes = np.empty((n, 6), np.float32)
        run_ranges(lambda b, e: build.pack_boxes(v, f, o, b, e, boxes), n)
        order = np.arange(n, dtype=np.int32)
        first, count, child = _nodes(boxes, order)
        corners = np.empty((n, 9))
        run_ranges(lambda b, e: build.pack_corners(v, f, o, order, b, e, corners), n)
        bounds = _bounds(corners, first, count, child, slack)
        self._fill(v, f, TreeArrays(corners, *bounds, child, first, count, order, o), boxes, slack)

    def _fill(self, vertices: Floats, faces: Ints32, arrays: TreeArrays, boxes: Floats32, slack: float) -> None:
        self.arrays = TreeArrays._make(frozen(a) for a in arrays)
        self.vertices, self.faces, self.boxes = frozen(vertices), frozen(faces), frozen(boxes)
        self.slack = slack

    @property
    def origin(self) -> Floats:
        """What was subtracted (3,)."""
        return self.arrays.origin

    @property
    def order(self) -> Ints32:
        """The face (F,) of each place of the tree: neighbours in space follow each other."""
        return self.arrays.order

    @classmethod
    def joined(cls, one: "Tree", other: "Tree", vertices: Floats, faces: Ints32) -> "Tree":
        """One tree over the faces of two trees of the same origin, `other`'s faces numbered after `one`'s."""
        if not np.array_equal(one.origin, other.origin):
            raise ValueError("trees to be joined must share their origin")
        a, b, n = one.arrays, other.arrays, len(one.order)
        nodes = 1 + len(a.child) + len(b.child)
        first, count = np.zeros((2, nodes, 8), np.int32)
        child = np.full((nodes, 8), -2, np.int32)
        at = 1
        for slot, (part, shift) in enumerate(((a, 0), (b, n))):
            end = at + len(part.child)
            first[at:end] = part.first + np.int32(shift)
            count[at:end] = part.count
            child[at:end] = np.where(part.child >= 0, part.child + np.int32(at), part.child)
            first[0, slot], count[0, slot], child[0, slot] = shift, len(part.order), at
            at = end
        corners = np.concatenate([a.triangles, b.triangles])
        slack = max(one.slack, other.slack)
        root = _bounds(corners, first[:1], count[:1], child[:1], slack)
        box, disc, moment = (
            np.concatenate(three)
            for three in zip(root, (a.box, a.disc, a.moment), (b.box, b.disc, b.moment), strict=True)
        )
        order = np.concatenate([a.order, b.order + np.int32(n)])
        tree = cls.__new__(cls)
        boxes = np.concatenate([one.boxes, other.boxes])
        tree._fill(
            vertices, faces, TreeArrays(corners, box, disc, moment, child, first, count, order, a.origin), boxes, slack
        )
        return tree

    def nearest(self, points: Floats, limit: float = np.inf) -> tuple[Floats, Ints32]:
        """Distance (P,) and face (P,) nearest to points (P, 3), up to `limit`; ties may take either."""
        local = np.ascontiguousarray(np.asarray(points, np.float64).reshape(-1, 3) - self.origin)
        along = curve_order(local)
        if along is not None:
            local = local[along]
        dist2 = np.empty(len(local))
        face = np.empty(len(local), np.int32)
        run_ranges(lambda b, e: distance.nearest(self.arrays, local, limit, b, e, dist2, face), len(local), grain=512)
        found = face >= 0
        face[found] = self.order[face[found]]
        gap = np.sqrt(dist2)
        self.check_reach(local, np.minimum(gap, limit))
        if along is not None:
            back_gap, back_face = np.empty_like(gap), np.empty_like(face)
            back_gap[along], back_face[along] = gap, face
            return back_gap, back_face
        return gap, face

    def check_reach(self, points: Floats, gap: Floats) -> None:
        """For a tree that holds the faces in a box only: raise where balls of radius (P,) around points (P, 3) from
        the origin, in which something was looked for, leave it."""

    def nearest_to_triangles(self, corners: Floats, limit: Floats | float = np.inf) -> tuple[Floats, Ints32, Floats]:
        """Distance (N,) and face (N,) nearest to triangles (N, 3, 3), up to a limit each, exact; where (N, 2, 3), on
        the triangle and on the face. Face -1 and the limit where nothing is nearer. They are not to cross a face."""
        local = np.ascontiguousarray((corners - self.origin).reshape(-1, 9))
        n = len(local)
        most = np.ascontiguousarray(np.broadcast_to(np.asarray(limit, np.float64), n))
        dist2, face, places = np.empty(n), np.empty(n, np.int32), np.zeros((n, 6))
        run_ranges(
            lambda b, e: between.nearest_faces(self.arrays, local, most, b, e, dist2, face, places), n, grain=128
        )
        found = face >= 0
        face[found] = self.order[face[found]]
        return np.sqrt(dist2), face, places.reshape(n, 2, 3) + self.origin

    def closest_points(self, points: Floats, face: Ints32) -> Floats:
        """Closest point (P, 3) to each point on the face named for it (none may be -1)."""
        points, face = np.ascontiguousarray(points, np.float64), np.asarray(face, np.int32)
        out = np.empty((len(points), 3))
        run_ranges(
            lambda b, e: distance.closest_on_faces(self.vertices, self.faces, points, face, b, e, out), len(points)
        )
        return out

    def step_to(self, points: Floats, level: float, most: float, *, fading: bool = False) -> Floats:
        """The step (P, 3) that brings points straight to a distance of `level` mm from the surface, one of Newton's, at
        most so long (mm). fading: inward steps get shorter where they would be longer than half of that, and are none
        from `most` on, so that no edge is torn where something else bounds what the points are of."""
        distance, face = self.nearest(points)
        away = points - self.closest_points(points, face)
        step = level - distance
        fade = np.clip(2.0 - 2.0 * np.maximum(-step, 0.0) / most, 0.0, 1.0) if fading else 1.0
        step = np.clip(step, -most, most) * fade
        return np.asarray(away * (step / np.maximum(distance, 1e-12))[:, None])

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
            rays.ray_hits(self.arrays, local, directions, near, far, begin, end, hits, faces, found)

        if alone:
            work(0, len(local))
        else:
            run_ranges(work, len(local), grain=512)
        ok = faces >= 0
        faces[ok] = self.order[faces[ok]]
        return Hits(hits, faces, found)

    def stab(self, starts: Ints) -> Ints:
        """Faces that lines along +x from vertices (N,) go through, exactly: rows (H, 3) of start, face, sign.

        The sign is 1 where the line leaves through a face, -1 where it enters.
        """

        def work(begin: int, end: int) -> Ints32:
            room = 64
            while True:
                found = np.empty((room, 3), np.int32)
                n = stab.stab_faces(self.vertices, self.faces, self.arrays, starts, begin, end, found)
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
            lambda b, e: winding.winding(self.arrays, local, WINDING_ACCURACY, b, e, out),
            len(local),
            grain=256,
        )
        return out

    def faces_in_box(self, low: Floats, high: Floats) -> Ints:
        """Faces whose box meets the box low..high, in ascending order (conservative by `slack`)."""
        low = (low - self.origin - self.slack).astype(np.float32)
        high = (high - self.origin + self.slack).astype(np.float32)
        room = _FEW
        while True:
            found = np.empty(room, np.int32)
            n = distance.faces_in_box(self.arrays, self.boxes, low, high, found)
            if n <= room:
                return np.sort(self.order[found[:n]]).astype(np.int64)
            room = n

    def meeting_pairs(self, most: int = 1_000_000) -> tuple[Ints32, int]:
        """Pairs (P, 2) of faces that meet beyond what they share, sorted; and how many there are.

        Faces without area take no part: they are a defect of their own. At most about `most` pairs are
        listed; the count is always whole.
        """
        boxes = self.boxes.copy()
        boxes[:, :3] -= self.slack
        boxes[:, 3:] += self.slack
        flat = np.empty(len(self.order), bool)
        run_ranges(lambda b, e: triangles.mark_flat(self.vertices, self.faces, b, e, flat), len(flat))
        boxes[flat[self.order]] = np.repeat([np.inf, -np.inf], 3)  # a box that meets nothing
        plane = np.empty((len(self.order), 4))
        run_ranges(lambda b, e: triangles.planes(self.vertices, self.faces, self.order, b, e, plane), len(plane))

        def work(begin: int, end: int) -> tuple[Ints32, int]:
            room = 256
            while True:
                found = np.empty((room, 2), np.int32)
                n = pairs.meeting_pairs(self.vertices, self.faces, boxes, plane, self.arrays, begin, end, found)
                if n <= room or room >= most:
                    return found[: min(n, room)], n
                room = min(n, most)

        parts = run_ranges(work, len(self.arrays.child), grain=64)
        both = np.concatenate([p for p, _ in parts]) if parts else np.zeros((0, 2), np.int32)
        return both[np.lexsort((both[:, 1], both[:, 0]))][:most], sum(n for _, n in parts)


def _nodes(boxes: Floats32, order: Ints32) -> tuple[Ints32, Ints32, Ints32]:
    """first, count and child (N, 8) of nodes in breadth-first order per subtree; sorts boxes and order on the way.

    The root's eight subtrees are built side by side.
    """

    def subtree(start: int, end: int, single: bool) -> tuple[Ints32, Ints32, Ints32]:
        room = 1 if single else max(1, (end - start) // 2 + 1)
        first = np.zeros((room, 8), np.int32)
        count = np.zeros((room, 8), np.int32)
        child = np.full((room, 8), -2, np.int32)
        used = build.build_nodes(boxes, order, start, end, single, first, count, child)
        return first[:used], count[:used], child[:used]

    first, count, child = subtree(0, len(order), True)
    if not len(order):
        child[:] = -2
        return first, count, child
    big = [k for k in range(8) if child[0, k] == -1 and count[0, k] > build.LEAF]
    starts = [(int(first[0, k]), int(first[0, k] + count[0, k])) for k in big]
    grain = 1 if len(order) > _SMALL else 8
    built = run_ranges(lambda b, e: [subtree(*starts[i], False) for i in range(b, e)], len(big), grain=grain)
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


def _bounds(
    corners: Floats, first: Ints32, count: Ints32, child: Ints32, slack: float
) -> tuple[Floats32, Floats32, Floats32]:
    """box, disc and moment of the children of all nodes."""
    box = np.empty((len(child), 6, 8), np.float32)
    disc = np.zeros((len(child), 8, 8), np.float32)
    moment = np.zeros((len(child), 4, 8), np.float32)
    run_ranges(
        lambda b, e: build.bound_children(corners, first, count, child, b, e, slack, box, disc, moment),
        len(child),
        grain=256,
    )
    return box, disc, moment


def curve_order(points: Floats) -> Ints:
    """Order of points (P, 3) along a Z-curve of 2^10 cells a side, stable."""
    if len(points) < 2:
        return np.arange(len(points))
    low, high = extent(points)
    longest = max(float((high - low).max()), 1e-30)
    cell = ((points - low) * (1023.0 / longest)).astype(np.uint32)
    for shift, mask in ((16, 0x030000FF), (8, 0x0300F00F), (4, 0x030C30C3), (2, 0x09249249)):
        cell = (cell | (cell << np.uint32(shift))) & np.uint32(mask)
    code = cell[:, 0] | (cell[:, 1] << np.uint32(1)) | (cell[:, 2] << np.uint32(2))
    # sixteen bits at a time: NumPy sorts those by counting
    order = np.argsort((code & np.uint32(0x7FFF)).astype(np.uint16), kind="stable")
    high = (code >> np.uint32(15)).astype(np.uint16)
    return order[np.argsort(high[order], kind="stable")]
