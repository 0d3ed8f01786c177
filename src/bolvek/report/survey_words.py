"""The survey in words: rows for one model, a line for one of many."""

from pathlib import Path

from bolvek.analyses.judgement import Judgement, count_text
from bolvek.analyses.openings import Opening
from bolvek.analyses.survey_record import Crossing, Shell, Survey
from bolvek.analyses.zones import Zone
from bolvek.formats.registry import Model
from bolvek.profiles import Material, Printer
from bolvek.report.words import size_text
from bolvek.units import length_text, point_text, volume_text

Row = tuple[str, str]

MOST_LISTED = 8

_KINDS = {"hole": "hole", "crack": "crack", "rim": "rim of an open skin"}
_PURPOSES = {"slice": "to slice", "hollow": "to hollow", "measure": "to measure"}
_REASONS = {
    "open_edges": "open edges",
    "nonmanifold_edges": "non-manifold edges",
    "badly_oriented_edges": "flipped faces",
    "inside_out": "inside out",
    "self_intersections": "crossing faces",
    "flat_faces": "faces without area",
    "split_vertices": "touching fans",
    "buried": "buried shells",
    "twin_faces": "twin faces",
    "cavities": "it is hollow already",
}
_MEANS = {
    ("slice", "yes"): "one clear inside in every layer",
    ("slice", "in part"): "slicers disagree about {}; look at the layers",
    ("slice", "no"): "layers would be wrong or missing: {}",
    ("hollow", "yes"): "sound and solid",
    ("hollow", "no"): "{}",
    ("measure", "yes"): "walls have two sides everywhere",
    ("measure", "in part"): "not to be trusted near {}",
    ("measure", "no"): "inside and outside are not told apart: {}",
}
HELP = {
    "inside_out": "'hollow' and 'prep' turn shells that are inside out",
    "unit": "'scale --unit UNIT' reads the numbers in another unit and writes millimetres",
}
"""What helps, by finding; codes that are not here have no verb in this version."""

IN_ROWS = {
    *("open_edges", "nonmanifold_edges", "badly_oriented_edges", "twin_faces", "slivers", "hidden_faces"),
    *("knife_edges", "self_intersections"),
}
"""Findings that `survey_rows` tells in full already."""


def survey_rows(
    model: Model,
    s: Survey,
    judgement: Judgement,
    material: Material,
    printers: list[Printer],
    *,
    most: int = MOST_LISTED,
) -> list[Row]:
    """Everything about one model, as rows of (what, text)."""
    rows = [("file", _file_text(model, s)), *(("", w) for w in model.warnings)]
    rows.append(("size", f"{size_text(s.size_mm)}{_unit_text(model)}{_fits_text(s, printers)}"))
    rows.append(("solid", _solid_text(s, material)))
    if s.parts:
        rows.append(("parts", f"{len(s.parts)} named in the file"))
        rows += _limited([(f"  {p.name}", _part_text(p)) for p in s.parts], most)
    rows.append(("shells", _roles_text(s.shell_list)))
    if len(s.shell_list) > 1 or s.shell_list[0].role != "outer":
        rows += _limited([(f"  {x.number}", _shell_text(x)) for x in s.shell_list], most)
    if s.openings:
        rows.append(("openings", f"{len(s.openings)}, smallest first"))
        rows += _limited([(f"  {k}", _opening_text(o)) for k, o in enumerate(s.openings, 1)], most)
    classes: list[tuple[str, int, str, list[Zone]]] = [
        ("non-manifold", s.nonmanifold_edges, "edge used by more than two faces", s.nonmanifold.zones),
        ("flipped", s.flipped.count, "face turned against its neighbours", s.flipped.zones),
        ("twins", s.twins.same_way + s.twins.opposite_way, "pair of faces on the same corners", s.twins.zones),
        ("slivers", s.slivers.count, f"face lower than {s.sliver_mm:.2g} mm", s.slivers.zones),
        ("hidden", s.hidden.count, "face hidden in material", s.hidden.zones),
        ("knife edges", s.knives.count, f"edge sharper than {s.knife_deg:g} degrees", s.knives.zones),
    ]
    for name, count, what, places in classes:
        if count:
            plural = what.replace("face ", "faces ", 1).replace("edge ", "edges ", 1).replace("pair ", "pairs ", 1)
            plural = plural.replace("its neighbours", "their neighbours")
            where = (
                f"in {count_text(len(places), 'place')}" if len(places) > 1 else f"at {point_text(places[0].where_mm)}"
            )
            rows.append((name, f"{count_text(count, what, plural)}, {where}"))
            if len(places) > 1:
                rows += _limited([(f"  {k}", _zone_text(z)) for k, z in enumerate(places, 1)], most)
    x = s.self_intersections
    if x.pairs:
        kinds = [
            t
            for n, t in ((x.of_parts, f"{x.of_parts:,} between parts"), (x.of_itself, f"{x.of_itself:,} within a part"))
            if n
        ]
        rows.append(("crossing", f"{count_text(x.pairs, 'pair')} of faces that cross or touch: {', '.join(kinds)}"))
        rows += _limited([(f"  {k}", _crossing_text(z)) for k, z in enumerate(x.zones, 1)], most)
    for c in s.rooms[:most]:
        ways = "; ".join(f"{o.width_mm:.1f} mm at {point_text(o.where_mm)}" for o in c.openings)
        what = "closed" if c.closed else f"openings: {ways}" if ways else "no opening wide enough to be seen"
        rows.append(("cavity", f"{volume_text(c.volume_mm3)} around {point_text(c.where_mm)}, {what}"))
    rows.append(("free of", _clean_text(s)))
    return rows


