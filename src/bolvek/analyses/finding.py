"""A finding: one thing a model falls short in, or that a preparer should know; and every code and verdict there is.

One rule: a verdict, its exit code and its advice are made from the findings that are printed with it. `agree` holds
them against each other, wherever a verb tells what came of a model.
"""

from collections.abc import Sequence
from dataclasses import dataclass
from typing import ClassVar, Protocol

from bolvek.settings import Remedy

FAULT, NOTE, EITHER = ("fault",), ("note",), ("fault", "note")

CODES: dict[str, tuple[tuple[str, ...], str]] = {
    "empty": (FAULT, "the model has no triangles"),
    "open_edges": (FAULT, "edges of one face only: holes, seams, rims"),
    "nonmanifold_edges": (FAULT, "edges used by more than two faces"),
    "badly_oriented_edges": (FAULT, "edges where two faces disagree about the outside"),
    "split_vertices": (FAULT, "vertices where separate fans of faces touch"),
    "flat_faces": (FAULT, "faces without area"),
    "self_intersections": (FAULT, "faces that cross or touch"),
    "inside_out": (FAULT, "shells turned inside out"),
    "buried": (FAULT, "shells inside other material"),
    "twin_faces": (FAULT, "faces that stand there twice"),
    "cavity_closed": (EITHER, "closed voids; a note where they are wanted"),
    "cavity_narrow": (FAULT, "rooms whose way out is narrower than a drain must be"),
    "ways_unjudged": (FAULT, "ways out that could not be measured"),
    "liquid_stays": (FAULT, "more liquid stays in a room than may"),
    "liquid_unjudged": (EITHER, "what stays could not be judged; a fault where a wall was asked for"),
    "wall_thin": (FAULT, "walls thinner than asked"),
    "wall_hole": (FAULT, "walls so thin that they print as holes"),
    "wall_broken": (FAULT, "walls that have broken through"),
    "wall_unmeasured": (FAULT, "walls that could not be measured"),
    "thin_features": (EITHER, "other material thinner than the least wall; a note where the original has it"),
    "gap_narrow": (FAULT, "gaps across air that are too narrow"),
    "islands": (EITHER, "material that begins in the air"),
    "overhangs": (EITHER, "zones that need support"),
    "unheld": (FAULT, "places that nothing holds while they are built"),
    "supports_unjudged": (FAULT, "supports of which it could not be judged what they hold"),
    "supports_hang": (FAULT, "places of supports that nothing holds"),
    "supports_near": (FAULT, "supports nearer to the model than they may be"),
    "supports_close": (FAULT, "air that supports and model close in"),
    "tips_narrow": (NOTE, "contacts narrower than a tip"),
    "off_bed": (NOTE, "a model that begins above or below the bed"),
    "on_model": (NOTE, "supports that stand on the model"),
    "scars_shown": (NOTE, "tips of supports on the side people look at"),
    "tips_shallow": (NOTE, "tips of supports in thin material"),
    "topples": (EITHER, "the model falls over"),
    "no_foot": (EITHER, "the model stands on a point or an edge"),
    "falls": (FAULT, "the model falls over on its plinth"),
    "unclosed": (EITHER, "columns that do not close"),
    "fill_rules": (EITHER, "layers that slicers fill in different ways"),
    "membranes": (EITHER, "floors and roofs too thin"),
    "pools": (EITHER, "liquid that stays; a fault of much resin beneath material"),
    "cups": (EITHER, "suction cups while it is built; a fault of wide ones"),
    "rounded": (FAULT, "what rounding to the file's numbers made worse"),
    "deviation": (FAULT, "surfaces farther apart than allowed"),
    "shape_off": (EITHER, "surface of the file that is missing; a fault of more than a hundredth of it"),
    "parts_gone": (FAULT, "parts of the file that are gone"),
    "became_hollow": (FAULT, "what was solid is hollow"),
    "became_solid": (FAULT, "what was open is filled"),
    "thin": (FAULT, "walls that stay thinner than asked after thickening"),
    "thin_skin": (EITHER, "a thickened skin thinner than can be printed; a fault of more than a thousandth of it"),
    "piece_too_large": (FAULT, "pieces that do not fit the printer"),
    "lip_tight": (FAULT, "a lip without its clearance"),
    "liquid_tilt": (NOTE, "it drains only when it is tilted"),
    "liquid_open": (NOTE, "liquid that stays in the open"),
    "no_vent": (NOTE, "a room with one opening only"),
    "pockets": (NOTE, "small chambers of the skin"),
    "loose": (NOTE, "parts loose in a closed void"),
    "own_wall_thin": (NOTE, "the model's own wall is thinner than prints"),
    "slender_features": (NOTE, "other material thinner than the wall asked for, and thicker than the least wall"),
    "contact": (NOTE, "parts that touch"),
    "wall_edges": (NOTE, "material that tapers to an edge"),
    "wall_specks": (NOTE, "thin places too small to be judged"),
    "wall_spacing": (NOTE, "samples farther apart than the least wall"),
    "wall_undefined": (NOTE, "surface that has no other side"),
    "bridges": (NOTE, "flat undersides held at both ends"),
    "support_sealed": (NOTE, "support that nobody would reach"),
    "open_skin": (NOTE, "an open skin: its upper side is a guess"),
    "fall_not_judged": (NOTE, "whether it falls over is not known"),
    "slits": (NOTE, "gaps narrower than a pixel"),
    "air": (NOTE, "air that stays when it is immersed"),
    "unit": (NOTE, "a size that speaks for another unit"),
    "off_origin": (NOTE, "a model far off the origin"),
    "cracks": (NOTE, "open edges that welding would close"),
    "support_parts": (NOTE, "parts that the file calls support"),
    "not_judged": (NOTE, "shells of which part or void is not known"),
    "sheets": (NOTE, "closed sheets with nothing inside"),
    "strays": (NOTE, "small shells apart from the rest"),
    "loose_parts": (NOTE, "parts loose in a cavity"),
    "hidden_faces": (NOTE, "faces hidden in material"),
    "slivers": (NOTE, "faces that are nearly flat"),
    "knife_edges": (NOTE, "edges too sharp to print"),
    "bent_polygons": (NOTE, "polygons of the file that are not flat"),
    "left_solid": (NOTE, "what was not hollowed"),
    "void_made": (NOTE, "closed voids that were made"),
    "tool_missed": (NOTE, "a tool that misses the material"),
    "fell_apart": (NOTE, "the result is in several pieces"),
    "apart": (NOTE, "parts that stay apart"),
    "guessed": (NOTE, "a skin or a solid: the file does not tell"),
    "leak": (NOTE, "openings that recasting did not close"),
    "lost": (NOTE, "surface too fine for the grid"),
    "not_enclosed": (NOTE, "the opening through which air got in"),
    "steep": (NOTE, "faces that a direction makes no thicker"),
    "pegs_missing": (NOTE, "contacts with fewer pegs than asked"),
    "piece_apart": (NOTE, "pieces of several bodies"),
    "chip": (NOTE, "a piece that is a chip"),
    "strays_left_out": (NOTE, "small parts that were left out"),
    "open_parts": (NOTE, "parts that are not closed"),
    "at_limit": (NOTE, "vertices that smoothing would have moved farther"),
    "put_back": (NOTE, "vertices left where they were: faces would have crossed"),
    "thin_kept": (NOTE, "vertices left where they were: the wall would be too thin"),
}
"""Every code of a finding: what severities it can have, and what it tells. How a model is built, standing or hanging,
is a note on the page of a model as it is."""

