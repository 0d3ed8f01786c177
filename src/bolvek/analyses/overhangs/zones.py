"""Overhanging faces gathered into zones, and what holds them: bridges told from what reaches out."""

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from bolvek.analyses.overhangs.record import OverhangZone, up_of
from bolvek.analyses.thickness import Samples, sample_surface
from bolvek.arrays import Bools, Floats, Ints, Ints8, Ints32
from bolvek.kernels.grid import bridges as kernels
from bolvek.mesh import Mesh
from bolvek.mesh.topology import label_patches
from bolvek.settings.measures import OverhangSettings
from bolvek.spatial.frames import across
from bolvek.spatial.points import PointTree
from bolvek.spatial.tree import Tree
from bolvek.units import as_triple

BRIDGE_DEG, FLAT_SHARE = 10.0, 0.9
"""A bridge is flat: this share of its area lies within so many degrees of the horizontal."""

HELD_SHARE = 0.98
"""A bridge is held on both sides in this share of its plan, on a raster of up to `CELLS` cells a side."""

_EXACTLY = 6  # directions in which a span is measured exactly
_JUST_BENEATH = 1e-5  # of the longest side
_ROUNDING = 1e-6  # a span that is as long as may be comes out so much longer
CELLS, _FEW_CELLS = 120, 40
_WAYS, _SIDES = 12, 4  # directions a bridge may run in: evenly spread, and along and across its longest sides
_ACROSS, _MOST_CELLS = 12, 250_000
_FINE_ZONES = 100  # largest flat zones whose plan gets the fine raster
_MOST_ASKED, _PIECES = 5000, 400


@dataclass(frozen=True)
class Overhanging:
    """What zones are gathered of. over: faces that overhang; samples: on them, with the drop (S,) below each; buried:
    samples in other material; on_bed, slope: of each face; height: of each vertex; islands: vertices at the bottoms of
    islands; tree: tells material by its winding number."""

    mesh: Mesh
    over: Ints
    samples: Samples
    drop: Floats
    buried: Samples
    on_bed: Bools
    slope: Floats
    height: Floats
    islands: Ints
    tree: Tree
    settings: OverhangSettings


class _Groups:
    """Rows by a number each has: those of one number."""

    def __init__(self, number: NDArray[np.integer], count: int) -> None:
        self._order = np.argsort(number, kind="stable")
        self._ends = np.searchsorted(number[self._order], np.arange(count + 1))

    def __getitem__(self, one: int) -> Ints:
        return np.asarray(self._order[self._ends[one] : self._ends[one + 1]])


