"""What a survey tells: plain values, the same for text, record and picture."""

from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray

from bolvek.analyses.cavities import Cavity
from bolvek.analyses.openings import Opening
from bolvek.analyses.zones import Zone

Triple = tuple[float, float, float]
Faces = NDArray[np.int64]


@dataclass(frozen=True)
class Shell:
    """One edge-connected surface.

    role: "outer", "cavity" (a void in material), "buried" (a part inside material), "loose" (a part
    inside a cavity), "stray" (small, apart), "open skin" (it has a rim) or "open body" (it has holes).
    faces: "out", "in", "mixed" or "" (open). volume_mm3 is signed, None where it has no meaning.
    """

    number: int
    role: str
    faces: str
    closed: bool
    triangles: int
    volume_mm3: float | None
    area_mm2: float
    where_mm: Triple
    size_mm: Triple


@dataclass(frozen=True)
class Twins:
    """Pairs of faces with the same three corners, running the same and the opposite way round."""

    same_way: int = 0
    opposite_way: int = 0
    zones: list[Zone] = field(default_factory=list)


@dataclass(frozen=True)
class Crossing(Zone):
    """A zone of pairs of faces that meet: of one shell with itself, or of two (numbers from 1)."""

    shells: tuple[int, int]


@dataclass(frozen=True)
class Crossings:
    """Self-intersections: pairs of faces that meet beyond what they share; zones of them.

    pairs_listed of the pairs were looked at for zones and hidden faces; the smallest of the zone_count
    zones are listed, ten thousand at most.
    """

    pairs: int = 0
    pairs_listed: int = 0
    of_parts: int = 0
    of_itself: int = 0
    zone_count: int = 0
    zones: list[Crossing] = field(default_factory=list)


@dataclass(frozen=True)
class Near:
    """Vertices within a tolerance of another one they share no edge with, and the open edges that would
    close if they were one."""

    tolerance_mm: float
    vertices: int = 0
    open_edges_closed: int = 0


@dataclass(frozen=True)
class Class:
    """Faces or edges of one class, and the zones they form."""

    count: int = 0
    zones: list[Zone] = field(default_factory=list)


@dataclass(frozen=True)
class Part:
    """A named piece of the file."""

    name: str
    triangles: int
    shells: int
    size_mm: Triple
    open_edges: int


@dataclass(frozen=True)
class Survey:
    """Everything a survey finds. Lengths mm, areas mm2, volumes mm3.

    volume_mm3 is the material's as the shells enclose it, None while a shell is open; it counts crossing
    parts twice. rooms: cavities with their openings, looked for in a sound model only.
    """

    sound: bool
    triangles: int
    vertices: int
    size_mm: Triple
    low_mm: Triple
    area_mm2: float
    volume_mm3: float | None
    shells: int
    shell_list: list[Shell]
    parts: list[Part]
    open_edges: int
    nonmanifold_edges: int
    badly_oriented_edges: int
    split_vertices: int
    flat_faces: int
    openings: list[Opening]
    nonmanifold: Class
    flipped: Class
    twins: Twins
    slivers: Class
    sliver_mm: float
    near: Near
    self_intersections: Crossings
    hidden: Class
    knives: Class
    knife_deg: float
    rooms: list[Cavity]


@dataclass(frozen=True)
class Marks:
    """Faces (numbers) in trouble, by class."""

    faces: dict[str, Faces]
