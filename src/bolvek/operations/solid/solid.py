"""From any file to a sound solid: what the model needs, and nothing more."""

from dataclasses import dataclass, replace
from functools import partial
from typing import TypeVar

import numpy as np

from bolvek.analyses.deviation import CompareRecord, compare
from bolvek.analyses.finding import Finding, Worded
from bolvek.analyses.likeness import Likeness, likeness
from bolvek.analyses.shells import EITHER, standing
from bolvek.analyses.soundness import find_defects
from bolvek.errors import WorkError
from bolvek.mesh import Mesh
from bolvek.operations.fuse import fuse_parts, parts_of
from bolvek.operations.mend import MendRecord
from bolvek.operations.mend.close import caps
from bolvek.operations.recast import RecastRecord, recast
from bolvek.operations.recast.lids import with_lids
from bolvek.operations.slim import SlimRecord, slim_to
from bolvek.operations.solid.local import LocalRecord, recast_places
from bolvek.operations.solid.plan import closed_voids, lidless_shells, plan_solid
from bolvek.operations.solid.settings import Step, just_do
from bolvek.operations.thicken import ThickenRecord, thicken
from bolvek.settings import remedy
from bolvek.settings.repairs import MendSettings, RecastSettings, SolidSettings, ThickenSettings
from bolvek.settings.ways_on import SPLITS
from bolvek.units import length_text, point_text

T = TypeVar("T")

WIDEST_BRIDGE_SHARE = 0.06
"""Leaks are closed with bridges up to this share of the longest side; wider ones are openings that are meant."""
MADE = ("thickened", "thickened and fused", "recast")
"""Ways that make walls of their own."""
THIN_ENOUGH = 0.97
"""A skin made thick is taken when so much of its area is as thick as asked; else it is recast."""
_MOST_TRIMMED = 0.1  # of a skin's area
_TRIES = 3
_MOST_SKINS = 60
_LEAST_SHARE = 0.05  # of the longest side: where the least wall is more, a recast is not made as thick


@dataclass(frozen=True, kw_only=True)
class SolidRecord(Worded):
    """The way that was taken (see `SolidPlan`); why, in words; given_up: ways that were tried and did not do, and why;
    cavities: closed voids of the model that were filled; parts: bodies put together; apart: bodies that came out;
    guessed: what was taken for something that the file does not tell; changes: how far the surface moved, None where
    nothing did; likeness: whether it is what the file shows, None where nothing was done."""

    way: str
    why: str
    given_up: tuple[str, ...] = ()
    cavities: int
    parts: int = 0
    mend: MendRecord
    thicken: ThickenRecord | None = None
    recast: RecastRecord | None = None
    local: LocalRecord | None = None
    slim: SlimRecord | None = None
    changes: CompareRecord | None = None
    apart: int = 1
    guessed: str = ""
    likeness: Likeness | None = None

    WORDS = ("sound", "not as the file")

    @property
    def findings(self) -> tuple[Finding, ...]:  # type: ignore[override]
        """What is not as in the file, what was guessed, and parts that stay apart."""
        found = list(self.likeness.findings) if self.likeness is not None else []
        if self.guessed:
            ways = (
                remedy("solid", "shows both ways", anew=True, try_=True),
                remedy("solid", "closes it", SolidSettings(taken_as="solid"), anew=True),
            )
            found.append(Finding("guessed", "note", 1, self.guessed, remedies=ways))
        if self.apart > 1:
            text = f"{self.apart:,} parts stay apart and print apart"
            found.append(Finding("apart", "note", self.apart, text, remedies=(SPLITS,)))
        return tuple(found)


def make_solid(mesh: Mesh, settings: SolidSettings, step: Step = just_do) -> tuple[Mesh, SolidRecord]:
    """The shortest way to a sound solid without voids: mending, which keeps the faces; then thickness for skins and one
    body of closed parts, which keep them too; where that does not do, recasting, with a bridge that closes what leaks.
    Raises WorkError where nothing is left, or the skin asked for is thicker than the model is wide."""
    found, plan = plan_solid(mesh, settings, step)
    _check_skin(found, plan.way, settings.skin_mm)
    way, given_up, parts, thickened = plan.way, list[str](), 0, None
    done: _Finished | None = None
    if way in ("as it is", "mended"):
        done = _finished(mesh, found, settings, step, made=way != "as it is")
    elif way in ("thickened", "thickened and fused", "fused"):
        try:
            built, thickened, recasted, parts = _built(found, settings, step)
            done = _finished(mesh, built, settings, step, recast=recasted)
        except WorkError as error:
            given_up.append(f"{way}: {error}")
    if done is None:
        way, done = _made_anew(mesh, found, settings, step, given_up)
    guessed = ""
    if way.startswith("thickened") and settings.taken_as is None:
        guessed = _guess(found)
    return done.solid, SolidRecord(
        way=way,
        why=plan.why,
        given_up=tuple(given_up),
        cavities=done.cavities,
        parts=parts,
        mend=plan.mend,
        thicken=thickened,
        recast=done.recast,
        local=done.local,
        slim=done.slim,
        changes=done.changes,
        apart=int((done.solid.shell_volumes > 0).sum()),
        guessed=guessed,
        likeness=done.likeness,
    )


