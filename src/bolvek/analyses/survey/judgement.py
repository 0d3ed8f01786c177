"""What a survey means: findings, and whether the model will do as it is, purpose by purpose."""

import math
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

from bolvek.analyses.finding import Finding
from bolvek.analyses.shells import EITHER, Opening
from bolvek.analyses.survey.record import Crossings, Shell, Survey
from bolvek.formats.soup import Polygons
from bolvek.units import MILLIMETRES, UNIT_NAMES, count_text, length_text

Triple = tuple[float, float, float]

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
class Judgement:
    """Findings, the answers they lead to, and the units the size smells of."""

    findings: tuple[Finding, ...]
    purposes: tuple[Purpose, ...]
    units: tuple[UnitGuess, ...]

    @property
    def verdict(self) -> str:
        """ "clean" when nothing is a fault."""
        return "faulty" if any(f.severity == "fault" for f in self.findings) else "clean"


KINDS = {
    "hole": ("hole", "holes"),
    EITHER: ("hole or rim", "holes or rims"),
    "crack": ("crack", "cracks"),
    "seam": ("open seam", "open seams"),
    "rim": ("rim of an open skin", "rims of open skins"),
}
"""Kinds of openings, in the order they are told, as one and several are called."""


def openings_text(openings: list[Opening]) -> str:
    """How many openings of each kind, and how large."""
    words = []
    for kind, (one, many) in KINDS.items():
        sizes = [o.length_mm if kind == "seam" else o.span_mm for o in openings if o.kind == kind]
        if sizes:
            low, high = length_text(min(sizes)), length_text(max(sizes))
            size = low if low == high else f"{low} to {high}"
            words.append(f"{count_text(len(sizes), one, many)} ({size} {'long' if kind == 'seam' else 'across'})")
    return ", ".join(words)


def judge(survey: Survey, polygons: Polygons | None = None, *, unit: str = "mm") -> Judgement:
    """Findings of a survey (faults first) and what they mean for slicing, hollowing and measuring.

    polygons are those of the file, unit is that of its numbers.
    """
    guesses = guess_units(max(survey.size_mm), unit)
    found = [*_faults(survey), *_notes(survey, polygons.bent if polygons else 0, guesses)]
    found = [f for f in found if f.count]
    return Judgement(tuple(found), _purposes(survey, {f.code for f in found}), guesses)


def _first(zones: Sequence[Any]) -> Triple | None:
    place: Triple | None = zones[0].where_mm if zones else None
    return place


def _faults(s: Survey) -> list[Finding]:
    """What the model falls short in; a count of 0 is none."""
    edges, turned, crossing = s.nonmanifold_edges, s.flipped.count, s.self_intersections
    buried = [x for x in s.shell_list if x.role == "buried"]
    inverted = [x for x in s.shell_list if x.inside_out]
    twins = s.twins.same_way + s.twins.opposite_way
    disagree = f"{count_text(s.badly_oriented_edges, 'edge')} where two faces disagree about the outside"
    places = f"in {count_text(len(s.nonmanifold.zones), 'place')}"
    doubled = ", all of them where faces stand there twice" if not s.nonmanifold_left else ""
    regions = f"{count_text(turned, 'flipped face')} in {count_text(len(s.flipped.zones), 'region')}: {disagree}"
    if s.one_sided:
        one = f"{count_text(s.one_sided, 'surface')} with one side only, which no turning of faces makes agree"
        regions = f"{one}: {disagree}" if not turned else f"{regions}; {one}"
    where = {
        "open_edges": _first(s.openings),
        "nonmanifold_edges": _first(s.nonmanifold.zones),
        "badly_oriented_edges": _first(s.flipped.zones),
        "inside_out": _first(inverted),
        "self_intersections": _first(crossing.zones),
        "buried": _first(buried),
        "twin_faces": _first(s.twins.zones),
    }
    told = [
        ("open_edges", s.open_edges, f"{count_text(s.open_edges, 'open edge')}: {openings_text(s.openings)}"),
        ("badly_oriented_edges", s.badly_oriented_edges, regions),
        ("inside_out", len(inverted), _inside_out_text(s, inverted)),
        (
            "twin_faces",
            twins,
            f"{count_text(twins, 'pair')} of twin faces: {s.twins.same_way:,} the same way round, "
            f"{s.twins.opposite_way:,} the opposite way",
        ),
        ("nonmanifold_edges", edges, f"{count_text(edges, 'edge')} used by more than two faces, {places}{doubled}"),
        ("self_intersections", crossing.faulty, _crossing_text(crossing)),
        (
            "buried",
            len(buried),
            f"{count_text(len(buried), 'shell')} buried in other material: a slicer may leave a void there",
        ),
        ("flat_faces", s.flat_faces, f"{count_text(s.flat_faces, 'face')} without any area"),
        (
            "split_vertices",
            s.split_vertices,
            f"{count_text(s.split_vertices, 'vertex', 'vertices')} where separate fans of faces touch",
        ),
    ]
    return [Finding(code, "fault", count, text, where.get(code)) for code, count, text in told]


