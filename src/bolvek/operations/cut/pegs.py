"""Pegs and sockets between pieces: where there is room, made, cut in and measured.

A socket is allowed where samples of its whole surface are farther from every other face of its piece than the wall
asked for, and the spacing of the samples on top (distance changes by at most a millimetre a millimetre): so nothing
pokes through, and what is told of the wall is a bound.
"""

from dataclasses import dataclass

import numpy as np

from bolvek.arrays import Floats, Ints32
from bolvek.errors import WorkError
from bolvek.mesh import Mesh
from bolvek.operations.convex.body import lofted
from bolvek.operations.cut.contacts import Meeting
from bolvek.operations.cut.planes import FITTING, Piece, Plane
from bolvek.operations.cut.record import Contact, Peg
from bolvek.operations.fuse.arrange import DIFFERENCE, UNION
from bolvek.operations.fuse.reach import shortest_way
from bolvek.operations.fuse.unite import unite
from bolvek.operations.pose import turn_onto
from bolvek.settings.parts import PegSettings
from bolvek.spatial.frames import across
from bolvek.units import as_triple, length_text

DIAMETERS_MM = (10.0, 8.0, 6.0, 5.0, 4.0, 3.0, 2.5, 2.0, 1.5)
"""Pegs that size themselves have the widest of these of which as many fit as were asked."""
_SHARE = 0.4  # of the widest circle that a peg which sizes itself takes at most
_LENGTH = 1.25  # diameters
_TIP = 2.0  # clearances between the end of a peg and its socket
_ROOT = 0.5  # of the wall: so deep a peg is rooted in its piece
_CHAMFER = 0.15  # of the diameter
_FLAT = 0.6  # of the radius: how far off the middle a flat side lies
_SAMPLE_MM = 0.4
_CANDIDATES, _BATCH = 400, 12
_OUT_MM = 0.5  # a socket's cutter stands out of the cut by so much


@dataclass(frozen=True)
class Planned:
    """A peg to be made on a meeting."""

    meeting: int
    at: Floats
    diameter: float
    length: float
    wall: float