@dataclass(frozen=True, kw_only=True)
class _Finished:
    """A solid without its closed voids, how many there were, slimmed, and held against the file."""

    solid: Mesh
    cavities: int
    slim: SlimRecord | None = None
    changes: CompareRecord | None = None
    likeness: Likeness | None = None
    recast: RecastRecord | None = None
    local: LocalRecord | None = None

    @property
    def faults(self) -> int:
        """In how many ways it is not what the file shows."""
        return len(self.likeness.findings) if self.likeness is not None else 0

    @property
    def became_hollow(self) -> bool:
        """Whether what is solid in the file is air."""
        return self.likeness is not None and any(f.code == "became_hollow" for f in self.likeness.findings)


def _finished(
    mesh: Mesh,
    solid: Mesh,
    settings: SolidSettings,
    step: Step,
    *,
    made: bool = True,
    recast: RecastRecord | None = None,
    local: LocalRecord | None = None,
) -> _Finished:
    """The solid as it is given, against the file. made: something was done to it."""
    solid, cavities, voids = _without_cavities(solid)
    slimmed = None
    if settings.slim is not None:
        whole, asked = solid, settings.slim
        solid, slimmed = step("slim", lambda: slim_to(whole, asked))
        solid = solid.as_stored()
    if not made and slimmed is None:
        return _Finished(solid=solid, cavities=cavities)
    changes = step("changes", lambda: compare(mesh, solid)[0])
    alike = step("likeness", lambda: _asked_for(likeness(mesh, solid, voids), settings))
    return _Finished(
        solid=solid, cavities=cavities, slim=slimmed, changes=changes, likeness=alike, recast=recast, local=local
    )


def _made_anew(
    mesh: Mesh, found: Mesh, settings: SolidSettings, step: Step, given_up: list[str]
) -> tuple[str, _Finished]:
    """The model recast where it is at fault; where that does not do, all of it; where that leaves air what is solid in
    the file, with lids. The first that is what the file shows, else the one that is nearest; and how it was made.
    Raises WorkError."""
    ends = bool(lidless_shells(found, settings).all())
    capped = _capped(found, settings, step, ends=ends)
    way, best = "", None
    for lids in (False, True):
        # what lies around an opening that is no place has a lid, or is no place either
        if lids and (settings.taken_as == "skin" or not capped.topology.open_edges):
            continue
        soup, gap = step("lids", partial(with_lids, capped)) if lids else (capped, 0.0)
        chosen = _as_asked(soup, settings, gap)
        try:
            body, local = step("recast in places", partial(recast_places, soup, chosen))
        except WorkError as error:
            given_up.append(f"recast in places: {error}")
            continue
        way = "mended" if local.recast is None else "recast in places"
        best = _finished(mesh, body, settings, step, recast=local.recast, local=local)
        if not best.faults:
            return way, best
        given_up.append(f"{way}: it is not what the file shows")
    body, record = _recast(capped, settings, step)
    whole = _finished(mesh, body, settings, step, recast=record)
    for anywhere in (False, True) if settings.taken_as != "skin" else ():
        if not whole.became_hollow:
            break
        soup, gap = step("lids", partial(with_lids, found, anywhere=anywhere))
        if not gap:
            continue
        body, record = _recast(soup, settings, step, gap=gap)
        other = _finished(mesh, body, settings, step, recast=record)
        if other.faults < whole.faults:
            whole = other
            given_up.append("recast as it is: what is solid in the file would be air; so lids close it where it ends")
    return (way, best) if best is not None and best.faults < whole.faults else ("recast", whole)


def _check_skin(found: Mesh, way: str, skin: float) -> None:
    """Raise WorkError where a skin would be thicker than the model it is of: a file in metres, mostly."""
    longest = float(found.size.max())
    if way in MADE and skin > longest:
        raise WorkError(
            f"a skin of {length_text(skin)} would be thicker than the whole model, {length_text(longest)} at its "
            "longest: scale it first, or name the unit of the file"
        )


def _built(
    found: Mesh, settings: SolidSettings, step: Step
) -> tuple[Mesh, ThickenRecord | None, RecastRecord | None, int]:
    """Skins made thick, solids with a hole that no lid closes recast alone, and everything put together. Raises
    WorkError."""
    topology = found.topology
    is_open = topology.open_shells
    places = _as_asked(found, settings)

    def in_places(body: Mesh) -> Mesh:
        try:
            return recast_places(body, places)[0]
        except WorkError:
            return recast(body, places)[0]

    record, recasted, bodies = None, None, list[Mesh]()
    lidless = lidless_shells(found, settings)
    if lidless.any():
        lidded = _capped(found.picked(lidless[topology.shell]), settings, step, ends=True)
        body, recasted = _recast(lidded, settings, step)
        bodies += parts_of(body)
    if (is_open & ~lidless).any():
        skin = found.picked((is_open & ~lidless)[topology.shell])
        made, record = step("thicken", partial(_thick, skin, settings))
        bodies += [body for one in made for body in parts_of(one)]
    if not is_open.all():
        bodies += parts_of(found.picked(~is_open[topology.shell]), in_places)
    if len(bodies) == 1:
        return bodies[0], record, recasted, 1
    solid = step("fuse", lambda: fuse_parts(bodies, in_places)).as_stored()
    if find_defects(solid):
        raise WorkError("the parts did not make a sound body")
    return solid, record, recasted, len(bodies)