def purpose_rows(judgement: Judgement) -> list[tuple[str, str, str]]:
    """The answers by purpose: (what, text, answer)."""
    rows = []
    for p in judgement.purposes:
        why = ", ".join(_REASONS[r] for r in p.reasons)
        rows.append((_PURPOSES[p.name], f"{p.answer}: {_MEANS[p.name, p.answer].format(why)}", p.answer))
    return rows


def verdict_text(s: Survey, judgement: Judgement) -> str:
    """One sentence: what it is and what helps."""
    faults = [f.code for f in judgement.findings if f.severity == "fault"]
    if not faults:
        plain = "sound" if s.sound else "no fault found"
        if s.rooms:
            plain += f"; hollow: {_rooms_text(s)}"
        return f"{plain}; {HELP['unit']}" if any(f.code == "unit" for f in judgement.findings) else plain
    words = "not sound" if not s.sound else "sound as a surface, but"
    words += f": {count_text(len(faults), 'kind')} of fault"
    # a verb that would refuse the model for its other faults is no help
    if all(c in HELP for c in faults):
        words += "; " + "; ".join(HELP[c] for c in faults)
    else:
        words += "; no verb of this version mends " + ", ".join(_REASONS[c] for c in faults)
    if any(f.code == "unit" for f in judgement.findings):
        words += f"; {HELP['unit']}"
    return words


def _rooms_text(s: Survey) -> str:
    openings = sum(len(c.openings) for c in s.rooms)
    words = f"{count_text(len(s.rooms), 'cavity', 'cavities')} of {volume_text(sum(c.volume_mm3 for c in s.rooms))}"
    closed = sum(c.closed for c in s.rooms)
    ways = f", {count_text(openings, 'opening')}" if openings or not closed else ""
    return words + ways + (f", {closed:,} closed" if closed else "")


def survey_line(model: Model, s: Survey, judgement: Judgement) -> str:
    """One of many models on one line."""
    faults = [f.text for f in judgement.findings if f.severity == "fault"]
    notes = [f.text for f in judgement.findings if f.code == "unit"]
    words = "; ".join(faults + notes) or ("sound" + (f", hollow: {_rooms_text(s)}" if s.rooms else ""))
    return (
        f"{model.format}, {size_text(s.size_mm)}, {count_text(s.triangles, 'triangle')}, "
        f"{count_text(s.shells, 'shell')}: {words}"
    )


def _file_text(model: Model, s: Survey) -> str:
    text = (
        f"{model.path.name}: {model.format}, {count_text(s.triangles, 'triangle')}, "
        f"{count_text(s.vertices, 'vertex', 'vertices')}, {_bytes_text(model.megabytes)}"
    )
    p = model.polygons
    if p.count:
        extra = [f"{n:,} {w}" for n, w in ((p.concave, "concave"), (p.bent, "not flat"), (p.crossed, "crossed")) if n]
        text += f", {count_text(p.count, 'polygon')} cut into triangles{' (' + ', '.join(extra) + ')' if extra else ''}"
    return text


def _bytes_text(megabytes: float) -> str:
    return f"{megabytes:.2f} MB" if megabytes >= 0.1 else f"{1000 * megabytes:.1f} kB"


