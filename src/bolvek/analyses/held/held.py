"""What holds: every place of every layer has a debt, one signed length, and holds while that is at most the reach.

A debt is how far a place reaches out, along the shortest path inside the material, beyond what holds it, less the
height climbed on the way times the cotangent of the overhang angle; climbing never pays in advance. So a slope of
that angle or steeper holds for ever, one of a lower angle s until the height reach / (cot s - cot angle), a ledge until
the reach, and what grows back upward above a ledge holds again. A bridge is a straight line inside a layer, both ends
over what held in the layer below.

The paths are found in the columns of the model (`kernels.grid.held`): heights are exact, paths are straight where
the material lets them be, at any turn of the model, and a path found is never shorter than the shortest. What is left
is where a column stands: outlines are known to half a column, so a debt to one column.
"""

from dataclasses import dataclass, replace

import numpy as np

from bolvek.analyses.held.record import UnheldPlace
from bolvek.analyses.held.stretches import Stretches
from bolvek.arrays import Bools, Floats, Ints, Ints32
from bolvek.kernels.grid import held as kernels
from bolvek.settings.supports import HeldSettings
from bolvek.units import as_triple


@dataclass(frozen=True)
class Tips:
    """Tips of supports beneath stretches of material: the stretch (T,) and the layer (T,) of each. Each owes `owed_mm`,
    below 0 where it carries farther than the reach, up to `high_mm` above it."""

    stretch: Ints
    layer: Ints
    owed_mm: float
    high_mm: float

    @staticmethod
    def none(owed_mm: float = 0.0, high_mm: float = 0.0) -> "Tips":
        """No tips."""
        return Tips(np.zeros(0, np.int64), np.zeros(0, np.int64), owed_mm, high_mm)

    @staticmethod
    def carrying(settings: HeldSettings) -> "Tips":
        """No tips yet, which are to carry as settings say."""
        return Tips.none(settings.reach_mm - settings.carry_mm, settings.carry_mm)

    def under(self, stretches: Stretches, some: Ints) -> "Tips":
        """These and others, beneath stretches (N,) in the layers in which they begin."""
        return self.joined(some, stretches.build.span[some, 0].astype(np.int64))

    def __len__(self) -> int:
        return len(self.stretch)

    def joined(self, stretch: Ints, layer: Ints) -> "Tips":
        """These and others."""
        return replace(self, stretch=np.concatenate([self.stretch, stretch]), layer=np.concatenate([self.layer, layer]))

    def chosen(self, mask: Bools) -> "Tips":
        """Some of them."""
        return replace(self, stretch=self.stretch[mask], layer=self.layer[mask])

    def sorted(self) -> "Tips":
        """By layer, as a sweep takes them."""
        order = np.argsort(self.layer, kind="stable")
        return replace(self, stretch=self.stretch[order], layer=self.layer[order])

    @property
    def rows(self) -> Ints32:
        """Stretch and layer (T, 2)."""
        return np.ascontiguousarray(np.stack([self.stretch, self.layer], axis=1).astype(np.int32))

    def credit(self, stretches: Stretches) -> Floats:
        """What each owes (T,), in columns."""
        return np.full(len(self), self.owed_mm / stretches.columns.pixel_mm)

    def expires(self, stretches: Stretches) -> Ints32:
        """The last layer (T + 1,) in which each carries farther, -1 for none in the last row."""
        return np.append(self.layer + int(self.high_mm / stretches.layer_mm), -1).astype(np.int32)


