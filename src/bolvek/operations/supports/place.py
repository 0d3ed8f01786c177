"""Tips that have a way down: where they may be, and which are left."""

from dataclasses import dataclass, replace

import numpy as np

from bolvek.analyses.held.held import Held, Tips
from bolvek.analyses.held.stretches import Stretches
from bolvek.analyses.held.tips import GOOD, NEVER, POOR, prune_tips, set_tips, told_stretches
from bolvek.arrays import Bools, Floats, Ints
from bolvek.errors import UsageError
from bolvek.mesh import Mesh
from bolvek.operations.supports.ways import Paths, Way
from bolvek.settings.supports import HeldSettings, SupportSettings
from bolvek.spatial.points import PointTree
from bolvek.units import length_text, point_text

_ROUNDS = 6
_ROUND = float(np.cos(np.pi / 8))  # of a tip's diameter: that of the circle in its eight corners
_AROUND = 0.5  # of what a tip carries: so near to a tip without a way no other is tried
_FARTHEST_MM = 3.0  # from a place that was asked for to the underside
_LOOKS, _FIRST_LOOKS = 96, 12  # directions in which it is looked for a way out of a room
_LEAST_FREE = 4  # of them: fewer do not make it an outside
_OFF_MM = 0.05
_CELL_MM = 0.5


@dataclass(frozen=True)
class Placed:
    """Tips by layer with a way (T,) each, what holds with them by which rules, where tips may be, and how many
    were given up."""

    tips: Tips
    ways: list[Way]
    held: Held
    where: "Where"
    rules: HeldSettings
    no_way: int


INSIDE, KEPT_OFF, NO_WAY = "inside", "kept off", "no way"
"""Why a stretch gets no tip: it is in a room, in a ball that was to be kept off, or no way leads down from there."""
_WHY = ("", INSIDE, KEPT_OFF, NO_WAY)


class Where:
    """How good the stretches (S,) of a model are for tips, of those that nothing holds (S,)."""

    def __init__(self, mesh: Mesh, stretches: Stretches, wanted: Bools, s: SupportSettings) -> None:
        self._stretches, self._near_mm = stretches, _AROUND * s.held.carry_mm
        self._rank, self._why = np.full(len(wanted), GOOD), np.zeros(len(wanted), np.int64)
        rows = np.flatnonzero(wanted)
        place = stretches.bottoms[rows]
        if s.show is not None:
            self._rank[rows[is_shown(mesh, place, s.show)]] = POOR
        for middle, reach in s.keep_off:
            self._close(rows[np.linalg.norm(place - np.array(middle), axis=1) <= reach], KEPT_OFF)
        if not s.inside and len(rows):
            # asked once for those side by side
            cell = np.floor((place - stretches.bottoms.min(axis=0)) / _CELL_MM).astype(np.int64)
            key = (cell[:, 0] << 40) + (cell[:, 1] << 20) + cell[:, 2]
            _, first, of = np.unique(key, return_index=True, return_inverse=True)
            inside = is_inside(mesh, place[first] - [0.0, 0.0, _OFF_MM])
            self._close(rows[inside[of]], INSIDE)

    def without(self, places: Floats) -> None:
        """No tips near places (N, 3) any more."""
        if len(places):
            gap, _ = PointTree(places).nearest(self._stretches.bottoms, self._near_mm)
            self._close(np.flatnonzero(np.isfinite(gap)), NO_WAY)

    def ranking(self, some: Ints) -> Ints:
        """How good stretches (N,) are."""
        return self._rank[some]

    def why(self, some: Ints) -> str:
        """Why stretches (N,) that nothing holds got no tip: what counts for most of them."""
        count = np.bincount(self._why[some], minlength=len(_WHY))
        return _WHY[1 + int(count[1:].argmax())] if count[1:].any() else NO_WAY

    def _close(self, some: Ints, why: str) -> None:
        self._rank[some], self._why[some] = NEVER, _WHY.index(why)


def is_shown(mesh: Mesh, places: Floats, show: tuple[float, float, float]) -> Bools:
    """Whether places (N, 3) of the surface can be seen from far away on a side."""
    way = np.array(show) / np.linalg.norm(show)
    _, face = mesh.tree.nearest(places)
    normal = mesh.unit_normals[face]
    facing = normal @ way > 1e-6
    start = places[facing] + _OFF_MM * normal[facing]
    shown = facing.copy()
    shown[facing] = mesh.tree.rays(start, np.broadcast_to(way, start.shape)).found == 0
    return np.asarray(shown)


