"""The survey in words: rows for one model, what matters first; a line for one of many."""

from collections.abc import Sequence
from itertools import permutations

from bolvek.analyses.shells import Opening
from bolvek.analyses.survey import Crossing, Judgement, Shell, Survey
from bolvek.analyses.survey.findings import KINDS
from bolvek.analyses.survey.places import places_of
from bolvek.analyses.zones import Zone
from bolvek.formats.registry import Model
from bolvek.profiles import Material, Printer
from bolvek.report.classes import class_of
from bolvek.report.words.common import MOST_LISTED, Row, limited
from bolvek.units import area_text, bytes_text, count_text, length_text, point_text, size_text, volume_text

_PURPOSES = {"slice": "to slice", "hollow": "to hollow", "measure": "to measure"}
_MEANS = {
    ("slice", "yes"): "one clear inside in every layer",
    ("slice", "in part"): "slicers disagree; look at the layers",
    ("slice", "no"): "layers would be wrong or missing",
    ("hollow", "yes"): "sound and solid",
    ("hollow", "in part"): "each part on its own: together, parts that touch are no sound solid",
    ("hollow", "no"): "it takes a sound solid",
    ("measure", "yes"): "walls have two sides everywhere",
    ("measure", "in part"): "not to be trusted near the faults",
    ("measure", "no"): "inside and outside are not told apart",
}
_FACING = {
    **{"": "no inside", "out": "facing out", "in": "facing in"},
    **{"mixed": "faces disagree", "one-sided": "one side only"},
}

MINOR = ("knife_edges", "bent_polygons", "slivers")
"""Notes that change nothing by themselves: counted, and told in full with --details."""


def survey_rows(
    model: Model,
    s: Survey,
    judgement: Judgement,
    material: Material,
    printers: list[Printer],
    *,
    most: int = MOST_LISTED,
) -> list[tuple[str, str, str]]:
    """Everything about one model, as rows of (what, text, style): the verdict and what to do come first."""
    rows = [("verdict", verdict_text(s, judgement), "bold green" if judgement.ok else "bold red")]
    notes = {f.code: f for f in judgement.findings if f.severity == "note"}
    if "unit" in notes:
        rows.append(("unit", f"{notes['unit'].text} Settle that first: every length below depends on it", "yellow"))
    rows.append(("file", _file_text(model, s), ""))
    rows += [("", w, "yellow") for w in model.warnings]
    rows.append(("size", f"{size_text(s.size_mm)}{_unit_text(model)}{_fits_text(s, printers)}", ""))
    rows.append(("solid", _solid_text(s, material), ""))
    for c in _largest(s.rooms, lambda c: c.volume_mm3)[:most]:
        rows.append(("cavity", _room_text(c, s), ""))
    if s.parts:
        rows.append(("parts", f"{len(s.parts)} named in the file", ""))
        rows += _limited([(f"  {p.name}", _part_text(p)) for p in s.parts], most)
    if s.openings:
        rows.append(("openings", f"{len(s.openings)}, largest first", ""))
        rows += _limited([(f"  {k}", _opening_text(o, s)) for k, o in enumerate(s.openings, 1)], most)
    rows.append(("shells", _roles_text(s.shell_list), ""))
    if len(s.shell_list) > 1 or s.shell_list[0].role != "outer":
        order = _largest(s.shell_list, lambda x: x.area_mm2)
        rows += _limited([(f"  {x.number}", _shell_text(x, s)) for x in order], most)
    for finding in judgement.findings:
        if finding.severity == "fault":
            rows.append(("fault", finding.text, "red"))
            rows += _limited(_places(finding.code, s), most)
    minor = [f for f in judgement.findings if f.code in MINOR]
    for finding in judgement.findings:
        if finding.severity == "note" and finding.code != "unit" and (finding.code not in MINOR or most > MOST_LISTED):
            rows.append(("note", finding.text, "yellow"))
            rows += _limited(_places(finding.code, s), most)
    if minor and most <= MOST_LISTED:
        rows.append(("small", "; ".join(f.text for f in minor) + " (--details)", "dim"))
    rows += [(name, text, _COLOURS[answer]) for name, text, answer in purpose_rows(judgement)]
    rows.append(("free of", _clean_text(s), ""))
    return rows


_COLOURS = {"yes": "green", "in part": "yellow", "no": "red"}


def purpose_rows(judgement: Judgement) -> list[tuple[str, str, str]]:
    """The answers by purpose: (what, text, answer)."""
    rows = []
    for p in judgement.purposes:
        means = "it is hollow already" if p.reasons == ("cavities",) else _MEANS[p.name, p.answer]
        rows.append((_PURPOSES[p.name], f"{p.answer}: {means}", p.answer))
    return rows


