"""What the verbs that mend, close and calm are asked for."""

import math
from collections.abc import Iterator
from dataclasses import dataclass

from bolvek.settings.describe import Settings, setting
from bolvek.settings.measures import LEAST_WALL_MM
from bolvek.units import Triple

STEPS = ("weld", "drop", "separate", "orient", "buried", "close", "mirror", "crossings", "remake")
"""The ladder of mending, in order."""
STYLES = ("auto", "flat", "curved", "corner")
"""How openings are closed."""
MIRRORS = tuple(axis + side for axis in ("x", "y", "z", "auto") for side in ("", "+", "-"))
"""Which half is made anew from the other."""
SIDES = ("in", "out", "both")
"""Where the thickness goes: behind the faces, before them, half each."""
BENEATH = ("solid", "hollow")
"""What is between a relief and its foot."""
INSIDES = ("fill", "keep-cavities")
"""What becomes of voids that nothing from outside gets into."""


SKIN_MM = 1.2
"""The thickness given to what has none, where nobody says another."""


@dataclass(frozen=True, kw_only=True)
class MendSettings(Settings):
    """What to do, and how far to go. Lengths in mm.

    only, without: steps to take alone, to leave out. near_mm: vertices and rims nearer than this are one (None: a
    share of the longest side). style: how openings are closed; up_to_mm: only those at most so wide; at: only those
    nearest to these places, whatever they are; close_ends: also those that may be the end of an open shell.
    sliver_mm: faces lower than this are taken out (0: those without area). drop_strays: also small shells that are
    closed. drop_buried: shells in other material. mirror: "x", "y", "z" or "auto": make the worse half anew from the
    better one; with "+" or "-" behind it, from that side.
    """

    only: tuple[str, ...] = setting((), choices=STEPS, help=f"These steps alone, of {', '.join(STEPS)}.")
    without: tuple[str, ...] = setting((), choices=STEPS, help="Leave these steps out.")
    near_mm: float | None = setting(
        None,
        unit="mm",
        least=0,
        help="Rims nearer than this are one.",
        none="1/10,000 of the size, 0.02mm at most",
    )
    style: str = setting("auto", choices=STYLES, help="How openings are closed.")
    up_to_mm: float | None = setting(None, unit="mm", least=0, help="Close only openings at most so wide.")
    at: tuple[Triple, ...] = setting((), help="Close only the opening nearest to this place; repeat.")
    close_ends: bool = setting(False, help="Also close what may be the end of an open shell.")
    sliver_mm: float = setting(0.0, unit="mm", least=0, help="Take out faces lower than this; 0 takes only flat ones.")
    drop_strays: bool = setting(False, help="Take out small bodies apart from the rest, not only open scraps.")
    drop_buried: bool = setting(False, help="Take out shells that lie in other material.")
    mirror: str | None = setting(
        None, choices=MIRRORS, help="Make the worse half anew from the better one, or from the one named."
    )

    def takes(self, step: str) -> bool:
        """Whether a step is to be taken."""
        if step == "mirror" and self.mirror is None:
            return False
        return step not in self.without and (not self.only or step in self.only)


@dataclass(frozen=True, kw_only=True)
class SlimSettings(Settings):
    """One of: the deviation allowed (mm), the triangles wanted, their share of those there are, the megabytes of a
    binary STL."""

    within_mm: float | None = setting(
        None, unit="mm", above=0, help="Deviation allowed: as few triangles as that takes."
    )
    triangles: int | None = setting(None, least=4, help="At most so many triangles.")
    ratio: float | None = setting(None, above=0, most=1, help="At most this share of the triangles.")
    megabytes: float | None = setting(None, above=0, help="At most this size as a binary STL.")

    def contradictions(self) -> Iterator[str]:
        """Exactly one aim."""
        if sum(aim is not None for aim in (self.within_mm, self.triangles, self.ratio, self.megabytes)) != 1:
            yield "give one of {within_mm}, {triangles}, {ratio} and {megabytes}"

    def wanted(self, triangles: int) -> int:
        """The triangles wanted of so many."""
        if self.triangles is not None:
            return self.triangles
        if self.ratio is not None:
            return max(4, int(triangles * self.ratio))
        return max(4, int((1e6 * (self.megabytes or 0.0) - 84) / 50))


@dataclass(frozen=True, kw_only=True)
class SolidSettings(Settings):
    """skin_mm: the thickness given to what has none; least_mm: what the printer can print; taken_as: "solid": open ends
    are lids that are missing, "skin": they are rims of skins; None: skins, where nothing in the file tells, as a
    guess that is said; slim: what comes out, slimmed (None: as it is)."""

    skin_mm: float = setting(SKIN_MM, unit="mm", above=0, help="Thickness of what has none.")
    least_mm: float = setting(LEAST_WALL_MM, unit="mm", above=0, help="Thinnest wall that prints.")
    taken_as: str | None = setting(
        None,
        choices=("solid", "skin"),
        help="Open ends that may be either: lids that are missing, or rims of skins.",
        none="skin, told as a guess",
    )
    slim: SlimSettings | None = None


