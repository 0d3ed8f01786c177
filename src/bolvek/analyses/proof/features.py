"""Features: the material that no judged face bounds, a fin on a hollow body, an ear, a strut.

The wall asked for is not meant for it; but it must print at all. What is thinner than the least wall fails; what is
between the two is told. It is measured as the wall is: rays and balls at samples, shortest ways, waists. A spot of
samples smaller than a disc half as wide as the limit is a speck and decides nothing, as in `thickness.walls`.
"""

from dataclasses import dataclass

import numpy as np

from bolvek.analyses.finding import Finding
from bolvek.analyses.proof.record import Features
from bolvek.analyses.thickness import Ways, ends_at_an_edge, find_waists, joined_ways
from bolvek.analyses.thickness.record import specks_finding
from bolvek.analyses.thickness.spots import Spot, gather_spots
from bolvek.arrays import Bools, Floats, Ints
from bolvek.mesh import Mesh
from bolvek.settings.measures import ProofSettings, least_zone_mm2, wall_tolerance_mm
from bolvek.settings.ways_on import thick_as
from bolvek.units import area_text, count_text, length_text, point_text


@dataclass
class Places:
    """Walls (Q,) at places (Q, 3) of faces (Q,), nan where there is none, the area (Q,) each stands for; whether its
    sides face each other squarely; the width of the touching ball."""

    points: Floats
    face: Ints
    area: Floats
    wall: Floats
    square: Bools
    ball: Floats

    @classmethod
    def none(cls) -> "Places":
        """No places."""
        zero = np.zeros(0)
        return cls(np.zeros((0, 3)), np.zeros(0, np.int64), zero, zero, np.zeros(0, bool), zero)

    def __add__(self, other: "Places") -> "Places":
        pairs = zip(vars(self).values(), vars(other).values(), strict=True)
        return Places(*(np.concatenate(p) for p in pairs))

    def chosen(self, rows: Ints | Bools) -> "Places":
        """Some of them."""
        return Places(*(values[rows] for values in vars(self).values()))

    @property
    def facing(self) -> Bools:
        """Places (Q,) with a wall whose sides face each other squarely."""
        return np.asarray(self.square & ~np.isnan(self.wall))

    def taper(self, mesh: Mesh, limit: float, wall: float) -> Bools:
        """Places (Q,) that face each other, thinner than a limit, where the material runs out to an edge."""
        edge = np.zeros(len(self.wall), bool)
        thin = np.flatnonzero(self.facing & (self.wall < limit))
        edge[thin] = ends_at_an_edge(mesh, self.points[thin], self.face[thin], wall)
        return edge


@dataclass(frozen=True)
class Limits:
    """The least wall, and the wall asked for, in millimetres; what is thinner than `thin` falls short of the one, than
    `slender` of the other."""

    least_mm: float
    asked_mm: float

    @property
    def tolerance_mm(self) -> float:
        """How far the least wall may fall short."""
        return wall_tolerance_mm(self.least_mm)

    @property
    def thin(self) -> float:
        """The least wall less its tolerance."""
        return self.least_mm - self.tolerance_mm

    @property
    def slender(self) -> float:
        """The wall asked for less its tolerance."""
        return max(self.thin, self.asked_mm - wall_tolerance_mm(self.asked_mm))

    def taper(self, mesh: Mesh, found: Places) -> Bools:
        """Places (Q,) that run out to an edge: within the least wall what is thinner than that, else farther."""
        edge = found.taper(mesh, self.thin, self.least_mm)
        wide = ~edge & (found.wall >= self.thin)
        edge[wide] = found.chosen(wide).taper(mesh, self.slender, self.asked_mm)
        return edge


def feature_waists(mesh: Mesh, found: Places, edge: Bools, limits: Limits) -> Ways:
    """Waists of features thinner than the least wall, and rods thinner than the wall asked for; edge (Q,): places that
    run out to one."""
    places = found.points, -mesh.normals_of(found.face), found.face, found.ball
    lean = ~found.facing
    # necks between the two limits, slow to follow and only told, are left to ways and samples
    rods = find_waists(mesh, *places, limits.slender, lean=lean, edge=edge, near=lambda p: np.zeros(len(p), bool))
    return joined_ways([rods, find_waists(mesh, *places, limits.thin, lean=lean, edge=edge)])