def verdict_text(s: Survey, judgement: Judgement) -> str:
    """One sentence: what it is."""
    special = {"badly_oriented_edges": "one side only"} if s.one_sided and not s.flipped.count else {}
    if s.self_intersections.only_touch:
        special["self_intersections"] = "parts that touch"
    faults = [special.get(f.code) or class_of(f.code).name for f in judgement.findings if f.severity == "fault"]
    rooms = f"; hollow: {_rooms_text(s)}" if s.rooms and not faults else ""
    return judgement.verdict + (f": {', '.join(faults)}" if faults else rooms)


def _places(code: str, s: Survey) -> list[Row]:
    """Where a finding is, largest first."""
    found = [x for x in places_of(code, s) if not isinstance(x, Opening)]  # openings have rows of their own
    shells = _largest([x for x in found if isinstance(x, Shell)], lambda x: x.area_mm2)
    texts = [f"{_name(x)} at {_at(x.where_mm, s)}, {size_text(x.size_mm)}" for x in shells]
    texts += [_crossing_text(x, s) for x in found if isinstance(x, Crossing)]
    zones = [x for x in found if isinstance(x, Zone) and not isinstance(x, Crossing)]
    texts += [f"{z.count:,} at {_at(z.where_mm, s)}, {size_text(z.size_mm)}" for z in zones]
    return [(f"  {k}", text) for k, text in enumerate(texts, 1)]


def _largest(items: Sequence, size) -> list:  # type: ignore[no-untyped-def, type-arg]
    return sorted(items, key=lambda x: -size(x))


def _at(place: tuple[float, float, float], s: Survey) -> str:
    return point_text(place, max(s.size_mm))


def _name(x: Shell) -> str:
    return f"shell {x.number} ({x.part})" if x.part else f"shell {x.number}"


def _rooms_text(s: Survey) -> str:
    openings = sum(len(c.openings) for c in s.rooms)
    words = f"{count_text(len(s.rooms), 'cavity', 'cavities')} of {volume_text(sum(c.volume_mm3 for c in s.rooms))}"
    closed = sum(c.closed for c in s.rooms)
    ways = f", {count_text(openings, 'opening')}" if openings or not closed else ""
    return words + ways + (f", {closed:,} closed" if closed else "")


def _room_text(c, s: Survey) -> str:  # type: ignore[no-untyped-def]
    ways = "; ".join(f"{length_text(o.width_mm)} at {_at(o.where_mm, s)}" for o in c.openings)
    what = "closed" if c.closed else f"openings: {ways}" if ways else "no opening wide enough to be seen"
    return f"{volume_text(c.volume_mm3)} around {_at(c.where_mm, s)}, {what}"


def survey_line(model: Model, s: Survey, judgement: Judgement) -> str:
    """One of many models on one line."""
    return (
        f"{model.format}, {size_text(s.size_mm)}, {count_text(s.triangles, 'triangle')}, "
        f"{count_text(s.shells, 'shell')}: {_line_verdict(s, judgement)}"
    )


def _line_verdict(s: Survey, judgement: Judgement) -> str:
    faults = [f.text for f in judgement.findings if f.severity == "fault"]
    unit = [f.text for f in judgement.findings if f.code == "unit"]
    return "; ".join(faults + unit) or verdict_text(s, judgement)


def _file_text(model: Model, s: Survey) -> str:
    text = (
        f"{model.path.name}: {model.format}, {count_text(s.triangles, 'triangle')}, "
        f"{count_text(s.vertices, 'vertex', 'vertices')}, {bytes_text(model.megabytes)}"
    )
    p = model.polygons
    if p.count:
        extra = [f"{n:,} {w}" for n, w in ((p.concave, "concave"), (p.bent, "not flat"), (p.crossed, "crossed")) if n]
        text += f", {count_text(p.count, 'polygon')} cut into triangles{' (' + ', '.join(extra) + ')' if extra else ''}"
    return text


def _unit_text(model: Model) -> str:
    if model.declared:
        return f", the file states {model.unit}" if model.unit != "mm" else ""
    return f", numbers taken as {model.unit}" if model.unit != "mm" else ", a file without a unit taken as mm"


def _fits_text(s: Survey, printers: list[Printer]) -> str:
    """Printers that hold it as it lies, and those that do after quarter turns."""

    def holds(size: Sequence[float], p: Printer) -> bool:
        return all(a <= b for a, b in zip(size, p.build_mm, strict=True))

    plain = [p for p in printers if holds(s.size_mm, p)]
    turned = [p for p in printers if p not in plain and any(holds(size, p) for size in permutations(s.size_mm))]
    words = [f"fits: {', '.join(p.title for p in plain)}"] if plain else []
    words += [f"fits after a quarter turn: {', '.join(p.title for p in turned)}"] if turned else []
    return "; " + ("; ".join(words) or "fits none of the printers known, however it is turned by quarters")


