"""What a survey tells: plain values, the same for text, record and picture."""

from dataclasses import dataclass, field

from bolvek.analyses.cavities import Cavity
from bolvek.analyses.shells import Opening
from bolvek.analyses.zones import Zone
from bolvek.arrays import Ints
from bolvek.units import Triple


@dataclass(frozen=True)
class Shell:
    """One edge-connected surface.

    role: "outer", "cavity" (a void in material), "buried" (a part inside material), "loose" (a part
    inside a cavity), "sheet" (closed, but nothing in it), "open skin" (it has a rim), "open body" (it has holes),
    "open shell" (hole or rim), "not judged" (in an open shell) or "support" (the file says so).
    faces: "out", "in", "mixed", "one-sided" or "" (no inside). inside_out: it faces the wrong way for what it is.
    stray: small, and apart from the rest. volume_mm3 is signed, None where it has no meaning; part: its name in the
    file.
    """

    number: int
    role: str
    faces: str
    inside_out: bool
    stray: bool
    closed: bool
    triangles: int
    volume_mm3: float | None
    area_mm2: float
    where_mm: Triple
    size_mm: Triple
    part: str | None = None


@dataclass(frozen=True)
class Twins:
    """Pairs of faces with the same three corners, running the same and the opposite way round."""

    same_way: int = 0
    opposite_way: int = 0
    zones: list[Zone] = field(default_factory=list)


@dataclass(frozen=True)
class Crossing(Zone):
    """A zone of pairs of faces that meet: of one shell with itself, or of two (numbers from 1) that cross or touch."""

    shells: tuple[int, int]
    touch: bool = False


@dataclass(frozen=True)
class Crossings:
    """Self-intersections: pairs of faces that meet beyond what they share; zones of them.

    pairs counts all of them; of_twins are those on the same three corners, which make no zone. pairs_listed of
    the others were looked at for zones and hidden faces: of_parts go into each other, touching lie against each
    other (contact_pairs: of named parts of the file, whose contact is no fault). The largest of the zone_count
    zones are listed, ten thousand at most.
    """

    pairs: int = 0
    pairs_listed: int = 0
    of_parts: int = 0
    of_itself: int = 0
    touching: int = 0
    contact_pairs: int = 0
    of_twins: int = 0
    zone_count: int = 0
    zones: list[Crossing] = field(default_factory=list)

    @property
    def only_touch(self) -> bool:
        """Whether parts lie against each other, and nothing crosses."""
        return bool(self.pairs_listed) and self.touching == self.pairs_listed

    @property
    def faulty(self) -> int:
        """Pairs that are a fault of their own."""
        return max(self.pairs - self.of_twins - self.contact_pairs, 0)


@dataclass(frozen=True)
class Near:
    """Vertices of open edges within a tolerance of another one they share no edge with, where open edges would
    close if they were one; and how many edges."""

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
    """A named piece of the file; support: no part of the model, the file says."""

    name: str
    triangles: int
    shells: int
    size_mm: Triple
    open_edges: int
    support: bool = False


@dataclass(frozen=True, kw_only=True)
class Survey:
    """Everything a survey finds. Lengths mm, areas mm2, volumes mm3.

    volume_mm3 is the material's as the shells enclose it, None while a shell is open; it counts what lies in two
    parts twice, copies of faces once. nonmanifold_left: edges used by more than two faces without the copies;
    odd_edges: those used by three, five, and so on. one_sided: shells that no turning of faces makes agree.
    everything_inside_out: every shell, cavities too, faces the wrong way.
    rooms: cavities with their openings, looked for in a sound model only.
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
    nonmanifold_left: int
    odd_edges: int
    split_vertices: int
    flat_faces: int
    one_sided: int
    inside_out: int
    everything_inside_out: bool
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

    faces: dict[str, Ints]