def measure_features(found: Places, edge: Bools, ways: Ways, limits: Limits, spacing_mm: float) -> Features:
    """Judge places and ways of material that no judged face bounds; edge (Q,): places that run out to one."""
    limit, most = limits.thin, limits.slender
    rest = found.facing & (found.wall < most) & ~edge
    thin, specks = _spots(found.chosen(rest & (found.wall < limit)), ways, 0.0, limit, spacing_mm)
    slender, _ = _spots(found.chosen(rest & (found.wall >= limit)), ways, limit, most, spacing_mm)
    worst, speck = (min(some, key=lambda s: (s.least, s.where_mm), default=None) for some in (thin or slender, specks))
    return Features(
        least_mm=limits.least_mm,
        tolerance_mm=limits.tolerance_mm,
        min_mm=worst.least if worst else None,
        where_mm=worst.where_mm if worst else None,
        thin=len(thin),
        thin_mm2=sum(s.area_mm2 for s in thin),
        slender=len(slender),
        slender_mm2=sum(s.area_mm2 for s in slender),
        specks=len(specks),
        speck_mm=speck.least if speck else None,
        speck_where_mm=speck.where_mm if speck else None,
    )


def judge_thin(features: Features | None, settings: ProofSettings) -> list[Finding]:
    """What is thinner than the least wall, a fault or, of the original's own, a note; what is between it and the wall
    asked for, and specks, a note."""
    if features is None:
        return []
    found, where = [], features.where_mm
    least = length_text(features.least_mm)
    thinnest = f": {length_text(features.min_mm)} at the thinnest, at {point_text(where)}" if features.min_mm else ""
    if features.thin:
        told = settings.features_told
        text = f"{_are(features.thin)} thinner than the least wall of {least}{thinnest}{_area(features.thin_mm2)}"
        text += "; the original has that" if told else ""
        ways = () if told else (thick_as(features.least_mm),)
        found.append(Finding("thin_features", "note" if told else "fault", features.thin, text, where, remedies=ways))
    if features.slender and settings.wall_mm is not None:
        text = f"{_are(features.slender)} thinner than the wall of {length_text(settings.wall_mm)}"
        text += (
            f"{'' if features.thin else thinnest}{_area(features.slender_mm2)}; no room is behind, so that is no fault"
        )
        found.append(Finding("slender_features", "note", features.slender, text, None if features.thin else where))
    if features.speck_mm is not None and features.speck_where_mm is not None:
        zone = least_zone_mm2(features.least_mm)
        found.append(specks_finding(features.specks, zone, features.speck_mm, features.speck_where_mm))
    return found


def _are(count: int) -> str:
    return f"{count_text(count, 'feature')} {'is' if count == 1 else 'are'}"


def _area(mm2: float) -> str:
    return f", {area_text(mm2)} in all" if mm2 else ""


def features_text(features: Features) -> str:
    """What all other material has, in a few words."""
    if features.min_mm is None:
        return "all other material is at least as thick"
    return (
        f"all other material is at least {length_text(features.min_mm)} thick, {length_text(features.least_mm)} asked"
    )


def _spots(places: Places, ways: Ways, low: float, high: float, spacing: float) -> tuple[list[Spot], list[Spot]]:
    """Places, and ways of lengths between two, gathered: those that count, and specks."""
    some = ways.chosen((ways.length >= low) & (ways.length < high))
    n, ends = len(places.wall), len(some.length)
    points = np.concatenate([places.points, some.start, some.end])
    value = np.concatenate([places.wall, some.length, some.length])
    area = np.concatenate([places.area, np.zeros(2 * ends)])
    spots = gather_spots(points, value, area, max(1.5 * spacing, high))
    parted: tuple[list[Spot], list[Spot]] = [], []
    for spot in spots:
        speck = spot.area_mm2 < least_zone_mm2(high) and not (spot.rows >= n).any()
        parted[speck].append(spot)
    return parted
