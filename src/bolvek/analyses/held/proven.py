"""Whether supports hold a model: judged from the two bodies alone, as they are in a file.

Every layer of both is read again. Supports hold the model where they touch it from below: a contact, which holds as a
tip does. Nothing here knows where tips were meant to be.
"""

from dataclasses import dataclass, replace

import numpy as np

from bolvek.analyses.columns import let_stand, list_pools, make_columns, pixel_for
from bolvek.analyses.finding import Finding
from bolvek.analyses.held.held import Tips, hold
from bolvek.analyses.held.record import UnheldPlace
from bolvek.analyses.held.stretches import Stretches, cut_in_layers
from bolvek.analyses.held.tips import told_stretches
from bolvek.analyses.shells import counted_once, facing_out
from bolvek.arrays import Bools, Floats, Ints
from bolvek.mesh import Mesh
from bolvek.settings.supports import HeldSettings, SupportSettings
from bolvek.spatial.groups import linked_groups
from bolvek.spatial.points import PointTree
from bolvek.units import Triple, area_text, as_triple, count_text, length_text, volume_text

_CLEAR_SHARE = 0.95
"""Of the clearance: so much must be left, for facets and rounding."""
_WIDE_SHARE = 0.5
"""Of a tip's area: so much a support must have beneath a contact that counts."""
_ACROSS, _SAMPLES, _BENEATH = 1.5, 15, 0.1
"""Tips: how far around the middle of a contact a support is looked at, at so many places each way, and how far
beneath."""
_INTO_LAYERS = 0.5
_SLACK_MM = 1.0
_CLOSED_PIXELS = 250_000
_CLOSED_MM3 = 1.0


@dataclass(frozen=True)
class Contact:
    """Where a support touches the model from below: its middle, and its area in plan; narrow: it is less wide than a
    tip has to be, and not counted."""

    where_mm: Triple
    area_mm2: float
    narrow: bool


@dataclass(frozen=True)
class SupportsProof:
    """What the two bodies show. unheld: places of the model that nothing holds; hanging: those of the supports
    themselves; contacts, lowest first; too_near: where supports come nearer to the model than they may, beside tips;
    closed_mm3: air that the two close in together. supports: bodies; pixel_mm: a debt is known to that."""

    angle_deg: float
    layer_mm: float
    reach_mm: float
    carry_mm: float
    bridge_most_mm: float
    clearance_mm: float
    tip_mm: float
    pixel_mm: float
    supports: int
    volume_mm3: float
    contacts: list[Contact]
    unheld: list[UnheldPlace]
    hanging: list[UnheldPlace]
    too_near: list[Triple]
    closed_mm3: float


def proof_findings(proof: SupportsProof, *, unheld: bool = False) -> list[Finding]:
    """What is wrong with the bodies; unheld: with what the model lacks too."""
    found = []
    p = proof
    if unheld and p.unheld:
        area = sum(one.area_mm2 for one in p.unheld)
        text = f"the supports leave {count_text(len(p.unheld), 'place')} of the model without hold ({area_text(area)})"
        found.append(Finding("unheld", "fault", len(p.unheld), text, p.unheld[0].where_mm))
    if p.hanging:
        text = f"nothing holds {count_text(len(p.hanging), 'place')} of the supports themselves"
        found.append(Finding("supports_hang", "fault", len(p.hanging), text, p.hanging[0].where_mm))
    if p.too_near:
        text = f"{count_text(len(p.too_near), 'support')} nearer to the model than {length_text(p.clearance_mm)}"
        found.append(Finding("supports_near", "fault", len(p.too_near), text, p.too_near[0]))
    if p.closed_mm3:
        text = f"supports and model close in {volume_text(p.closed_mm3)} of air"
        found.append(Finding("supports_close", "fault", 1, text))
    narrow = [c for c in p.contacts if c.narrow]
    if narrow:
        text = f"{count_text(len(narrow), 'contact')} narrower than a tip of {length_text(p.tip_mm)}: not counted"
        found.append(Finding("tips_narrow", "note", len(narrow), text, narrow[0].where_mm))
    return found