def is_inside(mesh: Mesh, points: Floats) -> Bools:
    """Whether points (N, 3) in the air are in a room of the model: the outside is seen in hardly any direction, as
    through a drain hole."""
    k = np.arange(_LOOKS)
    # spread evenly, each part of them too
    z = 1 - 2 * np.mod(k * 0.5 * (np.sqrt(5) - 1) + 0.5, 1.0)
    turn, flat = 2 * np.pi * (k + 0.5) / _LOOKS, np.sqrt(1 - z * z)
    ways = np.column_stack([np.cos(turn) * flat, np.sin(turn) * flat, z])
    ways = ways[np.argsort(np.mod(k * (np.sqrt(2) - 1), 1.0), kind="stable")]
    free = np.zeros(len(points), np.int64)
    for some in (ways[:_FIRST_LOOKS], ways[_FIRST_LOOKS:]):
        rows = np.flatnonzero(free < _LEAST_FREE)
        hit = mesh.tree.rays(np.repeat(points[rows], len(some), axis=0), np.tile(some, (len(rows), 1)))
        free[rows] += (hit.found.reshape(-1, len(some)) == 0).sum(axis=1)
    return free < _LEAST_FREE


def place(mesh: Mesh, stretches: Stretches, bare: Held, settings: SupportSettings) -> Placed:
    """The fewest tips found that hold what nothing holds and have a way down; those that were asked for first."""
    s, rules = settings, carried(settings)
    paths = Paths(mesh, stretches.floor_mm, s)
    wanted = told_stretches(bare, rules)
    where = Where(mesh, stretches, wanted, s)
    tips = _asked(stretches, rules, s)
    ways = _ways_of_all(paths, stretches.bottoms[tips.stretch])
    asked, no_way = len(tips), 0
    for _ in range(_ROUNDS):
        # those of the round before come first, in their order
        more = set_tips(stretches, wanted, tips, rules, where.ranking)
        found = paths.find(stretches.bottoms[more.stretch[len(ways) :]])
        good = np.array([True] * len(ways) + [way is not None for way in found], bool)
        where.without(stretches.bottoms[more.stretch[~good]])
        no_way += int((~good).sum())
        ways += [way for way in found if way is not None]
        tips = more.chosen(good)
        if good.all():
            break
    # a pad lies lower, so that a column of it may lie beside its place
    wide = max(_ROUND * s.tip_mm - (stretches.columns.pixel_mm if s.gap_mm else 0.0), 0.0)
    kept, held = prune_tips(stretches, tips, rules, asked=asked, wide_mm=wide, touched=wanted)
    row = {key: k for k, key in enumerate(zip(tips.stretch.tolist(), tips.layer.tolist(), strict=True))}
    kept_rows = [row[key] for key in zip(kept.stretch.tolist(), kept.layer.tolist(), strict=True)]
    return Placed(kept, [ways[k] for k in kept_rows], held, where, rules, no_way)


def carried(settings: SupportSettings) -> HeldSettings:
    """What has to hold, each tip carrying less far the denser they are."""
    return replace(settings.held, carry_mm=settings.held.carry_mm / float(np.sqrt(settings.density)))


def _asked(stretches: Stretches, rules: HeldSettings, s: SupportSettings) -> Tips:
    """The tips at places that were asked for, in their order. Raises UsageError for one that is at no underside."""
    tips = Tips.carrying(rules)
    if not s.at_mm:
        return tips
    gap, row = PointTree(stretches.bottoms).nearest(np.array(s.at_mm))
    for at, off in zip(s.at_mm, gap, strict=True):
        if off > _FARTHEST_MM:
            raise UsageError(
                f"no underside is near {point_text(at)}: the nearest is {length_text(float(off))} away; name a place "
                f"within {length_text(_FARTHEST_MM)} of one"
            )
    stretch = row[np.sort(np.unique(row, return_index=True)[1])]
    return tips.under(stretches, stretch)


def _ways_of_all(paths: Paths, places: Floats) -> list[Way]:
    """The ways of tips that were asked for. Raises UsageError for one that has none."""
    ways = []
    for at, way in zip(places, paths.find(places), strict=True):
        if way is None:
            raise UsageError(f"no way leads down from the tip asked for at {point_text(at)}: name another place")
        ways.append(way)
    return ways