@dataclass(frozen=True, kw_only=True)
class ThickenSettings(Settings):
    """Lengths in mm. by_mm: the thickness of what has none. side: one of SIDES. along: one direction for the whole
    thickness, instead of the normals. foot: axis ("x", "y", "z") and place of a plane that the rim is drawn down to;
    beneath: one of BENEATH. trim: take faces off the rim where they fold, cross or hang by a corner. at_least_mm:
    make the walls of a closed model as thick, blended into the rest over blend_mm (None: twice that). least_mm: what
    the printer can print."""

    by_mm: float | None = setting(None, unit="mm", above=0, help="Thickness of a skin.")
    side: str = setting("in", choices=SIDES, help="Behind its faces, before them, or half each.")
    along: Triple | None = setting(
        None, unit="direction", help="One direction for the whole thickness, as for a relief."
    )
    foot: tuple[str, float] | None = setting(None, help="Draw the rim of a relief down to a plane; close it.")
    beneath: str = setting(
        "solid", choices=BENEATH, help="Between the relief and its foot; hollow leaves a wall as thick as asked."
    )
    trim: bool = setting(False, help="Take off the rim what folds, crosses or hangs by a corner.")
    at_least_mm: float | None = setting(
        None, unit="mm", above=0, help="Thinnest wall that prints: thin walls of a closed model grow to it."
    )
    blend_mm: float | None = setting(
        None, unit="mm", above=0, help="How far that reaches into the rest.", none="twice the wall"
    )
    least_mm: float = setting(LEAST_WALL_MM, unit="mm", above=0, help="What the printer can print.")

    def contradictions(self) -> Iterator[str]:
        """One of three ways, and what goes with each."""
        ways = [self.at_least_mm is not None, self.foot is not None, self.by_mm is not None and self.foot is None]
        if sum(ways) != 1:
            yield "give {by_mm} for a skin, {foot} for a relief, or {at_least_mm} for a closed model"
        if self.along is not None and (self.foot is not None or self.at_least_mm is not None or self.side == "both"):
            yield "{along} goes with {by_mm}, and with {side} in or out"
        if self.foot is not None and (self.beneath == "hollow") != (self.by_mm is not None):
            yield "{foot} with {beneath} hollow needs the thickness ({by_mm}); solid needs none"


FINEST_SHARE = 1 / 250
"""The automatic grid of a recast is this share of the longest side, or finer where the model has little surface."""
MOST_CELLS_ON_SURFACE = 150_000
"""And no finer than so many cells on one side of the surface."""


@dataclass(frozen=True, kw_only=True)
class RecastSettings(Settings):
    """Lengths in mm. grid_mm: cell (None: from the model's size and surface). bridge_mm: gaps up to so wide are closed
    (None: two cells). grow_mm: half the thickness that what has none is given (None: a cell; 0: it vanishes).
    grow_closed_mm: the same where it belongs to a closed shell, as folds and blades do (None: as grow_mm). inside:
    one of INSIDES. keep_edges: bring sharp edges and corners back. within_mm: deviation allowed to slimming (None: a
    twentieth of the cell; 0: no slimming). least_mm: what is thinner is made as thick (None, 0: it stays). least_mm3:
    smaller pieces are dropped."""

    grid_mm: float | None = setting(
        None, unit="mm", above=0, help="Lattice cell.", none="auto: from the size and the surface"
    )
    bridge_mm: float | None = setting(None, unit="mm", least=0, help="Close gaps up to this width.", none="two cells")
    grow_mm: float | None = setting(
        None, unit="mm", least=0, help="Half the thickness of what has none; 0: it vanishes.", none="a cell"
    )
    grow_closed_mm: float | None = setting(
        None, unit="mm", least=0, help="The same for folds and blades of closed shells.", none="as for the rest"
    )
    inside: str = setting("fill", choices=INSIDES, help="What becomes of closed voids.")
    keep_edges: bool = setting(False, help="Bring sharp edges and corners back, which the lattice cuts off.")
    within_mm: float | None = setting(
        None, unit="mm", least=0, help="Deviation allowed to slimming.", none="a twentieth of the cell"
    )
    least_mm: float | None = setting(
        None, unit="mm", least=0, help="Make what is thinner as thick as this.", none="it stays as thin as it is"
    )
    least_mm3: float = setting(0.0, unit="mm3", least=0, help="Drop pieces of less volume.")

    def cell_mm(self, longest_mm: float, area_mm2: float) -> float:
        """The cell for a model of this size and surface."""
        if self.grid_mm is not None:
            return self.grid_mm
        return max(longest_mm * FINEST_SHARE, math.sqrt(area_mm2 / MOST_CELLS_ON_SURFACE))


@dataclass(frozen=True, kw_only=True)
class Region:
    """What is smoothed: a ball (middle, radius), a box (two corners), or what lies within a distance of open rims; one
    of the three."""

    ball: tuple[Triple, float] | None = None
    box: tuple[Triple, Triple] | None = None
    rim_mm: float | None = None


@dataclass(frozen=True, kw_only=True)
class SmoothSettings(Settings):
    """most_mm: no point moves farther; keep_edges_deg: creases sharper than this stay; passes: how often normals are
    averaged; within: where (empty: everywhere); least_mm: walls are not made thinner than this."""

    most_mm: float = setting(0.1, unit="mm", above=0, help="Deviation allowed: no point moves farther.")
    keep_edges_deg: float = setting(30.0, unit="degrees", least=1, most=180, help="Sharper creases stay.")
    passes: int = setting(5, least=1, most=1000, help="More calm wider waves, and take finer detail.")
    within: tuple[Region, ...] = setting(
        (), help="Only in a ball X,Y,Z:R, a box X,Y,Z:X,Y,Z, or near open rims rim:3mm; repeat for more."
    )
    least_mm: float | None = setting(
        None, unit="mm", above=0, help="Thinnest wall that prints: no wall is made thinner."
    )
