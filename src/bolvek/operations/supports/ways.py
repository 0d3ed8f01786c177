"""Ways of supports from a model down: what is free of it, by exact distances."""

from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np

from bolvek.arrays import Bools, Floats, Ints
from bolvek.mesh import Mesh
from bolvek.settings.supports import SupportSettings

_CONE_STEPS = (0.02, 0.2, 0.4, 0.6, 0.8, 1.0)  # of the cone's length: between them it is held against the model
_STEEPEST_DEG = 45.0  # a cone leans no farther from the upright
_TURNS = 16
_OFF_MM = (1.0, 2.0, 3.0, 4.5, 6.5, 9.0, 13.0, 18.0, 26.0, 36.0)
_MOST_CONES = 3  # of a tip: for so many the leaning ways are tried
_LEAST_UP = 0.35  # of a normal: a column stands on what faces up more than that
_ABOVE_MM = 1e-3
_SHORT = 0.5  # of the cone's length: where the whole does not fit


def is_clear(mesh: Mesh, start: Floats, end: Floats, radius: Floats | float) -> Bools:
    """Whether segments (N, 3) to (N, 3) stay farther from the surface than a radius (N,), mm. Exact to rounding."""
    if not len(start):
        return np.zeros(0, bool)
    _, face, _ = mesh.tree.nearest_to_triangles(np.stack([start, end, end], axis=1), radius)
    clear, long = face < 0, (start != end).any(axis=1)
    clear[long] &= mesh.tree.rays(start[long], (end - start)[long], far=1.0).found == 0
    return np.asarray(clear)


@dataclass(frozen=True)
class Way:
    """A way of a support: the middle of its tip on the model, the corners of its axis from there to the base, and
    whether that is on the model; `toward`: out of the model along the tip. A stub stands between a bed and what is so
    low above it that no cone fits: it is hardly wider than a tip."""

    tip: Floats
    toward: Floats
    corners: Floats
    on_model: bool = False
    stub: bool = False

    @property
    def high_mm(self) -> float:
        """How high the column is, from its base to where its cone begins."""
        return float(self.corners[0, 2] - self.corners[-1, 2])

    @property
    def length_mm(self) -> float:
        """From the tip to the base."""
        line = np.vstack([self.tip, self.corners])
        return float(np.linalg.norm(np.diff(line, axis=0), axis=1).sum())


def column_radius(high_mm: Floats | float, s: SupportSettings) -> Floats:
    """The radius of a column of a height, or of a branch of a length, mm."""
    return np.maximum(0.5 * s.column_mm, 0.5 * np.asarray(high_mm) / s.slender)


