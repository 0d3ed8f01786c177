"""Exact sections of a mesh at the middles of its layers: areas, outlines, pixels."""

from collections.abc import Iterator
from dataclasses import dataclass
from functools import cached_property

import numpy as np

from bolvek.analyses.columns import frame_of
from bolvek.analyses.layering import layer_count
from bolvek.arrays import Bools, Floats, Ints, Ints32
from bolvek.kernels.surface import sections as kernels
from bolvek.mesh import Mesh
from bolvek.spatial.parallel import run_ranges
from bolvek.units import Triple


@dataclass(frozen=True)
class Outline:
    """One line of a section: points (N, 2) mm across, material on the left; closed or not."""

    points: Floats
    closed: bool


@dataclass(frozen=True)
class Stack:
    """A mesh and the layers it is cut into: layer k lies at floor_mm + (k + 0.5) * layer_mm along up."""

    mesh: Mesh
    up: Triple
    layer_mm: float

    @cached_property
    def _flat(self) -> Floats:
        return np.asarray(self.mesh.vertices @ frame_of(self.up).T, np.float64)

    @cached_property
    def xy(self) -> Floats:
        """Vertices (V, 2) across."""
        return np.ascontiguousarray(self._flat[:, :2])

    @cached_property
    def height(self) -> Floats:
        """Vertices (V,) along up."""
        return np.ascontiguousarray(self._flat[:, 2])

    @cached_property
    def floor_mm(self) -> float:
        """The lowest vertex that a face has."""
        return float(self.height[self.mesh.faces].min()) if len(self.mesh.faces) else 0.0

    @cached_property
    def tall_mm(self) -> float:
        """How high it is."""
        return float(self.height[self.mesh.faces].max()) - self.floor_mm if len(self.mesh.faces) else 0.0

    @property
    def count(self) -> int:
        """How many layers it has."""
        return layer_count(self.tall_mm, self.layer_mm)

    @property
    def heights_mm(self) -> Floats:
        """Where each layer (L,) is cut, above the lowest point."""
        return np.asarray((np.arange(self.count) + 0.5) * self.layer_mm, np.float64)

    def areas(self) -> Floats:
        """What the outlines of each layer (L,) enclose, mm2, by winding number: exact, overlaps counted twice."""
        centred = self.xy - self.xy.mean(axis=0) if len(self.xy) else self.xy
        args = centred, self.height, self.mesh.faces, self.floor_mm, self.layer_mm

        def some(begin: int, end: int) -> Floats:
            area = np.zeros(self.count)
            kernels.layer_areas(*args, begin, end, area)
            return area

        return np.asarray(sum(run_ranges(some, len(self.mesh.faces)), np.zeros(self.count)))

    @cached_property
    def _rows(self) -> tuple[Ints, Ints32]:
        """Where the faces of each layer begin (L + 1,), and the faces."""
        faces, n = self.mesh.faces, self.count
        count = np.zeros(len(faces), np.int64)
        run_ranges(
            lambda b, e: kernels.count_layers(self.height, faces, self.floor_mm, self.layer_mm, n, b, e, count),
            len(faces),
        )
        step = np.zeros(n + 1, np.int64)
        low = np.floor((self.height[faces].min(axis=1) - self.floor_mm) / self.layer_mm - 0.5).astype(np.int64)
        first = self._first(low, count)
        np.add.at(step, first, count > 0)
        np.add.at(step, first + count, -(count > 0).astype(np.int64))
        start = np.concatenate([[0], np.cumsum(np.cumsum(step[:n]))])
        found = np.empty(int(start[-1]), np.int32)
        kernels.faces_of_layers(self.height, faces, self.floor_mm, self.layer_mm, start[:-1].copy(), found)
        return start, found

    def _first(self, guess: Ints, count: Ints) -> Ints:
        """The first layer of each face whose plane is not below it."""
        low = self.height[self.mesh.faces].min(axis=1)
        first = np.clip(guess - 1, 0, self.count)
        for _ in range(3):
            first += (self.floor_mm + (first + 0.5) * self.layer_mm < low) & (first < self.count)
        return np.where(count > 0, first, 0)

    def outlines(self, layer: int) -> list[Outline]:
        """The lines of a layer."""
        start, found = self._rows
        return self._outlines(found[start[layer] : start[layer + 1]], self.floor_mm + (layer + 0.5) * self.layer_mm)

    def outlines_at(self, above_mm: float) -> list[Outline]:
        """The lines at a height above the lowest point."""
        z = self.floor_mm + above_mm
        corner = self.height[self.mesh.faces]
        crossing = (corner.min(axis=1) <= z) & (corner.max(axis=1) > z)
        return self._outlines(np.flatnonzero(crossing).astype(np.int32), z)

    @cached_property
    def _scratch(self) -> Ints32:
        return np.full(len(self.mesh.faces), -1, np.int32)

    def _outlines(self, some: Ints32, z: float) -> list[Outline]:
        m = len(some)
        if not m:
            return []
        line, order, loop = np.empty((m, 4)), np.empty(m, np.int32), np.empty(m + 1, np.int64)
        opposite = self.mesh.topology.opposite
        loops = kernels.section_lines(
            self.xy, self.height, self.mesh.faces, opposite, some, z, self._scratch, line, order, loop
        )
        begin = np.where(loop[:loops] < 0, -1 - loop[:loops], loop[:loops])
        found = []
        for k, (b, e) in enumerate(zip(begin, [*begin[1:], m], strict=True)):
            rows = order[b:e]
            if loop[k] < 0:
                found.append(Outline(np.concatenate([line[rows, :2], line[rows[-1:], 2:]]), False))
            else:
                found.append(Outline(line[rows, :2], True))
        return found

    def pixels(self, pixel_mm: float, origin_mm: Floats, shape: tuple[int, int]) -> Iterator[Bools]:
        """Each layer as pixels (Y, X), row by row from the lowest y: those whose middle is in material (winding above
        zero). Outlines that do not close are left out."""
        start, found = self._rows
        step = np.zeros(shape, np.int16)
        for k in range(self.count):
            z = self.floor_mm + (k + 0.5) * self.layer_mm
            inside = np.zeros(shape, bool)
            lines = self._lines(found[start[k] : start[k + 1]], z)
            kernels.fill_lines((lines - np.tile(origin_mm, 2)) / pixel_mm, step, inside)
            yield inside

    def _lines(self, some: Ints32, z: float) -> Floats:
        closed = [o.points for o in self._outlines(some, z) if o.closed]
        ends = [np.concatenate([p, np.roll(p, -1, axis=0)], axis=1) for p in closed]
        return np.concatenate(ends) if ends else np.zeros((0, 4))
