"""A model as columns: along lines upward through the middles of pixels, where material begins and ends.

Exact in height, a pixel wide across: after the dexels of Van Hook 1986. What decides is the winding number: material
is where it is above zero, so parts that overlap are one. Nothing is invented for a column that does not close.
"""

from dataclasses import dataclass
from functools import cached_property

import numpy as np

from bolvek.arrays import Bools, Floats, Ints, Ints8, extent
from bolvek.errors import UsageError, WorkError
from bolvek.kernels.grid import columns as kernels
from bolvek.mesh import Mesh
from bolvek.spatial.frames import across
from bolvek.spatial.parallel import run_ranges
from bolvek.units import Triple

MOST_PIXELS = 1_000_000
"""How many columns a model gets where no pixel is asked for."""
_LIMIT = 24_000_000


def frame_of(up: Triple) -> Floats:
    """Rows (3, 3): two directions across and the unit vector up, right-handed; x and y for up along z.

    Raises UsageError for a zero direction.
    """
    length = float(np.linalg.norm(up))
    if not 0 < length < np.inf:
        raise UsageError("a direction must have a length above 0")
    z = np.asarray(up, np.float64) / length
    if z[2] == 1.0:
        return np.eye(3)
    if z[2] == -1.0:
        return np.diag([1.0, -1.0, -1.0])
    u, w = across(z)
    return np.stack([u, w, z]) if np.cross(u, w) @ z > 0 else np.stack([w, u, z])


def pixel_for(mesh: Mesh, up: Triple, most: int = MOST_PIXELS) -> float:
    """The pixel (mm) with which the shadow of a mesh takes no more columns than asked."""
    flat = mesh.vertices @ frame_of(up)[:2].T
    width, depth = np.diff(extent(flat), axis=0)[0].tolist() if len(flat) else (0.0, 0.0)
    longest = max(width, depth, 1e-9)
    return float(max(np.sqrt(width * depth / most), longest / 4000, 1e-6 * longest))


@dataclass(frozen=True)
class Columns:
    """Columns of a mesh. frame (3, 3): across, across, up; origin_mm: where pixels begin, in that frame; shape: pixels,
    an empty one all around; column i * shape[1] + j.

    start (P + 1,), height (N,) mm, turn (N,) int8: the crossings of each column, lowest first, 1 where it enters
    material and -1 where it leaves. material_start (P + 1,), low, high (M,): stretches of material; none in the
    columns that are `unclosed` (P,).
    """

    frame: Floats
    origin_mm: tuple[float, float]
    pixel_mm: float
    shape: tuple[int, int]
    start: Ints
    height: Floats
    turn: Ints8
    material_start: Ints
    low: Floats
    high: Floats
    unclosed: Bools

    @property
    def pixel_mm2(self) -> float:
        """Area of a pixel."""
        return self.pixel_mm**2

    @property
    def volume_mm3(self) -> float:
        """Volume of the material."""
        return float((self.high - self.low).sum()) * self.pixel_mm2

    @cached_property
    def column_of(self) -> Ints:
        """The column (M,) of each stretch of material."""
        return np.repeat(np.arange(len(self.unclosed)), np.diff(self.material_start))

    def middle(self, column: "Ints | int", height: "Floats | float") -> Floats:
        """Places (..., 3) in the model's coordinates: middles of columns at heights."""
        i, j = np.divmod(column, self.shape[1])
        flat = [self.origin_mm[0] + (i + 0.5) * self.pixel_mm, self.origin_mm[1] + (j + 0.5) * self.pixel_mm]
        return np.asarray(np.stack([*flat, np.broadcast_to(height, np.shape(i))], axis=-1) @ self.frame)

    def at(self, points: Floats) -> tuple[Ints, Floats]:
        """Column (N,) of points (N, 3) of the model, -1 beside the grid, and their height (N,)."""
        x, y, z = (np.asarray(points, np.float64) @ self.frame.T).T
        i = np.floor((x - self.origin_mm[0]) / self.pixel_mm).astype(np.int64)
        j = np.floor((y - self.origin_mm[1]) / self.pixel_mm).astype(np.int64)
        inside = (i >= 0) & (i < self.shape[0]) & (j >= 0) & (j < self.shape[1])
        return np.where(inside, i * self.shape[1] + j, -1), z


def make_columns(mesh: Mesh, up: Triple = (0.0, 0.0, 1.0), pixel_mm: float | None = None) -> Columns:
    """The columns of a mesh along a direction; without a pixel, one that takes about `MOST_PIXELS` columns.

    Raises UsageError for a pixel or a direction that makes no sense, WorkError for more columns than fit.
    """
    frame = frame_of(up)
    pixel = pixel_for(mesh, up) if pixel_mm is None else pixel_mm
    if not 0 < pixel < np.inf:
        raise UsageError(f"pixels must be wider than 0 mm, not {pixel:g}")
    flat = mesh.vertices @ frame.T
    low, high = extent(flat) if len(flat) else np.zeros((2, 3))
    size = high - low
    # a whole number of pixels, as evenly around the model as may be; a hair less is no pixel more
    inner = np.maximum(np.ceil(size[:2] / pixel - 1e-6), 1)
    nx, ny = (int(n) + 2 for n in inner)
    if nx * ny > _LIMIT:
        least = pixel * np.sqrt(nx * ny / _LIMIT)
        raise WorkError(f"pixels of {pixel:.3g} mm would make {nx * ny:,} columns; {least:.2g} mm would fit")
    origin = low[:2] + 0.5 * size[:2] - 0.5 * inner * pixel - pixel
    xy = np.ascontiguousarray((flat[:, :2] - origin) / pixel)
    height = np.ascontiguousarray(flat[:, 2])
    faces, f = mesh.faces, len(mesh.faces)
    at = np.zeros(f + 1, np.int64)
    run_ranges(lambda b, e: kernels.count_crossings(xy, height, faces, nx, ny, b, e, at[1:]), f)
    np.cumsum(at, out=at)
    total = int(at[-1])
    column, z, turn = np.empty(total, np.int32), np.empty(total), np.empty(total, np.int8)
    run_ranges(lambda b, e: kernels.find_crossings(xy, height, faces, nx, ny, at, b, e, column, z, turn), f)
    start = np.zeros(nx * ny + 1, np.int64)
    np.cumsum(np.bincount(column, minlength=nx * ny), out=start[1:])
    sorted_z, sorted_turn = np.empty(total), np.empty(total, np.int8)
    kernels.gather_columns(column, z, turn, start[:-1].copy(), sorted_z, sorted_turn)
    count = np.empty(nx * ny, np.int64)
    run_ranges(lambda b, e: kernels.sort_columns(start, b, e, sorted_z, sorted_turn, count), nx * ny)
    unclosed = count < 0
    material = np.zeros(nx * ny + 1, np.int64)
    np.cumsum(np.maximum(count, 0), out=material[1:])
    bottom, top = np.empty((2, int(material[-1])))
    run_ranges(lambda b, e: kernels.fill_material(start, sorted_z, sorted_turn, material, b, e, bottom, top), nx * ny)
    place = float(origin[0]), float(origin[1])
    return Columns(frame, place, pixel, (nx, ny), start, sorted_z, sorted_turn, material, bottom, top, unclosed)