def _thick(skin: Mesh, settings: SolidSettings) -> tuple[list[Mesh], ThickenRecord]:
    """Skins made thick: all together, or where they cross each other one by one; and the record, that of the one which
    came out thinnest. Raises WorkError."""
    asked = ThickenSettings(by_mm=settings.skin_mm, trim=True, least_mm=settings.least_mm)
    count = skin.topology.shells
    try:
        done = [thicken(skin, asked)]
    except WorkError:
        if not 1 < count <= _MOST_SKINS:
            raise
        done = [thicken(skin.picked(skin.topology.shell == number), asked) for number in range(count)]
    gone = sum(record.trimmed_mm2 for _, record in done)
    if gone > _MOST_TRIMMED * skin.area:
        raise WorkError(f"{100 * gone / skin.area:.0f}% of the skin would be trimmed away")
    _, worst = min(done, key=lambda one: one[1].share_full or 0.0)
    if (worst.share_full or 0.0) < THIN_ENOUGH:
        raise WorkError(f"only {100 * (worst.share_full or 0.0):.0f}% of the skin would be as thick as asked")
    return [mesh for mesh, _ in done], worst


def _recast(found: Mesh, settings: SolidSettings, step: Step, *, gap: float | None = None) -> tuple[Mesh, RecastRecord]:
    """Recast, with wider bridges while it leaks. gap: how wide gaps beside lids are, where there are some."""
    chosen = _as_asked(found, settings, gap or 0.0)
    widest = WIDEST_BRIDGE_SHARE * float(found.size.max())
    # what lids leave open is meant to be
    tries = _TRIES if gap is None else 1
    for turn in range(tries):
        solid, record = step("recast", partial(recast, found, chosen))
        gaps = [leak.width_mm for leak in record.leaks if 1.2 * leak.width_mm <= widest]
        if not gaps or turn == tries - 1:
            break
        chosen = replace(chosen, grid_mm=record.grid_mm, bridge_mm=1.2 * max(gaps) + record.grid_mm)
    return solid, record


def _capped(found: Mesh, settings: SolidSettings, step: Step, *, ends: bool) -> Mesh:
    """With openings that are holes (ends: all that there are) closed however that crosses."""
    if not found.topology.open_edges:
        return found
    asked = MendSettings(close_ends=ends or settings.taken_as == "solid")
    return step("caps", lambda: caps(found, asked))


def _as_asked(found: Mesh, settings: SolidSettings, gap: float = 0.0) -> RecastSettings:
    """What a recast is asked for; gap: how wide gaps beside lids are (mm)."""
    crumb = np.pi / 6 * settings.skin_mm**3  # what folds leave apart, smaller than a ball as wide as a skin is thick
    # a model so small that this would fill it is left as thin as it is, and told
    least = settings.least_mm if settings.least_mm <= _LEAST_SHARE * float(found.size.max()) else 0.0
    chosen = RecastSettings(grow_mm=0.5 * settings.skin_mm, grow_closed_mm=0.0, least_mm=least, least_mm3=crumb)
    if gap:
        # a bridge of less than two cells leaks on its lattice
        chosen = replace(chosen, bridge_mm=max(gap, 2 * chosen.cell_mm(float(found.size.max()), found.area)))
    return chosen


def _without_cavities(mesh: Mesh) -> tuple[Mesh, int, Mesh | None]:
    """Without the closed voids, how many there were, and what they were; what lies loose in them goes with them."""
    gone = closed_voids(mesh)
    if not gone:
        return mesh, 0, None
    outer = (standing(mesh).nested.depth == 0)[mesh.topology.shell]
    return mesh.picked(outer), gone, mesh.picked(~outer)


def _asked_for(found: Likeness, settings: SolidSettings) -> Likeness:
    """Without what was asked for: skins are hollow, and solids filled."""
    wanted = {"skin": "became_hollow", "solid": "became_solid"}.get(settings.taken_as or "")
    return replace(found, findings=tuple(f for f in found.findings if f.code != wanted))


def _guess(found: Mesh) -> str:
    """What is taken for skins although it may have been solid, in words; empty where the file tells."""
    ends = [o for o in standing(found).openings.found if o.kind == EITHER]
    if not ends:
        return ""
    return (
        f"a guess: nothing tells whether a lid is missing at {point_text(ends[0].where_mm)}"
        f"{f' and {len(ends) - 1:,} more' if len(ends) > 1 else ''}; it was taken for a skin"
    )
