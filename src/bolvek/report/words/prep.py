"""The steps of `prep` in words."""

import dataclasses
from collections.abc import Callable
from typing import Any

from bolvek.analyses.proof import ProofRecord
from bolvek.report.words.drain import drain_text, flood_text, placed_text
from bolvek.report.words.files import model_text
from bolvek.report.words.hollow import check_text, hollow_text
from bolvek.report.words.mend import mend_line, remake_text
from bolvek.report.words.proof import clause_text, proof_line, proof_verdict
from bolvek.report.words.scale import scale_text
from bolvek.report.words.solid import SOLID_STEPS
from bolvek.units import count_text

_PLACE = {
    "a hole": ("chamber",),
    "closed off": ("chamber",),
    "moved": ("hole",),
    "one more": ("pool",),
    "drained": ("hole",),
    "filled": ("place",),
    "left solid": ("cavity", "cavities"),
    "resized": ("size",),
}
_AGAIN = {
    "a hole": "{} behind narrow necks: a hole each",
    "closed off": "{} behind narrow necks: closed off there",
    "moved": "{} left the wall short beside: put elsewhere",
    "one more": "{} would stay: a further hole each",
    "drained": "{} for rooms that the model had: begun anew around them",
    "filled": "{} of the cavity fell short (a thin web, or a pool that no hole reaches): filled",
    "left solid": "{} still fell short: left solid",
    "resized": "made solid, its size is not the one asked for: scaled to that and made again",
}


def prep_verdict(proof: ProofRecord, hollow: bool) -> str:
    """Whether it is fit to print, and that this is said of the file."""
    if not proof.ok:
        return proof_verdict(proof)
    solid = "" if hollow else "; solid, no cavity"
    return f"fit to print: proven on the file written{solid}; wall: {clause_text(proof, 'wall')}"


def prep_line(proof: ProofRecord, hollow: bool) -> str:
    """The proof in one line; of one that was left solid that, and no wall: none was made."""
    return proof_line(proof) if hollow else f"{proof_line(dataclasses.replace(proof, wall=None))}, left solid"


STEPS: dict[str, Callable[[Any], str]] = {
    "read": model_text,
    "scale": lambda done: scale_text(done[1]),
    "mend": lambda done: mend_line(done[1]),
    "remake": lambda done: remake_text(done[1]),
    **SOLID_STEPS,
    "check": check_text,
    "hollow": lambda done: hollow_text(done[1]),
    "place": lambda done: placed_text(*done),
    "flood": lambda done: flood_text(done[0], done[1], done[2], left="solid"),
    "drain": lambda done: drain_text(done[1]),
    "proof": lambda done: proof_line(done[0]),
    "again": lambda again: _AGAIN[again.how].format(count_text(again.places, *_PLACE[again.how])),
}
"""What is told of each step, from what it gave."""
