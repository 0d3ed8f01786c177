"""What mending, thickness and fusing leave unsound: recast where it is at fault, or all of it."""

from dataclasses import dataclass, replace
from functools import partial

import numpy as np

from bolvek.analyses.deviation import CompareRecord, compare
from bolvek.analyses.likeness import Likeness, likeness
from bolvek.analyses.shells import standing
from bolvek.errors import WorkError
from bolvek.mesh import Mesh
from bolvek.operations.mend.close import caps
from bolvek.operations.places import LocalRecord, recast_places
from bolvek.operations.recast import RecastRecord, recast
from bolvek.operations.recast.lids import with_lids
from bolvek.operations.slim import SlimRecord, slim_to
from bolvek.operations.solid.plan import closed_voids, lidless_shells
from bolvek.operations.solid.settings import Step
from bolvek.settings.repairs import MendSettings, RecastSettings, SolidSettings

WIDEST_BRIDGE_SHARE = 0.06
"""Leaks are closed with bridges up to this share of the longest side; wider ones are openings that are meant."""
_TRIES = 3
_LEAST_SHARE = 0.05  # of the longest side: where the least wall is more, a recast is not made as thick


@dataclass(frozen=True, kw_only=True)
class Finished:
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
        return self.likeness.faults if self.likeness is not None else 0

    @property
    def became_hollow(self) -> bool:
        """Whether what is solid in the file is air."""
        return self.likeness is not None and any(f.code == "became_hollow" for f in self.likeness.findings)


def finished(
    mesh: Mesh,
    solid: Mesh,
    settings: SolidSettings,
    step: Step,
    *,
    made: bool = True,
    recast: RecastRecord | None = None,
    local: LocalRecord | None = None,
) -> Finished:
    """The solid as it is given, against the file. made: something was done to it."""
    solid, cavities, voids = _without_cavities(solid)
    slimmed = None
    if settings.slim is not None:
        whole, asked = solid, settings.slim
        solid, slimmed = step("slim", lambda: slim_to(whole, asked))
        solid = solid.as_stored()
    if not made and slimmed is None:
        return Finished(solid=solid, cavities=cavities)
    changes = step("changes", lambda: compare(mesh, solid)[0])
    alike = step("likeness", lambda: _asked_for(likeness(mesh, solid, voids), settings))
    return Finished(
        solid=solid, cavities=cavities, slim=slimmed, changes=changes, likeness=alike, recast=recast, local=local
    )


def made_anew(
    mesh: Mesh, found: Mesh, settings: SolidSettings, step: Step, given_up: list[str]
) -> tuple[str, Finished]:
    """The model recast where it is at fault; where that does not do, all of it; where that leaves air what is solid in
    the file, with lids. The first that is what the file shows, else the one that is nearest; and how it was made.
    Raises WorkError."""
    ends = bool(lidless_shells(found, settings).all())
    capped = capped_by(found, settings, step, ends=ends)
    way, best = "", None
    for lids in (False, True):
        # cubes around the rim of a wide opening enclose nothing: a lid closes the opening first
        if lids and (settings.taken_as == "skin" or not capped.topology.open_edges):
            continue
        soup, gap = step("lids", partial(with_lids, capped)) if lids else (capped, 0.0)
        if lids and not gap:
            continue
        chosen = as_asked(soup, settings, gap)
        try:
            body, local = step("recast in places", partial(recast_places, soup, chosen))
        except WorkError as error:
            given_up.append(f"recast in places: {error}")
            continue
        way = "mended" if local.recast is None else "recast in places"
        best = finished(mesh, body, settings, step, recast=local.recast, local=local)
        if not best.faults:
            return way, best
        given_up.append(f"{way}: it is not what the file shows")
    body, record = recast_whole(capped, settings, step)
    whole = finished(mesh, body, settings, step, recast=record)
    for anywhere in (False, True) if settings.taken_as != "skin" else ():
        if not whole.became_hollow:
            break
        soup, gap = step("lids", partial(with_lids, found, anywhere=anywhere))
        if not gap:
            continue
        body, record = recast_whole(soup, settings, step, gap=gap)
        other = finished(mesh, body, settings, step, recast=record)
        if other.faults < whole.faults:
            whole = other
            given_up.append("recast as it is: what is solid in the file would be air; so lids close it where it ends")
    return (way, best) if best is not None and best.faults < whole.faults else ("recast", whole)


def recast_whole(
    found: Mesh, settings: SolidSettings, step: Step, *, gap: float | None = None
) -> tuple[Mesh, RecastRecord]:
    """Recast, with wider bridges while it leaks. gap: how wide gaps beside lids are, where there are some."""
    chosen = as_asked(found, settings, gap or 0.0)
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


def capped_by(found: Mesh, settings: SolidSettings, step: Step, *, ends: bool) -> Mesh:
    """With openings that are holes (ends: all that there are) closed however that crosses."""
    if not found.topology.open_edges:
        return found
    asked = MendSettings(close_ends=ends or settings.taken_as == "solid")
    return step("caps", lambda: caps(found, asked))


def as_asked(found: Mesh, settings: SolidSettings, gap: float = 0.0) -> RecastSettings:
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
