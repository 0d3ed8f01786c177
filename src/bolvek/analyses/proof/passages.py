"""Every way out wide enough: chambers behind necks, and rooms with one opening only."""

from collections.abc import Callable
from dataclasses import replace

from bolvek.analyses.cavities import Cavities, Chamber, NeckWays
from bolvek.analyses.cavities.rooms import POCKET_SHARE
from bolvek.analyses.finding import Finding
from bolvek.settings import remedy
from bolvek.settings.measures import ProofSettings
from bolvek.units import length_text, point_text, volume_text

_TOLD = 8

NECK_MM = 0.02
"""A neck is told as one width when its bounds are no farther apart, else as both."""
POCKET_MM3 = 100.0
"""A chamber of the skin, in no room, counts as a pocket only below this (and below the share of a pocket)."""


def with_pockets(ways: NeckWays, cavities: Cavities, material_mm3: float, own: Callable[[Chamber], bool]) -> NeckWays:
    """The ways with those chambers marked that are only pockets of the skin. own: whether a chamber is one of a surface
    that was not made here, of which every small one is."""
    largest = max((c.volume_mm3 for c in cavities.found), default=0.0)
    least = min(POCKET_MM3, POCKET_SHARE * max(largest, 0.1 * material_mm3))
    marked = [
        replace(
            c,
            pocket=(c.volume_mm3 < least and not cavities.in_a_room(c.where_mm))
            or (c.volume_mm3 < POCKET_MM3 and own(c)),
        )
        for c in ways.chambers
    ]
    return replace(ways, chambers=tuple(marked))


def judge_ways(ways: NeckWays, cavities: Cavities) -> list[Finding]:
    """A fault a chamber (many: one for the rest), a note a room with a single opening, a note for pockets."""
    chambers = [c for c in ways.chambers if not c.pocket]
    found = [
        Finding("cavity_narrow", "fault", 1, _chamber_text(c, ways.least_mm), c.neck_where_mm or c.where_mm)
        for c in chambers[:_TOLD]
    ]
    if not ways.judged:
        text = (
            f"ways out could not be judged: on a model of this size the lattice is {length_text(ways.cell_mm)}, "
            f"rooms narrower than {length_text(ways.narrowest_room_mm)} are not seen"
        )
        wider = ProofSettings(least_drain_mm=float(f"{1.05 * ways.narrowest_room_mm:.2g}"))
        ways_told = (remedy("", "judges wider ways", wider),)
        found.append(Finding("ways_unjudged", "fault", 1, text, remedies=ways_told))
    rest = chambers[_TOLD:]
    if rest:
        total = volume_text(sum(c.volume_mm3 for c in rest))
        text = f"{len(rest):,} more chambers of {total} in all behind necks under {length_text(ways.least_mm)}"
        found.append(Finding("cavity_narrow", "fault", len(rest), text, rest[0].where_mm))
    for cavity in cavities.found:
        if cavity.unvented:
            size = volume_text(cavity.volume_mm3)
            text = f"a cavity of {size} has one opening only: no vent lets air in while it drains"
            found.append(Finding("no_vent", "note", 1, text, cavity.openings[0].where_mm))
    pockets = [(c.volume_mm3, c.where_mm) for c in cavities.found if c.pocket and not c.closed]
    pockets = pockets or [(c.volume_mm3, c.where_mm) for c in ways.chambers if c.pocket]
    if pockets:
        total = volume_text(sum(volume for volume, _ in pockets))
        plural = "s" if len(pockets) > 1 else ""
        text = f"{len(pockets):,} pocket{plural} of the skin, {total} in all: no room to speak of"
        found.append(Finding("pockets", "note", len(pockets), text, pockets[0][1]))
    return found


def _chamber_text(c: Chamber, least_mm: float) -> str:
    text = f"a chamber of {volume_text(c.volume_mm3)} around {point_text(c.where_mm)} "
    if c.neck_where_mm is not None and c.neck_mm > 0:
        width = length_text(c.neck_mm)
        if c.neck_most_mm - c.neck_mm > NECK_MM:
            width += f" to {length_text(c.neck_most_mm)}"
        text += f"opens only through {width} at {point_text(c.neck_where_mm)}"
    elif c.neck_most_mm > 0:
        text += f"opens only through less than {length_text(c.neck_most_mm)}"
    else:
        text += "opens nowhere that a way could be found"
    return f"{text}, {length_text(least_mm)} is the least drain: liquid will not leave it"
