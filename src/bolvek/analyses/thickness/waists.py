"""Waists: where the material is thin though no two places of its surface look at each other across it.

A rod of three sides, the neck between two pyramids: balls in it are small, yet every side leans away from every
other, as it does where material runs out to an edge. What tells them apart is the material itself (the opening by a
ball, Hildebrand and Ruegsegger 1997): from a place at an edge a ball grows as it moves into the body, until it is as
wide as the wall; a rod leads nowhere wide within a few walls; and beside a neck, from two places near each other, the
ways lead to two wide places between which nothing as wide passes. Where two sides run together to an edge, however
slowly, the material ends there, and is thin only where it is wide nowhere.
"""

from collections.abc import Callable

import numpy as np

from bolvek.analyses.thickness.probe import SQUARE_DEG
from bolvek.analyses.thickness.shortest import Ways, no_ways
from bolvek.arrays import Bools, Floats, Ints
from bolvek.mesh import Mesh
from bolvek.spatial.air import least_between, narrowest_along, widest_path
from bolvek.spatial.frames import HALF_DIAGONAL, across, fibonacci_sphere
from bolvek.spatial.points import PointTree
from bolvek.spatial.signed import SignedDistance

REACH_WALLS = 0.5 / np.sin(np.radians(0.5 * SQUARE_DEG))
"""Material runs out to an edge where a ball as wide as the wall fits within so many walls: what faces each other
squarely tapers longer, and is a wall."""
MOST_PLACES = 6000
"""Places that ways are followed from: of more, those nearest to each other are left out."""
_APART = 1 / 3  # walls between the places followed
_FIRST_STEP, _LAST_STEP, _MOST_STEPS = 0.25, 0.001, 200  # walls; of the way to a wider place
_SHORTER = 0.25  # of a step, where no direction leads to a wider place
_NEAR_A_TRAIL = 0.25  # walls
_WIDE = 1.3  # walls: how wide a known ball is taken at most
_ASKED = 6  # wide places known nearest to a narrow one
_NEIGHBOURS = 0.75  # walls: places nearer than this are beside each other
_SAME_NECK, _MOST_SUSPECTS, _MOST_NECKS = 0.25, 20_000, 60  # walls
_CELL, _AROUND, _LEVELS, _PUSHES, _FINEST = 1 / 6, 1.5, 5, 4, 10  # walls; walls; halvings; times; halvings
_AT_AN_EDGE = 0.5  # walls
_CLIMBS, _AT_THE_RIM = 12, 0.5  # steps; walls
_TURNS = np.stack([np.cos(np.arange(12) * np.pi / 6), np.sin(np.arange(12) * np.pi / 6)], axis=1)
_FEW_WAYS, _MANY_WAYS = fibonacci_sphere(26), fibonacci_sphere(200)


