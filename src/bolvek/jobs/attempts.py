"""Attempts of `prep`: a model hollowed, drained and proven, and what is tried again where the proof finds fault.

What is looked at before a cut is not the proof. The proof decides, and each of the ways to go on is held against what
was there: a try that is no better is not taken.
"""

import dataclasses
from collections.abc import Iterable
from dataclasses import dataclass, field
from functools import partial

import numpy as np

from bolvek.analyses.cavities import Cavities, Chamber
from bolvek.analyses.finding import Finding
from bolvek.analyses.proof import INNER, OUTER, Origin, ProofRecord, examine, origin_by_source
from bolvek.arrays import Ints, Ints8, Ints32
from bolvek.jobs.own_rooms import Drilled, drill_rooms, places_kept, rooms_at_fault, within
from bolvek.mesh import Mesh
from bolvek.operations.drain import (
    AutoRecord,
    DrainRecord,
    GivenUp,
    Placed,
    cut_and_trace,
    place_by_flood,
    place_drains,
    place_in_chamber,
)
from bolvek.operations.hollow import HollowRecord, NoCavityError, hollow
from bolvek.operations.solid import Step
from bolvek.settings import remedy
from bolvek.settings.measures import ProofSettings, wall_tolerance_mm
from bolvek.settings.shape import AutoSettings, DrainSettings, HollowSettings, PlaceSettings, PrepSettings
from bolvek.units import Triple, length_text, volume_text

_MOVED, _ASIDE = 2, 0.75  # rounds of holes put elsewhere; so many diameters off
_ADDED = 3  # rounds of further holes
_CLOSED_OFF = 2  # rounds of necks closed off
_MOST_AGAIN = 5  # rounds of all kinds
_FILLED, _MOST_THIN = 3, 3  # rounds of places filled; thin spots that are a few
_POOL_SHARE, _POOL_REACH = 0.03, 0.9  # of its room that a pool is small; of its side as a cube, the ball that fills it


@dataclass(frozen=True, kw_only=True)
class Again:
    """Places that made it begin again, and how: chambers behind narrow necks got "a hole" each, or were "closed off" at
    their necks; holes at whose edges the wall came out short were "moved"; pools that stayed got "one more" each; rooms
    that the model had were "drained"; thin webs and pools were "filled"; cavities that still fell short were "left
    solid"; a solid that had another size than asked was "resized"."""

    places: int
    how: str


@dataclass
class Made:
    """A hollowed and drained mesh, what was done, the origin of its faces, and what a preparer should know."""

    mesh: Mesh
    hollow: HollowRecord | None
    drain: DrainRecord | None
    source: Ints32
    before: Ints8
    notes: list[Finding]


@dataclass
class Hollowed:
    """A hollowed mesh with the holes it is to get. before: origins of its faces; auto: how the holes were found; raw:
    as it was hollowed, with every cavity."""

    mesh: Mesh
    record: HollowRecord
    before: Ints8
    placed: list[Placed]
    notes: list[Finding]
    auto: AutoRecord | None = None
    raw: tuple[Mesh, HollowRecord, Ints8] | None = None


@dataclass(frozen=True)
class Attempt:
    """What was hollowed (only notes, where all stays solid), what was made of it, and what the proof says of that."""

    hollowed: Hollowed | list[Finding]
    made: Made
    proof: ProofRecord
    rooms: Cavities | None

    @property
    def faults(self) -> int:
        """How many faults the proof finds."""
        return sum(f.severity == "fault" for f in self.proof.findings)

    @property
    def stays_mm3(self) -> float:
        """How much liquid stays."""
        return self.proof.liquid.stays_mm3 if self.proof.liquid is not None else 0.0

    @property
    def unvented(self) -> list[Triple]:
        """Places in rooms with one way out."""
        return [cavity.where_mm for cavity in self.rooms.found if cavity.unvented] if self.rooms is not None else []

    def better_than(self, other: "Attempt") -> bool:
        """Whether it has fewer faults, or as many and fewer rooms without a vent, or as many and less that stays."""
        mine, its = ((a.faults, len(a.unvented)) for a in (self, other))
        return mine < its or (mine == its and self.stays_mm3 < other.stays_mm3)


