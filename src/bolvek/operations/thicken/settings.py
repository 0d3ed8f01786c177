"""What thickening is asked for, and what it says it did."""

from dataclasses import dataclass

import numpy as np

from bolvek.analyses.zones import Zone
from bolvek.errors import UsageError

Triple = tuple[float, float, float]

SIDES = ("in", "out", "both")
"""Where the thickness goes: behind the faces, before them, or half to each side."""
BENEATH = ("solid", "hollow")
"""What lies between a relief and its foot."""


@dataclass(frozen=True, kw_only=True)
class ThickenSettings:
    """Lengths in mm. by_mm: the thickness of what has none. side: one of SIDES. along: one direction for the whole
    thickness, instead of the normals. foot: axis ("x", "y", "z") and place of a plane that the rim is drawn down to;
    beneath: one of BENEATH. trim: take faces off the rim where they fold, cross or hang by a corner. at_least_mm:
    make the walls of a closed model as thick, blended into the rest over blend_mm (None: twice that). least_mm: what
    the printer can print."""

    by_mm: float | None = None
    side: str = "in"
    along: Triple | None = None
    foot: tuple[str, float] | None = None
    beneath: str = "solid"
    trim: bool = False
    at_least_mm: float | None = None
    blend_mm: float | None = None
    least_mm: float = 0.8

    def check(self) -> None:
        """Raise UsageError when any of them makes no sense."""
        for name, value in (("--by", self.by_mm), ("--at-least", self.at_least_mm), ("--blend", self.blend_mm)):
            if value is not None and not (value > 0 and np.isfinite(value)):
                raise UsageError(f"{name} must be more than 0, not {value:g}")
        if self.side not in SIDES:
            raise UsageError(f"--side takes {', '.join(SIDES)}; not '{self.side}'")
        if self.beneath not in BENEATH:
            raise UsageError(f"--beneath takes {' or '.join(BENEATH)}; not '{self.beneath}'")
        if self.along is not None and not np.linalg.norm(self.along) > 0:
            raise UsageError("--along needs a direction, as in 0,0,-1")
        ways = [self.at_least_mm is not None, self.foot is not None, self.by_mm is not None and self.foot is None]
        if sum(ways) != 1:
            raise UsageError("give --by for a skin, --foot for a relief, or --at-least for a closed model")
        if self.along is not None and (self.foot is not None or self.at_least_mm is not None or self.side == "both"):
            raise UsageError("--along goes with --by, and with --side in or out")
        if self.foot is not None and (self.beneath == "hollow") != (self.by_mm is not None):
            raise UsageError("--foot with --beneath hollow needs the thickness (--by); solid needs none")


@dataclass(frozen=True, kw_only=True)
class ThickenRecord:
    """What thickening did. way: "skin", "foot" or "walls". sheets: open pieces; closed: closed ones left as they were;
    turned: faces turned so that the skin agrees with itself; along: the direction asked for; trimmed_mm2: taken off
    the rim; kept_faces: of the model's, bit for bit.

    Of a skin: its area_mm2; as measured from it share_full: of its area that is 90% as thick as asked, least_mm,
    mean_mm; below_mm2: of the area thinner than can be printed, with its zones; smoothed: rounds that the directions
    were smoothed; backed_off: vertices that could not go all the way; filled: how often thin places were filled, on a
    lattice of cell_mm; steep_mm2: faces along the direction, that gain less than can be printed. Of walls:
    thin_before_mm2, thin_after_mm2, least_before_mm, least_mm; filled: patches that were thickened, given_up: those
    that could not be."""

    way: str
    thickness_mm: float
    sheets: int = 0
    closed: int = 0
    turned: int = 0
    along: Triple | None = None
    trimmed_mm2: float = 0.0
    area_mm2: float = 0.0
    share_full: float | None = None
    least_mm: float | None = None
    mean_mm: float | None = None
    below_mm2: float = 0.0
    below: tuple[Zone, ...] = ()
    smoothed: int = 0
    backed_off: int = 0
    filled: int = 0
    cell_mm: float = 0.0
    steep_mm2: float = 0.0
    steep: tuple[Zone, ...] = ()
    given_up: int = 0
    thin_before_mm2: float | None = None
    thin_after_mm2: float | None = None
    least_before_mm: float | None = None
    triangles_before: int
    triangles: int
    kept_faces: int
    volume_mm3: float
