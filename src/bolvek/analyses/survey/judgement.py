"""What a survey means: findings, and whether the model will do as it is, purpose by purpose."""

from dataclasses import dataclass

from bolvek.analyses.finding import Finding, Judged, all_right
from bolvek.analyses.survey.findings import find_faults, find_notes
from bolvek.analyses.survey.record import Survey
from bolvek.analyses.survey.remedies import remedies_of
from bolvek.formats.soup import Polygons
from bolvek.settings import Remedy
from bolvek.units import MILLIMETRES, UNIT_NAMES, length_text

SMALL_MM, PLAUSIBLE_MM, HUGE_MM = 10.0, (10.0, 500.0), 2000.0
LEAST_MM = 1.0
"""A longest side below or above the first and last makes one think of another unit; it is named when the
size would then be between the middle ones, or, of a huge one, above the last."""


@dataclass(frozen=True)
class Purpose:
    """One use of the model: "slice", "hollow" or "measure". answer: "yes", "in part" or "no"; reasons
    are finding codes."""

    name: str
    answer: str
    reasons: tuple[str, ...]


@dataclass(frozen=True)
class UnitGuess:
    """The size the model would have if its numbers were of another unit."""

    unit: str
    longest_mm: float


@dataclass(frozen=True)
class Judgement(Judged):
    """The verdict ("sound", "sound with faults", "not sound", "no fault found" of what is neither), findings, the
    answers they lead to, the units the size smells of, and what to do now, the most important first."""

    verdict: str
    findings: tuple[Finding, ...]
    purposes: tuple[Purpose, ...]
    units: tuple[UnitGuess, ...]
    remedies: tuple[Remedy, ...]


_VERDICTS = {
    (True, False): "sound",
    (True, True): "sound with faults",
    (False, True): "not sound",
    (False, False): "no fault found",
}
"""By whether the surface is sound, and whether anything is a fault."""


def judge(survey: Survey, polygons: Polygons | None = None, *, unit: str = "mm") -> Judgement:
    """Findings of a survey (faults first) and what they mean for slicing, hollowing and measuring.

    polygons are those of the file, unit is that of its numbers.
    """
    guesses = guess_units(max(survey.size_mm), unit)
    doubt = unit_doubt(max(survey.size_mm), guesses)
    found = [*find_faults(survey), *find_notes(survey, polygons.bent if polygons else 0, doubt)]
    words = _VERDICTS[survey.sound, not all_right(found)]
    ways = remedies_of(survey, found, [g.unit for g in guesses])
    return Judgement(words, tuple(found), _purposes(survey, {f.code for f in found}), guesses, tuple(ways))


def _purposes(s: Survey, codes: set[str]) -> tuple[Purpose, ...]:
    """Slicing needs a surface with one inside; hollowing a sound solid; measuring an inside to measure in."""

    def named(*wanted: str) -> tuple[str, ...]:
        return tuple(c for c in wanted if c in codes)

    broken = named("open_edges", "nonmanifold_edges", "badly_oriented_edges", "inside_out", "twin_faces")
    soft = named("self_intersections", "buried", "flat_faces", "split_vertices")
    cavity = ("cavities",) if s.rooms or any(x.role in ("cavity", "loose") for x in s.shell_list) else ()
    contact = named("contact")
    whole = broken + soft + cavity
    skin = all(x.role in ("open skin", "sheet") for x in s.shell_list)
    sides = named("badly_oriented_edges", "inside_out") + (("open_edges",) if skin else ())
    return (
        Purpose("slice", "no" if broken else "in part" if soft else "yes", broken + soft),
        Purpose("hollow", "no" if broken + soft + cavity else "in part" if contact else "yes", whole + contact),
        Purpose("measure", "no" if sides or skin else "in part" if broken + soft else "yes", broken + soft),
    )


def unit_doubt(longest_mm: float, guesses: tuple[UnitGuess, ...]) -> str:
    """What speaks against the unit; empty where nothing does."""
    if guesses:
        sizes = ", ".join(f"{length_text(g.longest_mm)} in {UNIT_NAMES[g.unit]}" for g in guesses)
        return f"the longest side is {length_text(longest_mm)}; it would be {sizes}: was another unit meant?"
    if longest_mm > HUGE_MM:
        return (
            f"the longest side is {length_text(longest_mm)}, more than any printer known holds: was another unit meant?"
        )
    return ""


def guess_units(longest_mm: float, unit: str) -> tuple[UnitGuess, ...]:
    """Units in which the size would be a likely one, when as read it is not."""
    if not 0 < longest_mm or SMALL_MM <= longest_mm <= HUGE_MM:
        return ()
    plain = longest_mm / MILLIMETRES[unit]
    low, high = PLAUSIBLE_MM
    if longest_mm > HUGE_MM:
        low = LEAST_MM
    sizes = [(u, plain * MILLIMETRES[u]) for u in ("mm", "in", "cm", "m", "um") if u != unit]
    return tuple(UnitGuess(u, mm) for u, mm in sizes if low <= mm <= high)