def _inside_out_text(s: Survey, inverted: list[Shell]) -> str:
    if s.everything_inside_out:
        return "the whole model is turned inside out" + (", cavities too" if len(inverted) > 1 else "")
    names = sorted({x.part for x in inverted if x.part})
    named = f": {', '.join(names[:3])}{' and others' if len(names) > 3 else ''}" if names else ""
    return f"{count_text(len(inverted), 'shell')} turned inside out{named}"


def _notes(s: Survey, bent: int, guesses: tuple[UnitGuess, ...]) -> list[Finding]:
    """What a preparer should know; a count of 0 is nothing."""
    of_role = {role: [x for x in s.shell_list if x.role == role] for role in ("loose", "not judged", "sheet")}
    strays = [x for x in s.shell_list if x.stray]
    props = [p for p in s.parts if p.support]
    longest = length_text(max(s.size_mm))
    if guesses:
        sizes = ", ".join(f"{length_text(g.longest_mm)} in {UNIT_NAMES[g.unit]}" for g in guesses)
        doubt = f"the longest side is {longest}; it would be {sizes}: was another unit meant?"
    else:
        doubt = f"the longest side is {longest}, more than any printer known holds: was another unit meant?"
    off = off_origin_mm(s)
    near = s.near
    told: list[tuple[str, int, str, Triple | None]] = [
        ("unit", int(bool(guesses) or max(s.size_mm) > HUGE_MM), doubt, None),
        (
            "off_origin",
            int(off > OFF_ORIGIN_MM),
            f"it stands {off / 1000:.3g} m off the origin: 'pose --centre --drop' brings it to the bed",
            s.low_mm,
        ),
        (
            "cracks",
            near.open_edges_closed,
            f"{count_text(near.open_edges_closed, 'open edge')} would close if "
            f"{count_text(near.vertices, 'vertex', 'vertices')} within {length_text(near.tolerance_mm)} of each other "
            "were one",
            None,
        ),
        (
            "contact",
            s.self_intersections.contact_pairs,
            f"named parts of the file touch each other, in {count_text(s.self_intersections.contact_pairs, 'pair')} of "
            "faces; none goes into another there",
            None,
        ),
        (
            "support_parts",
            len(props),
            f"{count_text(len(props), 'part')} of the file {'is' if len(props) == 1 else 'are'} support, not model: "
            f"left out of its volume ({', '.join(p.name for p in props[:3])}{', ...' if len(props) > 3 else ''})",
            None,
        ),
        (
            "not_judged",
            len(of_role["not judged"]),
            f"{count_text(len(of_role['not judged']), 'shell')} in an open shell: part or void is not judged",
            _first(of_role["not judged"]),
        ),
        (
            "sheets",
            len(of_role["sheet"]),
            f"{count_text(len(of_role['sheet']), 'closed sheet')} with nothing inside",
            _first(of_role["sheet"]),
        ),
        (
            "strays",
            len(strays),
            f"{count_text(len(strays), 'stray')}: small shells apart from the rest",
            _first(strays),
        ),
        (
            "loose_parts",
            len(of_role["loose"]),
            f"{count_text(len(of_role['loose']), 'part')} loose inside a cavity",
            _first(of_role["loose"]),
        ),
        (
            "hidden_faces",
            s.hidden.count,
            f"{count_text(s.hidden.count, 'face')} hidden in material",
            _first(s.hidden.zones),
        ),
        (
            "slivers",
            s.slivers.count,
            f"{count_text(s.slivers.count, 'sliver')} lower than {s.sliver_mm:.2g} mm",
            _first(s.slivers.zones),
        ),
        (
            "knife_edges",
            s.knives.count,
            f"{count_text(s.knives.count, 'knife edge')} sharper than {s.knife_deg:g} degrees",
            _first(s.knives.zones),
        ),
        (
            "bent_polygons",
            bent,
            f"{count_text(bent, 'polygon')} of the file not flat: another program may cut them another way",
            None,
        ),
    ]
    return [Finding(code, "note", count, text, where) for code, count, text, where in told]


OFF_ORIGIN_MM = 500.0
"""Farther from the origin than this is worth a word: programs that place models by it lose them."""


def off_origin_mm(s: Survey) -> float:
    """How far the model's box is from the origin; 0 inside it."""
    off = [max(low, -(low + size), 0.0) for low, size in zip(s.low_mm, s.size_mm, strict=True)]
    return math.hypot(*off)


def _crossing_text(x: Crossings) -> str:
    n = x.pairs_listed - x.contact_pairs
    kinds = [
        (x.of_parts, "between parts"),
        (x.of_itself, "within a part"),
        (x.touching - x.contact_pairs, "of parts that only touch"),
    ]
    shown = f"{count_text(max(x.faulty, n), 'pair')} of faces"
    verb = "touch" if n and n == x.touching - x.contact_pairs else "cross or touch"
    return f"{shown} {verb} in {count_text(x.zone_count, 'zone')}: " + ", ".join(
        f"{k:,} {kind}" for k, kind in kinds if k
    )


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
