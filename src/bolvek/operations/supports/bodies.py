"""The bodies of supports: limbs with level rings, feet, braces; and all of them as one.

Bodies that keep apart from each other are one mesh already. So the bodies are dealt out to a few such meshes, and those
are united exactly, one after the other.
"""

from dataclasses import dataclass

import numpy as np

from bolvek.analyses.shells import facing_out
from bolvek.arrays import Bools, Floats, Ints
from bolvek.errors import WorkError
from bolvek.mesh import Mesh
from bolvek.operations.fuse import fuse_parts, unite
from bolvek.operations.fuse.reach import closest_between
from bolvek.operations.supports.trunks import BRANCH_SHARE, Trunk, narrowing_mm
from bolvek.operations.supports.ways import Way, column_radius, is_clear
from bolvek.settings.supports import SupportSettings
from bolvek.spatial.points import PointTree

_SIDES, _BRANCH_SIDES, _FOOT_SIDES = 8, 6, 16
_GOLDEN = 0.6180339887498949
_STUB_WIDE = 1.4  # times as wide as its tip
_SUNK = 0.4  # of a foot's thickness: how deep columns go into it
_FOOT_WIDE = 2.5  # radii of its column
_BEVEL = 0.5  # of a foot's thickness: how much narrower it is at the bed
_RIM_MM = 2.0  # of a plate around what stands on it
_STAGGER_MM = 0.002
"""How far above the bed supports begin, each set of them so much higher: no two have a face in one plane, nor with the
model."""
_FOOT_LEAST = 1.3  # radii of its column: a narrower foot is left out
_APART_MM = 0.1  # between feet, and between a foot and what stands beside it
BRACE_FROM = 12.0
"""Diameters: a column higher than that is braced with its neighbours."""
_BRACE_REACH_MM = 15.0
_BRACE_EVERY_MM = 12.0
_BRACE_SHARE = 0.7  # of a column's radius
_TRIES = 6  # of putting one support and the model together


@dataclass(frozen=True)
class Limb:
    """A body with level rings: axis (N, 3), lowest first, radius (N,), and how many corners a ring has."""

    axis: Floats
    radius: Floats
    sides: int = _SIDES

    def mesh(self, number: int, floor_mm: float, up_mm: float) -> Mesh:
        """Its mesh, turned by its number: no two limbs have sides in one plane. At the bed it begins so much higher."""
        n = self.sides
        turn = 2 * np.pi * (np.arange(n) / n + np.mod(_GOLDEN * number, 1.0))
        ring = self.radius[:, None, None] * np.stack([np.cos(turn), np.sin(turn), 0 * turn], axis=1)
        points = (self.axis[:, None] + ring).reshape(-1, 3)
        points[:, 2] = np.maximum(points[:, 2], floor_mm + up_mm)
        a = np.arange(n)
        b = (a + 1) % n
        faces = [np.stack([0 * a[1:-1], b[1:-1], a[1:-1]], axis=1)]
        for k in range(len(self.axis) - 1):
            p, q = k * n, (k + 1) * n
            faces += [np.stack([p + a, p + b, q + b], axis=1), np.stack([p + a, q + b, q + a], axis=1)]
        top = (len(self.axis) - 1) * n
        faces.append(np.stack([0 * a[1:-1] + top, a[1:-1] + top, b[1:-1] + top], axis=1))
        return Mesh(points, np.concatenate(faces)).as_stored()


def limbs_of(
    mesh: Mesh, ways: list[Way], trunks: list[Trunk], depth: Floats, floor_mm: float, s: SupportSettings
) -> list[Limb]:
    """All bodies of supports but a plate: columns, branches, feet, braces. depth (T,): how deep each tip goes in, below
    0 for air."""
    tip = 0.5 * s.tip_mm
    limbs = []
    standing: list[_Standing] = []
    top_of = {t.tip: t for t in trunks}
    branch_of = {b: (t, place) for t in trunks for b, place in t.branches.items()}
    for k, way in enumerate(ways):
        # a pad lies straight beneath its place
        end = way.tip - depth[k] * (way.toward if depth[k] > 0 else np.array([0.0, 0.0, -1.0]))
        if k in branch_of:
            trunk, place = branch_of[k]
            line = np.array([place, way.corners[0], end])
            radius = float(column_radius(float(np.linalg.norm(place - way.corners[0])), s))
            limbs.append(
                Limb(line, np.array([min(radius, BRANCH_SHARE * trunk.radius_mm), radius, tip]), _BRANCH_SIDES)
            )
            continue
        if way.stub:
            wide = _STUB_WIDE * tip
            corners, radii = way.corners[::-1].copy(), np.full(2, wide)
        else:
            wide = top_of[k].radius_mm if k in top_of else float(column_radius(way.high_mm, s))
            corners, radii = _narrowed(way.corners[::-1], wide, s)
        if way.on_model:
            # its own tip below, as deep as the one above
            corners[0, 2] -= max(depth[k], 0.0)
            radii[0] = wide if way.stub else tip
        else:
            corners[0, 2] += _SUNK * s.foot_mm if s.foot == "plate" else 0.0
            limb = None if way.stub else len(limbs)
            standing.append(_Standing(way.corners[-1], float(way.corners[-2][2]), wide, limb))
        limbs.append(Limb(np.vstack([corners, end]), np.append(radii, tip)))
    if s.foot == "discs":
        _put_on_feet(mesh, limbs, standing, s)
    return limbs + _braces(mesh, standing, floor_mm, s)


