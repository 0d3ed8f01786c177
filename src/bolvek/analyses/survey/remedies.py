"""What helps against what a survey found: remedies for each finding, and what to do with a model that has no fault."""

from collections.abc import Sequence

from bolvek.analyses.finding import Finding
from bolvek.analyses.shells import EITHER
from bolvek.analyses.survey.record import Survey
from bolvek.settings import Remedy, remedy
from bolvek.settings.measures import LEAST_WALL_MM, ProofSettings
from bolvek.settings.parts import PoseSettings
from bolvek.settings.remedy import merged
from bolvek.settings.ways_on import BOTH_SIDES, CLOSES_ENDS, DIGS_OUT, FUSES, SOLID, THICKENS
from bolvek.units import UNIT_NAMES, length_text

_MENDS = {
    "hole": "closes the holes",
    "crack": "joins the banks of the cracks",
    "seam": "welds the seams",
    "badly_oriented_edges": "turns the flipped faces",
    "inside_out": "turns shells that are inside out",
    "twin_faces": "takes the copies out",
    "nonmanifold_edges": "takes apart what meets there",
    "self_intersections": "makes small places that cross anew",
    "flat_faces": "takes out faces without area",
    "split_vertices": "draws the fans apart",
}
_PROOF = remedy(
    "proof",
    f"shows whether it drains and keeps {length_text(LEAST_WALL_MM)} of wall",
    ProofSettings(wall_mm=LEAST_WALL_MM),
)
_SOUND = (remedy("walls", "shows whether its walls print"), remedy("overhangs", "shows what needs support"))
_MANY = 3
"""Where so many verbs would be needed, one that does all of it is among the first."""

_PREP = remedy("prep", "hollows, drains and proves it")


def remedies_of(s: Survey, found: Sequence[Finding], units: Sequence[str]) -> list[Remedy]:
    """What to do now, the most important first. units: those that the size would suit."""
    codes = [f.code for f in found]
    faults = [f.code for f in found if f.severity == "fault"]
    if "unit" in codes:  # every length depends on it
        return [remedy("scale", f"reads the numbers in {UNIT_NAMES[u]}", unit=u) for u in units]
    ways = merged([way for code in faults for way in _for_fault(code, s, faults)])
    if any(x.role not in ("outer", "cavity", "buried") for x in s.shell_list):  # a union takes closed bodies
        ways = [SOLID if way == FUSES else way for way in ways]
    if len(ways) >= _MANY and SOLID not in ways:
        ways.insert(_MANY - 1, SOLID)
    if not faults and (s.rooms or any(x.role == "cavity" for x in s.shell_list)):
        ways.append(_PROOF)
    elif not faults:
        ways += _SOUND if "contact" in codes else (*_SOUND, _PREP)
    if "off_origin" in codes:
        ways.append(remedy("pose", "brings it to the bed", PoseSettings(centre=True, drop=True)))
    return ways


def _for_fault(code: str, s: Survey, faults: list[str]) -> list[Remedy]:
    mends = [remedy("mend", _MENDS[code])] if code in _MENDS else []
    if code == "open_edges":
        return _for_openings(s)
    if code == "badly_oriented_edges" and s.one_sided:
        return [*(mends if s.flipped.count else []), BOTH_SIDES]
    if code in ("twin_faces", "nonmanifold_edges") and _face_to_face(s, faults):
        return [FUSES]
    if code == "nonmanifold_edges" and not s.nonmanifold_left:
        return []  # twin faces say it
    if code == "self_intersections":
        crossings = s.self_intersections
        ways = [FUSES] if crossings.of_parts or crossings.touching else []
        return [*ways, *mends, SOLID] if crossings.of_itself or not ways else ways
    return [DIGS_OUT] if code == "buried" else mends


def _face_to_face(s: Survey, faults: list[str]) -> bool:
    """Whether what meets in edges and vertices are bodies that lie against each other."""
    there = set(faults) <= {"twin_faces", "nonmanifold_edges", "split_vertices", "self_intersections"}
    return there and len(s.shell_list) > 1 and not s.twins.same_way


def _for_openings(s: Survey) -> list[Remedy]:
    kinds = {o.kind for o in s.openings}
    ways = [remedy("mend", text) for kind, text in _MENDS.items() if kind in kinds]
    if EITHER in kinds:
        ways.append(CLOSES_ENDS)
    if kinds & {"rim", EITHER}:
        ways.append(THICKENS)
    return ways
