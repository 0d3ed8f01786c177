"""What thickening is asked for, and what it says it did."""

from dataclasses import dataclass

from bolvek.analyses.finding import Finding, Worded
from bolvek.analyses.zones import Zone
from bolvek.units import Triple, area_text, count_text, point_text

THIN_SHARE = 0.001
"""Of the area: what of a skin is thinner than can be printed on more than that is a fault."""


@dataclass(frozen=True, kw_only=True)
class ThickenRecord(Worded):
    """What thickening did. way: "skin", "foot" or "walls". sheets: open pieces; closed: closed ones left as they were;
    turned: faces turned so that the skin agrees with itself; along: the direction asked for; trimmed_mm2: taken off
    the rim; kept_faces: of the model's, bit for bit.

    Of a skin: its area_mm2; as measured from it share_full: of its area that is 90% as thick as asked, least_mm,
    mean_mm; below_mm2: of the area thinner than can be printed, with its zones; smoothed: rounds that the directions
    were smoothed; backed_off: vertices that could not go all the way; filled: how often thin places were filled, on a
    lattice of cell_mm; steep_mm2: faces along the direction, that gain less than can be printed. Of walls:
    thin_before_mm2, thin_after_mm2, least_before_mm, least_mm; filled: patches that were thickened, given_up: those
    that could not be; left: what measuring the walls again found."""

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
    left: tuple[Finding, ...] = ()

    WORDS = ("done", "thin")

    @property
    def findings(self) -> tuple[Finding, ...]:  # type: ignore[override]
        """Places thinner than can be printed, and those that a direction gains nothing at; walls that stay thin."""
        found = []
        thin = "fault" if self.below_mm2 > THIN_SHARE * self.area_mm2 else "note"
        along = "along the direction: it makes them no thicker than that can be printed"
        for code, severity, area, zones, why in (
            ("thin_skin", thin, self.below_mm2, self.below, "thinner than can be printed"),
            ("steep", "note", self.steep_mm2, self.steep, along),
        ):
            if zones:
                where = f"in {count_text(len(zones), 'place')}, the largest at {point_text(zones[0].where_mm)}"
                text = f"{area_text(area)} {why}, {where}"
                found.append(Finding(code, severity, len(zones), text, zones[0].where_mm))
        return (*found, *self.left)