def _unit_text(model: Model) -> str:
    if model.declared:
        return f", the file states {model.unit}" if model.unit != "mm" else ""
    return f", numbers taken as {model.unit}" if model.unit != "mm" else ", a file without a unit taken as mm"


def _fits_text(s: Survey, printers: list[Printer]) -> str:
    fits = [p.title for p in printers if all(a <= b for a, b in zip(s.size_mm, p.build_mm, strict=True))]
    return f"; fits: {', '.join(fits)}" if fits else "; fits none of the printers known"


def _solid_text(s: Survey, material: Material) -> str:
    surface = f"surface {s.area_mm2 / 100:.2f} cm2"
    if s.volume_mm3 is None:
        return f"no volume while it is not closed and oriented; {surface}"
    grams = s.volume_mm3 / 1000 * material.density_g_cm3
    twice = ", crossing parts counted twice" if s.self_intersections.of_parts else ""
    return f"{s.volume_mm3 / 1000:.3f} cm3, {grams:.1f} g of {material.title}{twice}; {surface}"


def _part_text(part: object) -> str:
    p = part
    return (
        f"{size_text(p.size_mm)}, {count_text(p.triangles, 'triangle')}, {count_text(p.shells, 'shell')}"  # type: ignore[attr-defined]
        + (f", {count_text(p.open_edges, 'open edge')}" if p.open_edges else "")  # type: ignore[attr-defined]
    )


def _roles_text(shells: list[Shell]) -> str:
    counts: dict[str, int] = {}
    for x in shells:
        inverted = x.faces == "in" and x.role != "cavity"
        name = x.role + (" turned in" if inverted else " with flipped faces" if x.faces == "mixed" else "")
        counts[name] = counts.get(name, 0) + 1
    return f"{len(shells):,}: " + ", ".join(f"{n:,} {name}" for name, n in counts.items())


def _shell_text(x: Shell) -> str:
    facing = {"out": "facing out", "in": "facing in", "mixed": "faces disagree", "": "open"}[x.faces]
    volume = f", {abs(x.volume_mm3) / 1000:.4g} cm3" if x.volume_mm3 is not None else ""
    return (
        f"{x.role}, {facing}{volume}, {x.area_mm2 / 100:.4g} cm2, {count_text(x.triangles, 'triangle')}, "
        f"{size_text(x.size_mm)} around {point_text(x.where_mm)}"
    )


def _opening_text(o: Opening) -> str:
    flat = "flat" if o.bent_mm <= 1e-3 * o.span_mm else f"bent by {length_text(o.bent_mm)}"
    return (
        f"{_KINDS[o.kind]}, {length_text(o.span_mm)} across, {count_text(o.edges, 'edge')}, "
        f"{length_text(o.length_mm)} around, {flat}, at {point_text(o.where_mm)}, shell {o.shell}"
        + ("" if o.closed else ", not a whole loop")
    )


def _zone_text(z: Zone) -> str:
    return f"{z.count:,} at {point_text(z.where_mm)}, {size_text(z.size_mm)}"


def _crossing_text(z: Crossing) -> str:
    a, b = z.shells
    who = f"shell {a} crosses itself" if a == b else f"shells {a} and {b} cross"
    return f"{who}: {count_text(z.count, 'pair')} at {point_text(z.where_mm)}, {size_text(z.size_mm)}"


def _clean_text(s: Survey) -> str:
    """Classes that were looked for and not found."""
    checks = [
        (s.open_edges, "open edges"),
        (s.nonmanifold_edges, "non-manifold edges"),
        (s.badly_oriented_edges, "flipped faces"),
        (s.twins.same_way + s.twins.opposite_way, "twin faces"),
        (s.flat_faces, "faces without area"),
        (s.slivers.count, f"slivers below {s.sliver_mm:.2g} mm"),
        (s.near.vertices, f"double vertices within {s.near.tolerance_mm:.2g} mm"),
        (s.self_intersections.pairs, "self-intersections"),
        (s.hidden.count, "hidden faces"),
        (s.knives.count, f"edges sharper than {s.knife_deg:g} degrees"),
    ]
    return ", ".join(name for count, name in checks if not count) or "nothing that was looked for"


def _limited(rows: list[Row], most: int) -> list[Row]:
    if len(rows) <= most:
        return rows
    return [*rows[:most], ("", f"and {len(rows) - most:,} more (--details or --json)")]


def failure_line(path: Path, error: Exception) -> str:
    """A file that could not be surveyed."""
    return str(error).removeprefix(f"{path}: ").removeprefix(f"{path} ")
