"""A slow survey in plain Python and rational numbers, sharing no code with the one it checks."""

import math
from collections import Counter, defaultdict
from fractions import Fraction
from itertools import combinations

from support import slow_meet


class SlowSurvey:
    """Counts of every class of defect of triangles given by corner points, all against all."""

    def __init__(self, triangles, near=0.0, sliver=0.0, knife_deg=0.0):
        number = {}
        self.points = []
        self.faces = []
        for triangle in triangles:
            face = []
            for point in triangle:
                key = tuple(float(x) + 0.0 for x in point)
                if key not in number:
                    number[key] = len(number)
                    self.points.append(key)
                face.append(number[key])
            self.faces.append(tuple(face))
        self.exact = [[Fraction(x) for x in p] for p in self.points]
        self.uses = defaultdict(list)  # edge: (face, forward, half-edge)
        # a face that uses a point twice has no surface, and no part in edges, fans and shells
        self.proper = [f for f, face in enumerate(self.faces) if len(set(face)) == 3]
        for f in self.proper:
            face = self.faces[f]
            for k in range(3):
                a, b = face[k], face[(k + 1) % 3]
                if a != b:
                    self.uses[min(a, b), max(a, b)].append((f, a < b, k))
        self.open = [e for e, u in self.uses.items() if len(u) == 1]
        self.crowded = [e for e, u in self.uses.items() if len(u) > 2]
        self.bad = [e for e, u in self.uses.items() if len(u) == 2 and u[0][1] == u[1][1]]
        self.flat = [f for f, face in enumerate(self.faces) if not any(self._normal(face))]
        self.near, self.sliver, self.knife_deg = near, sliver, knife_deg

    def counts(self):
        """The counts by the names a survey has for them."""
        same, opposite = self._twins()
        return {
            "triangles": len(self.faces),
            "vertices": len(self.points),
            "shells": self._shells(),
            "open_edges": len(self.open),
            "nonmanifold_edges": len(self.crowded),
            "badly_oriented_edges": len(self.bad),
            "split_vertices": self._split(),
            "flat_faces": len(self.flat),
            "twins_same_way": same,
            "twins_opposite_way": opposite,
            "self_intersections": self._pairs(),
        }

    def _shells(self):
        at = {f: i for i, f in enumerate(self.proper)}
        links = [(at[u[0][0]], at[x[0]]) for u in self.uses.values() for x in u[1:]]
        return self._components(len(at), links) if at else 1

    def tolerant_counts(self):
        """Slivers, near vertices and knife edges, for which the tolerances were given."""
        flat = set(self.flat)
        low = {f for f in range(len(self.faces)) if f not in flat and self._height(f) < self.sliver}
        knives = 0
        for uses in self.uses.values():
            if len(uses) == 2 and uses[0][1] != uses[1][1] and not {u[0] for u in uses} & (flat | low):
                knives += self._inner_angle(uses[0][0], uses[1][0]) < self.knife_deg
        rim = sorted({v for e in self.open for v in e})
        pairs = [p for p in combinations(rim, 2) if p not in self.uses and self._apart(*p) <= self.near]
        near = len({v for p in pairs for v in p}) if self._open_once_welded(pairs) < len(self.open) else 0
        return {"slivers": len(low), "near_vertices": near, "knife_edges": knives}

    def _apart(self, a, b):
        return math.dist(self.points[a], self.points[b])

    def _open_once_welded(self, pairs):
        """Open edges that are left when the vertices of each pair are one."""
        name = {v: v for v in range(len(self.points))}
        for a, b in pairs:
            old, new = name[a], name[b]
            name = {v: new if n == old else n for v, n in name.items()}
        faces = [[name[v] for v in self.faces[f]] for f in self.proper]
        uses = Counter(tuple(sorted((f[k], f[(k + 1) % 3]))) for f in faces if len(set(f)) == 3 for k in range(3))
        return sum(n == 1 for n in uses.values())

    def loops(self):
        """Loops of open edges, where every vertex on them has just two."""
        ends = sorted({v for e in self.open for v in e})
        at = {v: i for i, v in enumerate(ends)}
        return self._components(len(ends), [(at[a], at[b]) for a, b in self.open])

    @staticmethod
    def _components(count, links):
        group = list(range(count))

        def root(i):
            while group[i] != i:
                i = group[i]
            return i

        for a, b in links:
            group[root(a)] = root(b)
        return sum(root(i) == i for i in range(count))

    def _split(self):
        """Vertices whose faces fall into several fans, away from non-manifold edges."""
        told = {v for e in self.crowded for v in e}
        around = defaultdict(list)
        for f in self.proper:
            for k in range(3):
                around[self.faces[f][k]].append((f, k))
        split = 0
        for v, corners in around.items():
            if v in told:
                continue
            at = {c: i for i, c in enumerate(corners)}
            links = []
            for edge, uses in self.uses.items():
                if v in edge and len(uses) == 2:
                    # the corner at v is where the half-edge begins, or the next one
                    links.append([at[f, k if self.faces[f][k] == v else (k + 1) % 3] for f, _, k in uses])
            split += self._components(len(corners), links) > 1
        return split

    def _twins(self):
        same = opposite = 0
        rings = [self._ring(face) for face in self.faces if len(set(face)) == 3]
        for one, other in combinations(rings, 2):
            same += one == other
            opposite += sorted(one) == sorted(other) and one != other
        return same, opposite

    @staticmethod
    def _ring(face):
        k = face.index(min(face))
        return face[k:] + face[:k]

    def _pairs(self):
        found = 0
        boxes = [[sorted(x) for x in zip(*(self.points[i] for i in face), strict=True)] for face in self.faces]
        proper = [f for f in range(len(self.faces)) if f not in set(self.flat)]
        for f, g in combinations(proper, 2):
            apart = any(a[2] < b[0] or b[2] < a[0] for a, b in zip(boxes[f], boxes[g], strict=True))
            found += not apart and slow_meet(self.exact, self.faces[f], self.faces[g])
        return found

    def _normal(self, face):
        a, b, c = (self.exact[i] for i in face)
        u, w = [y - x for x, y in zip(a, b, strict=True)], [y - x for x, y in zip(a, c, strict=True)]
        return [u[1] * w[2] - u[2] * w[1], u[2] * w[0] - u[0] * w[2], u[0] * w[1] - u[1] * w[0]]

    def _height(self, f):
        corners = [self.points[i] for i in self.faces[f]]
        longest = max(math.dist(a, b) for a, b in combinations(corners, 2))
        return math.sqrt(sum(float(x) ** 2 for x in self._normal(self.faces[f]))) / longest

    def _inner_angle(self, f, g):
        """The angle of the material between two faces that agree, in degrees; 360 less it where it is hollow."""
        n = [[float(x) for x in self._normal(self.faces[i])] for i in (f, g)]
        sizes = [math.hypot(*v) for v in n]
        cosine = sum(a * b for a, b in zip(*n, strict=True)) / (sizes[0] * sizes[1])
        between = 180 - math.degrees(math.acos(max(-1.0, min(1.0, cosine))))
        far = next(i for i in self.faces[g] if i not in self.faces[f])
        base = self.points[self.faces[f][0]]
        above = sum((x - y) * z for x, y, z in zip(self.points[far], base, n[0], strict=True))
        return between if above <= 0 else 360 - between
