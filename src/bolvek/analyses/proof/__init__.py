"""The proof: is the model fit to print, measured on the model itself, whatever made it.

Clause by clause, each decided exactly where that is possible and otherwise with a stated bound on the safe side:
sound, material counted once, every void open, every way out wide enough, the wall.
"""

from bolvek.analyses.proof.origin import BORE, INNER, OUTER, Origin, origin_by_source, origin_from
from bolvek.analyses.proof.prove import examine, prove
from bolvek.analyses.proof.record import Clause, ProofRecord, Void, Wall
from bolvek.settings.measures import ProofSettings

__all__ = [
    "BORE",
    "INNER",
    "OUTER",
    "Clause",
    "Origin",
    "ProofRecord",
    "ProofSettings",
    "Void",
    "Wall",
    "examine",
    "origin_by_source",
    "origin_from",
    "prove",
]
