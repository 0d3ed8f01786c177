"""What a survey finds, as findings: a line a class, with its count, its words and its first place."""

import math

from bolvek.analyses.finding import Finding
from bolvek.analyses.shells import EITHER, Opening
from bolvek.analyses.survey.places import first_place, places_of
from bolvek.analyses.survey.record import Crossings, Shell, Survey
from bolvek.units import count_text, length_text

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


def find_faults(s: Survey) -> list[Finding]:
    """What the model falls short in."""
    edges, turned, crossing = s.nonmanifold_edges, s.flipped.count, s.self_intersections
    buried = len(places_of("buried", s))
    inverted = [x for x in s.shell_list if x.inside_out]
    twins = s.twins.same_way + s.twins.opposite_way
    disagree = f"{count_text(s.badly_oriented_edges, 'edge')} where two faces disagree about the outside"
    places = f"in {count_text(len(s.nonmanifold.zones), 'place')}"
    doubled = ", all of them where faces stand there twice" if not s.nonmanifold_left else ""
    regions = f"{count_text(turned, 'flipped face')} in {count_text(len(s.flipped.zones), 'region')}: {disagree}"
    if s.one_sided:
        one = f"{count_text(s.one_sided, 'surface')} with one side only, which no turning of faces makes agree"
        regions = f"{one}: {disagree}" if not turned else f"{regions}; {one}"
    told = [
        ("open_edges", s.open_edges, _open_text(s)),
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
            buried,
            f"{count_text(buried, 'shell')} buried in other material: a slicer may leave a void there",
        ),
        ("flat_faces", s.flat_faces, f"{count_text(s.flat_faces, 'face')} without any area"),
        (
            "split_vertices",
            s.split_vertices,
            f"{count_text(s.split_vertices, 'vertex', 'vertices')} where separate fans of faces touch",
        ),
    ]
    return [Finding(code, "fault", count, text, first_place(code, s)) for code, count, text in told if count]


def _open_text(s: Survey) -> str:
    """Open edges, and the openings they make; those of loops too small to be measured are told as what they are."""
    told = [openings_text(s.openings)] if s.openings else []
    rest = max(s.open_edges - sum(o.edges for o in s.openings), 0)
    if rest and not s.near.open_edges_closed:
        told.append(f"{rest:,} around openings narrower than {length_text(s.near.tolerance_mm)}")
    return count_text(s.open_edges, "open edge") + (f": {', '.join(told)}" if told else "")


def _inside_out_text(s: Survey, inverted: list[Shell]) -> str:
    if s.everything_inside_out:
        return "the whole model is turned inside out" + (", cavities too" if len(inverted) > 1 else "")
    names = sorted({x.part for x in inverted if x.part})
    named = f": {', '.join(names[:3])}{' and others' if len(names) > 3 else ''}" if names else ""
    return f"{count_text(len(inverted), 'shell')} turned inside out{named}"


def find_notes(s: Survey, bent: int, doubt: str) -> list[Finding]:
    """What a preparer should know; bent polygons are those of the file, doubt is what speaks against its unit."""
    props = [p for p in s.parts if p.support]
    names = ", ".join(p.name for p in props[:3]) + (", ..." if len(props) > 3 else "")
    off = off_origin_mm(s)
    near, contact = s.near, s.self_intersections.contact_pairs
    counts = {code: len(places_of(code, s)) for code in ("not_judged", "sheets", "strays", "loose_parts")}
    told = [
        ("unit", int(bool(doubt)), doubt),
        (
            "off_origin",
            int(off > OFF_ORIGIN_MM),
            f"it stands {off / 1000:.3g} m off the origin",
        ),
        (
            "cracks",
            near.open_edges_closed,
            f"{count_text(near.open_edges_closed, 'open edge')} would close if "
            f"{count_text(near.vertices, 'vertex', 'vertices')} within {length_text(near.tolerance_mm)} of each other "
            "were one",
        ),
        (
            "contact",
            contact,
            f"named parts of the file touch each other, in {count_text(contact, 'pair')} of faces; none goes into "
            "another there",
        ),
        (
            "support_parts",
            len(props),
            f"{count_text(len(props), 'part')} of the file {'is' if len(props) == 1 else 'are'} support, not model: "
            f"left out of its volume ({names})",
        ),
        (
            "not_judged",
            counts["not_judged"],
            f"{count_text(counts['not_judged'], 'shell')} in an open shell: part or void is not judged",
        ),
        ("sheets", counts["sheets"], f"{count_text(counts['sheets'], 'closed sheet')} with nothing inside"),
        ("strays", counts["strays"], f"{count_text(counts['strays'], 'stray')}: small shells apart from the rest"),
        ("loose_parts", counts["loose_parts"], f"{count_text(counts['loose_parts'], 'part')} loose inside a cavity"),
        ("hidden_faces", s.hidden.count, f"{count_text(s.hidden.count, 'face')} hidden in material"),
        ("slivers", s.slivers.count, f"{count_text(s.slivers.count, 'sliver')} lower than {s.sliver_mm:.2g} mm"),
        (
            "knife_edges",
            s.knives.count,
            f"{count_text(s.knives.count, 'knife edge')} sharper than {s.knife_deg:g} degrees",
        ),
        (
            "bent_polygons",
            bent,
            f"{count_text(bent, 'polygon')} of the file not flat: another program may cut them another way",
        ),
    ]
    where = {"off_origin": s.low_mm}
    return [
        Finding(code, "note", count, text, where.get(code) or first_place(code, s))
        for code, count, text in told
        if count
    ]


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
    if not n:
        return f"{count_text(x.faulty, 'pair')} of faces cross or touch where faces stand there twice"
    verb = "touch" if x.only_touch else "cross or touch"
    told = ", ".join(f"{k:,} {kind}" for k, kind in kinds if k)
    text = f"{count_text(n, 'pair')} of faces {verb} in {count_text(x.zone_count, 'zone')}: {told}"
    more = x.faulty - n
    return f"{text}; {more:,} more where faces stand there twice" if more > 0 else text
