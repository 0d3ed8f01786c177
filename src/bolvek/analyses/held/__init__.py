"""What holds in a build, layer by layer, what does not, and the fewest tips of supports that would hold it."""

from bolvek.analyses.held.find import find_held, needed_supports
from bolvek.analyses.held.held import Held, Sweep, Tips, hold
from bolvek.analyses.held.proven import Contact, SupportsProof, proof_findings, prove_supports
from bolvek.analyses.held.record import HeldRecord, SupportsNeeded, TipPlace, UnheldPlace
from bolvek.analyses.held.stretches import Stretches, cut_in_layers
from bolvek.analyses.held.tips import place_tips

__all__ = [
    "Contact",
    "Held",
    "HeldRecord",
    "Stretches",
    "SupportsNeeded",
    "SupportsProof",
    "Sweep",
    "TipPlace",
    "Tips",
    "UnheldPlace",
    "cut_in_layers",
    "find_held",
    "hold",
    "needed_supports",
    "place_tips",
    "proof_findings",
    "prove_supports",
]