@dataclass(frozen=True)
class Workbench:
    """The solid to be hollowed, and how an attempt at it is made and judged. asked: what a hollowed one is held
    against, as_solid: what one that stays solid is; drilled: what it is made from, where its own rooms got holes."""

    solid: Mesh
    settings: PrepSettings
    step: Step
    asked: ProofSettings
    as_solid: ProofSettings
    drilled: Drilled | None = None
    told: list[Again] = field(default_factory=list)

    @property
    def tired(self) -> bool:
        """Whether it began again so often that only leaving cavities solid is tried any more."""
        return len(self.told) >= _MOST_AGAIN

    def attempt(self, hollow_as: HollowSettings) -> Attempt:
        """Hollowed, drained, proven."""
        return self.judged(_hollowed(self.solid, hollow_as, self.settings, self.step))

    def finished(self, first: Attempt, hollow_as: HollowSettings) -> Attempt:
        """An attempt with all that helps: other and further holes, necks closed off, what falls short left solid."""
        done = self._holes_put_right(first)
        plugs = hollow_as.plugs_mm
        for _ in range(_CLOSED_OFF):
            chambers = self.chambers(done)
            if done.made.hollow is None or not chambers or self.tired:
                break
            # what no hole reaches is closed off at its neck: a cavity of its own, or a pocket that stays solid
            plugs += plugs_at(chambers, hollow_as.wall_mm)
            self.tell_again(len(chambers), "closed off")
            done = self._holes_put_right(self.attempt(dataclasses.replace(hollow_as, plugs_mm=plugs)))
        return self._left_solid(self._places_filled(done, dataclasses.replace(hollow_as, plugs_mm=plugs)))

    def _places_filled(self, of: Attempt, hollow_as: HollowSettings) -> Attempt:
        """With a ball of material where little is wrong with a cavity: a web too thin between two of its arms, a pool
        that no hole reaches. So little costs less than the whole cavity."""
        for _ in range(_FILLED):
            balls = self._balls_that_mend(of, hollow_as.wall_mm)
            if of.proof.ok or of.made.hollow is None or not balls or self.tired:
                break
            hollow_as = dataclasses.replace(hollow_as, plugs_mm=(*hollow_as.plugs_mm, *balls))
            self.tell_again(len(balls), "filled")
            tried = self._holes_put_right(self.attempt(hollow_as))
            thicker = _least_wall(tried) > _least_wall(of) and tried.faults <= of.faults
            if not (tried.proof.ok or thicker or tried.better_than(of)):
                break
            of = tried
        return of

    def _balls_that_mend(self, of: Attempt, wall_mm: float) -> list[tuple[float, float, float, float]]:
        """Balls (x, y, z, radius) for the thinnest place of a wall that is short in few, and for pools in cavities."""
        wall, liquid = of.proof.wall, of.proof.liquid
        balls = []
        if wall is not None and not wall.holds and wall.thin_spots <= _MOST_THIN:
            balls.append((*wall.where_mm, wall_mm))
        for room in liquid.rooms if liquid is not None else ():
            low = room.lowest_mm
            if room.too_much and low is not None and within(self.solid, room.where_mm):
                if room.stays_mm3 <= _POOL_SHARE * room.volume_mm3:
                    balls.append((*low, max(wall_mm, _POOL_REACH * room.stays_mm3 ** (1 / 3))))
        return balls

    def _holes_put_right(self, first: Attempt) -> Attempt:
        first = self._bored_into_chambers(first)
        return first if self.chambers(first) else self._further_holes(self._holes_elsewhere(first))

    def with_rooms_drained(self, of: Attempt) -> "Workbench | None":
        """The bench with a solid whose own rooms got the holes that an attempt at it was short of; None where it was
        short of none, or none can be."""
        if not self.settings.auto or self.drilled is not None or not rooms_at_fault(self.solid, of.proof):
            return None
        drilled = drill_rooms(self.solid, of.proof, self.settings, self.step)
        if drilled is None:
            return None
        self.tell_again(len(drilled.placed), "drained")
        return dataclasses.replace(self, solid=drilled.mesh, drilled=drilled)

    def judged(self, hollowed: Hollowed | list[Finding]) -> Attempt:
        """Its holes cut, and the proof."""
        made = _drained(self.solid, hollowed, self.step)
        origin = self._origin(made) if made.hollow or self.drilled else None
        if isinstance(hollowed, Hollowed) and hollowed.mesh is not made.mesh:
            hollowed.mesh.derived.forget()
        # of a model left solid nothing was made that the wall could be asked of
        asked = self.asked if made.hollow else self.as_solid
        return Attempt(hollowed, made, *self.step("proof", partial(examine, made.mesh, asked, origin)))

    def _origin(self, made: Made) -> Origin:
        """Where its faces come from, those of holes for rooms of the solid's own among them."""
        if self.drilled is None:
            return origin_by_source(made.mesh, made.source, made.before, self.solid)
        original, own = self.drilled.original, self.drilled.source
        source, n = made.source.astype(np.int64), len(own)
        first = np.where(source < n, own[np.clip(source, 0, n - 1)], source - n + len(original.faces))
        before = np.concatenate([np.full(len(original.faces), OUTER, np.int8), made.before[n:]])
        return origin_by_source(made.mesh, np.where(source < 0, -1, first).astype(np.int32), before, original)

    def chambers(self, of: Attempt) -> list[Chamber]:
        """Chambers that hollowing made: those of the model's own skin no hollowing can mend."""
        found = [c for c in of.proof.ways.chambers if not c.pocket] if of.proof.ways is not None else []
        return [c for c in found if within(self.solid, c.where_mm)]

    def tell_again(self, places: int, how: str) -> None:
        """Tell that it begins again, see `Again`."""
        self.told.append(self.step("again", partial(Again, places=places, how=how)))

    def _bored_into_chambers(self, of: Attempt) -> Attempt:
        """With a hole of its own for each chamber behind a narrow neck; as it was, where one of them gets none."""
        chambers, h = self.chambers(of), of.hollowed
        if not isinstance(h, Hollowed) or of.made.drain is None or not chambers:
            return of
        where = _where(self.settings)
        more = [place_in_chamber(h.mesh, c.where_mm, c.width_mm, where, h.placed) for c in chambers]
        found = [p for p in more if p is not None]
        if len(found) < len(more):
            return of
        self.tell_again(len(found), "a hole")
        return self.judged(dataclasses.replace(h, placed=[*h.placed, *found]))

    def _holes_elsewhere(self, of: Attempt) -> Attempt:
        """With other places for holes at whose edges the wall came out short."""
        settings, off = self.settings, self.settings.drains.keep_off
        aside = _ASIDE * settings.drains.diameter_mm
        for _ in range(_MOVED):
            wall, h = of.proof.wall, of.hollowed
            if wall is None or wall.holds or not isinstance(h, Hollowed) or h.raw is None:
                break
            mouths = [p.bore.mouth for p in h.placed]
            near = [
                m for m in mouths if np.linalg.norm(np.subtract(m, wall.where_mm)) < aside + settings.hollow.wall_mm
            ]
            if not near or self.tired:
                break
            off = (*off, *((mouth, aside) for mouth in near))
            elsewhere = dataclasses.replace(settings, drains=dataclasses.replace(settings.drains, keep_off=off))
            other = _with_places(*h.raw, elsewhere, self.step)
            if not isinstance(other, Hollowed):
                break
            self.tell_again(len(near), "moved")
            tried = self.judged(other)
            thicker = tried.proof.wall is not None and tried.proof.wall.min_mm > wall.min_mm
            if not (tried.proof.ok or thicker) or self.chambers(tried):
                break
            of = tried
        return of

    def _further_holes(self, of: Attempt) -> Attempt:
        """With a further hole, low in it, for each room in which more stays than may. Columns of the flood are coarser
        than those of the proof. One that turns out to leave too little wall goes elsewhere."""
        if not self.settings.auto or of.made.drain is None:
            return of
        where = _where(self.settings)
        for _ in range(_ADDED):
            h = of.hollowed
            if not isinstance(h, Hollowed):
                break
            wide = 3 * where.diameter_mm
            more = [
                hole
                for place in places_kept(h.mesh, of.proof, where)
                if within(self.solid, place)
                and (hole := place_in_chamber(h.mesh, place, wide, where, h.placed)) is not None
            ]
            if not more or self.tired:
                break
            self.tell_again(len(more), "one more")
            tried = self.judged(dataclasses.replace(h, placed=[*h.placed, *more]))
            if _breaks_the_wall(of, tried):
                off = tuple((hole.bore.mouth, _ASIDE * hole.drain.diameter_mm) for hole in more)
                where = dataclasses.replace(where, keep_off=(*where.keep_off, *off))
                continue
            if tried.faults > of.faults or tried.stays_mm3 >= of.stays_mm3:
                break
            of = tried
        return of

    def _left_solid(self, of: Attempt) -> Attempt:
        """With the cavities solid again in which something falls short or that get no vent, all of them where that does
        not do; as it was where that mends nothing: the fault is of the file. So it is, too, where holes were asked for
        by number."""
        h = of.hollowed
        if not isinstance(h, Hollowed) or not self.settings.auto or (of.proof.ok and not self._made_unvented(of)):
            return of
        inner = np.unique(h.mesh.topology.shell[h.before == INNER])
        best = of
        for chosen in (_falling_short(of, h), inner):
            if not len(chosen) or (best.proof.ok and not self._made_unvented(best)):
                continue
            self.tell_again(len(chosen), "left solid")
            tried = self.judged(self._without(h, chosen, of.proof))
            best = tried if tried.better_than(best) else best
            if len(chosen) == len(inner) or best.proof.ok:
                break
        return best

    def _made_unvented(self, of: Attempt) -> bool:
        """Whether a cavity that hollowing made has one hole only."""
        return any(within(self.solid, where) for where in of.unvented)

    def _without(self, h: Hollowed, cavities: Ints, proof: ProofRecord) -> Hollowed | list[Finding]:
        """What was hollowed, without some of its cavities, holes for the others looked for anew."""
        gone = np.isin(h.mesh.topology.shell, cavities)
        volume = -float(h.mesh.shell_volumes[cavities].sum())
        fault = next((f.text for f in proof.findings if f.severity == "fault"), "")
        why = f"it was unfit: {fault}" if fault else "it had one hole, and no place for a second, a vent"
        what = "a cavity" if len(cavities) == 1 else f"{len(cavities):,} cavities"
        stays = "stays" if len(cavities) == 1 else "stay"
        text = f"{what} of {volume_text(volume)} {stays} solid and costs that much more material; hollow {why}"
        with_one = () if fault else (remedy("", "hollows it with one hole", PlaceSettings(count=1)),)
        note = Finding("left_solid", "note", len(cavities), text, remedies=with_one)
        if (h.before[~gone] != INNER).all():
            return [note]
        record = dataclasses.replace(
            h.record,
            cavities=h.record.cavities - len(cavities),
            cavity_volume_mm3=h.record.cavity_volume_mm3 - volume,
            undrained=h.record.undrained + len(cavities),
            undrained_mm3=h.record.undrained_mm3 + volume,
        )
        found = _with_places(h.mesh.picked(~gone), record, h.before[~gone], self.settings, self.step)
        notes = [*h.notes, note]
        return [*found, *notes] if isinstance(found, list) else dataclasses.replace(found, notes=[*found.notes, *notes])