def _narrowed(line: Floats, radius: float, s: SupportSettings) -> tuple[Floats, Floats]:
    """The corners (N, 3) and radii (N,) of a column up to its cone, where it is no wider than any."""
    least, end = 0.5 * s.column_mm, line[-1]
    below = line[-2] - end
    share = narrowing_mm(radius, s) / float(np.linalg.norm(below))
    if share == 0 or share >= 0.9:
        return line.copy(), np.append(np.full(len(line) - 1, radius), least)
    return np.vstack([line[:-1], end + share * below, end]), np.append(np.full(len(line), radius), least)


@dataclass(frozen=True)
class _Standing:
    """What stands on the bed: where, how high it is upright, its radius, and its limb; None for a stub."""

    base: Floats
    top_mm: float
    radius: float
    limb: int | None


def _put_on_feet(mesh: Mesh, limbs: list[Limb], standing: list[_Standing], s: SupportSettings) -> None:
    """Put discs under columns, narrower at the bed so that a blade gets under. They keep off the model and each other;
    where that leaves no room, the column itself stands on the bed."""
    base = np.array([one.base for one in standing]).reshape(-1, 3)
    wide = np.array([_FOOT_WIDE * one.radius if one.limb is not None else one.radius for one in standing])
    high = base + [0.0, 0.0, s.foot_mm]
    gap, face, _ = mesh.tree.nearest_to_triangles(np.stack([base, high, high], axis=1), wide + s.clearance_mm)
    wide = np.where(face >= 0, np.minimum(gap - s.clearance_mm, wide), wide)
    for k, one in enumerate(standing):
        if one.limb is None:
            continue
        apart = np.linalg.norm(base[:, :2] - one.base[:2], axis=1)
        apart[k] = np.inf
        # each of two neighbours gets its half, or what the other leaves
        free = np.maximum(0.5 * apart, apart - wide) - _APART_MM
        wide[k] = min(wide[k], float(free.min()))
        if wide[k] < _FOOT_LEAST * one.radius:
            wide[k] = one.radius
            continue
        limb = limbs[one.limb]
        axis = limb.axis.copy()
        axis[0, 2] += _SUNK * s.foot_mm
        limbs[one.limb] = Limb(axis, limb.radius)
        bevel = min(_BEVEL * s.foot_mm, 0.5 * float(wide[k]))
        foot = np.array([one.base, one.base + [0.0, 0.0, bevel], high[k]])
        limbs.append(Limb(foot, np.array([wide[k] - bevel, wide[k], wide[k]]), _FOOT_SIDES))


def _braces(mesh: Mesh, standing: list[_Standing], floor_mm: float, s: SupportSettings) -> list[Limb]:
    """Slanting braces between high columns and their nearest neighbours, to and fro."""
    standing = [one for one in standing if one.limb is not None]
    if len(standing) < 2 or s.lean_deg == 0:
        return []
    base = np.array([one.base for one in standing])
    top, radius = np.array([one.top_mm for one in standing]), np.array([one.radius for one in standing])
    high = top - floor_mm > BRACE_FROM * 2 * radius
    gap, near = PointTree(base[:, :2]).nearest_few(base[:, :2], 3, _BRACE_REACH_MM)
    pairs = sorted(
        {
            (min(a, int(b)), max(a, int(b)))
            for a in np.flatnonzero(high).tolist()
            for g, b in zip(gap[a], near[a], strict=True)
            if b < len(base) and b != a and g > 3 * radius[a]
        }
    )
    start, end, wide = [], [], []
    for a, b in pairs:
        rise = float(np.linalg.norm(base[a, :2] - base[b, :2])) / np.tan(np.radians(min(s.lean_deg, 45.0)))
        least = min(top[a], top[b])
        z, to = floor_mm + s.foot_mm + s.column_mm, (a, b)
        while z + rise < least - s.column_mm:
            start.append([*base[to[0], :2], z])
            end.append([*base[to[1], :2], z + rise])
            wide.append(_BRACE_SHARE * min(radius[a], radius[b]))
            z, to = z + max(rise, _BRACE_EVERY_MM), to[::-1]
    if not start:
        return []
    p, q, r = np.array(start), np.array(end), np.array(wide)
    good = is_clear(mesh, p, q, r + s.clearance_mm)
    return [Limb(np.array([p[k], q[k]]), np.full(2, r[k]), _BRANCH_SIDES) for k in np.flatnonzero(good)]


