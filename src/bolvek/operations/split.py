"""One file's parts apart, and several files' parts in one; nothing is welded, moved or turned."""

import re
from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np

from bolvek.analyses.finding import Finding
from bolvek.analyses.shells import owners_of_cavities, standing
from bolvek.arrays import Ints, Ints32
from bolvek.errors import WorkError
from bolvek.formats.soup import Parts
from bolvek.mesh import Mesh
from bolvek.settings import remedy
from bolvek.settings.parts import SplitSettings
from bolvek.units import Triple, as_triple, count_text

MOST_PARTS = 2000
"""More files than this are not written: they would be scan noise."""
_UNSAFE = re.compile(r"[^\w.+-]+")


@dataclass(frozen=True, kw_only=True)
class PartRecord:
    """A part, numbered from 1 as they are written: its name where the file has one; cavities: voids in it; volume: of
    its material, None while it is open."""

    number: int
    name: str
    file: str
    triangles: int
    size_mm: Triple
    closed: bool
    cavities: int
    volume_mm3: float | None


@dataclass(frozen=True, kw_only=True)
class SplitRecord:
    """What a model was split into. by: "part" or "name"; strays: parts shorter than least_mm, gathered or left out;
    left_out: triangles that went into no file."""

    by: str
    parts: tuple[PartRecord, ...]
    strays: int
    stray_file: str
    left_out: int
    triangles: int
    findings: tuple[Finding, ...] = ()


@dataclass(frozen=True)
class Split:
    """The parts, and the strays in one where they are gathered."""

    parts: list[Mesh]
    strays: Mesh | None


def split(mesh: Mesh, parts: Parts | None, settings: SplitSettings) -> tuple[Split, SplitRecord]:
    """The parts of a mesh, the largest first. Raises UsageError, WorkError where there are too many or none is left."""
    settings.check()
    by = settings.by or ("name" if parts is not None else "part")
    if by == "name":
        if parts is None:
            raise WorkError(
                "the file has no names of parts", remedy("", "splits by what hangs together", SplitSettings(by="part"))
            )
        owner: Ints = parts.part.astype(np.int64)
    else:
        owner = _part_of(mesh)
    numbers = np.unique(owner)
    small = np.zeros(0, np.int64)
    if settings.least_mm is not None:
        small = numbers[_longest(mesh, owner) < settings.least_mm]
    kept = np.setdiff1d(numbers, small)
    if not len(kept):
        raise WorkError(
            f"no part is left: {count_text(len(numbers), 'part')}, all shorter than {settings.least_mm:g} mm"
        )
    if len(kept) > MOST_PARTS:
        least = float(np.sort(_longest(mesh, owner)[kept])[-MOST_PARTS])
        raise WorkError(
            f"{len(kept):,} parts are too many for files of their own",
            remedy("", "leaves small ones out", SplitSettings(least_mm=least)),
        )
    chosen = [(int(k), mesh.picked(owner == k)) for k in kept]
    chosen.sort(key=lambda item: (-_weight(item[1]), item[0]))
    if settings.largest:
        chosen = chosen[:1]
    names = _names(chosen, owner, parts)
    told = tuple(_told(k, name, part) for k, (name, (_, part)) in enumerate(zip(names, chosen, strict=True), 1))
    strays = mesh.picked(np.isin(owner, small)) if settings.gather and len(small) else None
    written = sum(len(part.faces) for _, part in chosen) + (len(strays.faces) if strays is not None else 0)
    found = []
    if len(small) and strays is None:
        text = f"{count_text(len(small), 'part')} shorter than {settings.least_mm:g} mm left out"
        ways = (remedy("", "keeps them in one file", SplitSettings(gather=True)),)
        found.append(Finding("strays_left_out", "note", len(small), text, remedies=ways))
    loose = sum(1 for part in told if not part.closed)
    if loose:
        text = f"{count_text(loose, 'part')} not closed"
        found.append(
            Finding(
                "open_parts", "note", loose, text, remedies=(remedy("mend", "mends what can be mended", anew=True),)
            )
        )
    record = SplitRecord(
        by=by,
        parts=told,
        strays=len(small),
        stray_file="",
        left_out=len(mesh.faces) - written,
        triangles=len(mesh.faces),
        findings=tuple(found),
    )
    return Split([part for _, part in chosen], strays), record


