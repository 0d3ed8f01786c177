"""What the verbs that size, place, join and part models are asked for."""

import math
from collections.abc import Iterator
from dataclasses import dataclass
from typing import Literal

from bolvek.settings.describe import Settings, setting
from bolvek.settings.measures import LEAST_WALL_MM
from bolvek.units import Triple

Shape = Literal["round", "square", "follow"]

_FIT = "Of pegs and lips, all around."
_LEFT = "Thinnest wall that prints: so much is left around sockets."


@dataclass(frozen=True, kw_only=True)
class ScaleSettings(Settings):
    """Exactly one of them: factor (one, or one an axis), a size in mm, a volume in mm3, or a build space.

    height is along z, width along x, depth along y. fit_mm is width, depth and height of a build space
    of which margin_mm stays free on every side but the bed's.
    """

    by: float | Triple | None = setting(None, above=0, help="By a factor, or one an axis.")
    height_mm: float | None = setting(None, unit="mm", above=0, help="To this height (z).")
    longest_mm: float | None = setting(None, unit="mm", above=0, help="To this longest side.")
    width_mm: float | None = setting(None, unit="mm", above=0, help="To this width (x).")
    depth_mm: float | None = setting(None, unit="mm", above=0, help="To this depth (y).")
    volume_mm3: float | None = setting(None, unit="mm3", above=0, help="To this volume: 20cm3, 1500mm3.")
    fit_mm: Triple | None = setting(
        None, unit="mm", above=0, help="As large as the printer's build space holds; see 'bolvek profiles'."
    )
    margin_mm: float = setting(0.0, unit="mm", least=0, help="Room to leave at the sides of the printer's space.")

    def contradictions(self) -> Iterator[str]:
        """Exactly one aim."""
        aims = ("by", "height_mm", "longest_mm", "width_mm", "depth_mm", "volume_mm3", "fit_mm")
        given = [f"{{{name}}}" for name in aims if getattr(self, name) is not None]
        if len(given) != 1:
            found = " and ".join(given) or "none of them"
            yield f"give exactly one of {', '.join(f'{{{name}}}' for name in aims)}; found {found}"


@dataclass(frozen=True, kw_only=True)
class PoseSettings(Settings):
    """What is done, in this order: mirror, lay or up, turns, tilt, centre, drop.

    mirror: "x", "y" or "z", through the plane of the origin. lay: the face nearest to this point comes
    to lie on the bed; lay_largest: the largest flat side it can stand on does; up: this direction
    becomes up; at most one of the three, the first two drop to the bed. turns: (axis, degrees)
    about the origin, in order. tilt: degrees, and the compass direction (degrees from +x) it leans to.
    """

    mirror: str | None = setting(None, choices=("x", "y", "z"), help="Mirror along this axis, through the origin.")
    lay: Triple | None = setting(None, help="Lay the face nearest to this point on the bed.")
    lay_largest: bool = setting(False, help="Lay it on the largest flat side it can stand on.")
    up: Triple | None = setting(None, unit="direction", help="This direction of the model becomes up.")
    turns: tuple[tuple[Triple, float], ...] = setting((), help="Turn about x, y, z or a vector; repeat.")
    tilt: tuple[float, float] | None = setting(None, help="Lean by degrees, towards a direction counted from +x.")
    centre: bool = setting(False, help="Middle of the box to x = y = 0.")
    drop: bool = setting(False, help="Lowest point to z = 0.")

    def contradictions(self) -> Iterator[str]:
        """Something to do, one way to lay it, angles that are numbers."""
        if self == PoseSettings():
            yield ("nothing to do: name a turn, a tilt, a face to lie on, {up}, {mirror}, {centre} or {drop}")
        if (self.lay is not None) + self.lay_largest + (self.up is not None) > 1:
            yield "give at most one of {lay}, {lay_largest} and {up}"
        for axis, _ in self.turns:
            if not 0 < math.hypot(*axis) < math.inf:
                yield f"{{turns}} needs a direction, not {', '.join(f'{x:g}' for x in axis)}"
        if not all(math.isfinite(a) for a in [*(a for _, a in self.turns), *(self.tilt or ())]):
            yield "angles must be finite"