class Paths:
    """Ways of a model to a bed at a height."""

    def __init__(self, mesh: Mesh, floor_mm: float, settings: SupportSettings) -> None:
        self._mesh, self._floor, self._s = mesh, floor_mm, settings

    def find(self, places: Floats) -> list[Way | None]:
        """A way for a tip at each place (T, 3) of the surface, to the bed if there is one, None without any."""
        found: list[Way | None] = [None] * len(places)
        if not len(places):
            return found
        normal = self._normals(places)
        groups = [list(self._directions(normal, g)) for g in range(3)]
        knees: list[dict[int, list[tuple[Floats, Floats]]]] = []
        todo = np.arange(len(places))
        for on_model in (False, True):
            for g, group in enumerate(groups):
                if g >= len(knees):
                    knees.append(self._cones(places, group, todo))
                ends = [(int(t), *cone) for t in todo for cone in knees[g].get(int(t), ())]
                self._descend(places, ends, on_model, found)
                todo = np.array([t for t in todo if found[t] is None], np.int64)
            todo = self._stubs(places, todo, on_model, found)
        return found

    def _stubs(self, places: Floats, todo: Ints, on_model: bool, found: list[Way | None]) -> Ints:
        """Stand what is low above the bed, or above the model, on stubs; the tips that are left to do."""
        base, upward = self._beneath(places[todo] - [0.0, 0.0, _ABOVE_MM])
        high = places[todo, 2] - base[:, 2]
        good = (high > _ABOVE_MM) & (high <= self._s.tip_long_mm + self._s.column_mm)
        good &= (upward > _LEAST_UP) if on_model else np.isnan(upward)
        for row in np.flatnonzero(good):
            corners = np.array([0.5 * (places[todo[row]] + base[row]), base[row]])
            found[todo[row]] = Way(places[todo[row]], np.array([0.0, 0.0, -1.0]), corners, on_model, stub=True)
        return todo[~good]

    def _beneath(self, start: Floats) -> tuple[Floats, Floats]:
        """What is straight beneath points (N, 3): the place on the model or the bed, and how far the model faces up
        there (N,), nan for the bed."""
        base = np.column_stack([start[:, :2], np.full(len(start), self._floor)])
        hit = self._mesh.tree.rays(start, base - start, far=1.0)
        rows = np.flatnonzero(hit.found > 0)
        base[rows] = start[rows] + hit.distance[rows, :1] * (base[rows] - start[rows])
        upward = np.full(len(start), np.nan)
        upward[rows] = self._mesh.unit_normals[hit.face[rows, 0], 2]
        return base, upward

    def _normals(self, places: Floats) -> Floats:
        """Normals (T, 3) of the surface around places, as wide as a tip."""
        turn = 2 * np.pi * np.arange(8) / 8
        ring = 0.5 * self._s.tip_mm * np.stack([np.cos(turn), np.sin(turn), 0 * turn], axis=1)
        around = (places[:, None] + np.vstack([ring, np.zeros((1, 3))])).reshape(-1, 3)
        _, face = self._mesh.tree.nearest(around)
        total = self._mesh.unit_normals[face].reshape(len(places), -1, 3).sum(axis=1)
        return np.asarray(total / np.maximum(np.linalg.norm(total, axis=1), 1e-12)[:, None])

    def _directions(self, normal: Floats, group: int) -> Iterator[tuple[Floats, float]]:
        """Directions (T, 3) of cones and their length, the best first: square to the surface, more upright, then any
        way around; at last shorter ones."""
        long = self._s.tip_long_mm * (_SHORT if group == 2 else 1.0)
        if group != 1:
            flat = np.linalg.norm(normal[:, :2], axis=1)
            most = np.minimum(np.degrees(np.arctan2(flat, np.maximum(-normal[:, 2], 1e-9))), _STEEPEST_DEG)
            way = normal[:, :2] / np.maximum(flat, 1e-12)[:, None]
            for share in (1.0, 0.5, 0.0):
                yield _leaning(way, share * most), long
        if group != 0:
            for deg in (30.0, _STEEPEST_DEG):
                for k in range(8):
                    turn = 2 * np.pi * k / 8
                    way = np.tile([np.cos(turn), np.sin(turn)], (len(normal), 1))
                    yield _leaning(way, np.full(len(normal), deg)), long

    def _cones(
        self, places: Floats, group: list[tuple[Floats, float]], todo: Ints
    ) -> dict[int, list[tuple[Floats, Floats]]]:
        """For each tip that is to do the directions of cones that keep off the model, and where they end."""
        s = self._s
        tip, column = 0.5 * s.tip_mm, 0.5 * s.column_mm
        fits: dict[int, list[tuple[Floats, Floats]]] = {}
        for direction, long in group:
            d, p = direction[todo], places[todo]
            knee = p + long * d
            good = (knee[:, 2] > self._floor + column) & is_clear(self._mesh, knee, knee, column + s.clearance_mm)
            for low, high in zip(_CONE_STEPS[:-1], _CONE_STEPS[1:], strict=True):
                rows = np.flatnonzero(good)
                widest = tip + high * (column - tip)
                # near the model a cone is as near to it as its own slope makes it
                room = min(widest, 0.6 * low * long) if low >= _CONE_STEPS[1] else 0.0
                start, end = p[rows] + low * long * d[rows], p[rows] + high * long * d[rows]
                good[rows] = is_clear(self._mesh, start, end, room)
            for row in np.flatnonzero(good):
                fits.setdefault(int(todo[row]), []).append((d[row], knee[row]))
        return fits

    def _descend(
        self, places: Floats, ends: list[tuple[int, Floats, Floats]], on_model: bool, found: list[Way | None]
    ) -> None:
        """Ways from the ends of cones, straight down or leaning first, for tips that have none; into `found`."""
        if not ends:
            return
        knee = np.array([end for _, _, end in ends])
        self._stand(places, ends, np.arange(len(ends)), knee, knee, on_model, found)
        count: dict[int, int] = {}
        rows = []
        for row, (tip, _, _) in enumerate(ends):
            count[tip] = count.get(tip, 0) + 1
            if found[tip] is None and count[tip] <= _MOST_CONES:
                rows.append(row)
        turn = 2 * np.pi * np.arange(_TURNS) / _TURNS
        ring = np.stack([np.cos(turn), np.sin(turn)], axis=1)
        for off in _OFF_MM if self._s.lean_deg > 0 else ():
            rows = [row for row in rows if found[ends[row][0]] is None]
            if not rows:
                return
            start = np.repeat(knee[rows], _TURNS, axis=0)
            drop = off / np.tan(np.radians(self._s.lean_deg))
            bend = start + np.column_stack([np.tile(off * ring, (len(rows), 1)), np.full(len(start), -drop)])
            radius = column_radius(start[:, 2] - self._floor, self._s) + self._s.clearance_mm
            fits = bend[:, 2] > self._floor + 0.5 * self._s.column_mm
            fits[fits] = is_clear(self._mesh, start[fits], bend[fits], radius[fits])
            of = np.repeat(rows, _TURNS)
            self._stand(places, ends, of[fits], start[fits], bend[fits], on_model, found)

    def _stand(
        self,
        places: Floats,
        ends: list[tuple[int, Floats, Floats]],
        of: Ints,
        start: Floats,
        bend: Floats,
        on_model: bool,
        found: list[Way | None],
    ) -> None:
        """Go straight down from bends (N, 3) to the bed, or to the model; the first of each tip that can is its way."""
        s = self._s
        if on_model:
            base, upward = self._beneath(bend)
            last = base.copy()
            last[:, 2] += np.minimum(s.tip_long_mm, 0.5 * (bend[:, 2] - base[:, 2]))
            good, end = upward > _LEAST_UP, last
        else:
            base = np.column_stack([bend[:, :2], np.full(len(bend), self._floor)])
            last, good, end = bend, np.ones(len(bend), bool), base
        radius = column_radius(start[:, 2] - base[:, 2], s) + s.clearance_mm
        good[good] = is_clear(self._mesh, bend[good], end[good], radius[good])
        for row in np.flatnonzero(good):
            tip, toward, knee = ends[of[row]]
            if found[tip] is None:
                corners = [knee]
                for point in (bend[row], last[row], base[row]):
                    if not np.array_equal(point, corners[-1]):
                        corners.append(point)
                found[tip] = Way(places[tip], toward, np.array(corners), on_model)


def _leaning(way: Floats, deg: Floats) -> Floats:
    """Unit vectors (T, 3) downward that lean towards a side (T, 2)."""
    lean = np.radians(deg)
    return np.column_stack([way * np.sin(lean)[:, None], -np.cos(lean)])
