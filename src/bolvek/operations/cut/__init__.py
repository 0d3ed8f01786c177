"""One model into pieces that go together again: planes, pegs, lips, and where to cut so that they fit."""

from bolvek.operations.cut.cut import CutUp, cut, named
from bolvek.operations.cut.fit import FitPlan, plan_fit, room_within
from bolvek.operations.cut.planes import FITTING, SURFACE, Piece, Plane, cut_apart
from bolvek.operations.cut.record import Contact, CutRecord, CutSettings, Lip, Peg, PieceRecord
from bolvek.settings.parts import LipSettings, PegSettings

__all__ = [
    "FITTING",
    "SURFACE",
    "Contact",
    "CutRecord",
    "CutSettings",
    "CutUp",
    "FitPlan",
    "Lip",
    "LipSettings",
    "Peg",
    "PegSettings",
    "Piece",
    "PieceRecord",
    "Plane",
    "cut",
    "cut_apart",
    "named",
    "plan_fit",
    "room_within",
]