class _Material:
    """Distances to the surface, positive in material."""

    def __init__(self, distance: SignedDistance) -> None:
        self._distance = distance

    def at(self, points: Floats, limit: float = np.inf) -> Floats:
        return -self._distance.at(points, limit)

    def pushed(self, points: Floats, enough: float, plenty: Floats) -> tuple[Floats, Floats]:
        """Points (P, 3), those nearer to the surface than `enough` moved straight away from it as far as helps, then
        once more those nearer than `plenty` (P,), and the distance (P,) there."""
        place, width = points.copy(), self.at(points)
        tree = self._distance.tree
        narrow = np.flatnonzero((width < enough) & (width > 0))
        for turn in range(_PUSHES + 1):
            if turn == _PUSHES:
                narrow = np.flatnonzero((width < plenty) & (width >= enough))
            goal = plenty if turn == _PUSHES else np.full(len(points), enough)
            if not len(narrow):
                continue
            here = place[narrow]
            off = here - tree.closest_points(here, tree.nearest(here)[1])
            moved = here + off * (goal[narrow] / width[narrow] - 1)[:, None]
            value = self.at(moved)
            better = value > width[narrow]
            place[narrow[better]], width[narrow[better]] = moved[better], value[better]
            narrow = narrow[better & (value < goal[narrow])]
        return place, width

    def onward(self, points: Floats, step: Floats) -> Floats:
        """Unit directions (P, 2, 3) in which the surface is left: straight away from the nearest place, and between
        that and the place nearest from a little farther on, along the middle of what lies between two sides."""
        tree = self._distance.tree
        away = points - tree.closest_points(points, tree.nearest(points)[1])
        away /= np.maximum(np.linalg.norm(away, axis=1), 1e-300)[:, None]
        beyond = points + 0.25 * step[:, None] * away
        other = beyond - tree.closest_points(beyond, tree.nearest(beyond)[1])
        other /= np.maximum(np.linalg.norm(other, axis=1), 1e-300)[:, None]
        both = away + other
        both /= np.maximum(np.linalg.norm(both, axis=1), 1e-300)[:, None]
        return np.stack([away, both], axis=1)

    def climbed(self, points: Floats, width: Floats, along: Floats, enough: float, step: Floats) -> None:
        """Points (P, 3) nearer to the surface than `enough` moved, square to directions (P, 3), to where it is farther,
        by steps that begin at (P,) mm; changes them and the distance (P,) there."""
        u, w = across(along)
        step = step.copy()
        for _ in range(_CLIMBS):
            narrow = np.flatnonzero((width > 0) & (width < enough))
            if not len(narrow):
                break
            ways = _TURNS[:, 0, None, None] * u[narrow] + _TURNS[:, 1, None, None] * w[narrow]
            around = points[narrow] + step[narrow, None] * ways
            value = self.at(around.reshape(-1, 3)).reshape(len(ways), -1)
            best = np.argmax(value, axis=0)
            most = value[best, np.arange(len(narrow))]
            better = most > width[narrow]
            moved = narrow[better]
            points[moved], width[moved] = around[best, np.arange(len(narrow))][better], most[better]
            step[narrow[~better]] *= 0.5


def find_waists(
    mesh: Mesh,
    points: Floats,
    inward: Floats,
    face: Ints,
    ball_mm: Floats,
    wall_mm: float,
    *,
    lean: Bools,
    edge: Bools,
    near: Callable[[Floats], Bools] | None = None,
) -> Ways:
    """Waists thinner than a wall near places (Q, 3) of faces (Q,) of a sound mesh, from the widths of the balls (Q,)
    that touch them on the side of unit directions (Q, 3); as segments as long as the ball that passes is wide.

    lean (Q,): places whose sides do not face each other, where a small ball proves nothing; edge (Q,): those where the
    material is known to end at an edge: they are thin only where it is nowhere wide. near: which of some places (N, 3)
    necks are looked for at (None: all)."""
    narrow = (ball_mm < wall_mm) & (lean | edge)
    if edge.any():
        # the corner where such an edge ends leans to three sides
        corner = np.flatnonzero(narrow & ~edge)
        gap, _ = PointTree(points[edge]).nearest(points[corner])
        edge = edge.copy()
        edge[corner[gap <= _AT_AN_EDGE * wall_mm]] = True
    rows = np.concatenate(
        [_thinned(points, np.flatnonzero(narrow & (edge == e)), _APART * wall_mm) for e in (False, True)]
    )
    if not len(rows):
        return no_ways()
    inside = _Material(mesh.signed_distance)
    start, reach = points[rows] + 0.5 * ball_mm[rows, None] * inward[rows], np.full(len(rows), REACH_WALLS * wall_mm)
    broad = ball_mm >= wall_mm
    known = points[broad] + 0.5 * np.minimum(ball_mm[broad], _WIDE * wall_mm)[:, None] * inward[broad]
    place, radius = _beside(inside, start, known, reach, 0.5 * wall_mm)
    reach[edge[rows]] = np.inf
    far = np.flatnonzero(radius < 0.5 * wall_mm)
    place[far], radius[far] = _grown(inside, start[far], 0.5 * wall_mm, wall_mm, points[rows[far]], reach[far])
    wide = radius >= 0.5 * wall_mm
    found = [(place[k], float(2 * radius[k]), int(rows[k])) for k in np.flatnonzero(~wide & (radius > 0))]
    # an edge that two sides seem to run out to may lie past a neck's side
    some = np.flatnonzero(np.linalg.norm(place - points[rows], axis=1) <= REACH_WALLS * wall_mm)
    found += _necks(inside, points[rows[some]], place[some], wide[some], rows[some], wall_mm, near)
    if not found:
        return no_ways()
    middle = np.array([f[0] for f in found])
    length, of = np.array([f[1] for f in found]), np.array([f[2] for f in found])
    half = 0.5 * length[:, None] * inward[of]
    return Ways(middle - half, middle + half, length, face[of], face[of])