class Pegs:
    """Where pegs go between pieces, and the pieces with them."""

    def __init__(self, pieces: list[Piece], planes: tuple[Plane, ...], met: list[Meeting], s: PegSettings) -> None:
        self.pieces, self.planes, self.met, self.s = pieces, planes, met, s
        self.taken: list[list[tuple[Floats, float]]] = [[] for _ in pieces]
        self.planned: list[Planned] = []
        self.contacts: list[Contact] = []
        self.left = 0.0  # the best wall that any socket of the size tried last would leave
        self._others: dict[tuple[int, int], Mesh] = {}

    def plan(self) -> None:
        """Find the places. Raises WorkError where no place of any meeting takes a peg."""
        for k, meeting in enumerate(self.met):
            chosen, reason = self._chosen(k)
            self.planned += chosen
            self.contacts.append(meeting.told(len(chosen), reason))
        if not self.planned:
            largest = max(self.contacts, key=lambda c: c.area_mm2, default=None)
            reason = largest.reason if largest is not None else "the pieces do not meet"
            raise WorkError(f"no peg fits anywhere: {reason}; a hollow model can have a lip instead")

    def _chosen(self, number: int) -> tuple[list[Planned], str]:
        """Pegs of a meeting, and why there are not as many as asked."""
        s, meeting = self.s, self.met[number]
        widest = meeting.widest[1]
        around = s.clearance_mm + s.wall_mm
        sizes = [s.diameter_mm] if s.diameter_mm is not None else list(DIAMETERS_MM)
        if s.diameter_mm is None:
            sizes = [d for d in sizes if d <= max(_SHARE * widest, DIAMETERS_MM[-1])]
        best: list[Planned] = []
        for diameter in sizes:
            self.left = 0.0
            if widest < diameter + 2 * around:
                continue
            found = self._spread(number, diameter)
            if len(found) > len(best):
                best = found
            if len(best) == s.count:
                break
        for planned in best:
            self._take(planned)
        least, fits = sizes[-1], max(widest - 2 * around, 0.0)
        if widest < least + 2 * around:
            return [], (
                f"the section is {length_text(widest)} wide at most, a peg of {length_text(least)} with "
                f"{length_text(s.clearance_mm)} clearance and {length_text(s.wall_mm)} wall around it needs "
                f"{length_text(least + 2 * around)}" + (f" ({length_text(fits)} would fit)" if fits > 0 else "")
            )
        if not best:
            length = s.length_mm or _LENGTH * least
            return [], (
                f"behind the cut there is no depth: the socket of a peg {length_text(least)} wide and "
                f"{length_text(length)} long would leave {length_text(max(self.left, 0.0))} of wall at most, "
                f"{length_text(s.wall_mm)} are asked"
            )
        return best, "" if len(best) == s.count else "no more have room beside each other"

    def _spread(self, number: int, diameter: float) -> list[Planned]:
        """As many pegs as asked, or as there is room for: the widest place, then each far from the others."""
        s, meeting = self.s, self.met[number]
        length = s.length_mm or _LENGTH * diameter
        need = 0.5 * diameter + s.clearance_mm + s.wall_mm
        rows = np.argwhere(meeting.deep >= need)
        if not len(rows):
            return []
        order = np.argsort(-meeting.deep[tuple(rows.T)], kind="stable")
        step = max(1, len(rows) // _CANDIDATES)
        rows = rows[order[::step]]
        places, deep = meeting.places(rows.astype(np.float64)), meeting.deep[tuple(rows.T)]
        walls = np.full(len(rows), np.nan)
        apart = 2 * (0.5 * diameter + s.clearance_mm) + s.wall_mm

        def best_of(score: Floats) -> int:
            """The candidate of the highest score that leaves its wall, -1 where none does."""
            for batch in np.array_split(np.argsort(-score, kind="stable"), -(-len(score) // _BATCH)):
                batch = batch[score[batch] > 0]
                ask = batch[np.isnan(walls[batch])]
                if len(ask):
                    walls[ask] = self._walls(meeting, places[ask], diameter, length)
                    self.left = max(self.left, float(walls[ask].max()))
                fine = batch[walls[batch] >= s.wall_mm]
                if len(fine):
                    return int(fine[0])
            return -1

        first = best_of(deep)
        if first < 0:
            return []
        chosen = [first]
        for turn in range(s.count):
            if turn == 1:  # the first was only the widest place: now it may lie far from the second
                chosen = chosen[1:]
            gap = np.linalg.norm(places[:, None] - places[chosen][None], axis=2).min(axis=1)
            following = best_of(np.where(gap >= apart, gap * np.sqrt(deep), 0.0)) if s.count > 1 else -1
            if following < 0:
                break
            chosen.append(following)
            if len(chosen) == s.count and turn:
                break
        return [Planned(number, places[k], diameter, length, float(walls[k])) for k in chosen[: s.count]]

    def _walls(self, meeting: Meeting, places: Floats, diameter: float, length: float) -> Floats:
        """At least so much material (N,) is around a socket at each place; less than nothing where none may be."""
        s = self.s
        socket = 0.5 * diameter + s.clearance_mm
        deep = length + _TIP * s.clearance_mm
        normal = np.array(self.planes[meeting.plane].normal)
        wall = self._room(meeting.other, meeting, places, normal, socket, deep)
        if s.loose:
            return np.minimum(wall, self._room(meeting.one, meeting, places, -normal, socket, deep))
        root = self._room(meeting.one, meeting, places, -normal, 0.5 * diameter, _ROOT * s.wall_mm)
        return np.where(root > 0.5 * _ROOT * s.wall_mm, wall, -1.0)

    def _room(self, piece: int, meeting: Meeting, places: Floats, axis: Floats, radius: float, deep: float) -> Floats:
        """What is left at least (N,) around cylinders from places (N, 3) on the plane along an axis into a piece."""
        samples = _cylinder(axis, radius, deep, _SAMPLE_MM)
        slack = 0.71 * _SAMPLE_MM
        key = piece, meeting.plane
        if key not in self._others:
            mine = self.pieces[piece]
            self._others[key] = mine.mesh.picked(mine.label != meeting.plane)
        points = (places[:, None] + samples[None]).reshape(-1, 3)
        limit = self.s.wall_mm + radius + deep
        gap, _ = self._others[key].tree.nearest(points, limit)
        least = np.where(np.isfinite(gap), gap, limit).reshape(len(places), -1).min(axis=1)
        for axis_points, other_radius in self.taken[piece]:
            away = np.linalg.norm(points[:, None] - axis_points[None], axis=2).min(axis=1) - other_radius
            least = np.minimum(least, away.reshape(len(places), -1).min(axis=1))
        return np.asarray(least - slack)

    def _take(self, planned: Planned) -> None:
        """Keep later sockets off this one."""
        meeting = self.met[planned.meeting]
        normal = np.array(self.planes[meeting.plane].normal)
        along = np.linspace(0, planned.length + _TIP * self.s.clearance_mm, 12)[:, None]
        radius = 0.5 * planned.diameter + self.s.clearance_mm
        self.taken[meeting.other].append((planned.at + along * normal, radius))
        if self.s.loose:
            self.taken[meeting.one].append((planned.at - along * normal, radius))

    def made(self) -> tuple[list[Piece], tuple[Peg, ...], Mesh | None]:
        """The pieces with pegs and sockets, what they are, and where they are loose all pegs, standing beside each
        other. Raises WorkError where one does not come out sound."""
        s = self.s
        add: dict[int, list[Mesh]] = {}
        take: dict[int, list[Mesh]] = {}
        bare: list[Mesh] = []
        for p in self.planned:
            meeting = self.met[p.meeting]
            normal = np.array(self.planes[meeting.plane].normal)
            radius, deep = 0.5 * p.diameter, p.length + _TIP * s.clearance_mm
            low = -p.length if s.loose else -_ROOT * s.wall_mm
            peg = self._body(p.at, normal, radius, low, p.length, chamfer=_CHAMFER * p.diameter, both=s.loose)
            cutters = [(meeting.other, self._body(p.at, normal, radius, -_OUT_MM, deep, grown=s.clearance_mm))]
            if s.loose:
                cutters.append((meeting.one, self._body(p.at, normal, radius, -deep, _OUT_MM, grown=s.clearance_mm)))
            else:
                add.setdefault(meeting.one, []).append(peg)
            for piece, cutter in cutters:
                take.setdefault(piece, []).append(cutter)
            bare.append(peg)
        pieces = list(self.pieces)
        for k in sorted({*add, *take}):
            for bodies, keep in ((take.get(k), DIFFERENCE), (add.get(k), UNION)):
                if bodies:
                    pieces[k] = fitted(pieces[k], bodies[0].joined(*bodies[1:]), keep)
        pegs = []
        for p, peg in zip(self.planned, bare, strict=True):
            meeting = self.met[p.meeting]
            pegs.append(
                Peg(
                    plane=meeting.plane + 1,
                    pieces=(meeting.one + 1, meeting.other + 1),
                    at_mm=as_triple(p.at),
                    diameter_mm=p.diameter,
                    length_mm=2 * p.length if s.loose else p.length,
                    wall_mm=p.wall,
                    gap_mm=gap_between(peg, pieces[meeting.other].mesh, self.planes[meeting.plane]),
                )
            )
        return pieces, tuple(pegs), _standing(bare, self) if s.loose else None

    def _body(
        self,
        at: Floats,
        normal: Floats,
        radius: float,
        low: float,
        high: float,
        *,
        grown: float = 0.0,
        chamfer: float = 0.0,
        both: bool = False,
    ) -> Mesh:
        """A round body around an axis, or one with a flat side; grown: every side farther out by so much."""
        u, w = across(normal)
        flat = _FLAT * radius if self.s.flat else np.inf
        # a loose round peg may be turned in its socket: the socket clears its corners, the peg is measured turned
        turns = self.s.loose and not self.s.flat
        inner = radius if turns and grown else radius * np.cos(np.pi / self.s.sides)
        outline = _outline(self.s.sides, inner + grown, flat + grown, 0.5 if turns and not grown else 0.0)
        least = min(inner, flat)

        def ring(height: float, less: float) -> Floats:
            x, y = (1.0 - less / least) * outline.T
            return np.asarray(at + height * normal + x[:, None] * u + y[:, None] * w)

        rings = [ring(low, chamfer)] if both and chamfer else []
        rings += [ring(low + chamfer if both else low, 0.0), ring(high - chamfer, 0.0)]
        rings += [ring(high, chamfer)] if chamfer else []
        return lofted(rings)


def _outline(sides: int, inner: float, flat: float, turn: float) -> Floats:
    """The corners (N, 2) of a regular polygon around a circle, turned by a share of a side, or of what is left of it
    beside a flat side so far off the middle. With both lengths grown, every side lies farther out by as much."""
    angle = 2 * np.pi * (np.arange(sides) + turn) / sides
    out = np.stack([np.cos(angle), np.sin(angle)], axis=1)
    far = np.full(sides, inner)
    reach = inner / np.cos(np.pi / sides)
    if flat < inner:
        # sides of which both ends lie beyond the flat one
        ends = reach * np.cos(np.stack([angle - np.pi / sides, angle + np.pi / sides]))
        keep = np.flatnonzero(~(ends >= flat).all(axis=0))
        out = np.concatenate([[(1.0, 0.0)], out[keep]])
        far = np.concatenate([[flat], far[keep]])
    after, far_after = np.roll(out, -1, axis=0), np.roll(far, -1)
    cross = out[:, 0] * after[:, 1] - out[:, 1] * after[:, 0]
    x = (far * after[:, 1] - far_after * out[:, 1]) / cross
    y = (far_after * out[:, 0] - far * after[:, 0]) / cross
    return np.stack([x, y], axis=1)


def _cylinder(axis: Floats, radius: float, deep: float, spacing: float) -> Floats:
    """Samples (N, 3) of the side and the floor of a cylinder from the origin along an axis, no point of it farther
    from one than 0.71 of the spacing."""
    u, w = across(axis)
    found = []

    def rim(r: float, height: float) -> None:
        count = max(int(np.ceil(2 * np.pi * r / spacing)), 1)
        angle = 2 * np.pi * np.arange(count) / count
        found.append(height * axis + r * (np.cos(angle)[:, None] * u + np.sin(angle)[:, None] * w))

    for height in np.linspace(0, deep, int(np.ceil(deep / spacing)) + 1):
        rim(radius, float(height))
    for r in np.linspace(0, radius, int(np.ceil(radius / spacing)) + 1)[:-1]:
        rim(float(r), deep)
    return np.concatenate(found)


def fitted(piece: Piece, body: Mesh, keep: tuple[int, int]) -> Piece:
    """The piece with a body added or taken out."""
    mesh, source = unite(piece.mesh, body, keep)
    own = (source >= 0) & (source < len(piece.label))
    label: Ints32 = np.where(own, piece.label[np.where(own, source, 0)], FITTING).astype(np.int32)
    return Piece(mesh, label, piece.sides, piece.laid_mm)


def gap_between(body: Mesh, other: Mesh, plane: Plane) -> float:
    """How far at least the part of a body above a plane is from another mesh: face against face, from the foot on."""
    part = _above(body, plane)
    if not len(part.faces):
        return float("nan")
    reach = float(other.tree.nearest(part.vertices)[0].min())
    return min(reach, shortest_way(part, other, reach)[2])


def _above(body: Mesh, plane: Plane) -> Mesh:
    """The surface of a body above a plane, its faces cut off there."""
    corners, height = body.corners, plane.above(body.vertices)[body.faces]
    whole = (height >= 0).all(axis=1)
    found = [corners[whole]]
    for k in range(3):
        turn = [k, (k + 1) % 3, (k + 2) % 3]
        h, c = height[:, turn], corners[:, turn]
        one = ~whole & (h[:, 0] > 0) & (h[:, 1] <= 0) & (h[:, 2] <= 0)
        two = ~whole & (h[:, 0] < 0) & (h[:, 1] >= 0) & (h[:, 2] >= 0) & (h[:, 1:].max(axis=1) > 0)
        for rows in (one, two):
            p, q = (_at_zero(c[rows, 0], c[rows, j], h[rows, 0], h[rows, j]) for j in (1, 2))
            if rows is one:
                found.append(np.stack([c[rows, 0], p, q], axis=1))
            else:
                found += [np.stack([p, c[rows, 1], c[rows, 2]], axis=1), np.stack([p, c[rows, 2], q], axis=1)]
    return Mesh.from_corners(np.concatenate(found))


def _at_zero(p: Floats, q: Floats, a: Floats, b: Floats) -> Floats:
    """Where lines from p to q (N, 3) of heights a and b (N,) reach zero."""
    return np.asarray(p + (a / np.where(a == b, 1.0, a - b))[:, None] * (q - p))


def _standing(pegs: list[Mesh], planned: Pegs) -> Mesh:
    """Loose pegs upright in a row, a little apart."""
    found, x = [], 0.0
    for p, peg in zip(planned.planned, pegs, strict=True):
        normal = np.array(planned.planes[planned.met[p.meeting].plane].normal)
        standing = peg.vertices @ turn_onto(normal, np.array([0.0, 0.0, 1.0])).T
        low, high = standing.min(axis=0), standing.max(axis=0)
        found.append(peg.moved(standing - [low[0] - x, 0.5 * (low + high)[1], low[2]]))
        x += float((high - low)[0]) + max(2.0, 0.5 * p.diameter)
    return found[0].joined(*found[1:]).as_stored()
