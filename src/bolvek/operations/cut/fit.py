"""The fewest planes that bring every piece into a space, away from thin and small sections."""

from dataclasses import dataclass
from itertools import permutations

import numpy as np

from bolvek.analyses.layers.sections import Stack
from bolvek.arrays import Floats
from bolvek.errors import UsageError, WorkError
from bolvek.mesh import Mesh
from bolvek.operations.cut.planes import Plane
from bolvek.units import Triple, as_triple, size_text

_STEPS, _PIXELS = 240, 200  # candidates along the longest axis, pixels across a section
_BESIDE = 3  # sections to each side that count too: not just below a step
_SLACK_MM = 1e-6
_EVEN = 0.05  # how much uneven pieces weigh against thin sections
_MOST_PIECES = 200
_SPECK = 0.02  # of the largest region: smaller ones are chips


def room_within(build_mm: Triple, margin_mm: float) -> Triple:
    """A printer's space less a margin on every side but the bed's. Raises UsageError where none is left."""
    width, depth, height = build_mm[0] - 2 * margin_mm, build_mm[1] - 2 * margin_mm, build_mm[2] - margin_mm
    if not (margin_mm >= 0 and min(width, depth, height) > 0):
        raise UsageError(f"a margin of {margin_mm:g} mm leaves no room in {size_text(build_mm)}")
    return width, depth, height


@dataclass(frozen=True, kw_only=True)
class FitPlan:
    """Planes that bring a model into a space of room_mm (turned by quarters to the axes of the model); the widest
    circle in the narrowest region of each section."""

    planes: tuple[Plane, ...]
    room_mm: Triple
    narrowest_mm: tuple[float, ...]


def plan_fit(mesh: Mesh, room_mm: Triple, *, fittings_mm: float = 0.0) -> FitPlan:
    """The fewest planes square to the axes with which every piece fits the room, turned by quarters where that needs
    fewer. fittings_mm: so far pegs or lips stand out of a piece. Raises WorkError where too many would be needed."""
    size = mesh.size

    def needed(room: Floats) -> tuple[int, ...]:
        counts = []
        for length, space in zip(size.tolist(), room.tolist(), strict=True):
            if length <= space + _SLACK_MM:
                counts.append(0)
                continue
            inner = space - fittings_mm
            if inner <= 0:
                return (_MOST_PIECES,) * 3
            counts.append(int(np.ceil(length / inner - 1e-9)) - 1)
        return tuple(counts)

    room = min((np.array(way) for way in permutations(room_mm)), key=lambda way: sum(needed(way)))
    counts = needed(room)
    if np.prod([n + 1 for n in counts]) > _MOST_PIECES:
        raise WorkError(
            f"the model of {size_text(size)} would fall into more than {_MOST_PIECES} pieces for a space of "
            f"{size_text(np.array(room_mm))}: scale it first"
        )
    planes, narrow = [], []
    for axis, count in enumerate(counts):
        if count:
            inner = room[axis] - fittings_mm
            for at, width in _places(mesh, axis, count, inner):
                point, normal = np.zeros(3), np.zeros(3)
                point[axis], normal[axis] = at, 1.0
                name = f"{'xyz'[axis]}={at:.2f} mm"
                planes.append(Plane(point_mm=as_triple(point), normal=as_triple(normal), name=name))
                narrow.append(width)
    return FitPlan(planes=tuple(planes), room_mm=as_triple(room), narrowest_mm=tuple(narrow))


def _places(mesh: Mesh, axis: int, count: int, room: float) -> list[tuple[float, float]]:
    """Offsets along an axis, none farther from the next than the room, through the widest sections; and how wide each
    is where it is narrowest."""
    low, high = float(mesh.bounds[0, axis]), float(mesh.bounds[1, axis])
    width = _widths(mesh, axis)
    steps = len(width)
    at = low + (np.arange(steps) + 0.5) * (high - low) / steps
    even = (high - low) / (count + 1)
    pain = 1.0 / np.maximum(width, 1e-3) * float(np.median(np.maximum(width, 1e-3)))
    # best[k]: the least pain of so many planes, the last at candidate k
    best = np.where(at - low <= room, pain + _EVEN * ((at - low) / even - 1) ** 2, np.inf)
    came: list[np.ndarray] = []
    for _ in range(count - 1):
        gap = at[None, :] - at[:, None]
        total = np.where((gap > 0) & (gap <= room), best[:, None] + _EVEN * (gap / even - 1) ** 2, np.inf)
        came.append(total.argmin(axis=0))
        best = total.min(axis=0) + pain
    last = np.where(high - at <= room, best + _EVEN * ((high - at) / even - 1) ** 2, np.inf)
    k = int(np.argmin(last))
    if not np.isfinite(last[k]):  # so tight that no candidate serves: as even as can be
        return [(low + (j + 1) * even, float(np.interp(low + (j + 1) * even, at, width))) for j in range(count)]
    chosen = [k]
    for step in reversed(came):
        chosen.append(int(step[chosen[-1]]))
    return [(float(at[j]), float(width[j])) for j in chosen[::-1]]


def _widths(mesh: Mesh, axis: int) -> Floats:
    """Of each of so many sections (N,) along an axis and those beside it: the widest circle in its narrowest region,
    less where there are chips: mm, by pixels."""
    from scipy.ndimage import distance_transform_edt, label, minimum_filter1d

    up = np.zeros(3)
    up[axis] = 1.0
    stack = Stack(mesh, as_triple(up), float(mesh.size[axis]) / _STEPS)
    low = stack.xy.min(axis=0)
    extent = np.ptp(stack.xy, axis=0)
    pixel = float(extent.max()) / _PIXELS
    shape = int(extent[1] / pixel) + 3, int(extent[0] / pixel) + 3
    found = []
    for inside in stack.pixels(pixel, low - pixel, shape):
        labels, count = label(inside)
        if not count:
            found.append(0.0)
            continue
        deep = distance_transform_edt(np.pad(inside, 1))[1:-1, 1:-1]
        widest = np.zeros(count + 1)
        np.maximum.at(widest, labels.ravel(), deep.ravel())
        area = np.bincount(labels.ravel(), minlength=count + 1)[1:]
        chips = int((area < _SPECK * area.max()).sum())
        real = widest[1:][area >= _SPECK * area.max()]
        found.append(2 * pixel * float(real.min()) / (1 + chips))
    return np.asarray(minimum_filter1d(np.array(found), 2 * _BESIDE + 1, mode="nearest"))