def _falling_short(of: Attempt, h: Hollowed) -> Ints:
    """The cavities, as shells, that are nearest to where something falls short, or to rooms without a vent."""
    places = [f.where_mm for f in of.proof.findings if f.severity == "fault" and f.where_mm is not None]
    places = places or of.unvented
    inner = np.flatnonzero(h.before == INNER)
    if not places or not len(inner):
        return np.zeros(0, np.int64)
    nearest = h.mesh.picked(inner).tree.nearest(np.array(places))[1]
    return np.unique(h.mesh.topology.shell[inner[nearest]]).astype(np.int64)


def plugs_at(chambers: Iterable[Chamber], wall: float) -> tuple[tuple[float, float, float, float], ...]:
    """A ball for each chamber, as wide as the wall at least, that closes its neck (its middle, where no neck was
    found)."""
    return tuple((*(c.neck_where_mm or c.where_mm), max(0.55 * wall, 0.75 * c.neck_most_mm)) for c in chambers)


def _flooding(settings: PrepSettings) -> AutoSettings:
    """How holes are found by flooding: the wall is left beside them, smaller ones are tried where no other fits."""
    return AutoSettings(
        place=_where(settings),
        least_drain_mm=settings.least_passage_mm,
        wall_mm=settings.hollow.wall_mm,
        closed_only=True,
    )