VERDICTS: dict[str, tuple[bool, str]] = {
    "fit": (True, "every clause of the proof holds, the wall among them"),
    "wall not judged": (True, "every clause of the proof holds; no wall was asked for"),
    "unfit": (False, "the proof found a fault"),
    "sound": (True, "closed, manifold, oriented, nothing crosses"),
    "sound with faults": (False, "a sound surface, and another fault"),
    "no fault found": (True, "not sound as a whole, without a fault that could be named"),
    "not sound": (False, "open, non-manifold, badly oriented, flat or crossing"),
    "buried shells": (False, "sound, but for shells in other material"),
    "closed but crossing": (False, "sound, but for faces that cross"),
    "open": (False, "sound, but for open edges"),
    "thick enough": (True, "every wall is as thick as asked"),
    "thick enough where measured": (True, "so is every wall that could be measured"),
    "thin": (False, "a wall falls short"),
    "gap too narrow": (False, "no wall falls short, but a gap across air does"),
    "not measured": (False, "too little could be measured to judge"),
    "prints as it stands": (True, "nothing needs support, and it stands"),
    "needs support": (False, "something hangs or begins in the air"),
    "does not stand": (False, "nothing hangs, but it would fall over"),
    "layers clear": (True, "no layer shows trouble"),
    "layers in trouble": (False, "a layer does"),
    "liquid stays": (False, "a room keeps more than it may"),
    "same": (True, "face by face the same"),
    "differs": (True, "not the same, within what was allowed"),
    "too far off": (False, "farther off than allowed"),
    "not as the file": (False, "sound, but not what the file shows"),
    "does not fit": (False, "a piece does not fit, or its lip does not"),
    "falls": (False, "it falls over on its plinth"),
    "worse": (False, "rounding to the file's numbers made faults"),
    "failed": (False, "nothing came of the file"),
    "held": (True, "with these supports every place holds while it is built"),
    "not held": (False, "nothing holds some places while they are built"),
    "done": (True, "it was made, and passed the checks"),
    "planned": (True, "it would be made so"),
    "written": (True, "several models, or several steps: all without a fault"),
}
"""Every word of a verdict: whether it is all right, and what it means."""


