"""What is asked of a cut, and what it made."""

from dataclasses import dataclass, replace

from bolvek.analyses.finding import Finding, Worded
from bolvek.operations.cut.planes import Plane
from bolvek.settings.parts import LipSettings, PegSettings
from bolvek.settings.ways_on import SPLITS
from bolvek.units import Triple, count_text, length_text

_TIGHT = 0.5
"""A lip nearer to the other piece than this share of its clearance does not go in."""


@dataclass(frozen=True, kw_only=True)
class CutSettings:
    """Planes to cut along, what holds the pieces together, and whether each is laid on its cut."""

    planes: tuple[Plane, ...]
    pegs: PegSettings | None = None
    lip: LipSettings | None = None
    lay_flat: bool = False
    room_mm: Triple | None = None

    def check(self) -> None:
        """Raise UsageError when the settings make no sense."""
        for part in (self.pegs, self.lip):
            if part is not None:
                part.check()


@dataclass(frozen=True, kw_only=True)
class Peg:
    """A peg: the plane it stands on (from 1), the pieces it joins (from 1; the first holds it unless loose), its middle
    on the plane, how wide and long; the material left around its socket at least, the gap to it at least."""

    plane: int
    pieces: tuple[int, int]
    at_mm: Triple
    diameter_mm: float
    length_mm: float
    wall_mm: float
    gap_mm: float


@dataclass(frozen=True, kw_only=True)
class Lip:
    """A lip: its plane, the piece that has it and the one it goes into, how high and thick; its volume, the gap to the
    other piece at least."""

    plane: int
    pieces: tuple[int, int]
    height_mm: float
    thick_mm: float
    volume_mm3: float
    gap_mm: float


@dataclass(frozen=True, kw_only=True)
class Contact:
    """Where two pieces meet: the plane, the pieces (from 1), the middle, the area, the widest circle in it."""

    plane: int
    pieces: tuple[int, int]
    where_mm: Triple
    area_mm2: float
    widest_mm: float
    pegs: int = 0
    reason: str = ""


@dataclass(frozen=True, kw_only=True)
class PieceRecord:
    """A piece, numbered from 1: bodies: parts that do not hang together; fits: into the room asked for (None: none
    was), as it lies or turned by quarters; laid: whether it was laid on its cut."""

    number: int
    file: str
    triangles: int
    volume_mm3: float
    size_mm: Triple
    bodies: int
    fits: bool | None
    laid: bool


@dataclass(frozen=True, kw_only=True)
class CutRecord(Worded):
    """What was cut. cut_mm2: area of each plane's section; apart_mm3: what the volumes of the pieces are off the
    model's before pegs (corners laid onto planes); laid_mm: how far a corner or a plane was moved at most;
    kept_faces: bit for bit as they were, before laying flat."""

    planes: tuple[Plane, ...]
    cut_mm2: tuple[float, ...]
    pieces: tuple[PieceRecord, ...]
    contacts: tuple[Contact, ...]
    pegs: tuple[Peg, ...]
    lips: tuple[Lip, ...]
    peg_file: str
    apart_mm3: float
    laid_mm: float
    kept_faces: int
    triangles_before: int
    findings: tuple[Finding, ...] = ()

    WORDS = ("done", "does not fit")


def findings_of(
    s: CutSettings, pieces: tuple[PieceRecord, ...], contacts: tuple[Contact, ...], lips: tuple[Lip, ...]
) -> tuple[Finding, ...]:
    """What falls short, and what to look at."""
    found = []
    large = [p for p in pieces if p.fits is False]
    if large:
        numbers = ", ".join(str(p.number) for p in large)
        text = f"{count_text(len(large), 'piece')} ({numbers}) with pegs or lips does not fit the printer's space"
        found.append(Finding("piece_too_large", "fault", len(large), text))
    for lip in lips:
        if s.lip is not None and lip.gap_mm < _TIGHT * s.lip.clearance_mm:
            text = (
                f"the lip of piece {lip.pieces[0]} comes within {length_text(lip.gap_mm)} of piece {lip.pieces[1]}, "
                f"{length_text(s.lip.clearance_mm)} were asked: move the plane"
            )
            found.append(Finding("lip_tight", "fault", 1, text))
    if s.pegs is not None:
        short = [c for c in contacts if c.pegs < s.pegs.count]
        for c in short[:5]:
            text = (
                f"pieces {c.pieces[0]} and {c.pieces[1]} meet on {c.area_mm2:.1f} mm2 with "
                f"{count_text(c.pegs, 'peg') if c.pegs else 'no peg'}, {s.pegs.count} were asked: {c.reason}"
            )
            found.append(Finding("pegs_missing", "note", s.pegs.count - c.pegs, text, c.where_mm))
    for p in pieces:
        if p.bodies > 1:
            text = f"piece {p.number} is {count_text(p.bodies, 'body', 'bodies')}"
            ways = (replace(SPLITS, model=p.file),)
            found.append(Finding("piece_apart", "note", p.bodies, text, remedies=ways))
    total = sum(p.volume_mm3 for p in pieces)
    for p in pieces:
        if p.volume_mm3 < 1e-3 * total:
            text = f"piece {p.number} is a chip of {p.volume_mm3:.2f} mm3, {length_text(max(p.size_mm))} long"
            found.append(Finding("chip", "note", 1, text))
    return tuple(found)
