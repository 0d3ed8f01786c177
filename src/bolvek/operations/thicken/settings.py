"""What thickening is asked for, and what it says it did."""

from dataclasses import dataclass

from bolvek.analyses.zones import Zone
from bolvek.units import Triple


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
