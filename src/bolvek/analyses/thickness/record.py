"""What is asked about walls, and what is told of them: plain values."""

import math
from dataclasses import dataclass, field

from bolvek.analyses.finding import Finding, Judged
from bolvek.analyses.thickness.samples import Samples
from bolvek.arrays import Floats
from bolvek.settings import Remedy, remedy
from bolvek.settings.parts import ScaleSettings
from bolvek.settings.ways_on import thick_as
from bolvek.units import Triple, count_text, length_text, point_text

LEAST_MEASURED = 0.5
"""With a wall on less than this share of the surface, nothing is judged."""

KINDS = ("breakthrough", "hole", "thin", "gap")
"""Kinds of zones, in the order they are told."""


@dataclass(frozen=True)
class Measured:
    """One measure, by area: where it is a wall at all, extremes, percentiles, share of all area below the minimum.

    Balls are looked for up to five times the minimum; those of `wall` (the smaller of both) and `ball` end there.
    """

    measured_share: float
    below_share: float
    min_mm: float | None = None
    max_mm: float | None = None
    mean_mm: float | None = None
    percentiles_mm: dict[str, float] = field(default_factory=dict)


@dataclass(frozen=True)
class WallZone:
    """A thin place: kind "breakthrough", "hole" (near parallel sides with next to nothing between), "thin" or "gap";
    the thinnest place, middle and extent of its box, the surface in it (all sides), which measure decided most of
    it ("ray", "ball", or "way": the shortest between corners, creases and edges), the shells it lies on (from 1)."""

    kind: str
    min_mm: float
    mean_mm: float
    area_mm2: float
    where_mm: Triple
    centre_mm: Triple
    size_mm: Triple
    decided: str
    shells: tuple[int, ...]


@dataclass(frozen=True)
class WallEdge:
    """Material that tapers to an edge: its angle, about how long it is, how far it recedes until it is as thick as the
    minimum, the surface in it, middle and extent of its box, the shells it lies on (from 1)."""

    angle_deg: float
    length_mm: float
    recedes_mm: float
    area_mm2: float
    centre_mm: Triple
    size_mm: Triple
    shells: tuple[int, ...]


@dataclass(frozen=True, kw_only=True)
class WallRecord(Judged):
    """Thickness of a model. Shares are of its whole surface; lengths mm, areas mm2.

    undefined_share: no other side to measure to (open skins, rays that get out); edge_share: beside an edge,
    where nothing is a wall; hidden_share: inside other material (told only where it looked thin). tolerance_mm: a wall
    that falls short of the minimum by no more is not thin. specks: thin places below least_zone_mm2. edges: material
    that tapers to nothing; they decide nothing.
    gap_asked_mm: the least gap asked for (None: not looked for). prints_at: factors by which to scale so that the
    thinnest zone (without one: the thinnest wall), and 99% of the area, reach the minimum.
    """

    min_mm: float
    tolerance_mm: float
    samples: int
    spacing_mm: float
    area_mm2: float
    undefined_share: float
    edge_share: float
    hidden_share: float
    ray: Measured
    ball: Measured | None
    wall: Measured
    histogram_edges_mm: list[float]
    histogram_share: list[float]
    zones: list[WallZone]
    zone_count: int
    least_zone_mm2: float
    specks: int
    speck_mm: float | None
    speck_where_mm: Triple | None
    edges: list[WallEdge]
    gap: Measured | None
    gap_asked_mm: float | None
    gap_zones: list[WallZone]
    prints_at: dict[str, float]
    findings: tuple[Finding, ...]

    @property
    def judged(self) -> bool:
        """Whether a wall was measured on enough of the surface to judge it."""
        return self.wall.min_mm is not None and self.undefined_share <= 1 - LEAST_MEASURED

    @property
    def verdict(self) -> str:
        """ "thin" when a zone is a fault, else "gap too narrow" when one across air is; "not measured" where too little
        could be."""
        faults = {f.code for f in self.findings if f.severity == "fault"} - {"wall_unmeasured"}
        if faults:
            return "gap too narrow" if faults == {"gap_narrow"} else "thin"
        if not self.judged:
            return "not measured"
        everywhere = self.undefined_share <= 0 and self.spacing_mm <= self.min_mm
        return "thick enough" if everywhere else "thick enough where measured"


