"""The way to a solid in words."""

from bolvek.analyses.likeness import Likeness
from bolvek.operations.places import LocalRecord
from bolvek.operations.solid import SolidPlan, SolidRecord
from bolvek.report.words.recast import recast_text, slim_text
from bolvek.report.words.thicken import thicken_text
from bolvek.units import count_text, length_text, point_text

Styled = tuple[str, str, str]


def solid_text(record: SolidRecord) -> str:
    """The way that was taken, why, and how far the surface moved."""
    text = f"{record.way}: {record.why}"
    if record.parts > 1:
        text += f"; {count_text(record.parts, 'body', 'bodies')} put together"
    if record.remade:
        which = "that crossed itself was" if record.remade == 1 else "that crossed themselves were"
        text += f"; {count_text(record.remade, 'body', 'bodies')} {which} recast"
    if record.local is not None:
        text += f"; {local_text(record.local)}"
    if record.cavities:
        text += f"; {count_text(record.cavities, 'closed void')} filled"
    for reason in record.given_up:
        text += f"; not {reason}"
    changes = record.changes
    if changes is not None:
        text += f"; {changes.kept:,} of {changes.triangles_old:,} faces as they were"
        if changes.max_mm > 0:
            far = max((changes.to_new, changes.to_old), key=lambda way: way.max_mm)
            place = f", at {point_text(far.where_mm)}" if far.where_mm is not None else ""
            text += f", the rest moved by {length_text(changes.max_mm)} at most{place}"
    return text


def local_text(local: LocalRecord) -> str:
    """Where faces were made anew, and how much of the surface that was."""
    told = []
    if local.buried:
        told.append(f"{count_text(local.buried, 'face')} within the material taken out")
    if local.zones:
        places, where = count_text(len(local.zones), "place"), point_text(local.zones[0].where_mm)
        told.append(f"{100 * local.share:.2g}% of the surface made anew in {places}, the largest at {where}")
    return "; ".join(told) or "nothing had to be made anew"


def solid_verdict(record: SolidRecord) -> str:
    """Whether it is one solid, and what the file shows."""
    faults = [f.code for f in record.findings if f.severity == "fault"]
    parts = "sound: one solid" if record.apart == 1 else f"sound: {record.apart:,} solids"
    if faults:
        return f"not as the file: sound, but {', '.join(_FAULTS[code] for code in faults)}"
    if record.likeness is None:
        return f"{parts}, as the file has it"
    guess = "; with a guess" if record.guessed else ""
    return f"{parts}, and {_shown(record.likeness)} the file shows{guess}"


def _shown(found: Likeness) -> str:
    """What, or how much of it: rounded down."""
    return f"{int(1000 * (1 - found.off_share)) / 10:g}% of what" if found.off else "what"


_FAULTS = {
    "shape_off": "surface is missing",
    "parts_gone": "parts are gone",
    "became_hollow": "what was solid is hollow",
    "became_solid": "what was open is filled",
}


def plan_rows(plan: SolidPlan) -> list[Styled]:
    """What would be done, and why."""
    after = {
        "as it is": "nothing has to be done",
        "mended": "mend",
        "thickened": "mend, then give skins a thickness; recast where that does not do",
        "thickened and fused": "mend, give skins a thickness, make one body; recast where that does not do",
        "fused": "mend, then make one body of the parts; recast where that does not do",
        "recast": "mend, then recast what is at fault; all of it where that is more than a third",
    }
    return [("way", after[plan.way], "bold"), ("why", plan.why, "")]


SOLID_STEPS = {
    "recast": lambda done: recast_text(done[1]),
    "recast in places": lambda done: local_text(done[1]),
    "slim": lambda done: slim_text(done[1]),
    "thicken": lambda done: thicken_text(done[1]),
    "solid": solid_text,
}
"""What is told of each step on the way."""
