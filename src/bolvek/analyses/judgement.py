"""What a survey means: findings, and whether the model will do as it is, purpose by purpose."""

from dataclasses import dataclass

from bolvek.analyses.finding import Finding
from bolvek.analyses.openings import Opening
from bolvek.analyses.survey_record import Survey
from bolvek.formats.soup import Polygons
from bolvek.units import MILLIMETRES, UNIT_NAMES, length_text

Triple = tuple[float, float, float]

SMALL_MM, PLAUSIBLE_MM, HUGE_MM = 10.0, (10.0, 500.0), 2000.0
"""A longest side below or above the first and last makes one think of another unit; it is named when the
size would then be between the middle ones."""


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


def count_text(n: int, one: str, many: str | None = None) -> str:
    """The number with its word, in one or the other form."""
    return f"{n:,} {one if n == 1 else many or one + 's'}"


def openings_text(openings: list[Opening]) -> str:
    """Holes, cracks and rims with their spans."""
    words = []
    names = {
        "hole": ("hole", "holes"),
        "crack": ("crack", "cracks"),
        "rim": ("rim of an open skin", "rims of open skins"),
    }
    for kind, (one, many) in names.items():
        spans = [o.span_mm for o in openings if o.kind == kind]
        if spans:
            low, high = length_text(min(spans)), length_text(max(spans))
            words.append(f"{count_text(len(spans), one, many)} ({low if low == high else f'{low} to {high}'} across)")
    return ", ".join(words)


def judge(survey: Survey, polygons: Polygons | None = None, *, unit: str = "mm") -> Judgement:
    """Findings of a survey (faults first) and what they mean for slicing, hollowing and measuring.

    polygons are those of the file, unit is that of its numbers.
    """
    s = survey
    bent = polygons.bent if polygons else 0
    found: list[Finding] = []

    def add(code: str, severity: str, count: int, text: str, where: Triple | None = None) -> None:
        if count:
            found.append(Finding(code, severity, count, text, where))

    def first(zones: list) -> Triple | None:  # type: ignore[type-arg]
        return zones[0].where_mm if zones else None

    add(
        "open_edges",
        "fault",
        s.open_edges,
        f"{count_text(s.open_edges, 'open edge')}: {openings_text(s.openings)}",
        first(s.openings),
    )
    if s.near.open_edges_closed:
        add(
            "cracks",
            "note",
            s.near.open_edges_closed,
            f"{count_text(s.near.open_edges_closed, 'open edge')} would close if vertices within "
            f"{length_text(s.near.tolerance_mm)} were one",
        )
    add(
        "nonmanifold_edges",
        "fault",
        s.nonmanifold_edges,
        f"{count_text(s.nonmanifold_edges, 'edge')} used by more than two faces, in "
        f"{count_text(len(s.nonmanifold.zones), 'place')}",
        first(s.nonmanifold.zones),
    )
    add(
        "badly_oriented_edges",
        "fault",
        s.badly_oriented_edges,
        f"{count_text(s.flipped.count, 'flipped face')} in {count_text(len(s.flipped.zones), 'region')}: "
        f"{count_text(s.badly_oriented_edges, 'edge')} where two faces disagree about the outside",
        first(s.flipped.zones),
    )
    shells = {role: [x for x in s.shell_list if x.role == role] for role in ("outer", "buried", "stray", "loose")}
    inverted = [x for x in shells["outer"] if x.faces == "in"]
    add(
        "inside_out",
        "fault",
        len(inverted),
        f"{count_text(len(inverted), 'shell')} turned inside out",
        first(inverted),
    )
    add(
        "self_intersections",
        "fault",
        s.self_intersections.pairs,
        _crossing_text(s),
        first(s.self_intersections.zones),
    )
    add(
        "flat_faces",
        "fault",
        s.flat_faces,
        f"{count_text(s.flat_faces, 'face')} without any area",
    )
    add(
        "split_vertices",
        "fault",
        s.split_vertices,
        f"{count_text(s.split_vertices, 'vertex', 'vertices')} where separate fans of faces touch",
    )
    add(
        "buried",
        "fault",
        len(shells["buried"]),
        f"{count_text(len(shells['buried']), 'shell')} buried in other material: a slicer may leave a void there",
        first(shells["buried"]),
    )
    twins = s.twins.same_way + s.twins.opposite_way
    add(
        "twin_faces",
        "fault",
        twins,
        f"{count_text(twins, 'pair')} of twin faces: {s.twins.same_way:,} the same way round, "
        f"{s.twins.opposite_way:,} the opposite way",
        first(s.twins.zones),
    )
    add(
        "hidden_faces",
        "note",
        s.hidden.count,
        f"{count_text(s.hidden.count, 'face')} hidden in material",
        first(s.hidden.zones),
    )
    add(
        "strays",
        "note",
        len(shells["stray"]),
        f"{count_text(len(shells['stray']), 'stray')}: small shells apart from the rest",
        first(shells["stray"]),
    )
    add(
        "loose_parts",
        "note",
        len(shells["loose"]),
        f"{count_text(len(shells['loose']), 'part')} loose inside a cavity",
        first(shells["loose"]),
    )
    add(
        "slivers",
        "note",
        s.slivers.count,
        f"{count_text(s.slivers.count, 'sliver')} lower than {s.sliver_mm:.2g} mm",
        first(s.slivers.zones),
    )
    add(
        "near_vertices",
        "note",
        s.near.vertices,
        f"{count_text(s.near.vertices, 'vertex', 'vertices')} within {s.near.tolerance_mm:.2g} mm of another without "
        "an edge between",
    )
    add(
        "knife_edges",
        "note",
        s.knives.count,
        f"{count_text(s.knives.count, 'knife edge')} sharper than {s.knife_deg:g} degrees",
        first(s.knives.zones),
    )
    add(
        "bent_polygons",
        "note",
        bent,
        f"{count_text(bent, 'polygon')} of the file not flat: another program may cut them another way",
    )
    guesses = guess_units(max(s.size_mm), unit)
    if guesses:
        sizes = ", ".join(f"{length_text(g.longest_mm)} in {UNIT_NAMES[g.unit]}" for g in guesses)
        add(
            "unit",
            "note",
            1,
            f"the longest side is {length_text(max(s.size_mm))}; it would be {sizes}: was another unit meant?",
        )
    found.sort(key=lambda f: f.severity != "fault")
    return Judgement(tuple(found), _purposes(s, {f.code for f in found}), guesses)


