"""What mending is asked for, and what it says it did."""

from dataclasses import dataclass, field

import numpy as np

from bolvek.errors import UsageError

STEPS = ("weld", "drop", "separate", "orient", "buried", "close", "mirror", "crossings")
"""The rungs of the ladder, in their order. Buried shells go, and a half is mirrored, only when asked for."""

STYLES = ("auto", "flat", "curved", "corner")
"""Ways to close an opening."""

Triple = tuple[float, float, float]


@dataclass(frozen=True, kw_only=True)
class MendSettings:
    """What to do, and how far to go. Lengths in mm.

    only, without: steps to take alone, to leave out. near_mm: vertices and rims nearer than this are one (None: a
    share of the longest side). style: how openings are closed; up_to_mm: only those at most so wide; at: only those
    nearest to these places, whatever they are; close_ends: also those that may be the end of an open shell.
    sliver_mm: faces lower than this are taken out (0: those without area). drop_strays: also small shells that are
    closed. drop_buried: shells in other material. mirror: "x", "y", "z" or "auto": make the worse half anew from the
    better one; with "+" or "-" behind it, from that side.
    """

    only: tuple[str, ...] = ()
    without: tuple[str, ...] = ()
    near_mm: float | None = None
    style: str = "auto"
    up_to_mm: float | None = None
    at: tuple[Triple, ...] = ()
    close_ends: bool = False
    sliver_mm: float = 0.0
    drop_strays: bool = False
    drop_buried: bool = False
    mirror: str | None = None

    def check(self) -> None:
        """Raise UsageError when any of them makes no sense."""
        for name, steps in (("--only", self.only), ("--without", self.without)):
            for step in steps:
                if step not in STEPS:
                    raise UsageError(f"{name} takes steps of the ladder: {', '.join(STEPS)}; not '{step}'")
        if self.style not in STYLES:
            raise UsageError(f"--close takes {', '.join(STYLES)}; not '{self.style}'")
        for name, value in (("--near", self.near_mm), ("--up-to", self.up_to_mm), ("--slivers", self.sliver_mm)):
            if value is not None and not (value >= 0 and np.isfinite(value)):
                raise UsageError(f"{name} must be 0 or more, not {value:g}")
        if self.mirror is not None and self.mirror.rstrip("+-") not in ("x", "y", "z", "auto"):
            raise UsageError(f"--mirror takes x, y, z or auto, and + or - for the side to keep; not '{self.mirror}'")

    def takes(self, step: str) -> bool:
        """Whether a step is to be taken."""
        if step == "mirror" and self.mirror is None:
            return False
        return step not in self.without and (not self.only or step in self.only)


@dataclass(frozen=True)
class Place:
    """Where something was done: what, how many faces, edges or vertices, the middle and extent of their box."""

    what: str
    count: int
    where_mm: Triple
    size_mm: Triple = (0.0, 0.0, 0.0)


@dataclass(frozen=True)
class Left:
    """What a step could not do, or was not asked to: what, where, why."""

    what: str
    why: str
    where_mm: Triple
    size_mm: Triple = (0.0, 0.0, 0.0)


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
