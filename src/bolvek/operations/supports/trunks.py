"""Columns that join: a few trunks with branches, where that takes less material than a column each."""

from dataclasses import dataclass, field

import numpy as np

from bolvek.arrays import Floats
from bolvek.mesh import Mesh
from bolvek.operations.supports.ways import Way, column_radius, is_clear
from bolvek.settings.supports import SupportSettings
from bolvek.spatial.points import PointTree

_NEIGHBOURS = 24
_THICKER, _THICKEST = 0.1, 1.5
"""A trunk is thicker by so much for each branch, and at most so many times as thick."""
_PASSES = 6
_SPREAD = 3.0  # diameters: branches end in a trunk so far apart in height
BRANCH_SHARE = 0.8
"""Of a trunk's radius: a branch is no wider where it ends in it."""


@dataclass
class Trunk:
    """A column on the bed: which tip's way it is, the radius it has, and the tips whose branches end in it with where
    they do. It gets thicker with them where there is room."""

    tip: int
    radius_mm: float
    branches: dict[int, Floats] = field(default_factory=dict)


@dataclass(frozen=True)
class _Choice:
    """A branch that a tip may have: where it ends in which trunk, and its volume."""

    trunk: int
    place: Floats
    volume_mm3: float


def join(mesh: Mesh, ways: list[Way], floor_mm: float, s: SupportSettings) -> list[Trunk]:
    """The trunks of ways, by the tip whose way each is; stubs, and ways that end on the model, are none.

    Each column begins as a trunk of its own; while that saves material one is left out, its tips leaning to others
    (the drop heuristic of facility location, Feldman, Lehrer and Ray 1966).
    """
    bed = [k for k, way in enumerate(ways) if not (way.on_model or way.stub)]
    radius = {k: float(column_radius(ways[k].high_mm, s)) for k in bed}
    trunks = {k: Trunk(k, radius[k]) for k in bed}
    if not bed:
        return []
    roomy = _roomy(mesh, ways, bed, floor_mm, s)
    if s.trunk_mm == 0 or s.lean_deg == 0:
        return list(trunks.values())
    choices = _branches(mesh, ways, bed, floor_mm, s)
    foot = np.pi * (2.5 * s.column_mm) ** 2 * s.foot_mm if s.foot == "discs" else 0.0
    # what stands beneath the bend of a way, and what leans to it from the tip
    upright = {k: np.pi * radius[k] ** 2 * (ways[k].corners[-2][2] - floor_mm) + foot for k in bed}
    leaning = {k: np.pi * radius[k] ** 2 * _length(ways[k].corners[:-1]) for k in bed}
    at = {k: _Choice(k, ways[k].corners[0], leaning[k]) for k in bed}
    for _ in range(_PASSES):
        before = len(trunks)
        for k in sorted(trunks, key=lambda k: (len(trunks[k].branches), -upright[k], k)):
            members = [k, *trunks[k].branches]
            moves = {}
            for tip in members:
                open_to = [c for c in choices[tip] if c.trunk in trunks and c.trunk != k]
                if not open_to:
                    break
                moves[tip] = min(open_to, key=lambda c: (c.volume_mm3, c.trunk))
            else:
                if sum(moves[t].volume_mm3 - at[t].volume_mm3 for t in members) < upright[k]:
                    del trunks[k]
                    for tip, choice in moves.items():
                        at[tip] = choice
                        trunks[choice.trunk].branches[tip] = choice.place
        if len(trunks) == before:
            break
    for trunk in trunks.values():
        trunk.radius_mm *= min(1.0 + _THICKER * len(trunk.branches), _THICKEST) if roomy[trunk.tip] else 1.0
    return list(trunks.values())


def narrowing_mm(radius: float, s: SupportSettings) -> float:
    """How long a column takes to get as narrow as its cone begins."""
    return 2 * max(radius - 0.5 * s.column_mm, 0.0)


def _length(line: Floats) -> float:
    return float(np.linalg.norm(np.diff(line, axis=0), axis=1).sum())


def _roomy(mesh: Mesh, ways: list[Way], bed: list[int], floor_mm: float, s: SupportSettings) -> dict[int, bool]:
    """Which columns have the room to be as thick as any trunk."""
    top = np.array([ways[k].corners[-2] for k in bed])
    wide = _THICKEST * column_radius(np.array([ways[k].high_mm for k in bed]), s) + s.clearance_mm
    base = np.column_stack([top[:, :2], np.full(len(bed), floor_mm)])
    return dict(zip(bed, is_clear(mesh, top, base, wide).tolist(), strict=True))


def _branches(
    mesh: Mesh, ways: list[Way], bed: list[int], floor_mm: float, s: SupportSettings
) -> dict[int, list[_Choice]]:
    """The branches that each tip may have, all free of the model."""
    top = np.array([ways[k].corners[-2] for k in bed])
    knee = np.array([ways[k].corners[0] for k in bed])
    _, near = PointTree(top[:, :2]).nearest_few(knee[:, :2], _NEIGHBOURS + 1, s.trunk_mm)
    tip, trunk = np.repeat(np.arange(len(bed)), near.shape[1]), near.ravel()
    keep = (trunk < len(bed)) & (trunk != tip)
    tip, trunk = tip[keep], trunk[keep]
    off = np.linalg.norm(knee[tip, :2] - top[trunk, :2], axis=1)
    # beneath the trunk's top, each at another height
    narrow = np.array([narrowing_mm(_THICKEST * float(column_radius(ways[k].high_mm, s)), s) for k in bed])
    beneath = top[trunk, 2] - narrow[trunk] - s.column_mm * (0.6 + _SPREAD * np.mod(0.618 * tip, 1.0))
    height = np.minimum(beneath, knee[tip, 2] - off / np.tan(np.radians(s.lean_deg)))
    place = np.column_stack([top[trunk, :2], height])
    good = height > floor_mm + s.foot_mm + s.column_mm
    length = np.linalg.norm(place - knee[tip], axis=1)
    radius = column_radius(length, s)
    good[good] = is_clear(mesh, knee[tip[good]], place[good], radius[good] + s.clearance_mm)
    found: dict[int, list[_Choice]] = {k: [] for k in bed}
    for n in np.flatnonzero(good):
        volume = float(np.pi * radius[n] ** 2 * length[n])
        found[bed[tip[n]]].append(_Choice(bed[trunk[n]], place[n], volume))
    return found
