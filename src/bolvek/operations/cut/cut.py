"""Cutting a model into pieces that go together again."""

from dataclasses import dataclass, replace
from itertools import permutations

import numpy as np

from bolvek.analyses.deviation import matching_faces
from bolvek.analyses.shells import nest_exactly
from bolvek.analyses.soundness import require_sound
from bolvek.arrays import Floats
from bolvek.errors import UsageError
from bolvek.mesh import Mesh
from bolvek.operations.cut.contacts import meetings
from bolvek.operations.cut.lip import with_lips
from bolvek.operations.cut.pegs import Pegs
from bolvek.operations.cut.planes import Piece, cut_apart
from bolvek.operations.cut.record import CutRecord, CutSettings, Lip, Peg, PieceRecord, findings_of
from bolvek.operations.pose import turn_onto
from bolvek.settings.ways_on import SOLID
from bolvek.units import Triple, as_triple

_DOWN = np.array([0.0, 0.0, -1.0])
_FIT_SLACK_MM = 1e-3


@dataclass(frozen=True)
class CutUp:
    """A model in pieces. pieces: where they were in the model; lying: as they are written; pegs: loose ones."""

    pieces: list[Piece]
    lying: list[Mesh]
    pegs: Mesh | None


def cut(mesh: Mesh, settings: CutSettings) -> tuple[CutUp, CutRecord]:
    """The pieces of a sound mesh, with what holds them together.

    Raises UsageError for impossible settings, WorkError for a model that is not sound, where a plane misses it or no
    peg or lip fits.
    """
    settings.check()
    if not settings.planes:
        raise UsageError("nothing to cut: the model fits as it is, and no plane was named")
    require_sound(mesh, "only sound models are cut", SOLID)
    pieces = cut_apart(mesh, settings.planes)
    plain = sum(piece.mesh.volume for piece in pieces)
    met = meetings(pieces, settings.planes)
    areas = tuple(sum(piece.cap(k).area for piece in pieces if piece.sides[k] < 0) for k in range(len(settings.planes)))
    contacts, pegs, lips, loose = tuple(m.told() for m in met), tuple[Peg, ...](), tuple[Lip, ...](), None
    if settings.lip is not None:
        pieces, lips = with_lips(mesh, pieces, settings.planes, met, settings.lip)
    if settings.pegs is not None:
        placing = Pegs(pieces, settings.planes, met, settings.pegs)
        placing.plan()
        pieces, pegs, loose = placing.made()
        contacts = tuple(placing.contacts)
    lying, told = [], []
    for number, piece in enumerate(pieces, 1):
        mesh_now, laid = _laid(piece, settings) if settings.lay_flat else (piece.mesh, False)
        lying.append(mesh_now)
        told.append(
            PieceRecord(
                number=number,
                file="",
                triangles=len(piece.mesh.faces),
                volume_mm3=piece.mesh.volume,
                size_mm=as_triple(mesh_now.size),
                bodies=int((nest_exactly(piece.mesh).volume > 0).sum()),
                fits=None if settings.room_mm is None else _fits(piece.mesh, settings.room_mm),
                laid=laid,
            )
        )
    kept = matching_faces(mesh, pieces[0].mesh.joined(*(piece.mesh for piece in pieces[1:])))[0] > 0
    record = CutRecord(
        planes=settings.planes,
        cut_mm2=areas,
        pieces=tuple(told),
        contacts=contacts,
        pegs=pegs,
        lips=lips,
        peg_file="",
        apart_mm3=plain - mesh.volume,
        laid_mm=max(piece.laid_mm for piece in pieces),
        kept_faces=int(kept.sum()),
        triangles_before=len(mesh.faces),
        findings=findings_of(settings, tuple(told), contacts, lips),
    )
    return CutUp(pieces, lying, loose), record


def named(record: CutRecord, settings: CutSettings, files: list[str], peg_file: str) -> CutRecord:
    """The record with the files that pieces and loose pegs went to."""
    pieces = tuple(replace(p, file=file) for p, file in zip(record.pieces, files, strict=True))
    found = findings_of(settings, pieces, record.contacts, record.lips)
    return replace(record, pieces=pieces, peg_file=peg_file, findings=found)


def _fits(mesh: Mesh, room: Triple) -> bool:
    """Whether it fits a room, turned by quarters."""
    return any((mesh.size <= np.array(way) + _FIT_SLACK_MM).all() for way in permutations(room))


def _laid(piece: Piece, settings: CutSettings) -> tuple[Mesh, bool]:
    """The piece on its largest cut that nothing stands out of, on the bed; as it was where there is none."""
    best: tuple[float, Floats] | None = None
    for number, plane in enumerate(settings.planes):
        cap = piece.cap(number)
        if not len(cap.faces):
            continue
        out = -piece.sides[number] * np.array(plane.normal)
        beyond = (piece.mesh.vertices @ out).max() - (cap.vertices @ out).max()
        if beyond > 0.01:
            continue
        if best is None or cap.area > best[0]:
            best = cap.area, out
    turn = turn_onto(best[1], _DOWN) if best is not None else np.eye(3)
    points = piece.mesh.vertices @ turn.T
    low, high = points.min(axis=0), points.max(axis=0)
    return piece.mesh.moved(points - [*(0.5 * (low + high))[:2], low[2]]).as_stored(), best is not None