def _beside(inside: _Material, start: Floats, known: Floats, reach: Floats, enough: float) -> tuple[Floats, Floats]:
    """For each start (N, 3) a wide place of those known (K, 3) within its reach (N,), to which the straight way never
    gets narrower than it begins, and the distance there; the start itself where there is none so."""
    place, radius = start.copy(), inside.at(start)
    if not len(known):
        return place, radius
    begin = radius.copy()
    gap, nearest = PointTree(known).nearest_few(start, min(_ASKED, len(known)))
    for k in range(gap.shape[1]):
        open_ones = np.flatnonzero((radius < enough) & (gap[:, k] <= reach - enough))
        if not len(open_ones):
            break
        goal = known[nearest[open_ones, k]]
        share = np.array([0.2, 0.4, 0.6, 0.8, 1.0])
        way = start[open_ones][:, None, :] + share[None, :, None] * (goal - start[open_ones])[:, None, :]
        value = inside.at(way.reshape(-1, 3)).reshape(len(open_ones), -1)
        good = (value.min(axis=1) >= 0.98 * begin[open_ones]) & (value[:, -1] >= enough)
        place[open_ones[good]], radius[open_ones[good]] = goal[good], value[good, -1]
    return place, radius


def _thinned(points: Floats, rows: Ints, apart: float) -> Ints:
    """Of some rows one a cell of a lattice that is no finer than asked, and leaves no more than `MOST_PLACES`."""
    while True:
        if not len(rows):
            return rows
        cell = np.floor((points[rows] - points[rows].min(axis=0)) / apart).astype(np.int64)
        shape = cell.max(axis=0) + 1
        key = (cell[:, 0] * shape[1] + cell[:, 1]) * shape[2] + cell[:, 2]
        kept = rows[np.sort(np.unique(key, return_index=True)[1])]
        if len(kept) <= MOST_PLACES:
            return kept
        apart *= 1.5


def _grown(
    inside: _Material, start: Floats, enough: float, wall: float, home: Floats, reach: Floats
) -> tuple[Floats, Floats]:
    """The wide place (N, 3) that each start leads to, always on to where a ball is wider, and the distance (N,) there.

    A way ends where it is wide enough, where nothing around is wider, or at a reach (N,) from home (N, 3). One without
    such a reach that comes, within its own ball, near to where another was that is wider there goes on as that one did.
    """
    place, radius = start.copy(), inside.at(start)
    step = np.full(len(start), _FIRST_STEP * wall)
    trail = _Trail(place, radius)
    free = np.isinf(reach)
    for _ in range(_MOST_STEPS):
        going = np.flatnonzero((radius < enough) & (step >= _LAST_STEP * wall) & (trail.leader < 0))
        if not len(going):
            break
        # a narrow ridge shows itself to many directions only, where it does not lie between two sides
        for ways in (None, _FEW_WAYS, _MANY_WAYS):
            if not len(going):
                break
            if ways is None:
                ways = inside.onward(place[going], step[going])
            around = place[going][:, None, :] + step[going][:, None, None] * ways
            value = inside.at(around.reshape(-1, 3)).reshape(len(going), -1)
            near = np.linalg.norm(around - home[going][:, None, :], axis=2) <= reach[going][:, None]
            value = np.where(near, value, -np.inf)
            best = np.argmax(value, axis=1)
            most = value[np.arange(len(going)), best]
            # along a ridge that hardly rises a step must rise by something
            better = most > radius[going] + 1e-4 * step[going]
            moved = going[better]
            place[moved], radius[moved] = around[better, best[better]], most[better]
            step[moved] = np.minimum(1.5 * step[moved], _FIRST_STEP * wall)
            trail.follow(moved[free[moved]], place, radius, _NEAR_A_TRAIL * wall)
            trail.add(moved, place, radius)
            going = going[~better]
        step[going] *= _SHORTER
    last = trail.ends()
    return place[last], radius[last]