@dataclass(frozen=True, kw_only=True)
class FuseSettings(Settings):
    """reach_mm: parts that hover nearer than this are brought into contact (None: they stay); fill_voids: voids that
    the parts close between them are filled."""

    reach_mm: float | None = setting(
        None, unit="mm", above=0, help="Parts that hover nearer than this are brought into contact."
    )
    fill_voids: bool = setting(False, help="Fill voids that the parts close between them.")


@dataclass(frozen=True, kw_only=True)
class PegSettings(Settings):
    """Pegs where pieces meet. count: at each place where two pieces meet; diameter_mm, length_mm (None: as the section
    allows, a quarter longer than wide); clearance_mm: between peg and socket, all around; wall_mm: material left around
    a socket at least; flat: with a flat side, so that they go in one way only; loose: sockets on both sides, pegs apart
    from the pieces."""

    count: int = setting(2, least=1, most=50, help="Pegs and sockets at each place where pieces meet.")
    diameter_mm: float | None = setting(None, unit="mm", above=0, help="How wide pegs are.", none="the widest that fit")
    length_mm: float | None = setting(
        None, unit="mm", above=0, help="How long pegs are.", none="a quarter longer than wide"
    )
    clearance_mm: float = setting(0.15, unit="mm", least=0, help=_FIT)
    wall_mm: float = setting(LEAST_WALL_MM, unit="mm", above=0, help=_LEFT)
    flat: bool = setting(False, help="Pegs with a flat side: they go in one way only.")
    loose: bool = setting(False, help="Sockets on both sides, pegs in a file of their own.")
    sides: int = 32


@dataclass(frozen=True, kw_only=True)
class LipSettings(Settings):
    """A lip along the rim inside a hollow piece: how far it stands up, how thick it is, the clearance to the other."""

    height_mm: float = setting(3.0, unit="mm", above=0, help="How far the lip stands up.")
    thick_mm: float = setting(1.2, unit="mm", above=0, help="How thick the lip is.")
    clearance_mm: float = setting(0.15, unit="mm", least=0, help=_FIT)
    wall_mm: float = setting(LEAST_WALL_MM, unit="mm", above=0, help=_LEFT)


@dataclass(frozen=True, kw_only=True)
class SplitSettings(Settings):
    """by: "part" (what hangs together, with the voids in it), "name" (as the file names them), None: by name where the
    file has names; least_mm: parts whose longest side is shorter are strays; gather: strays go into one file instead of
    being left out; largest: only the largest part."""

    by: Literal["part", "name"] | None = setting(
        None,
        choices=("part", "name"),
        help="Into what hangs together, or into the parts that the file names.",
        none="by name where there are names",
    )
    least_mm: float | None = setting(None, unit="mm", above=0, help="Parts shorter than this are strays and left out.")
    gather: bool = setting(False, help="Write strays into one file instead.")
    largest: bool = setting(False, help="Write the largest part only.")

    def contradictions(self) -> Iterator[str]:
        """Strays are gathered where there are any."""
        if self.gather and self.least_mm is None:
            yield "{gather} is for strays: say with {least_mm} what is one"


@dataclass(frozen=True, kw_only=True)
class PlinthSettings(Settings):
    """shape; height_mm of all of it; margin_mm: around what it carries; sink_mm: so deep the model is sunk into it;
    chamfer_mm: of its upper edge, 45 degrees."""

    shape: Shape = setting(
        "follow", choices=("follow", "round", "square"), help="follow takes the outline of the lowest slice."
    )
    height_mm: float = setting(6.0, unit="mm", above=0, help="Of all of the plinth.")
    margin_mm: float = setting(2.0, unit="mm", above=0, help="Around what stands on it.")
    sink_mm: float = setting(1.0, unit="mm", above=0, help="How deep the model goes into it.")
    chamfer_mm: float = setting(0.8, unit="mm", least=0, help="Of its upper edge.")

    def contradictions(self) -> Iterator[str]:
        """What is sunk and chamfered fits into it."""
        if self.sink_mm >= self.height_mm:
            yield f"{{sink_mm}} {self.sink_mm:g} mm must be less than {{height_mm}} {self.height_mm:g} mm"
        if self.chamfer_mm >= self.height_mm or self.chamfer_mm > self.margin_mm:
            yield "{chamfer_mm} must be less than {height_mm}, and {margin_mm} at most"
