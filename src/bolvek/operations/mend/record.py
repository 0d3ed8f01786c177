"""What mending is asked for, and what it says it did."""

from collections.abc import Sequence
from dataclasses import dataclass, field

from bolvek.analyses.finding import Finding, Judged
from bolvek.settings import Remedy
from bolvek.units import Triple, count_text, point_text


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
class MendRecord(Judged):
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

    @property
    def findings(self) -> tuple[Finding, ...]:  # type: ignore[override]
        """What the model still falls short in: what was left, class by class, with the reason."""
        by_code: dict[str, list[Left]] = {}
        for one in self.left:
            by_code.setdefault(LEFT_CODES.get(one.what, "open_edges"), []).append(one)
        found = []
        for code, n in vars(self.after).items():
            if n:
                left = by_code.get(code, [])
                why = f": {'; '.join(left_texts(left)[:3])}" if left else ""
                where = left[0].where_mm if left else None
                text = f"{count_text(n, *FAULT_WORDS[code])}{why}"
                ways = tuple(way for one in left for way in one.remedies)
                found.append(Finding(code, "fault", n, text, where, remedies=ways))
        return tuple(found)


LEFT_CODES = {
    "crossing faces": "self_intersections",
    "one-sided surface": "badly_oriented_edges",
    "buried shell": "buried",
    "touching fans": "split_vertices",
}
"""Codes of what a step left; all else are open edges."""


def left_texts(left: Sequence[Left]) -> list[str]:
    """What was left and why, alike ones together, the first place of each."""
    groups: dict[tuple[str, str], list[Left]] = {}
    for one in left:
        groups.setdefault((one.what, one.why), []).append(one)
    return [
        f"{left_counted(len(some), what)}{', first' if len(some) > 1 else ''} at {point_text(some[0].where_mm)}: {why}"
        for (what, why), some in groups.items()
    ]


def left_counted(n: int, what: str) -> str:
    """How many of what was left."""
    many = {"crossing faces": "places of crossing faces", "touching fans": "places where fans touch"}
    if what in many:
        return count_text(n, many[what].replace("places", "place", 1), many[what])
    plural = {"hole or rim": "holes or rims", "half": "halves"}
    return count_text(n, what, plural.get(what, what + "s"))