@dataclass(frozen=True)
class Finding:
    """Something the model falls short in ("fault") or that a preparer should know ("note"), and what would help."""

    code: str
    severity: str
    count: int
    text: str
    where_mm: tuple[float, float, float] | None = None
    file: str | None = None
    remedies: tuple[Remedy, ...] = ()

    def __post_init__(self) -> None:
        """Raise ValueError for a code that is not known, or not of this severity."""
        if self.code not in CODES or self.severity not in CODES[self.code][0]:
            raise ValueError(f"no finding is a {self.severity} '{self.code}'")


class Told(Protocol):
    """What every record owns of which a verdict is told."""

    @property
    def verdict(self) -> str: ...
    @property
    def ok(self) -> bool: ...
    @property
    def findings(self) -> tuple[Finding, ...]: ...


class Judged:
    """A record that owns its findings, and what follows from them."""

    findings: tuple[Finding, ...]

    @property
    def ok(self) -> bool:
        """Whether no finding is a fault."""
        return all_right(self.findings)


class Worded(Judged):
    """One whose verdict is the first of two words where no finding is a fault, else the second."""

    WORDS: ClassVar[tuple[str, str]]

    @property
    def verdict(self) -> str:
        """One of `VERDICTS`."""
        return self.WORDS[not self.ok]


def all_right(findings: Sequence[Finding]) -> bool:
    """Whether none of them is a fault."""
    return all(f.severity != "fault" for f in findings)


def agree(verdict: str, ok: bool, findings: Sequence[Finding]) -> None:
    """Raise ValueError where a verdict, whether it is all right, and findings contradict each other."""
    if verdict not in VERDICTS:
        raise ValueError(f"'{verdict}' is no verdict; known are {', '.join(VERDICTS)}")
    if not VERDICTS[verdict][0] == ok == all_right(findings):
        faults = ", ".join(f.code for f in findings if f.severity == "fault") or "no fault"
        raise ValueError(f"the verdict '{verdict}', {'' if ok else 'not '}all right, contradicts {faults}")