def prove_supports(mesh: Mesh, supports: Mesh, settings: SupportSettings) -> SupportsProof:
    """Judge supports of a model; both closed, z upward. Faces of both are read as they are meant: copies once, turned
    ones turned. Raises WorkError for columns that do not close."""
    s = settings
    mesh, supports = (facing_out(counted_once(part)[0]) for part in (mesh, supports))
    floor = min(float(part.bounds[0, 2]) for part in (mesh, supports))
    rules = _standing_on(mesh, floor, s.held)
    stretches = cut_in_layers(mesh, rules)
    standing = cut_in_layers(supports, _standing_on(supports, floor, s.held))
    rows, points = _touched(supports, standing, stretches.bottoms, s)
    contacts, counts = _contacts(supports, points, s, stretches)
    rows = rows[counts]
    held = hold(stretches, Tips.carrying(rules).under(stretches, rows))
    hanging, stands = _hanging(mesh, standing, s)
    return SupportsProof(
        angle_deg=s.held.angle_deg,
        layer_mm=s.held.layer_mm,
        reach_mm=s.held.reach_mm,
        carry_mm=s.held.carry_mm,
        bridge_most_mm=s.held.bridge_most_mm,
        clearance_mm=s.clearance_mm,
        tip_mm=s.tip_mm,
        pixel_mm=stretches.columns.pixel_mm,
        supports=supports.topology.shells,
        volume_mm3=supports.volume,
        contacts=contacts,
        unheld=[p for p in held.places()[1] if p.counts(rules)],
        hanging=hanging,
        too_near=_too_near(mesh, supports, np.concatenate([points, stands]), s),
        closed_mm3=_closed_mm3(mesh, supports, floor),
    )


def _standing_on(mesh: Mesh, floor_mm: float, held: HeldSettings) -> HeldSettings:
    """The rules, for a mesh above a bed at a height."""
    lift = float(mesh.bounds[0, 2]) - floor_mm
    return replace(held, lift_mm=lift if lift > 0.5 * held.layer_mm else 0.0)


def _within(mesh: Mesh, points: Floats) -> Bools:
    """Whether points (N, 3) are in the material of a closed mesh."""
    low, high = mesh.bounds
    inside = ((points >= low) & (points <= high)).all(axis=1)
    inside[inside] = mesh.tree.winding(points[inside]) > 0.5
    return np.asarray(inside)


def _contacts(supports: Mesh, points: Floats, s: SupportSettings, stretches: Stretches) -> tuple[list[Contact], Bools]:
    """Contacts of places (N, 3) at which supports touch, lowest first, and which of the places are of one that counts.

    Whether it is as wide as a tip is asked of the support just beneath, since the model may be narrower there."""
    if not len(points):
        return [], np.zeros(0, bool)
    pixel = stretches.columns.pixel_mm
    pairs = PointTree(points).pairs(2 * pixel)
    _, group = np.unique(linked_groups(len(points), pairs), return_inverse=True)
    group = group.ravel()
    count = np.bincount(group)
    middle = np.stack([np.bincount(group, points[:, k]) / count for k in range(3)], axis=1)
    step = 2 * _ACROSS * s.tip_mm / _SAMPLES
    x, y = np.meshgrid(*2 * [step * (np.arange(_SAMPLES) - 0.5 * (_SAMPLES - 1))])
    square = np.column_stack([x.ravel(), y.ravel(), 0 * x.ravel()])
    beneath = middle - [0.0, 0.0, _BENEATH * s.tip_mm]
    around = _within(supports, (beneath[:, None] + square).reshape(-1, 3)).reshape(-1, len(square))
    wide = around.sum(axis=1) * step**2 >= _WIDE_SHARE * 0.25 * np.pi * s.tip_mm**2
    order = np.argsort(middle[:, 2], kind="stable")
    found = [Contact(as_triple(middle[k]), float(count[k]) * pixel**2, not bool(wide[k])) for k in order]
    return found, wide[group]


