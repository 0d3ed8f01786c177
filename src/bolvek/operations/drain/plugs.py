"""Plugs for holes: the piece of skin that was taken out, a little narrower and tapered, so that the skin goes on
across it; its inner end is cut flat, and so it lies flat on the bed.
"""

from dataclasses import dataclass

import numpy as np

from bolvek.analyses.soundness import find_defects
from bolvek.arrays import Floats
from bolvek.mesh import Mesh
from bolvek.operations.convex import TooClose, lofted
from bolvek.operations.drain.bore import Bore
from bolvek.operations.fuse.arrange import COMMON, arrange
from bolvek.operations.pose import turn_onto
from bolvek.settings.shape import Drain, PlugSettings
from bolvek.spatial.frames import across

LEAST_SHARE, LEAST_MM = 0.2, 0.6
"""A plug shorter than this share of its diameter, or than this, does not hold."""
_ABOVE_INNER_MM = 0.02
"""So far from the room the inner end stays: the piece is of the wall alone."""
_TRIES, _SEED, _JITTER_MM = 8, 21, 1e-4


@dataclass(frozen=True, kw_only=True)
class PlugRecord:
    """The plug of one hole, numbered from 1 as the holes are: how wide it is outside and inside, how tall, its volume,
    the file; or why there is none."""

    hole: int
    wide_mm: float = 0.0
    narrow_mm: float = 0.0
    tall_mm: float = 0.0
    volume_mm3: float = 0.0
    clearance_mm: float = 0.0
    taper_deg: float = 0.0
    file: str = ""
    reason: str = ""


def make_plug(mesh: Mesh, number: int, bore: Bore, drain: Drain, s: PlugSettings) -> tuple[Mesh | None, PlugRecord]:
    """The plug of a hole that is (or will be) cut into a mesh that does not have it yet, standing on its inner end.

    None where the wall is too thin to hold one, or no sound piece comes out; the record says so.
    """
    s.check()
    if bore.blind:
        return None, PlugRecord(hole=number, reason="a blind hole opens no room")
    if bore.indoors:
        return None, PlugRecord(hole=number, reason="it begins in another room, or deep in a recess: no skin to go on")
    axis = bore.end - bore.start
    axis = axis / np.linalg.norm(axis)
    last_in, first_out = bore.material_mm
    least = max(LEAST_MM, LEAST_SHARE * drain.diameter_mm)
    tall = first_out - _ABOVE_INNER_MM - last_in
    if tall < least:
        text = f"the wall holds a plug of {max(tall, 0.0):.2f} mm, {least:.2f} mm are needed"
        return None, PlugRecord(hole=number, reason=text)
    deep = first_out - _ABOVE_INNER_MM
    wide = 0.5 * drain.diameter_mm - s.clearance_mm
    narrow = wide - np.tan(np.radians(s.taper_deg)) * (deep - last_in)  # it tapers within the skin, not above it
    if not narrow > 0.25 * drain.diameter_mm:
        text = f"a taper of {s.taper_deg:g} degrees and a clearance of {s.clearance_mm:g} mm leave nothing of it"
        return None, PlugRecord(hole=number, reason=text)
    rng = np.random.default_rng(_SEED)
    for _ in range(_TRIES):
        shift = rng.uniform(-_JITTER_MM, _JITTER_MM, 3)
        body = _frustum(
            bore.start + shift, axis, (last_in, deep), (wide, narrow), s.sides, float(rng.uniform(0, 2 * np.pi))
        )
        try:
            piece, _ = arrange(mesh, body, COMMON)
        except TooClose:
            continue
        turn = turn_onto(-axis, np.array([0.0, 0.0, 1.0]))
        standing = piece.vertices @ turn.T
        low, high = standing.min(axis=0), standing.max(axis=0)
        laid = piece.moved(standing - [*(0.5 * (low + high))[:2], low[2]]).as_stored()
        if len(laid.faces) and laid.topology.shells == 1 and not find_defects(laid):
            record = PlugRecord(
                hole=number,
                wide_mm=2 * wide,
                narrow_mm=2 * float(narrow),
                tall_mm=float(laid.size[2]),
                volume_mm3=laid.volume,
                clearance_mm=s.clearance_mm,
                taper_deg=s.taper_deg,
            )
            return laid, record
    return None, PlugRecord(hole=number, reason="no sound piece came out: the skin is folded there")


def _frustum(
    start: Floats, axis: Floats, depth: tuple[float, float], radius: tuple[float, float], sides: int, turn: float
) -> Mesh:
    """A plug from start along a unit axis, as wide as the first radius down to the first depth, then tapered to the
    second, facing out."""
    u, w = across(axis)
    angle = turn + 2 * np.pi * np.arange(sides) / sides
    rim = np.cos(angle)[:, None] * u + np.sin(angle)[:, None] * w
    (skin, deep), (wide, narrow) = depth, radius
    return lofted([start + wide * rim, start + skin * axis + wide * rim, start + deep * axis + narrow * rim])