def named(record: SplitRecord, files: Sequence[str], stray_file: str) -> SplitRecord:
    """The record with the files that parts and strays went to."""
    parts = tuple(replace(p, file=file) for p, file in zip(record.parts, files, strict=True))
    return replace(record, parts=parts, stray_file=stray_file)


def tags(record: SplitRecord) -> list[str]:
    """What tells the file of each part from the others: its name where it has one of its own, else its number."""
    safe = [_UNSAFE.sub("_", p.name).strip("._") for p in record.parts]
    often = Counter(name.lower() for name in safe)
    return [
        name if name and often[name.lower()] == 1 else f"{name}.part{p.number}" if name else f"part{p.number}"
        for name, p in zip(safe, record.parts, strict=True)
    ]


def _part_of(mesh: Mesh) -> Ints:
    """For each face (F,) the shell whose part it is: a void is of the part around it."""
    owner = owners_of_cavities(mesh)
    own = np.where(owner >= 0, owner, np.arange(len(owner)))
    return np.asarray(own[mesh.topology.shell], np.int64)


def _longest(mesh: Mesh, owner: Ints) -> np.ndarray:
    """The longest side of each part, in the order of their numbers."""
    numbers, row = np.unique(owner, return_inverse=True)
    low, high = np.full((len(numbers), 3), np.inf), np.full((len(numbers), 3), -np.inf)
    for k in range(3):
        points = mesh.vertices[mesh.faces[:, k]]
        np.minimum.at(low, row, points)
        np.maximum.at(high, row, points)
    return np.asarray((high - low).max(axis=1))


def _weight(part: Mesh) -> float:
    """What parts are ordered by: volume where they have one, else that of a skin a thousandth of their size thick."""
    volume = standing(part).volume_mm3 if not part.topology.open_edges else None
    return volume if volume is not None else 1e-3 * part.area * float(part.size.max())


def _names(chosen: list[tuple[int, Mesh]], owner: Ints, parts: Parts | None) -> list[str]:
    """The name of each part, where all its faces have one and the file names more than one."""
    if parts is None:
        return [""] * len(chosen)
    names = []
    for number, _ in chosen:
        own = np.unique(parts.part[owner == number])
        names.append(parts.names[int(own[0])] if len(own) == 1 else "")
    return names


def _told(number: int, name: str, part: Mesh) -> PartRecord:
    closed = part.topology.open_edges == 0
    volume = standing(part).volume_mm3 if closed and not part.topology.badly_oriented_edges else None
    return PartRecord(
        number=number,
        name=name,
        file="",
        triangles=len(part.faces),
        size_mm=as_triple(part.size),
        closed=closed,
        cavities=sum(role == "cavity" for role in standing(part).roles),
        volume_mm3=volume,
    )


@dataclass(frozen=True, kw_only=True)
class JoinRecord:
    """What was put together: models, and the names of all parts."""

    models: int
    names: tuple[str, ...]


def join(models: Sequence[tuple[str, Mesh, Parts | None]]) -> tuple[Mesh, Parts, JoinRecord]:
    """All models in one mesh, nothing welded, with a name a model, or those of its parts where it has several; the same
    name twice gets a number."""
    names: list[str] = []
    labels: list[Ints32] = []
    support: set[int] = set()
    for name, mesh, parts in models:
        base = len(names)
        if parts is None:
            names.append(name)
            labels.append(np.full(len(mesh.faces), base, np.int32))
        else:
            names += list(parts.names)
            support |= {base + k for k in parts.support}
            labels.append((parts.part + base).astype(np.int32))
    seen: Counter[str] = Counter()
    unique = []
    for name in names:
        seen[name] += 1
        unique.append(name if seen[name] == 1 else f"{name} {seen[name]}")
    meshes = [mesh for _, mesh, _ in models]
    joined = meshes[0].joined(*meshes[1:])
    parts = Parts(tuple(unique), np.concatenate(labels), frozenset(support))
    return joined, parts, JoinRecord(models=len(models), names=parts.names)