class _Trail:
    """Where ways have been, how wide it was there, and which way each of them follows (-1: none)."""

    def __init__(self, place: Floats, radius: Floats) -> None:
        self.leader = np.full(len(place), -1)
        self._place: list[Floats] = [place.copy()]
        self._radius: list[Floats] = [radius.copy()]
        self._of: list[Ints] = [np.arange(len(place))]

    def add(self, rows: Ints, place: Floats, radius: Floats) -> None:
        """Ways (K,) have come to their places."""
        self._place.append(place[rows])
        self._radius.append(radius[rows])
        self._of.append(rows)

    def follow(self, rows: Ints, place: Floats, radius: Floats, near: float) -> None:
        """Let those of ways (K,) follow another that is near enough to where that was, half its own radius at most, and
        narrower: as widths only grow along ways, none ever follows itself."""
        if not len(rows):
            return
        known, width, of = np.concatenate(self._place), np.concatenate(self._radius), np.concatenate(self._of)
        self._place, self._radius, self._of = [known], [width], [of]
        gap, nearest = PointTree(known).nearest_few(place[rows], min(_ASKED, len(known)), near)
        nearest = np.minimum(nearest, len(known) - 1)
        wider = (width[nearest] > radius[rows, None]) & (gap <= 0.5 * radius[rows, None])
        wider &= of[nearest] != rows[:, None]
        found = wider.any(axis=1)
        self.leader[rows[found]] = of[nearest[found, np.argmax(wider[found], axis=1)]]

    def ends(self) -> Ints:
        """The way (N,) at whose end each of them comes out."""
        last = np.where(self.leader >= 0, self.leader, np.arange(len(self.leader)))
        while not np.array_equal(after := last[last], last):
            last = after
        return last


