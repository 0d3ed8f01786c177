"""What the proof is asked and what it computed."""

from dataclasses import dataclass, field

from bolvek.analyses.cavities import Cavity, NeckWays
from bolvek.analyses.finding import Finding
from bolvek.analyses.soundness import Defect
from bolvek.units import Triple


@dataclass(frozen=True)
class Clause:
    """One clause of the verdict: "holds", "fails" or "not judged", and the words."""

    name: str
    state: str
    text: str


@dataclass(frozen=True)
class Void:
    """A closed void: no way out; its exact volume, middle and extent; allowed: wanted so."""

    volume_mm3: float
    where_mm: Triple
    size_mm: Triple
    allowed: bool


@dataclass(frozen=True)
class Wall:
    """Thickness of the material: the shortest ways through it and waists, and between flat faces samples of both sides.

    Of faces that bound rooms, or of all where there is no room (`of` says which); percentiles by area of the samples.
    tapering_mm2: surface where it runs out to an edge, which is no wall.
    """

    min_mm: float
    p1_mm: float
    median_mm: float
    where_mm: Triple
    samples: int
    spacing_mm: float
    of: str
    judged_share: float
    tapering_mm2: float
    thin_spots: int
    asked_mm: float | None = None
    tolerance_mm: float | None = None

    @property
    def holds(self) -> bool:
        """Whether the wall asked for is there, within the tolerance."""
        return self.asked_mm is None or self.min_mm >= self.asked_mm - (self.tolerance_mm or 0.0)


@dataclass(frozen=True, kw_only=True)
class Features:
    """Material that no judged face bounds (a fin on a hollow body, an ear, a strut), held against the least wall.

    min_mm: the thinnest below the wall asked for, and where (None: nothing is); thin: spots below the least wall, with
    their surface; slender: spots between the two. specks: spots below the least wall that are too small to be judged,
    the thinnest and where.
    """

    least_mm: float
    tolerance_mm: float
    min_mm: float | None
    where_mm: Triple | None
    thin: int
    thin_mm2: float
    slender: int
    slender_mm2: float
    specks: int = 0
    speck_mm: float | None = None
    speck_where_mm: Triple | None = None


@dataclass(frozen=True)
class Kept:
    """The outer surface against the original's: faces there bit for bit, those cut by holes, area taken out."""

    faces: int
    of: int
    cut: int
    taken_out_mm2: float


@dataclass(frozen=True)
class Residue:
    """What stays in a room that has a way out: the room's middle and volume, what stays and what may; a pocket of the
    skin is not judged. lowest_mm: where the most of it stands; hole_mm: where a hole straight down would let it out."""

    where_mm: Triple
    volume_mm3: float
    stays_mm3: float
    allowed_mm3: float
    pocket: bool
    lowest_mm: Triple | None = None
    hole_mm: Triple | None = None

    @property
    def too_much(self) -> bool:
        """Whether more stays than may."""
        return self.stays_mm3 > self.allowed_mm3 and not self.pocket


@dataclass(frozen=True, kw_only=True)
class Liquid:
    """What stays after it was held with each of the poses up: in rooms, and in the open; on columns a pixel apart.

    as_it_stands_mm3: what stays in the rooms in the first pose; tried: how many other ways to hold it were looked at,
    because too much stays then; the best of them are among the poses.
    """

    poses: tuple[Triple, ...]
    pixel_mm: float
    judged: bool
    as_it_stands_mm3: float
    stays_mm3: float
    open_mm3: float
    tried: int
    rooms: tuple[Residue, ...]


@dataclass(frozen=True, kw_only=True)
class ProofRecord:
    """Everything the proof computed. verdict: "unfit" with a fault at least; "fit", or "wall not judged" where no wall
    was asked for."""

    verdict: str
    ok: bool
    clauses: tuple[Clause, ...]
    sound: bool
    sound_as_stored: bool
    defects: tuple[Defect, ...]
    defects_as_stored: tuple[Defect, ...]
    bodies: int
    triangles: int
    volume_mm3: float
    cavities: tuple[Cavity, ...]
    drains: int
    findings: tuple[Finding, ...]
    voids: tuple[Void, ...] = ()
    ways: NeckWays | None = None
    liquid: Liquid | None = None
    wall: Wall | None = None
    features: Features | None = None
    kept: Kept | None = None
    voxel_mm: float | None = None
    ball_mm: float | None = None
    seconds: dict[str, float] = field(default_factory=dict, compare=False)