def _solid_text(s: Survey, material: Material) -> str:
    surface = f"surface {_area_text(s.area_mm2)}"
    if s.volume_mm3 is None:
        return f"no volume while it is not closed and oriented; {surface}"
    grams = material.weight_g(s.volume_mm3)
    twice = ", what lies in two parts counted twice" if s.self_intersections.of_parts else ""
    once = ", doubled faces once" if s.twins.same_way else ""
    weight = f"{1000 * grams:.3g} mg" if grams < 1 else f"{grams:.1f} g" if grams < 1e4 else f"{grams / 1000:,.1f} kg"
    volume = f"{s.volume_mm3 / 1000:.3f} cm3" if s.volume_mm3 >= 10 else f"{s.volume_mm3:.4g} mm3"
    return f"{volume}, {weight} of {material.title}{twice}{once}; {surface}"


def _area_text(mm2: float) -> str:
    return f"{mm2 / 100:.2f} cm2" if mm2 >= 100 else f"{area_text(mm2)}"


def _part_text(part: object) -> str:
    p = part
    return (
        f"{size_text(p.size_mm)}, {count_text(p.triangles, 'triangle')}, {count_text(p.shells, 'shell')}"  # type: ignore[attr-defined]
        + (f", {count_text(p.open_edges, 'open edge')}" if p.open_edges else "")  # type: ignore[attr-defined]
        + (", support, not model" if p.support else "")  # type: ignore[attr-defined]
    )


def _roles_text(shells: list[Shell]) -> str:
    counts: dict[str, int] = {}
    for x in shells:
        wrong = f" turned {x.faces}" if x.inside_out and x.faces in ("in", "out") else ""
        flipped = " with flipped faces" if x.faces == "mixed" else ""
        name = x.role + wrong + flipped + (", stray" if x.stray else "")
        counts[name] = counts.get(name, 0) + 1
    return f"{len(shells):,}: " + ", ".join(f"{n:,} {name}" for name, n in counts.items())


def _shell_text(x: Shell, s: Survey) -> str:
    facing = _FACING[x.faces]
    wrong = ", the wrong way" if x.inside_out else ""
    volume = f", {volume_text(abs(x.volume_mm3))}" if x.volume_mm3 is not None else ""
    role = f"{x.part}: {x.role}" if x.part else x.role
    if x.role == "open body" and not any(o.shell == x.number for o in s.openings) and not s.odd_edges:
        role += ", in a hole of another"
    elif x.role == "open body" and not any(o.shell == x.number for o in s.openings):
        role += f" for {count_text(s.odd_edges, 'edge')} used an odd number of times"
    return (
        f"{role}{', stray' if x.stray else ''}, {facing}{wrong}{volume}, {_area_text(x.area_mm2)}, "
        f"{count_text(x.triangles, 'triangle')}, {size_text(x.size_mm)} around {_at(x.where_mm, s)}"
    )


def _opening_text(o: Opening, s: Survey) -> str:
    if o.kind == "seam":
        return (
            f"open seam, {length_text(o.length_mm)} long, "
            f"{count_text(o.edges, 'edge')} that lie unjoined on each other, at {_at(o.where_mm, s)}, shell {o.shell}"
        )
    flat = "flat" if o.flat else f"bent by {length_text(o.bent_mm)}"
    low = ", at the bottom" if o.lowest else ""
    low += f", around {count_text(o.islands, 'island')}" if o.islands else ""
    along = f", along {count_text(o.crowded_edges, 'non-manifold edge')} too" if o.crowded_edges else ""
    return (
        f"{KINDS[o.kind][0]}, {length_text(o.span_mm)} across, {count_text(o.edges, 'edge')}, "
        f"{length_text(o.length_mm)} around, {flat}{low}, at {_at(o.where_mm, s)}, shell {o.shell}{along}"
    )


def _crossing_text(z: Crossing, s: Survey) -> str:
    a, b = (_name(s.shell_list[k - 1]) for k in z.shells)
    verb = "touch" if z.touch else "cross"
    who = f"{a} crosses itself" if a == b else f"{a} and {b} {verb}"
    return f"{who}: {count_text(z.count, 'pair')} at {_at(z.where_mm, s)}, {size_text(z.size_mm)}"


def _clean_text(s: Survey) -> str:
    """Classes that were looked for and not found."""
    checks = [
        (s.open_edges, "open edges"),
        (s.nonmanifold_edges, "non-manifold edges"),
        (s.badly_oriented_edges, "flipped faces"),
        (s.twins.same_way + s.twins.opposite_way, "twin faces"),
        (s.flat_faces, "faces without area"),
        (s.slivers.count, f"slivers below {s.sliver_mm:.2g} mm"),
        (s.near.vertices, f"open edges that lie within {s.near.tolerance_mm:.2g} mm of each other"),
        (s.self_intersections.pairs, "self-intersections"),
        (s.hidden.count, "hidden faces"),
        (s.knives.count, f"edges sharper than {s.knife_deg:g} degrees"),
    ]
    return ", ".join(name for count, name in checks if not count) or "nothing that was looked for"


def _limited(rows: list[Row], most: int) -> list[tuple[str, str, str]]:
    return [(name, text, "") for name, text in limited(rows, most)]