@dataclass(frozen=True)
class Held:
    """Which stretches hold. state (S, 7), debt (S, 2) as the kernels have them."""

    stretches: Stretches
    state: Ints32
    debt: Floats

    @property
    def unheld(self) -> Bools:
        """Stretches (S,) that begin without hold."""
        return np.asarray(self.state[:, kernels.HELD] != self.stretches.build.span[:, 0])

    def places(self) -> tuple[Ints, list[UnheldPlace]]:
        """The number (S,) of the place without hold that a stretch begins in, -1 for none; the places, lowest first."""
        build, columns = self.stretches.build, self.stretches.columns
        place, beside = np.arange(len(self.state), dtype=np.int32), np.zeros(len(self.state), bool)
        kernels.gather_unheld(build, self.state, place, beside)
        rows = np.flatnonzero(place >= 0)
        number = np.full(len(place), -1)
        if not len(rows):
            return number, []
        begin = build.span[rows, 0]
        _, of = np.unique(place[rows], return_inverse=True)
        # each place by its lowest stretch, the first of them
        first = rows[np.lexsort((rows, begin, of))]
        first = first[np.unique(np.sort(of), return_index=True)[1]]
        lowest = build.span[first, 0]
        at_bottom = begin == lowest[of]
        ledge = np.bincount(of, beside[rows] & at_bottom) > 0
        area = np.bincount(of) * columns.pixel_mm2
        until = self.state[rows, kernels.HELD]
        top = np.zeros(len(first), np.int64)
        np.maximum.at(top, of, np.where(until < 0, build.span[rows, 1], until))
        order = np.lexsort((first, lowest))
        rank = np.empty(len(order), np.int64)
        rank[order] = np.arange(len(order))
        number[rows] = rank[of]
        found = [
            UnheldPlace(
                kind="ledge" if ledge[k] else "island",
                layer=int(lowest[k]),
                where_mm=as_triple(self.stretches.bottoms[first[k]]),
                height_mm=float(columns.low[self.stretches.row[first[k]]]) - self.stretches.floor_mm,
                area_mm2=float(area[k]),
                tall_mm=float(top[k] - lowest[k]) * self.stretches.layer_mm,
            )
            for k in order
        ]
        return number, found


class Sweep:
    """A sweep of the layers upward from the bed, which can be held up by tips: it stops where something is wanted."""

    def __init__(self, stretches: Stretches, tips: Tips, *, wanted: Bools | None = None) -> None:
        """wanted (S,): stretches it stops for where nothing holds them; none without it."""
        count = len(stretches.row)
        self.stretches, self.tips = stretches, tips
        self._wanted = np.zeros(count, bool) if wanted is None else wanted
        self.layer = 0
        self._state, self._debt = np.full((count, 7), -1, np.int32), np.zeros((count, 2))
        self._lists = np.zeros(count + 1, np.int32), np.zeros(count + 2, np.int64)

    def go_on(self) -> Ints:
        """Sweep on up to the next layer in which stretches that are wanted begin and nothing holds them, and return
        these; none at the end. `layer` is the one after the last that was swept."""
        s, build = self.stretches, self.stretches.build
        tips = self.tips.sorted()
        args = build, tips.expires(s), tips.rows, tips.credit(s), self.layer, s.layers, True
        self.layer = kernels.sweep(*args, self._wanted, self._state, self._debt, *self._lists)
        return self.lacking()

    def lacking(self) -> Ints:
        """The stretches that are wanted, begin in the layer swept last and do not hold."""
        build = self.stretches.build
        if not self.layer:
            return np.zeros(0, np.int64)
        rows = build.order[build.first[self.layer - 1] : build.first[self.layer]]
        return rows[self._wanted[rows] & (self._state[rows, kernels.SINCE] < 0)].astype(np.int64)

    def add(self, some: Ints) -> None:
        """Stand stretches (N,) on tips in the layer swept last."""
        before = len(self.tips)
        self.tips = self.tips.joined(some, np.full(len(some), self.layer - 1))
        args = self.stretches.build, self.tips.expires(self.stretches), some.astype(np.int32), before, self.layer - 1
        credit = self.tips.owed_mm / self.stretches.columns.pixel_mm
        kernels.stand_on_tips(*args, credit, self._state, self._debt, *self._lists)

    @property
    def held(self) -> Held:
        """What holds, as far as the sweep got."""
        return Held(self.stretches, self._state, self._debt)


def hold(stretches: Stretches, tips: Tips | None = None) -> Held:
    """Sweep the layers upward from the bed, and from tips."""
    sweep = Sweep(stretches, tips or Tips.none())
    sweep.go_on()
    return sweep.held
