"""What is told of supports: plain values."""

from dataclasses import dataclass

from bolvek.analyses.finding import Finding, Worded
from bolvek.analyses.held.proven import SupportsProof
from bolvek.analyses.held.record import UnheldPlace
from bolvek.units import Triple


@dataclass(frozen=True)
class SupportTip:
    """A tip: where it meets the model (where_mm), the direction in which it leaves it, how deep it goes in (below 0:
    the air above its pad), how long its way down is, and its trunk: the number of the tip whose column it joins, its
    own for a column of its own. on: "bed" or "model"; shown: on the side people look at."""

    where_mm: Triple
    toward: Triple
    deep_mm: float
    long_mm: float
    trunk: int
    on: str
    shown: bool


@dataclass(frozen=True)
class StillUnheld:
    """A place that nothing holds with the supports, and why. why: "inside" (a room of the model), "kept off" (as was
    asked), "no way" (leads down from there), or "not held" (by the tips that are there)."""

    place: UnheldPlace
    why: str


@dataclass(frozen=True, kw_only=True)
class SupportsRecord(Worded):
    """Supports of a model. bare: how many places nothing holds without them, `islands` of them begin in the air;
    unheld: what nothing holds with them; proof: what the two bodies show (None: there are no supports).

    tips, lowest first; trunks: columns on the bed; on_model: columns that stand on the model; no_way: tips left out
    because no way led down from them; shallow: tips that go in less deep, since the model is thin there. minutes: how
    much longer the build takes with them, None where that is not known. scars_mm2: of all tips where they meet the
    surface, scar_share: of the surface; shown: tips on the side people look at. longest_mm: the longest way of a tip.
    pixel_mm: a debt of what holds is known to that.
    """

    angle_deg: float
    layer_mm: float
    reach_mm: float
    carry_mm: float
    bridge_most_mm: float
    tip_mm: float
    column_mm: float
    lean_deg: float
    clearance_mm: float
    gap_mm: float
    lift_mm: float
    foot: str
    pixel_mm: float
    bare: int
    islands: int
    bare_mm2: float
    tips: list[SupportTip]
    trunks: int
    on_model: int
    no_way: int
    shallow: int
    shown: int
    volume_mm3: float
    model_mm3: float
    minutes: float | None
    scars_mm2: float
    scar_share: float
    longest_mm: float
    triangles: int
    unheld: list[StillUnheld]
    proof: SupportsProof | None
    findings: tuple[Finding, ...] = ()

    WORDS = ("held", "not held")
