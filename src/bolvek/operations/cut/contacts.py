"""Where two pieces meet on a plane: pixels of the section that belong to both."""

from dataclasses import dataclass

import numpy as np

from bolvek.arrays import Bools, Floats
from bolvek.kernels.surface.sections import fill_lines
from bolvek.mesh import Mesh
from bolvek.operations.cut.planes import Piece, Plane
from bolvek.operations.cut.record import Contact
from bolvek.spatial.frames import across
from bolvek.units import as_triple

_PIXELS, _LEAST_PIXEL_MM = 600, 0.02


@dataclass(frozen=True)
class Meeting:
    """A place where pieces one (below) and other (above) meet on a plane: its pixels (Y, X), their distance in mm from
    its border; pixel (y, x) lies at origin + x * u + y * w."""

    plane: int
    one: int
    other: int
    inside: Bools
    deep: Floats
    pixel_mm: float
    origin: Floats
    u: Floats
    w: Floats

    @property
    def area_mm2(self) -> float:
        """Area, by pixels."""
        return float(self.inside.sum()) * self.pixel_mm**2

    def places(self, rows: Floats) -> Floats:
        """Points (N, 3) of pixels (N, 2) given as y, x."""
        return np.asarray(self.origin + rows[:, 1:] * self.u + rows[:, :1] * self.w)

    @property
    def widest(self) -> tuple[Floats, float]:
        """The pixel deepest inside, as a point, and the diameter of the circle there."""
        row = np.array([np.unravel_index(int(np.argmax(self.deep)), self.deep.shape)], np.float64)
        return self.places(row)[0], 2 * float(self.deep.max())

    def told(self, pegs: int = 0, reason: str = "") -> Contact:
        """For the record: with so many pegs, and why there are not more."""
        where, widest = self.widest
        return Contact(
            plane=self.plane + 1,
            pieces=(self.one + 1, self.other + 1),
            where_mm=as_triple(where),
            area_mm2=self.area_mm2,
            widest_mm=widest,
            pegs=pegs,
            reason=reason,
        )


def meetings(pieces: list[Piece], planes: tuple[Plane, ...]) -> list[Meeting]:
    """Every connected place where two pieces meet on a plane, the largest of each pair first."""
    found = []
    for number, plane in enumerate(planes):
        caps = {k: piece.cap(number) for k, piece in enumerate(pieces) if (piece.label == number).any()}
        for one in (k for k in caps if pieces[k].sides[number] < 0):
            for other in (k for k in caps if pieces[k].sides[number] > 0):
                found += _shared(number, plane, one, other, caps[one], caps[other])
    return found


def _shared(number: int, plane: Plane, one: int, other: int, below: Mesh, above: Mesh) -> list[Meeting]:
    from scipy.ndimage import distance_transform_edt, label

    normal = np.array(plane.normal)
    u, w = across(normal)
    frame = np.stack([u, w], axis=1)
    flat = [cap.vertices @ frame for cap in (below, above)]
    low = np.maximum(flat[0].min(axis=0), flat[1].min(axis=0))
    high = np.minimum(flat[0].max(axis=0), flat[1].max(axis=0))
    if (high <= low).any():
        return []
    pixel = max(float((high - low).max()) / _PIXELS, _LEAST_PIXEL_MM)
    corner = low - 2 * pixel
    shape = tuple(int(n) + 5 for n in np.ceil((high - low) / pixel)[::-1])
    inside = np.ones(shape, bool)
    for cap, points in zip((below, above), flat, strict=True):
        half = np.flatnonzero(cap.topology.opposite < 0)
        start, end = cap.edge_ends(half)
        if cap is above:
            start, end = end, start
        lines = np.concatenate([points[start], points[end]], axis=1)
        part = np.zeros(shape, bool)
        fill_lines(np.ascontiguousarray((lines - np.tile(corner, 2)) / pixel), np.zeros(shape, np.int16), part)
        inside &= part
    labels, count = label(inside)
    found = []
    base = plane.offset * normal + (corner[0] + 0.5 * pixel) * u + (corner[1] + 0.5 * pixel) * w
    for k in range(1, count + 1):
        mine = labels == k
        deep = (distance_transform_edt(mine) - 0.5) * pixel * mine
        found.append(Meeting(number, one, other, mine, np.maximum(deep, 0.0), pixel, base, pixel * u, pixel * w))
    return sorted(found, key=lambda m: -m.area_mm2)