def _where(settings: PrepSettings) -> PlaceSettings:
    """Where holes may be: the wall is left beside them, and they may be smaller where no other fits."""
    wall = settings.hollow.wall_mm
    return dataclasses.replace(
        settings.drains, least_mm=settings.least_passage_mm, wall_mm=wall - wall_tolerance_mm(wall)
    )


def _least_wall(of: Attempt) -> float:
    return of.proof.wall.min_mm if of.proof.wall is not None else 0.0


def _breaks_the_wall(before: Attempt, after: Attempt) -> bool:
    """Whether the wall held before and does not after."""
    held, holds = (a.proof.wall is None or a.proof.wall.holds for a in (before, after))
    return held and not holds


def _hollowed(solid: Mesh, asked: HollowSettings, settings: PrepSettings, step: Step) -> Hollowed | list[Finding]:
    """Hollow and find places for holes; what cannot be drained stays solid. Only notes when all stays so."""
    try:
        mesh, record = step("hollow", lambda: hollow(solid, asked))
    except NoCavityError as error:
        return [Finding("left_solid", "note", 1, f"left solid: {error}", remedies=error.remedies)]
    solid.derived.forget()  # its tree takes as much memory as three meshes, and what was made has one
    inner = np.full(len(mesh.faces) - len(solid.faces), INNER, np.int8)
    before = np.concatenate([np.full(len(solid.faces), OUTER, np.int8), inner])
    return _with_places(mesh, record, before, settings, step)