class _Borders:
    """Where zones end, in plan: `held` by a face that goes down, lies on the bed or is in other material; `sides`: all
    of their edges."""

    def __init__(self, a: Overhanging, label: Ints32, count: int, plan: Floats) -> None:
        mesh, up = a.mesh, up_of(a.settings)
        half = (3 * a.over[:, None] + np.arange(3)).ravel()
        opposite = mesh.topology.opposite[half]
        begin, end = mesh.edge_ends(half)
        other = np.maximum(opposite, 0)
        third = mesh.faces[other // 3, (other % 3 + 2) % 3]
        rim = (opposite < 0) | (label[other // 3] != label[half // 3])
        holds = (opposite >= 0) & rim
        holds &= _goes_down(mesh.vertices, begin, end, third, a.slope[other // 3], up) | a.on_bed[other // 3]
        sunk = label[a.buried.face]
        inside = a.buried.points[sunk >= 0]

        def in_plan(edges: Bools) -> Floats:
            return np.stack([mesh.vertices[begin[edges]], mesh.vertices[end[edges]]], axis=1) @ plan.T

        self.held = np.concatenate([in_plan(holds), np.stack([inside, inside], axis=1) @ plan.T])
        self.held_of = _Groups(np.concatenate([label[half[holds] // 3], sunk[sunk >= 0]]), count)
        self.sides = in_plan(rim)
        self.sides_of = _Groups(label[half[rim] // 3], count)
        self.sunk = np.zeros(count, bool)
        self.sunk[sunk[sunk >= 0]] = True


def gather_zones(a: Overhanging, kind: Ints8) -> list[OverhangZone]:
    """Overhanging faces gathered by shared edges, largest first; kind (F,) is told what each face is."""
    mesh, samples = a.mesh, a.samples
    mask = np.zeros(len(mesh.faces), bool)
    mask[a.over] = True
    label, count = label_patches(mesh.topology, mask)
    plan = np.stack(across(up_of(a.settings)))
    borders = _Borders(a, label, count, plan)
    rows_of, faces_of = _Groups(label[samples.face], count), _Groups(label[a.over], count)
    begins = np.zeros(count + 1, bool)
    if len(a.islands):
        at_island = np.zeros(len(mesh.vertices), bool)
        at_island[a.islands] = True
        begins[label[a.over][at_island[mesh.faces[a.over]].any(axis=1)]] = True
    total = np.bincount(label[samples.face], samples.area, count)
    rank = np.empty(count, np.int64)
    rank[np.argsort(-total, kind="stable")] = np.arange(count)
    flat = samples.area * -a.slope[samples.face]
    found = []
    for z in range(count):
        rows = rows_of[z]
        if not len(rows):
            continue  # all of it lies within the first half layer, or inside other material
        faces, held = a.over[faces_of[z]], borders.held[borders.held_of[z]]
        reach = _reach(samples.points[rows] @ plan.T, held) if len(held) else None
        level = -a.slope[samples.face[rows]] >= np.cos(np.radians(BRIDGE_DEG))
        span = None
        if len(held) > 1 and float(samples.area[rows[level]].sum()) >= FLAT_SHARE * total[z]:
            cells = CELLS if rank[z] < _FINE_ZONES else _FEW_CELLS
            own, inner = borders.sides[borders.sides_of[z]], a.tree if borders.sunk[z] else None
            span = _span(mesh, faces, held, own, plan, inner, up_of(a.settings), cells)
        name = "cantilever"
        if span is not None and span <= a.settings.bridge_most_mm * (1 + _ROUNDING):
            name = "bridge"
        elif not len(held) and begins[z]:
            name = "free"
        kind[faces] = {"bridge": 3, "cantilever": 2, "free": 4}[name]
        used = np.unique(mesh.faces[faces])
        points = mesh.vertices[used]
        low, high = points.min(axis=0), points.max(axis=0)
        found.append(
            OverhangZone(
                name,
                float(total[z]),
                as_triple(points[int(np.argmin(a.height[used]))]),
                as_triple(0.5 * (low + high)),
                as_triple(high - low),
                float(np.degrees(np.arccos(np.clip(-a.slope[faces].min(), -1, 1)))),
                reach,
                span,
                float((flat[rows] * a.drop[rows]).sum()),
            )
        )
    return sorted(found, key=lambda z: (-z.area_mm2, z.centre_mm))


def _goes_down(v: Floats, a: Ints32, b: Ints32, c: Ints32, slope: Floats, up: Floats) -> Bools:
    """Whether the faces a b c lead downward from their edge a b: at least half as steeply as they can.

    The half keeps out the backward edges of a jagged border whose faces lead up.
    """
    along = v[b] - v[a]
    away = v[c] - v[a]
    t = np.einsum("ij,ij->i", away, along) / np.maximum(np.einsum("ij,ij->i", along, along), 1e-300)
    away -= t[:, None] * along
    steepest = np.sqrt(np.maximum(1 - slope**2, 0.0))
    return np.asarray(away @ up < -0.5 * steepest * np.linalg.norm(away, axis=1))


def _pieces(edges: Floats, step: float) -> Floats:
    """Points (N, 2) along edges (E, 2, 2), no farther apart than a step, ends included."""
    length = np.linalg.norm(edges[:, 1] - edges[:, 0], axis=1)
    pieces = np.clip(np.ceil(length / step), 1, 10 * _PIECES).astype(np.int64)
    row = np.repeat(np.arange(len(edges)), pieces + 1)
    first = np.repeat(np.cumsum(pieces + 1) - pieces - 1, pieces + 1)
    t = (np.arange(len(row)) - first) / np.repeat(pieces, pieces + 1)
    return np.asarray(edges[row, 0] + t[:, None] * (edges[row, 1] - edges[row, 0]))


def _reach(points: Floats, edges: Floats) -> float:
    """Farthest that samples (Q, 2) are, in plan, from the edges (E, 2, 2) that hold them.

    Of up to five thousand samples, to within a 400th of the extent of what holds.
    """
    step = max(float(np.ptp(edges, axis=(0, 1)).max()) / _PIECES, 1e-12)
    holders = PointTree(_pieces(edges, step))
    return float(holders.nearest(points[:: -(-len(points) // _MOST_ASKED)])[0].max())


def _span(
    mesh: Mesh, faces: Ints, edges: Floats, sides: Floats, plan: Floats, tree: Tree | None, up: Floats, cells: int
) -> float | None:
    """The span (mm) of a flat zone as a bridge in the best direction; None where it is none.

    edges (E, 2, 2) hold it; sides (S, 2, 2) are all there are, and say in which directions to look first.
    On a raster of its plan, lines run both ways from every cell until they come to what holds the zone (edges, other
    material) or leave it. All of them run in one direction, as a bridge is printed.
    """
    corners = mesh.vertices[mesh.faces[faces]]
    low, high = (corners @ plan.T).min(axis=(0, 1)), (corners @ plan.T).max(axis=(0, 1))
    local = Mesh(corners.reshape(-1, 3), np.arange(3 * len(corners)).reshape(-1, 3))
    step = float((high - low).max()) / cells
    if not step > 0:
        return None
    # a long narrow zone is some cells wide too
    width = local.area / float(np.linalg.norm(high - low))
    step = min(step, max(width / _ACROSS, float(np.sqrt(np.prod(high - low) / _MOST_CELLS))))
    some = sample_surface(local, 0.6 * step)
    shape = tuple(int(n) for n in np.ceil((high - low) / step).astype(int) + 5)
    raster = np.zeros(shape, np.int8)  # 0 outside, 1 zone, 2 held, 3 beside

    def mark(points: Floats, value: int) -> None:
        at = np.floor((points - low) / step).astype(int) + 2
        raster[at[:, 0], at[:, 1]] = value

    mark(some.points @ plan.T, 1)
    if tree is not None:
        inside = tree.winding(some.points - 1e-5 * float(mesh.size.max()) * up) > 0.5
        mark(some.points[inside] @ plan.T, 2)
    borders = edges[np.abs(edges[:, 1] - edges[:, 0]).sum(axis=1) > 0]
    if len(borders):
        mark(_pieces(borders, 0.25 * step), 2)
    # lines along a slanting side must not leave it at the raster's teeth, nor pass beside the end of what holds
    inside_it, holder = raster > 0, raster == 2
    beside, at_end = np.zeros(shape, bool), np.zeros(shape, bool)
    for dx, dy in np.ndindex(3, 3):
        beside |= np.roll(inside_it, (dx - 1, dy - 1), axis=(0, 1))
        at_end |= np.roll(holder, (dx - 1, dy - 1), axis=(0, 1))
    raster[~inside_it] = np.where(at_end, 2, np.where(beside, 3, 0))[~inside_it]
    # along the sides it has, and evenly besides
    side = sides[:, 1] - sides[:, 0]
    longest = side[np.argsort(-np.linalg.norm(side, axis=1), kind="stable")[:_SIDES]]
    turn = np.concatenate([np.arctan2(longest[:, 1], longest[:, 0]), np.arctan2(longest[:, 0], -longest[:, 1])])
    turn = np.concatenate([turn, np.pi * np.arange(_WAYS) / _WAYS])
    ways = np.stack([np.cos(turn), np.sin(turn)], axis=1)
    share, span = np.empty(len(ways)), np.empty(len(ways))
    kernels.bridge_spans(raster, ways, share, span)
    held = np.flatnonzero(share >= HELD_SHARE)
    if not len(held):
        return None
    best = held[np.argsort(span[held], kind="stable")[:_EXACTLY]]
    if tree is None:
        exact = [_across(some.points @ plan.T, borders, ways[k], step) for k in best.tolist()]
    else:
        exact = [_beneath(mesh, faces, some.points[~inside], ways[k] @ plan, up) for k in best.tolist()]
    # where that does not tell, in cells, one too far rather than one too near
    return min(e if e is not None else float(span[k]) * step for e, k in zip(exact, best.tolist(), strict=True))


def _beneath(mesh: Mesh, faces: Ints, points: Floats, way: Floats, up: Floats) -> float | None:
    """The longest way (mm) along a direction just beneath points (P, 3) of a zone, from what it stands in to the next;
    None where one comes out nowhere, or meets the zone itself."""
    start = points - _JUST_BENEATH * float(mesh.size.max()) * up
    both = [mesh.tree.rays(start, np.broadcast_to(side * way, start.shape), alone=True) for side in (1.0, -1.0)]
    length = both[0].distance[:, 0] + both[1].distance[:, 0]
    own = np.isin(both[0].face[:, 0], faces) | np.isin(both[1].face[:, 0], faces)
    if not len(length) or own.any() or not np.isfinite(length).all():
        return None
    return float(length.max())


def _across(points: Floats, borders: Floats, way: Floats, step: float) -> float | None:
    """The longest way (mm) along a direction, through points (P, 2) of a zone, from one of the edges (E, 2, 2) that
    hold it to the next; None where none has one on both sides."""
    aside = np.array([-way[1], way[0]])
    along, at = points @ way, points @ aside
    ends_along, ends_at = borders @ way, borders @ aside
    line = np.floor(at / step).astype(np.int64)
    longest = None
    for number in np.unique(line).tolist():
        mine = line == number
        t = float(np.median(at[mine]))
        over = (ends_at.min(axis=1) <= t) & (ends_at.max(axis=1) >= t) & (np.ptp(ends_at, axis=1) > 0)
        share = (t - ends_at[over, 0]) / (ends_at[over, 1] - ends_at[over, 0])
        held = np.sort(ends_along[over, 0] + share * (ends_along[over, 1] - ends_along[over, 0]))
        if len(held) < 2:
            continue
        k = np.searchsorted(held, along[mine])
        k = k[(k > 0) & (k < len(held))]
        if len(k):
            found = float((held[k] - held[k - 1]).max())
            longest = found if longest is None else max(longest, found)
    return longest
