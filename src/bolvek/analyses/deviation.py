"""Old against new: how far one surface is from the other, both ways, and which faces are the same bit for bit.

Faces that stand in both, corner for corner, are no distance from each other and are not sampled; all others are, at
their corners and at places no farther apart than a stated spacing.
"""

from dataclasses import dataclass

import numpy as np

from bolvek.analyses.finding import Finding, Judged
from bolvek.analyses.shells import find_openings, model_volume
from bolvek.analyses.thickness import sample_surface
from bolvek.analyses.zones import Zone, group_faces, zones
from bolvek.arrays import Bools, Floats, Ints
from bolvek.kernels.surface import topology as kernels
from bolvek.mesh import Mesh
from bolvek.settings.measures import CompareSettings
from bolvek.units import Triple, as_triple, length_text, point_text

_PLAIN = CompareSettings()


SPACING_SHARE = 1 / 400
"""Samples on changed faces are as far apart as this share of the longest side, unless said otherwise."""

MOVED_SHARE = 1e-6
"""A place counts as moved when it is farther off than this share of the longest side: what rounding alone does not."""

_MOST_ZONES = 200


@dataclass(frozen=True)
class OneWay:
    """From the surface of one to the other: largest and mean distance (mm; the mean over all of it), and where it is
    largest."""

    max_mm: float
    mean_mm: float
    where_mm: Triple | None


@dataclass(frozen=True, kw_only=True)
class CompareRecord(Judged):
    """Old against new. same: every face stands in both, as often in one as in the other; kept: faces that are bit for
    bit the same; turned: the same corners the other way round; gone
    and added: those of the old and the new that have no counterpart. max_mm: the larger of the two ways."""

    same: bool
    triangles_old: int
    triangles_new: int
    kept: int
    turned: int
    gone: int
    added: int
    size_old_mm: Triple
    size_new_mm: Triple
    area_old_mm2: float
    area_new_mm2: float
    volume_old_mm3: float | None
    volume_new_mm3: float | None
    shells_old: int
    shells_new: int
    openings_old: int
    openings_new: int
    max_mm: float
    to_new: OneWay
    to_old: OneWay
    spacing_mm: float
    moved: list[Zone]
    within_mm: float | None = None

    @property
    def findings(self) -> tuple[Finding, ...]:  # type: ignore[override]
        """A fault where the surfaces are farther apart than allowed."""
        if self.within_mm is None or self.max_mm <= self.within_mm:
            return ()
        text = f"{far_text(self)}, more than {length_text(self.within_mm)}"
        return (Finding("deviation", "fault", 1, text, self.farthest.where_mm),)

    @property
    def farthest(self) -> OneWay:
        """The way in which the surfaces are farther apart."""
        return self.to_old if self.to_old.max_mm >= self.to_new.max_mm else self.to_new

    @property
    def verdict(self) -> str:
        """One of `VERDICTS`."""
        return "same" if self.same else "differs" if self.ok else "too far off"


def far_text(record: CompareRecord) -> str:
    """The largest distance."""
    if not record.max_mm:
        return "the surfaces lie on each other"
    return f"{length_text(record.max_mm)} apart at most, at {point_text(record.farthest.where_mm)}"


@dataclass(frozen=True)
class Compared:
    """For pictures: faces of the old that are gone (F,), faces of the new that were added (F,) or turned (F,), and how
    far (mm) each face (F,) of the new is from the old, at most."""

    gone: Bools
    added: Bools
    turned: Bools
    off_mm: Floats