def plate(ways: list[Way], floor_mm: float, s: SupportSettings) -> Mesh | None:
    """A plate under all columns on the bed, bevelled at its rim; None where there are none."""
    from scipy.spatial import ConvexHull

    bases = np.array([w.corners[-1][:2] for w in ways if not w.on_model]).reshape(-1, 2)
    if not len(bases):
        return None
    turn = 2 * np.pi * np.arange(_FOOT_SIDES) / _FOOT_SIDES
    circle = np.stack([np.cos(turn), np.sin(turn)], axis=1)

    def outline(rim: float) -> Floats:
        around = (bases[:, None] + rim * circle).reshape(-1, 2)
        return np.asarray(around[ConvexHull(around).vertices])

    bevel = _BEVEL * s.foot_mm
    rim = _FOOT_WIDE * s.column_mm * 0.5 + _RIM_MM
    low, high = outline(rim - bevel), outline(rim)
    floor_mm += _STAGGER_MM  # whatever else is at the bed lies in it
    points = np.vstack(
        [
            np.column_stack([low, np.full(len(low), floor_mm)]),
            np.column_stack([high, np.full(len(high), floor_mm + bevel)]),
            np.column_stack([high, np.full(len(high), floor_mm + s.foot_mm)]),
        ]
    )
    hull = ConvexHull(points)
    faces = hull.simplices.copy()
    corner = points[faces]
    inward = (
        np.einsum("ij,ij->i", np.cross(corner[:, 1] - corner[:, 0], corner[:, 2] - corner[:, 0]), hull.equations[:, :3])
        < 0
    )
    faces[inward] = faces[inward][:, ::-1]
    return Mesh.from_indexed(points, faces).as_stored()


def as_one(limbs: list[Limb], others: list[Mesh], floor_mm: float) -> Mesh:
    """One sound body, or as many as keep apart, of limbs over a bed and other bodies. Raises WorkError where none comes
    out."""
    colour = _dealt_out(limbs)
    bodies = [limb.mesh(k, floor_mm, _STAGGER_MM * (1 + int(colour[k]))) for k, limb in enumerate(limbs)]
    sets = []
    for c in range(int(colour.max(initial=-1)) + 1):
        some = [bodies[k] for k in np.flatnonzero(colour == c)]
        sets.append(some[0].joined(*some[1:]))
    sets += others
    try:
        made = sets[0]
        for other in sets[1:]:
            made = unite(made, other)[0]
    except WorkError:
        made = fuse_parts([*bodies, *others])
    return made


def with_model(mesh: Mesh, supports: Mesh) -> Mesh:
    """A sound mesh and its supports as one sound body: all at once, or in halves where rounding spoils that. Raises
    WorkError where none comes out."""
    mesh, shells = facing_out(mesh), supports.topology.shells
    try:
        return unite(mesh, supports, tries=_TRIES if shells == 1 else 1)[0]
    except WorkError:
        if shells == 1:
            raise
    later = supports.topology.shell >= shells // 2
    return with_model(with_model(mesh, supports.picked(~later)), supports.picked(later))


def _dealt_out(limbs: list[Limb]) -> Ints:
    """For each limb (L,) the number of the set it is in: limbs of one set keep apart."""
    met = _meeting(limbs)
    colour = np.full(len(limbs), -1)
    for k in range(len(limbs)):
        taken = set(colour[np.flatnonzero(met[k])].tolist())
        colour[k] = next(c for c in range(len(limbs) + 1) if c not in taken)
    return colour


def _meeting(limbs: list[Limb]) -> Bools:
    """Which limbs (L, L) may meet: their axes come as near as they are wide."""
    of = np.concatenate([np.full(len(m.axis) - 1, k) for k, m in enumerate(limbs)])
    start, end = np.concatenate([m.axis[:-1] for m in limbs]), np.concatenate([m.axis[1:] for m in limbs])
    wide = 1.2 * np.concatenate([np.maximum(m.radius[:-1], m.radius[1:]) for m in limbs])
    low, high = np.minimum(start, end) - wide[:, None], np.maximum(start, end) + wide[:, None]
    met = np.zeros((len(limbs), len(limbs)), bool)
    for k in range(len(of)):
        other = np.flatnonzero((low[k] <= high[k + 1 :]).all(axis=1) & (high[k] >= low[k + 1 :]).all(axis=1)) + k + 1
        other = other[of[other] != of[k]]
        here = np.full(len(other), k)
        p, q = closest_between(start[here], end[here], start[other], end[other])
        near = other[np.linalg.norm(p - q, axis=1) <= wide[k] + wide[other]]
        met[of[k], of[near]] = met[of[near], of[k]] = True
    return met
