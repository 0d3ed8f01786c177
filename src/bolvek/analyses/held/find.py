"""What nothing holds in a build, and the fewest tips of supports that would."""

from dataclasses import replace

import numpy as np

from bolvek.analyses.held.held import Tips, hold
from bolvek.analyses.held.record import HeldRecord, SupportsNeeded, TipPlace
from bolvek.analyses.held.stretches import cut_in_layers
from bolvek.analyses.held.tips import place_tips, set_tips, told_stretches
from bolvek.mesh import Mesh
from bolvek.settings.supports import HeldSettings
from bolvek.units import as_triple

_PLAIN = HeldSettings()
_QUICK = 0.25
"""How wide columns are in an estimate, as a share of the reach."""


def find_held(mesh: Mesh, settings: HeldSettings = _PLAIN) -> HeldRecord:
    """What nothing holds in a build of a closed mesh as it stands, and where tips would. Faces are read as they are
    meant: copies once, turned ones turned.

    Raises UsageError for impossible settings, WorkError for a surface that is not closed.
    """
    settings.check()
    s = settings
    stretches = cut_in_layers(mesh, s)
    bare, tips, with_tips = place_tips(stretches, s)
    _, places = bare.places()
    told = [p for p in places if p.counts(s)]
    bottoms = stretches.bottoms[tips.stretch]
    height = stretches.columns.low[stretches.row[tips.stretch]] - stretches.floor_mm
    return HeldRecord(
        angle_deg=s.angle_deg,
        layer_mm=s.layer_mm,
        reach_mm=s.reach_mm,
        carry_mm=s.carry_mm,
        bridge_most_mm=s.bridge_most_mm,
        pixel_mm=stretches.columns.pixel_mm,
        held=not told,
        islands=sum(p.kind == "island" for p in told),
        ledges=sum(p.kind == "ledge" for p in told),
        area_mm2=sum(p.area_mm2 for p in told),
        smaller=len(places) - len(told),
        places=told,
        tips=[TipPlace(as_triple(at), float(z)) for at, z in zip(bottoms, height, strict=True)],
        held_by_tips=not any(p.counts(s) for p in with_tips.places()[1]),
    )


def needed_supports(mesh: Mesh, settings: HeldSettings, tip_mm: float, column_mm: float) -> SupportsNeeded:
    """What supports would take in a build of a closed mesh, estimated on wide columns. Raises WorkError as `find_held`
    does."""
    s = replace(settings, pixel_mm=_QUICK * settings.reach_mm)
    stretches = cut_in_layers(mesh, s)
    tips = set_tips(stretches, told_stretches(hold(stretches), s), Tips.carrying(s), s)
    high = stretches.columns.low[stretches.row[tips.stretch]] - stretches.floor_mm
    area = [0.25 * np.pi * width**2 for width in (tip_mm, column_mm)]
    return SupportsNeeded(len(tips), len(tips) * area[0], float(high.sum()) * area[1])