def _necks(
    inside: _Material,
    home: Floats,
    place: Floats,
    wide: Bools,
    rows: Ints,
    wall: float,
    near: Callable[[Floats], Bools] | None,
) -> list[tuple[Floats, float, int]]:
    """Necks between the wide places that places beside each other lead to: where, how wide, the row."""
    some = np.flatnonzero(wide)
    if len(some) < 2:
        return []
    pairs = some[PointTree(home[some]).pairs(_NEIGHBOURS * wall)]
    a, b = place[pairs[:, 0]], place[pairs[:, 1]]
    pairs = pairs[np.linalg.norm(a - b, axis=1) > 0.25 * wall]
    if not len(pairs):
        return []
    # on the straight way between two such places
    a, b = place[pairs[:, 0]], place[pairs[:, 1]]
    share = np.linspace(0, 1, 9)[1:-1]
    between = a[:, None, :] + share[None, :, None] * (b - a)[:, None, :]
    width = np.concatenate(
        [
            inside.at(part.reshape(-1, 3)).reshape(len(part), -1)
            for part in np.array_split(between, max(1, len(between) // 50_000))
        ]
    )
    least, at_least = width.min(axis=1), between[np.arange(len(pairs)), np.argmin(width, axis=1)]
    suspect = np.flatnonzero(least < 0.5 * wall)
    if near is not None:
        suspect = suspect[near(at_least[suspect])]
    # the narrowest first, and of those about one place the first
    suspect = suspect[np.argsort(least[suspect], kind="stable")]
    cell = np.floor(0.5 * (a + b)[suspect] / (_SAME_NECK * wall)).astype(np.int64)
    suspect = suspect[np.sort(np.unique(cell, axis=0, return_index=True)[1])[:_MOST_SUSPECTS]]
    suspect = suspect[~_bends_round(inside, a[suspect], b[suspect], wall)]
    found: list[tuple[Floats, float, int]] = []
    seen: list[Floats] = []
    for k in suspect.tolist():
        middle = 0.5 * (a[k] + b[k])
        if any(np.linalg.norm(middle - s) < 0.5 * wall for s in seen):
            continue
        if len(seen) >= _MOST_NECKS:
            break
        seen.append(middle)
        half, where = _widest_way(inside, a[k], b[k], wall)
        if half == 0.0 and _across_air(inside, *home[pairs[k]]):
            continue  # the two sides of a slit, that do not hang together anywhere near
        if where is not None and half < 0.5 * wall:
            found.append((where, 2 * half, int(rows[pairs[k, 0]])))
    return found


def _across_air(inside: _Material, a: Floats, b: Floats) -> bool:
    """Whether the straight way between two places of the surface leaves the material."""
    share = np.linspace(0, 1, 9)[1:-1, None]
    return bool((inside.at(a + share * (b - a)) < -1e-3 * np.linalg.norm(b - a)).any())


def _bends_round(inside: _Material, a: Floats, b: Floats, wall: float) -> Bools:
    """Pairs of places (N, 3) between which the straight way, pushed away from the surface and halved again and again,
    becomes one that a ball as wide as the wall surely passes."""
    enough, slack = 0.5 * wall, HALF_DIAGONAL * _CELL * wall / 2**_LEVELS
    going = np.linalg.norm(b - a, axis=1) < 2 * _AROUND * wall
    # of each way the stretches of which it is not known yet that the ball passes
    of = np.flatnonzero(going)
    start, end = a[of], b[of]
    at_start, at_end = inside.at(start), inside.at(end)
    for _ in range(_FINEST):
        gap = np.linalg.norm(end - start, axis=1)
        open_ones = least_between(at_start, at_end, gap) < enough - slack
        going[of[open_ones & (gap <= slack)]] = False
        rows = np.flatnonzero(open_ones & going[of])
        if not len(rows):
            return going
        of, start, end, gap, at_start, at_end = (
            of[rows],
            start[rows],
            end[rows],
            gap[rows],
            at_start[rows],
            at_end[rows],
        )
        # with so much more both halves pass
        middle, width = inside.pushed(0.5 * (start + end), enough, np.hypot(enough, 0.25 * gap))
        inside.climbed(middle, width, (end - start) / gap[:, None], enough, 0.25 * gap)
        going[of[width < enough - slack]] = False
        of, start, end = np.tile(of, 2), np.concatenate([start, middle]), np.concatenate([middle, end])
        at_start, at_end = np.concatenate([at_start, width]), np.concatenate([width, at_end])
    going[of] = False
    return going


def _widest_way(inside: _Material, a: Floats, b: Floats, wall: float) -> tuple[float, Floats | None]:
    """Half the width of the widest way from a to b through the material around them, and where it is narrowest; None
    where a ball as wide as the wall passes. Where it is narrow along the rim of what is looked at, or there is none, a
    wider one may lie farther out."""
    for around in (_AROUND * wall, 2 * _AROUND * wall):
        half, where = _widest_within(inside, a, b, wall, around)
        if where is None:
            break
        within = (where - np.minimum(a, b) + around, np.maximum(a, b) + around - where)
        if half > 0 and min(float(w.min()) for w in within) > _AT_THE_RIM * wall:
            break
    return half, where


def _widest_within(inside: _Material, a: Floats, b: Floats, wall: float, around: float) -> tuple[float, Floats | None]:
    """The same within so many millimetres around both."""
    cell = _CELL * wall
    low = np.minimum(a, b) - around
    shape = np.ceil((np.maximum(a, b) + around - low) / cell).astype(np.int64) + 1
    index = np.stack(np.meshgrid(*(np.arange(n) for n in shape), indexing="ij"), -1).reshape(-1, 3)
    middles = low + (index + 0.5) * cell
    value = inside.at(middles)
    value[((index == 0) | (index == shape - 1)).any(axis=1)] = -1.0
    steps = np.array([shape[1] * shape[2], shape[2], 1], np.int64)
    start, goal = (int(np.floor((end - low) / cell).astype(np.int64) @ steps) for end in (a, b))
    way = widest_path(np.arange(len(value)), value, steps, start, goal)
    if way is None:
        return 0.0, 0.5 * (a + b)
    narrow = np.flatnonzero(value[way] < 0.5 * wall)
    if not len(narrow):
        return 0.5 * wall, None
    # finer, from the first wide cell before it to the first behind
    line = middles[way]
    line[0], line[-1] = b, a  # wide as they are
    stretch = line[max(narrow[0] - 1, 0) : narrow[-1] + 2]
    width, where = narrowest_along(inside, low, cell, stretch, 0.55 * wall, _LEVELS)
    width += HALF_DIAGONAL * cell / 2**_LEVELS
    return width, where if where is not None else stretch[len(stretch) // 2]
