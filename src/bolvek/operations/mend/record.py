"""What mending is asked for, and what it says it did."""

from dataclasses import dataclass, field

from bolvek.settings import Remedy
from bolvek.units import Triple


@dataclass(frozen=True)
class Place:
    """Where something was done: what, how many faces, edges or vertices, the middle and extent of their box."""

    what: str
    count: int
    where_mm: Triple
    size_mm: Triple = (0.0, 0.0, 0.0)


@dataclass(frozen=True)
class Left:
    """What a step could not do, or was not asked to: what, where, why, and what would do it."""

    what: str
    why: str
    where_mm: Triple
    size_mm: Triple = (0.0, 0.0, 0.0)
    remedies: tuple[Remedy, ...] = ()


@dataclass(frozen=True, kw_only=True)
class MendStep:
    """One step: how many of each thing it did, where, how far anything was moved (mm), and what it left.

    undone: it made faults, so what it did was taken back, for this reason.
    """

    step: str
    counts: dict[str, int] = field(default_factory=dict)
    places: list[Place] = field(default_factory=list)
    moved_mm: float = 0.0
    left: list[Left] = field(default_factory=list)
    undone: str = ""

    @property
    def count(self) -> int:
        """Everything it did."""
        return sum(self.counts.values())


@dataclass(frozen=True, kw_only=True)
class Faults:
    """How many of each class a model has, decided exactly (see `soundness`); shells inside out and shells in other
    material are told where edges do not contradict each other."""

    open_edges: int = 0
    nonmanifold_edges: int = 0
    badly_oriented_edges: int = 0
    split_vertices: int = 0
    flat_faces: int = 0
    self_intersections: int = 0
    inside_out: int = 0
    buried: int = 0


FAULT_WORDS = {
    "open_edges": ("open edge", "open edges"),
    "nonmanifold_edges": ("non-manifold edge", "non-manifold edges"),
    "badly_oriented_edges": ("edge whose faces disagree", "edges whose faces disagree"),
    "split_vertices": ("vertex where fans touch", "vertices where fans touch"),
    "flat_faces": ("face without area", "faces without area"),
    "self_intersections": ("pair of crossing faces", "pairs of crossing faces"),
    "inside_out": ("shell inside out", "shells inside out"),
    "buried": ("buried shell", "buried shells"),
}
"""How one and several of each are called."""


@dataclass(frozen=True, kw_only=True)
class MendRecord:
    """The ladder's record. verdict: "sound", "buried shells", "closed but crossing", "open" or "not sound"; unchanged:
    every face is bit for bit that of the input. tolerance_mm: how near things were to be taken for one."""

    verdict: str
    unchanged: bool
    tolerance_mm: float
    before: Faults
    after: Faults
    steps: list[MendStep]

    @property
    def left(self) -> list[Left]:
        """What was left by the last step that looked at it."""
        return [left for step in self.steps for left in step.left]
