"""What a page shows of a model: plain values, gathered where they were measured."""

from collections.abc import Sequence
from dataclasses import dataclass, field

import numpy as np

from bolvek.analyses.finding import Finding
from bolvek.arrays import Bools, Floats, Ints
from bolvek.mesh import Mesh
from bolvek.spatial.frames import fibonacci_sphere
from bolvek.units import Triple, as_triple


@dataclass(frozen=True)
class FaceField:
    """A measure of every face: values (F,), nan where there is none; limit: where the colours turn; worse: on which
    side of it ("low" or "high") lies what falls short."""

    name: str
    unit: str
    values: Floats
    limit: float
    worse: str


@dataclass(frozen=True)
class FaceKinds:
    """What every face is: kind (F,), a row of `kinds` (name and hex colour), -1 for none of them."""

    name: str
    kind: Ints
    kinds: Sequence[tuple[str, str]]


@dataclass(frozen=True)
class Place:
    """A place to be shown: severity ("fault", "note" or "mark"), a few words, where and how large it is in mm; normal:
    the side it opens to, where that is known."""

    severity: str
    text: str
    where_mm: Triple
    size_mm: float = 0.0
    normal: Triple | None = None


@dataclass(frozen=True)
class LayerPlot:
    """Areas (mm2) at heights (mm) above the lowest point along up, and events: a height and what happens there."""

    up: Triple
    at_mm: Sequence[float]
    area_mm2: Sequence[float]
    events: Sequence[tuple[float, str]]


@dataclass(frozen=True)
class Level:
    """Liquid that stands up to a height along a direction around a place."""

    up: Triple
    level_mm: float
    where_mm: Triple
    area_mm2: float
    text: str


@dataclass(frozen=True, kw_only=True)
class Scene:
    """What is shown of a model: as it is now and, where it was changed, before; inner (F,): faces of its rooms; part
    (F,): the part or shell of each face, and their names; shift (P, 3): how parts are pulled apart (mm)."""

    mesh: Mesh
    before: Mesh | None = None
    fields: tuple[FaceField, ...] = ()
    kinds: tuple[FaceKinds, ...] = ()
    inner: Bools | None = None
    part: Ints | None = None
    part_names: Sequence[str] = ()
    shift_mm: Floats | None = None
    places: tuple[Place, ...] = ()
    layers: LayerPlot | None = None
    levels: tuple[Level, ...] = field(default=())


def places_of(findings: Sequence[Finding]) -> list[Place | None]:
    """The place of each finding, None for those without one."""
    return [None if f.where_mm is None else Place(f.severity, f.text, f.where_mm) for f in findings]


_WAYS = fibonacci_sphere(60)


def open_side(mesh: Mesh, where: Triple, normal: Triple | None) -> tuple[Triple, bool]:
    """The direction from which a place can be seen, and whether it can at all: the normal's where none is free."""
    wanted = np.array(normal if normal is not None else where - mesh.bounds.mean(axis=0), np.float64)
    size = float(np.linalg.norm(wanted))
    wanted = wanted / size if size > 1e-12 else np.array([0.3, -0.9, 0.3])
    ways = np.concatenate([wanted[None], _WAYS])
    beside = 2e-3 * float(mesh.size.max())
    start = np.asarray(where) + beside * ways
    free = ~np.isfinite(mesh.tree.rays(start, ways).distance[:, 0])
    if not free.any():
        return as_triple(wanted), False
    # a little upright is easier to look at
    liking = ways @ wanted - 0.2 * np.maximum(-ways[:, 2], 0)
    return as_triple(ways[int(np.argmax(np.where(free, liking, -np.inf)))]), True


def shell_parts(mesh: Mesh) -> tuple[Ints, list[str]]:
    """The shell of each face (F,), the largest first, and their names."""
    shell = np.asarray(mesh.topology.shell, np.int64)
    count = np.bincount(shell, minlength=mesh.topology.shells)
    order = np.argsort(-count, kind="stable")
    rank = np.empty(len(order), np.int64)
    rank[order] = np.arange(len(order))
    return rank[shell], [f"shell {k + 1}: {count[s]:,} triangles" for k, s in enumerate(order.tolist())]