def _touched(supports: Mesh, standing: Stretches, bottoms: Floats, s: SupportSettings) -> tuple[Ints, Floats]:
    """The stretches (N,) that supports touch from below, of those that begin at bottoms (S, 3), and where (N, 3): what
    is there is a tip, or a pad a gap lower."""
    beneath = _beneath(s)
    rows = np.flatnonzero(_near(standing, bottoms - beneath))
    points = bottoms[rows].copy()
    tip = _within(supports, points)
    points[~tip] -= beneath
    touched = tip.copy()
    touched[~tip] = _within(supports, points[~tip])
    return rows[touched], points[touched]


def _beneath(s: SupportSettings) -> Floats:
    """How far (3,) beneath what it holds the material of a pad is met; nothing of a tip."""
    return np.array([0.0, 0.0, s.gap_mm + _INTO_LAYERS * s.held.layer_mm if s.gap_mm else 0.0])


def _near(standing: Stretches, points: Floats) -> Bools:
    """Whether points (N, 3) may be in the material of supports: there is some of it at about their height in the column
    next to them."""
    c = standing.columns
    column, height = c.at(points)
    found = np.zeros(len(points), bool)
    rows = np.flatnonzero(column >= 0)
    first, end = c.material_start[column[rows]], c.material_start[column[rows] + 1]
    for k in range(int((end - first).max(initial=0))):
        some = rows[first + k < end]
        at = (first + k)[first + k < end]
        found[some] |= (c.low[at] - _SLACK_MM <= height[some]) & (height[some] <= c.high[at] + _SLACK_MM)
    return found


def _hanging(mesh: Mesh, stretches: Stretches, s: SupportSettings) -> tuple[list[UnheldPlace], Floats]:
    """Places of supports that nothing holds, and where (N, 3) they stand on the model."""
    rules, bottoms = s.held, stretches.bottoms
    held = hold(stretches)
    rows = np.flatnonzero(told_stretches(held, rules))
    if not len(rows):
        return [], np.zeros((0, 3))
    on_model = rows[_within(mesh, bottoms[rows] - _beneath(s))]
    held = hold(stretches, Tips.carrying(rules).under(stretches, on_model))
    return [p for p in held.places()[1] if p.counts(rules)], bottoms[on_model]


def _too_near(mesh: Mesh, supports: Mesh, contacts: Floats, s: SupportSettings) -> list[Triple]:
    """Places of supports nearer to the model than they may be, but for the cones of tips: one a body."""
    corners = supports.vertices[supports.faces]
    _, face, places = mesh.tree.nearest_to_triangles(corners, _CLEAR_SHARE * s.clearance_mm)
    near = np.flatnonzero(face >= 0)
    reach = s.tip_long_mm + s.column_mm
    if len(contacts):
        near = near[~np.isfinite(PointTree(contacts).nearest(places[near, 0], reach)[0])]
    shell = supports.topology.shell[near]
    return [as_triple(places[k, 0]) for k in near[np.unique(shell, return_index=True)[1]]]


def _closed_mm3(mesh: Mesh, supports: Mesh, floor_mm: float) -> float:
    """How much air the two close in together that the model alone does not."""
    both = mesh.joined(supports)
    up = (0.0, 0.0, 1.0)
    pixel = pixel_for(both, up, _CLOSED_PIXELS)

    def closed(part: Mesh) -> float:
        still = let_stand(make_columns(part, up, pixel), plate=floor_mm)
        return sum(p.volume_mm3 for p in list_pools(still) if p.enclosed)

    more = closed(both) - closed(mesh)
    return more if more > _CLOSED_MM3 else 0.0
