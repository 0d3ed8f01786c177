"""What a reader hands over: polygons cut into triangles, bad faces dropped and told, parts named."""

from collections.abc import Sequence
from dataclasses import dataclass, field
from pathlib import Path

import numpy as np

from bolvek.arrays import Floats, Ints, Ints32
from bolvek.errors import FileError
from bolvek.spatial.parallel import run_ranges
from bolvek.units import count_text

BENT_SHARE = 1e-3
"""A polygon whose corners lie farther off their mean plane than this share of its extent is not flat."""

_MOST_DROPPED = 0.1  # share of faces with bad indices above which a file is damaged, not usable


@dataclass(frozen=True)
class Polygons:
    """Faces of more than three corners in the file: all, concave, not flat, crossing themselves."""

    count: int = 0
    concave: int = 0
    bent: int = 0
    crossed: int = 0


@dataclass(frozen=True)
class Parts:
    """Named pieces of a file: part (F,) int32 is the number of each face's name; support: names (numbers) of what
    the file says is no part of the model but holds it while it is built."""

    names: tuple[str, ...]
    part: Ints32
    support: frozenset[int] = frozenset()


@dataclass(frozen=True)
class Soup:
    """vertices (V, 3) float64 in file units, faces (F, 3) int32, and what came with them."""

    vertices: Floats
    faces: Ints32
    warnings: list[str] = field(default_factory=list)
    parts: Parts | None = None
    polygons: Polygons = Polygons()
    unit: str | None = None


def make_soup(
    path: Path,
    vertices: Floats,
    start: Ints,
    corners: Ints,
    *,
    marks: Sequence[tuple[str, int]] = (),
    warnings: Sequence[str] = (),
    unit: str | None = None,
    by_name: bool = False,
    support: Sequence[bool] = (),
) -> Soup:
    """Triangles of polygons: polygon p has corners[start[p]:start[p + 1]] of vertices (V, 3).

    marks name parts as (name, first polygon); by_name: those of one name are one part; support says which marks
    are no part of the model. Polygons of fewer than three corners or with corners that
    do not exist are dropped with a warning. Raises FileError when there are too many of those, when
    a coordinate in use is not finite, or when nothing is left.
    """
    warnings = list(warnings)
    size = np.diff(start)
    polygon = np.arange(len(size))
    if not len(size):
        raise FileError(f"{path}: the model is empty: {count_text(len(vertices), 'vertex', 'vertices')}, no faces")
    keep = size >= 3
    if not keep.all():
        warnings.append(f"{count_text(int((~keep).sum()), 'face')} of fewer than three corners were dropped")
    bad = (corners < 0) | (corners >= len(vertices))
    if bad.any():
        owner = np.repeat(polygon, size)
        wrong = np.unique(owner[bad])
        first = int(wrong[0])
        number = int(corners[np.flatnonzero(bad)[0]])
        where = f"face {first + 1} of {len(size):,} names vertex {number:,} (from 0), the file has {len(vertices):,}"
        if len(wrong) > _MOST_DROPPED * len(size):
            raise FileError(
                f"{path}: damaged: {where}; so do {count_text(len(wrong), 'face')} in all; get a whole copy of the file"
            )
        warnings.append(f"{count_text(len(wrong), 'face')} dropped: {where}")
        keep[wrong] = False
    if not keep.all():
        corners = corners[np.repeat(keep, size)]
        polygon, size = polygon[keep], size[keep]
        start = np.concatenate([[0], np.cumsum(size)])
    if not len(size):
        raise FileError(f"{path}: the model is empty: none of its faces can be used")
    check_finite(path, vertices, corners)
    label = np.zeros(len(start) - 1, np.int32)
    names: tuple[str, ...] = ()
    props: frozenset[int] = frozenset()
    if marks:  # a polygon belongs to the last mark before it, those before all marks to the first
        last = np.searchsorted([first for _, first in marks], polygon, side="right") - 1
        mark = np.maximum(last, 0)
        if by_name:
            known: dict[str, int] = {}
            mark = np.array([known.setdefault(name, k) for k, (name, _) in enumerate(marks)])[mark]
        used, at = np.unique(mark, return_inverse=True)
        label = at.ravel().astype(np.int32)
        names = tuple(marks[k][0] for k in used)
        props = frozenset(k for k, m in enumerate(used.tolist()) if support and support[m])
    return triangulated(vertices, start, corners, label, names, warnings, unit, props)


def check_finite(path: Path, vertices: Floats, corners: Ints) -> None:
    """Raise FileError when a corner in use is not a finite number."""
    fine = np.asarray(np.isfinite(vertices).all(axis=1))
    if fine.all():
        return
    bad = ~fine[corners]
    if bad.any():
        first = int(corners[np.argmax(bad)])
        raise FileError(
            f"{path}: vertex {first + 1} of {len(vertices):,} has a coordinate that is not a finite number, and so "
            f"have {int((~fine).sum())} in all; export the model again"
        )
    vertices[~fine] = 0.0  # of no face: never seen again


def triangulated(
    vertices: Floats,
    start: Ints,
    corners: Ints,
    label: Ints32,
    names: tuple[str, ...],
    warnings: list[str],
    unit: str | None,
    support: frozenset[int] = frozenset(),
) -> Soup:
    """Cut checked polygons (three corners at least) into triangles; label (P,) is their part."""
    count = len(start) - 1
    size = np.diff(start)
    parts = Parts(names, np.repeat(label, size - 2), support) if len(names) > 1 else None
    if (size == 3).all():
        return Soup(vertices, corners.reshape(-1, 3).astype(np.int32), warnings, parts, unit=unit)
    from bolvek.kernels.exact import polygons as kernels

    faces = np.empty((len(corners) - 2 * count, 3), np.int32)
    kind = np.zeros(count, np.uint8)
    bent = np.zeros(count)
    index = np.ascontiguousarray(corners, np.int64)
    run_ranges(lambda b, e: kernels.cut_polygons(vertices, start, index, b, e, faces, kind, bent), count, grain=1024)
    several = np.flatnonzero(size > 3)
    # extents only where a polygon is bent at all
    suspects = several[bent[several] > 0]
    extent = np.array([np.ptp(vertices[index[start[p] : start[p + 1]]], axis=0).max() for p in suspects[:100_000]])
    if len(suspects) > 100_000:  # told apart by the whole model's scale: close enough for a count this large
        extent = np.full(len(suspects), float(np.median(extent)))
    polygons = Polygons(
        len(several),
        int((kind & kernels.CONCAVE > 0).sum()),
        int((bent[suspects] > BENT_SHARE * extent).sum()),
        int((kind & kernels.CROSSED > 0).sum()),
    )
    if polygons.crossed:
        warnings.append(
            f"{count_text(polygons.crossed, 'polygon')} whose outline crosses itself or has no area; cut as they came"
        )
    return Soup(vertices, faces, warnings, parts, polygons, unit)
