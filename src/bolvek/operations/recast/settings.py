"""What recasting is asked for, and what it says it did."""

from dataclasses import dataclass

from bolvek.analyses.deviation import OneWay
from bolvek.analyses.finding import Finding, Worded
from bolvek.analyses.likeness import Likeness
from bolvek.analyses.shells import find_openings
from bolvek.analyses.zones import Zone
from bolvek.mesh import Mesh
from bolvek.settings import Remedy, remedy
from bolvek.settings.repairs import RecastSettings
from bolvek.units import area_text, length_text, point_text, volume_text

MOST_CELLS = 1_500_000
"""Cells on one side of the surface that fit into the memory of a small machine, a gigabyte and a half."""


LEAK_CELLS = 12.0
"""A room whose every way in is narrower than so many cells is told as a leak."""


@dataclass(frozen=True)
class Leak:
    """Air inside that gets in through gaps: how much (mm3), where the widest gap is and how wide (mm)."""

    volume_mm3: float
    where_mm: tuple[float, float, float]
    width_mm: float


@dataclass(frozen=True, kw_only=True)
class RecastRecord(Worded):
    """What recasting made: cell, bridge and grow as used; parts; what was closed in, dropped or given a thickness;
    least_mm: how thick it was made at least (0: not asked), so much surface of it (thick_mm2);
    triangles before and after slimming; edge_points: points at which sharp edges were brought back; how far the two
    surfaces are apart, both ways (mm), where the original bounds the solid: lost are places of the original that
    nothing is near, added those of the result."""

    grid_mm: float
    bridge_mm: float
    grow_mm: float
    parts: int
    cavities: int
    voids_filled: int
    dropped: int
    grown_mm2: float
    least_mm: float
    thick_mm2: float
    triangles_before_slim: int
    triangles: int
    volume_mm3: float
    slim_deviation_mm: float
    edge_points: int
    to_new: OneWay
    to_old: OneWay
    lost_mm2: float
    lost: list[Zone]
    added_mm2: float
    added: list[Zone]
    leaks: list[Leak]

    WORDS = ("done", "done")

    @property
    def findings(self) -> tuple[Finding, ...]:  # type: ignore[override]
        """Leaks, and what was lost: notes, the solid is sound all the same."""
        found = [
            Finding(
                "leak",
                "note",
                1,
                leak_text(leak.volume_mm3, leak.where_mm, leak.width_mm),
                leak.where_mm,
                remedies=(bridging(1.2 * leak.width_mm),),
            )
            for leak in self.leaks
        ]
        if self.lost:
            text = f"{area_text(self.lost_mm2)} of the original have nothing near them: too fine for the grid"
            found.append(Finding("lost", "note", len(self.lost), text, self.lost[0].where_mm))
        return tuple(found)


def leak_text(volume_mm3: float, where_mm: tuple[float, float, float], width_mm: float) -> str:
    """Where air gets in."""
    gap = f"{length_text(width_mm)} at {point_text(where_mm)}"
    return f"{volume_text(volume_mm3)} inside are air: it gets in through {gap}"


def bridging(width_mm: float) -> Remedy:
    """The recast that closes a gap."""
    bridge = float(f"{width_mm:.2g}") if width_mm < 1000 else width_mm
    return remedy("recast", "would close that", RecastSettings(bridge_mm=bridge), anew=True)


def not_enclosed(file: Mesh, alike: Likeness) -> tuple[Finding, ...]:
    """Where what was solid came out hollow: the opening through which air got in, and what closes it."""
    openings = find_openings(file).found if any(f.code == "became_hollow" for f in alike.findings) else []
    if not openings:
        return ()
    widest = openings[0]
    text = (
        f"nothing encloses the inside: air gets in through {length_text(widest.span_mm)} at "
        f"{point_text(widest.where_mm)}"
    )
    ways = (remedy("solid", "closes that and keeps the rest", anew=True), bridging(1.15 * widest.span_mm))
    return (Finding("not_enclosed", "note", len(openings), text, widest.where_mm, remedies=ways),)