def _crossing_text(s: Survey) -> str:
    x = s.self_intersections
    words = f"{count_text(x.pairs, 'pair')} of faces cross or touch in {count_text(x.zone_count, 'zone')}"
    kinds = [(x.of_parts, "between parts"), (x.of_itself, "within a part")]
    return f"{words}: " + ", ".join(f"{n:,} {kind}" for n, kind in kinds if n)


def _purposes(s: Survey, codes: set[str]) -> tuple[Purpose, ...]:
    """Slicing needs a surface with one inside; hollowing a sound solid; measuring an inside to measure in."""

    def named(*wanted: str) -> tuple[str, ...]:
        return tuple(c for c in wanted if c in codes)

    broken = named("open_edges", "nonmanifold_edges", "badly_oriented_edges", "inside_out", "twin_faces")
    soft = named("self_intersections", "buried", "flat_faces", "split_vertices")
    cavity = ("cavities",) if s.rooms or any(x.role in ("cavity", "loose") for x in s.shell_list) else ()
    return (
        Purpose("slice", "no" if broken else "in part" if soft else "yes", broken + soft),
        Purpose("hollow", "no" if broken + soft + cavity else "yes", broken + soft + cavity),
        Purpose(
            "measure",
            "no" if named("badly_oriented_edges", "inside_out") else "in part" if broken + soft else "yes",
            broken + soft,
        ),
    )


def guess_units(longest_mm: float, unit: str) -> tuple[UnitGuess, ...]:
    """Units in which the size would be a likely one, when as read it is not."""
    if not 0 < longest_mm or SMALL_MM <= longest_mm <= HUGE_MM:
        return ()
    plain = longest_mm / MILLIMETRES[unit]
    low, high = PLAUSIBLE_MM
    sizes = [(u, plain * MILLIMETRES[u]) for u in ("mm", "in", "cm", "m", "um") if u != unit]
    return tuple(UnitGuess(u, mm) for u, mm in sizes if low <= mm <= high)