def _with_places(
    mesh: Mesh, record: HollowRecord, before: Ints8, settings: PrepSettings, step: Step
) -> Hollowed | list[Finding]:
    """Places for holes of a hollowed mesh; cavities that none reaches are left out. Only notes when all are."""
    raw = mesh, record, before
    if not settings.drains.count and not settings.auto:
        return Hollowed(mesh, record, before, [], [])
    auto: AutoRecord | None = None
    if settings.auto:
        placed, given_up, auto = step("flood", lambda: place_by_flood(mesh, _flooding(settings)))
    else:
        placed, given_up = step("place", lambda: place_drains(mesh, _where(settings)))
    notes = [_given_up(g) for g in given_up]
    if not placed:
        return notes
    if given_up:
        keep = ~np.isin(mesh.topology.shell, [g.shell for g in given_up])
        mesh, before = mesh.picked(keep), before[keep]
        record = dataclasses.replace(
            record,
            cavities=record.cavities - len(given_up),
            cavity_volume_mm3=record.cavity_volume_mm3 - sum(g.volume_mm3 for g in given_up),
            undrained=len(given_up),
            undrained_mm3=sum(g.volume_mm3 for g in given_up),
        )
    return Hollowed(mesh, record, before, placed, notes, auto, raw)


def _drained(solid: Mesh, hollowed: Hollowed | list[Finding], step: Step) -> Made:
    """Cut the holes; the solid itself where nothing was hollowed."""
    if isinstance(hollowed, list):
        n = len(solid.faces)
        return Made(solid, None, None, np.arange(n, dtype=np.int32), np.full(n, OUTER, np.int8), hollowed)
    h = hollowed
    if not h.placed:
        return Made(h.mesh, h.record, None, np.arange(len(h.mesh.faces), dtype=np.int32), h.before, h.notes)
    holes = DrainSettings(drains=tuple(p.drain for p in h.placed))
    mesh, record, source = step(
        "drain", lambda: cut_and_trace(h.mesh, holes, [p.bore for p in h.placed], as_stored=True)
    )
    return Made(mesh, h.record, dataclasses.replace(record, auto=h.auto), source, h.before, h.notes)


def _given_up(g: GivenUp) -> Finding:
    text = (
        f"a cavity of {volume_text(g.volume_mm3)} stays solid: no hole down to {length_text(g.diameter_mm)} reaches it "
        f"({g.tried:,} places tried: {g.text})"
    )
    return Finding("left_solid", "note", 1, text, g.where_mm)
