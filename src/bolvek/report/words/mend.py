"""Mending in words: a row a step, what is left and why, what the check found."""

from collections import Counter
from typing import TYPE_CHECKING

from bolvek.operations.mend import FAULT_WORDS, LEFT_CODES, Faults, MendRecord, MendStep, left_counted, left_texts
from bolvek.report.words.common import MOST_LISTED, limited
from bolvek.units import area_text, count_text, length_text, point_text, volume_text

if TYPE_CHECKING:
    from bolvek.report.record import Try

Styled = tuple[str, str, str]

_DID = {
    ("weld", "edges_closed"): "{open edge} closed",
    ("weld", "vertices"): "{vertex:vertices} welded",
    ("weld", "edges_split"): "{edge} split at a vertex that lies on it",
    ("drop", "loose_edges"): "{face} on one edge only taken out",
    ("drop", "copies"): "{copy:copies} of faces taken out",
    ("drop", "opposite_twins"): "{twin face} of the opposite way taken out",
    ("drop", "without_area"): "{face} without area taken out",
    ("drop", "strays"): "{stray} taken out",
    ("drop", "scraps"): "{scrap} that hung on taken out",
    ("separate", "nonmanifold_edges"): "{non-manifold edge} taken apart",
    ("separate", "vertices"): "{vertex:vertices} given to each side",
    ("separate", "sheets"): "{sheet} without thickness taken out",
    ("orient", "flipped_faces"): "{flipped face} turned",
    ("orient", "shells_turned"): "{shell} turned",
    ("buried", "shells"): "{buried shell} taken out",
    ("close", "flat"): "{opening} closed flat",
    ("close", "corner"): "{opening} closed with the corner restored",
    ("close", "curved"): "{opening} closed curved",
    ("close", "plain"): "{opening} closed by triangles on the rim",
    ("mirror", "faces"): "{face} made anew from the other half",
    ("crossings", "smoothed"): "{place} smoothed",
    ("crossings", "neighbourhoods"): "{neighbourhood} made anew",
    ("crossings", "pairs"): "{crossing pair} gone",
    ("remake", "places"): "{place} made anew on a fine lattice",
    ("remake", "faces_within"): "{face} within the material taken out",
}

_DONE = {
    "weld": "welded",
    "drop": "dropped",
    "separate": "separated",
    "orient": "turned",
    "buried": "dug out",
    "close": "closed",
    "mirror": "mirrored",
    "crossings": "remade",
    "remake": "made anew",
}


def did_text(step: MendStep) -> str:
    """What a step did, in one line."""
    if step.undone:
        return f"{'nothing made anew' if step.step == 'remake' else 'undone'}: {step.undone}"
    words = []
    for name, n in step.counts.items():
        before, _, rest = _DID[step.step, name].partition("{")
        noun, _, after = rest.partition("}")
        one, _, many = noun.partition(":")
        words.append(f"{before}{count_text(n, one, many or one + 's')}{after}")
    text = ", ".join(words) or "nothing to do"
    if step.moved_mm:
        text += f"; moved {length_text(step.moved_mm)} at most"
    if step.step == "mirror" and step.places:
        text += f"; {step.places[0].what}"
    if len(step.places) == 1:
        text += f", at {point_text(step.places[0].where_mm)}"
    elif step.places:
        text += f", first at {point_text(step.places[0].where_mm)}"
    return text


def faults_text(faults: Faults) -> str:
    """Each class there is, with its count."""
    found = [count_text(n, *FAULT_WORDS[name]) for name, n in vars(faults).items() if n]
    return ", ".join(found) or "none"


def mend_rows(record: MendRecord, *, plan: bool = False, most: int = MOST_LISTED) -> list[Styled]:
    """The ladder, rung by rung, then what stands."""
    rows: list[Styled] = [("tolerance", f"{length_text(record.tolerance_mm)}: nearer rims are one", "")]
    if record.unchanged and not any(step.left for step in record.steps):
        rows = []
    for step in record.steps:
        if step.count or step.undone:
            rows.append((step.step, did_text(step), ""))
            if most > MOST_LISTED:
                for p in step.places:
                    rows.append(("", f"{p.what}, {p.count:,}, at {point_text(p.where_mm)}", ""))
    idle = [step.step for step in record.steps if not step.count and not step.undone]
    if idle and len(idle) < len(record.steps):
        rows.append(("no need of", ", ".join(idle), "dim"))
    if record.before != record.after:
        rows.append(("before", faults_text(record.before), ""))
        rows.append(("after", faults_text(record.after), "" if record.verdict == "sound" else "yellow"))
    rows += [("fault", f.text, "red") for f in record.findings]
    told = {f.code for f in record.findings}
    rest = [one for one in record.left if LEFT_CODES.get(one.what, "open_edges") not in told]
    rows += [(n, t, "yellow") for n, t in limited([("left", t) for t in left_texts(rest)], most)]
    rows.append(("verdict", verdict_text(record, plan=plan), "bold green" if record.verdict == "sound" else "bold red"))
    return rows


def verdict_text(record: MendRecord, *, plan: bool = False) -> str:
    """What the model is now, and why where it is not sound."""
    if record.unchanged and record.verdict == "sound":
        return "sound: nothing to mend, every face is bit for bit what it was"
    mended = " once mended" if plan else ""
    if record.verdict == "sound":
        return f"sound{mended}: closed, manifold, oriented, nothing crosses"
    text = f"{record.verdict}{mended}"
    if record.verdict == "open":
        kinds = Counter(one.what for one in record.left if one.what not in LEFT_CODES)
        named = ", ".join(left_counted(n, what) for what, n in kinds.items())
        text += f": {named} left" if named else f": {faults_text(record.after)}"
    elif record.verdict == "closed but crossing":
        text += f": {count_text(record.after.self_intersections, 'pair')} of faces; slicers may take it, hollowing not"
    else:
        text += f": {faults_text(record.after)}"
    return text + ("; nothing was changed" if record.unchanged else "")


def mend_line(record: MendRecord) -> str:
    """All of it in one line."""
    if record.unchanged:
        return verdict_text(record)
    done = ", ".join(f"{_main_count(step):,} {_DONE[step.step]}" for step in record.steps if step.count)
    return f"{done}; {verdict_text(record)}"


def remake_text(record: MendRecord) -> str:
    """What was made anew in places after the ladder, and what the model is then."""
    last = record.steps[-1]
    done = did_text(last) if last.step == "remake" else "nothing that encloses is at fault by itself"
    return f"{done}; {verdict_text(record)}"


def repairs_text(record: MendRecord) -> str:
    """How much was done and how much was left."""
    done, left = sum(_main_count(step) for step in record.steps), len(record.left)
    return count_text(done, "repair") + (f", {count_text(left, 'place')} left" if left else "")


def _main_count(step: MendStep) -> int:
    """How many things a step did, what came along with them left out."""
    return sum(n for name, n in step.counts.items() if name not in ("vertices", "edges_split", "pairs")) or step.count


def try_texts(one: "Try", record: MendRecord) -> list[str]:
    """What is told of one way tried."""
    closed = next((step for step in record.steps if step.step == "close"), None)
    how = ", ".join(f"{n:,} {style}" for style, n in closed.counts.items()) if closed else ""
    volume = f", {volume_text(one.volume_mm3)} in all" if one.volume_mm3 is not None else ""
    return [
        f"closed {how or 'nothing'}",
        f"{count_text(one.added, 'new face')}, {area_text(one.area_mm2)}{volume}",
        f"sharpest bend {one.bend_deg:.0f} degrees",
        verdict_text(record),
    ]