def compare(old: Mesh, new: Mesh, settings: CompareSettings = _PLAIN) -> tuple[CompareRecord, Compared]:
    """Compare two meshes. Raises UsageError, or WorkError where the spacing would give too many samples."""
    settings.check()
    match_old, match_new, alike = _matched(old, new)
    longest = float(max(old.size.max(initial=0.0), new.size.max(initial=0.0)))
    spacing = settings.spacing_mm or max(longest * SPACING_SHARE, 1e-12)
    gone, added = match_old == 0, match_new == 0
    to_new, _ = _one_way(old, gone, new, spacing)
    to_old, off = _one_way(new, added, old, spacing)
    moved = np.flatnonzero(off > MOVED_SHARE * longest)
    record = CompareRecord(
        same=alike,
        triangles_old=len(old.faces),
        triangles_new=len(new.faces),
        kept=min(int((match_old > 0).sum()), int((match_new > 0).sum())),
        turned=int((match_new < 0).sum()),
        gone=int(gone.sum()),
        added=int(added.sum()),
        size_old_mm=as_triple(old.size),
        size_new_mm=as_triple(new.size),
        area_old_mm2=old.area,
        area_new_mm2=new.area,
        volume_old_mm3=model_volume(old),
        volume_new_mm3=model_volume(new),
        shells_old=old.topology.shells,
        shells_new=new.topology.shells,
        openings_old=len(find_openings(old).found),
        openings_new=len(find_openings(new).found),
        max_mm=max(to_new.max_mm, to_old.max_mm),
        to_new=to_new,
        to_old=to_old,
        spacing_mm=spacing,
        within_mm=settings.within_mm,
        moved=zones(new.vertices[new.faces[moved]], group_faces(new, moved), None, _MOST_ZONES) if len(moved) else [],
    )
    return record, Compared(gone, added, match_new < 0, off)


def matching_faces(old: Mesh, new: Mesh) -> tuple[Ints, Ints]:
    """For each face of two meshes: 1 where the other has it, corner for corner, -1 where it has it the other way round,
    0 where it has not. A face that stands twice in one and once in the other is in both."""
    return _matched(old, new)[:2]


def _matched(old: Mesh, new: Mesh) -> tuple[Ints, Ints, bool]:
    """`matching_faces`, and whether every face stands in both, as often in the one as in the other."""
    points = np.concatenate([old.vertices, new.vertices]) + 0.0
    label = _labels(np.ascontiguousarray(points).view(np.int64))
    corners = np.concatenate([label[old.faces], label[new.faces + len(old.vertices)]]).astype(np.int64)
    least = corners.argmin(axis=1)
    rows = np.arange(len(corners))
    turned = [corners[rows, (least + k) % 3] for k in range(3)]
    forward = np.stack(turned, axis=1)
    backward = np.stack([turned[0], turned[2], turned[1]], axis=1)
    key = _labels(np.concatenate([forward, backward]))
    n, split = len(corners), len(old.faces)
    count = int(key.max(initial=-1)) + 1
    found = []
    for own, other in ((slice(0, split), slice(split, n)), (slice(split, n), slice(0, split))):
        there = np.zeros(count, bool)
        there[key[:n][other]] = True
        found.append(np.where(there[key[:n][own]], 1, np.where(there[key[n:][own]], -1, 0)))
    alike = np.array_equal(np.bincount(key[:split], minlength=count), np.bincount(key[split:n], minlength=count))
    return found[0], found[1], alike


def _labels(rows: Ints) -> Ints:
    """One number (N,) for equal rows (N, 3)."""
    size = 1 << max(4, int(2 * max(len(rows), 1) - 1).bit_length())
    label, first = np.empty((2, len(rows)), np.int32)
    kernels.weld_rows(np.ascontiguousarray(rows), np.full(size, -1, np.int32), label, first)
    return label.astype(np.int64)


def _one_way(mesh: Mesh, faces: Bools, other: Mesh, spacing: float) -> tuple[OneWay, Floats]:
    """From some faces of a mesh to another one; how far off (F,) each face is at most."""
    off = np.zeros(len(mesh.faces))
    chosen = np.flatnonzero(faces)
    if not len(chosen) or not len(other.faces):
        return OneWay(0.0, 0.0, None), off
    samples = sample_surface(mesh, spacing, faces)
    corners = np.unique(mesh.faces[chosen])
    gap, _ = other.tree.nearest(np.concatenate([samples.points, mesh.vertices[corners]]))
    at_corner = np.zeros(len(mesh.vertices))
    at_corner[corners] = gap[len(samples.points) :]
    own = gap[: len(samples.points)]
    np.maximum.at(off, samples.face, own)
    off[chosen] = np.maximum(off[chosen], at_corner[mesh.faces[chosen]].max(axis=1))
    mean = float((own * samples.area).sum() / max(mesh.area, 1e-300))
    far = int(np.argmax(gap))
    place = samples.points[far] if far < len(samples.points) else mesh.vertices[corners[far - len(samples.points)]]
    return OneWay(float(gap.max()), mean, as_triple(place)), off