@dataclass(frozen=True)
class WallField:
    """What was measured where: samples, the wall at each (nan: none), and by face and vertex the least (nan too)."""

    samples: Samples
    wall: Floats
    face_mm: Floats
    vertex_mm: Floats


def _wider(factor: float) -> Remedy:
    """A size at which a gap is as wide as asked, rounded up."""
    by = math.ceil(1000 * factor) / 1000
    return remedy("scale", "makes the narrowest gap wide enough", ScaleSettings(by=by))


def specks_finding(count: int, zone_mm2: float, least_mm: float, where_mm: Triple) -> Finding:
    """The note of thin places too small to be judged: how many, smaller than what, the thinnest."""
    words = (
        f"{count_text(count, 'thin speck')} of less than {zone_mm2:.2g} mm2, not judged; the thinnest "
        f"{length_text(least_mm)} at {point_text(where_mm)}"
    )
    return Finding("wall_specks", "note", count, words, where_mm)


def findings_of(r: WallRecord) -> tuple[Finding, ...]:
    """What falls short, worst first, and what a preparer should know."""
    found = []
    texts = {
        "breakthrough": ("wall_broken", "place", "where a wall has broken through: it prints as a hole"),
        "hole": ("wall_hole", "place", "as good as gone: it prints as a hole or not at all"),
        "thin": ("wall_thin", "zone", f"thinner than {length_text(r.min_mm)}"),
    }
    for kind, (code, word, text) in texts.items():
        zones = [z for z in r.zones if z.kind == kind]
        if zones:
            words = f"{len(zones):,} {word}{'' if len(zones) == 1 else 's'} {text}"
            if kind != "breakthrough":
                words += f", {length_text(zones[0].min_mm)} at least"
            # an open one has other needs first
            ways = (thick_as(r.min_mm),) if kind != "breakthrough" and not r.undefined_share else ()
            found.append(Finding(code, "fault", len(zones), words, zones[0].where_mm, remedies=ways))
    if r.gap_zones:
        least, n = r.gap_zones[0], len(r.gap_zones)
        words = f"{n:,} gap{'' if n == 1 else 's'} too narrow, {length_text(least.min_mm)} at least"
        ways = (_wider(r.gap_asked_mm / least.min_mm),) if r.gap_asked_mm and least.min_mm > 0 else ()
        found.append(Finding("gap_narrow", "fault", n, words, least.where_mm, remedies=ways))
    if not r.judged:
        share = f"{100 * r.undefined_share:.1f}% of the surface" if r.wall.min_mm is not None else "nowhere a wall that"
        words = f"{share} could not be measured" if r.wall.min_mm is not None else f"{share} could be measured"
        found.append(Finding("wall_unmeasured", "fault", 1, words))
    if r.edges:
        n, most = len(r.edges), max(r.edges, key=lambda e: e.recedes_mm)
        words = (
            f"{n:,} edge{'' if n == 1 else 's'} taper{'s' if n == 1 else ''} to nothing, "
            f"{length_text(sum(e.length_mm for e in r.edges))} in all: printed, they end up to "
            f"{length_text(most.recedes_mm)} short"
        )
        found.append(Finding("wall_edges", "note", n, words, most.centre_mm))
    if r.specks and r.speck_mm is not None and r.speck_where_mm is not None:
        found.append(specks_finding(r.specks, r.least_zone_mm2, r.speck_mm, r.speck_where_mm))
    if r.spacing_mm > r.min_mm:
        words = f"measured at places {length_text(r.spacing_mm)} apart, wider than the minimum: a dent may lie between"
        found.append(Finding("wall_spacing", "note", 1, words))
    if r.undefined_share > 0:
        share = f"{100 * r.undefined_share:.1f}% of the surface has no other side: an open skin, an opening or a fault"
        found.append(Finding("wall_undefined", "note", 1, share))
    return tuple(found)
