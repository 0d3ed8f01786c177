"""Where to put drains: the lowest reachable point of each cavity, and a vent at its highest.

Works on a freshly hollowed model, whose cavities are shells of their own. Candidates are places all over the inner
surface, the lowest first, on a level floor those nearest to the middle; among those from which a clean bore
reaches the outside and leaves the wall beside it, low and through little more than the wall wins. Where none does,
smaller holes are tried, down to the least; a cavity that none reaches is given up, with the counted reasons.
"""

from collections import Counter
from dataclasses import dataclass

import numpy as np

from bolvek.analyses.shells import nest_exactly
from bolvek.analyses.thickness import sample_surface
from bolvek.arrays import Bools, Floats, Ints
from bolvek.errors import WorkError
from bolvek.mesh import Mesh
from bolvek.operations.drain.beside import wall_left
from bolvek.operations.drain.bore import Bore, BoreError, bore_along
from bolvek.settings.measures import wall_tolerance_mm
from bolvek.settings.shape import Ball, Drain, PlaceSettings
from bolvek.spatial.frames import fibonacci_sphere
from bolvek.units import as_triple

_MOST_CANDIDATES = 400

_SEEN_COST = 8.0  # mm of height given up for a hole on the side people do not look at
_ASIDE_COST = 0.01  # mm of height given up for a mm nearer to the middle of the cavity
_INDOORS_COST = 50.0  # mm of height given up for a hole that leads outside, not into another room
_EXTRA_WALL_COST = 0.3  # mm of height given up for a mm less of uneven wall
_MOUTH_REACH = 3.0  # diameters from a place of the room to where its hole begins, at most
_APART = 2.5  # holes of one cavity keep this many diameters between them
_SMALLER = 0.8
_LOOKS = 1500  # directions from the middle of a chamber
_CHAMBER_REACH = 1.6  # of its radius: what is seen nearer belongs to a chamber

REASONS = {
    "taken": "too near another hole",
    "kept off": "where none is wanted",
    "outside": "no way straight out",
    "flat": "too flat to the surface",
    "hole": "a hole already",
    "start": "something in the way",
    "patch": "the outside too uneven",
    "above": "no room to start",
    "solid": "no cavity behind",
    "room": "wider than the cavity",
    "open": "comes out in the open",
    "along": "along a wall",
    "deep": "into the far wall",
    "side": "into a side wall",
    "beside": "too little wall beside it",
    "elsewhere": "into another room",
    "cut": "could not be cut cleanly",
    "small": "too small to be seen",
}
"""Why a place was not taken, as it is told."""


@dataclass(frozen=True)
class Placed:
    """A drain that was placed, its bore, and how far from the cavity's extreme it opens into it (mm)."""

    drain: Drain
    bore: Bore
    role: str
    above_extreme_mm: float


@dataclass(frozen=True)
class GivenUp:
    """A cavity that no drain reaches: its shell in the mesh, volume, middle, places tried and why they failed."""

    shell: int
    volume_mm3: float
    where_mm: tuple[float, float, float]
    diameter_mm: float
    tried: int
    reasons: dict[str, int]

    @property
    def text(self) -> str:
        """The counted reasons for people, most first."""
        counted = sorted(self.reasons.items(), key=lambda r: (-r[1], r[0]))
        return ", ".join(f"{n} {REASONS[kind]}" for kind, n in counted[:4])


def place_drains(mesh: Mesh, settings: PlaceSettings) -> tuple[list[Placed], list[GivenUp]]:
    """Drains for every closed cavity of a hollowed mesh, lowest first, and the cavities that none reaches.

    Raises WorkError when the model has no cavity.
    """
    settings.check()
    nested = nest_exactly(mesh)
    cavities, _ = nested.voids
    if not len(cavities):
        raise WorkError("the model has no closed cavity to drain")
    up = np.array(settings.up) / np.linalg.norm(settings.up)
    placed: list[Placed] = []
    given_up: list[GivenUp] = []
    for shell in cavities:
        inner = mesh.picked(mesh.topology.shell == shell)
        for diameter in narrower(settings):
            here, reasons, tried = _place_all(mesh, inner, up, settings, diameter, placed)
            if here is not None:
                break
        if here is not None:
            placed += here
        else:
            where = as_triple(inner.bounds.mean(axis=0))
            given_up.append(GivenUp(int(shell), -inner.volume, where, diameter, tried, dict(reasons)))
    return placed, given_up


def _place_all(
    mesh: Mesh, inner: Mesh, up: Floats, settings: PlaceSettings, diameter: float, taken: list[Placed]
) -> tuple[list[Placed] | None, Counter[str], int]:
    """All holes of one cavity with one diameter, or None, why, and how many places were tried.

    A cavity that takes one hole but not two gets the one: it drains, and the proof notes that it has no vent.
    """
    here: list[Placed] = []
    reasons: Counter[str] = Counter()
    tried = 0
    for k in range(settings.count):
        role = "vent" if k == 1 else "drain"
        found, why, n = _place_one(mesh, inner, role, up, settings, diameter, taken + here)
        if found is None:
            reasons.update(why)
            tried += n
            if k == 0 or (settings.least_mm is not None and diameter > settings.least_mm):
                return None, reasons, tried
            break
        here.append(found)
    return here, reasons, tried


def place_in_chamber(
    mesh: Mesh, centre: tuple[float, float, float], width_mm: float, settings: PlaceSettings, taken: list[Placed]
) -> Placed | None:
    """A drain for the part of a cavity around a place in it, so wide there, low in what is seen from there.

    None when none reaches.
    """
    up = np.array(settings.up) / np.linalg.norm(settings.up)
    sphere = fibonacci_sphere(_LOOKS)
    hits = mesh.tree.rays(np.broadcast_to(np.array(centre), sphere.shape), sphere)
    # what is far lies beyond the neck
    seen = np.flatnonzero((hits.face[:, 0] >= 0) & (hits.distance[:, 0] <= _CHAMBER_REACH * 0.5 * width_mm))
    if not len(seen):
        return None
    points = np.array(centre) + hits.distance[seen, :1] * sphere[seen]
    places = points, mesh.normals_of(hits.face[seen, 0])
    for diameter in narrower(settings):
        found, _, _ = _best_of(mesh, places, points, "drain", up, settings, diameter, taken)
        if found is not None:
            return found
    return None


def _place_one(
    mesh: Mesh, inner: Mesh, role: str, up: Floats, settings: PlaceSettings, diameter: float, taken: list[Placed]
) -> tuple[Placed | None, Counter[str], int]:
    """The best clean bore of one cavity: low (a vent: high) and through little more than the wall."""
    places = candidates_on(inner, 0.5 * diameter)
    return _best_of(mesh, places, inner.vertices, role, up, settings, diameter, taken)


def _best_of(
    mesh: Mesh,
    places: tuple[Floats, Floats],
    room: Floats,
    role: str,
    up: Floats,
    settings: PlaceSettings,
    diameter: float,
    taken: list[Placed],
) -> tuple[Placed | None, Counter[str], int]:
    """The best clean bore from places (N, 3) with directions (N, 3) into the room that points (M, 3) span."""
    down = -up if role == "drain" else up
    height = places[0] @ down
    extreme = float((room @ down).max())
    middle = 0.5 * (room.min(axis=0) + room.max(axis=0))
    cost = extreme - height + aside_cost(places[0], middle, up)
    return best_bore(mesh, places, cost, extreme, role, settings, diameter, taken)


def aside_cost(points: Floats, middle: Floats, up: Floats) -> Floats:
    """What places (N, 3) cost (N,) for being aside from the middle of their room, mm."""
    aside = points - middle
    aside -= (aside @ up)[:, None] * up
    return np.asarray(_ASIDE_COST * np.linalg.norm(aside, axis=1))


def best_bore(
    mesh: Mesh,
    places: tuple[Floats, Floats],
    cost: Floats,
    extreme: float,
    role: str,
    settings: PlaceSettings,
    diameter: float,
    taken: list[Placed],
) -> tuple[Placed | None, Counter[str], int]:
    """The clean bore that costs least, from places (N, 3) with directions (N, 3) into the room, which cost (N,) at
    least so many mm; why others were not taken, and how many were tried. extreme: the room's lowest (a vent: highest)
    height, downward (upward)."""
    radius = 0.5 * diameter
    up = np.array(settings.up) / np.linalg.norm(settings.up)
    down = -up if role == "drain" else up
    may = _may_reach(settings, places[0], _MOUTH_REACH * diameter)
    points, normal, bare = places[0][may], places[1][may], cost[may]
    # what it costs at least, for being seen along the best of its axes
    bound = bare + _SEEN_COST * np.min([_seen(settings, -a) for a in _axes_all(normal, down)], axis=0)
    order = np.argsort(bound, kind="stable")
    chosen = order[_thinned(points[order], 0.8 * radius)] if len(order) else order
    # what is measured before the cut is as much off as a wall may be
    needed = None if settings.wall_mm is None else settings.wall_mm + 2 * wall_tolerance_mm(settings.wall_mm)
    apart = _APART * diameter
    reasons: Counter[str] = Counter()
    best: Placed | None = None
    least = np.inf
    for row in chosen:
        if bound[row] >= least:
            break
        point = points[row]
        above = max(extreme - float(point @ down), 0.0)
        why = "taken"
        if all(np.linalg.norm(point - t.bore.mouth) >= apart for t in taken):
            why = ""
            for axis in _axes(normal[row], down):
                seen = float(bare[row]) + _SEEN_COST * float(_seen(settings, -axis[None])[0])
                if seen >= least:
                    continue
                bore = _clean_bore(mesh, point, axis, settings, diameter, taken)
                if isinstance(bore, str):
                    why = why or bore
                    continue
                whole = seen + _EXTRA_WALL_COST * (bore.wall_mm[1] - bore.wall_mm[0]) + _INDOORS_COST * bore.indoors
                if whole >= least:
                    continue
                if needed is not None and wall_left(mesh, bore, radius, needed) < needed:
                    why = why or "beside"
                    continue
                least = whole
                best = Placed(Drain(bore.mouth, diameter, as_triple(point)), bore, role, above)
        # one reason a place, however many ways it was tried
        if why:
            reasons[why] += 1
    kept_off = int((~may).sum())
    if kept_off and not len(chosen):
        kept_off = len(_thinned(places[0][~may], 0.8 * radius))
        return None, Counter({"kept off": kept_off}), kept_off
    return best, reasons, len(chosen)


def _clean_bore(
    mesh: Mesh, point: Floats, axis: Floats, settings: PlaceSettings, diameter: float, taken: list[Placed]
) -> Bore | str:
    """The bore along an axis that comes out at a place of a room, or why there is none."""
    start = _outer_point(mesh, point, -axis)
    if start is None:
        return "outside"
    if not _allows(settings, start):
        return "kept off"
    try:
        bore = bore_along(mesh, start, axis, 0.5 * diameter)
    except BoreError as error:
        return error.kind
    if any(np.linalg.norm(np.subtract(bore.mouth, t.bore.mouth)) < _APART * diameter for t in taken):
        return "taken"
    if np.linalg.norm(bore.end - point) > diameter + bore.wall_mm[1] - bore.wall_mm[0]:
        return "elsewhere"
    return bore


def narrower(settings: PlaceSettings) -> "list[float]":
    """The diameters to try, widest first."""
    found = [settings.diameter_mm]
    least = settings.least_mm or settings.diameter_mm
    while found[-1] > least:
        found.append(max(found[-1] * _SMALLER, least))
    return found


def candidates_on(inner: Mesh, radius: float) -> tuple[Floats, Floats]:
    """Places (N, 3) all over an inner shell and the directions (N, 3) into the cavity there."""
    spacing = max(0.5 * radius, float(np.sqrt(inner.area / 60_000)))
    samples = sample_surface(inner, spacing)
    return (
        np.concatenate([inner.vertices, samples.points]),
        np.concatenate([inner.vertex_normals, inner.normals_of(samples.face)]),
    )


def _thinned(points: Floats, spacing: float) -> Ints:
    """Rows of the first point of each cube of the given side, in order, at most `_MOST_CANDIDATES`."""
    cube = np.floor((points - points.min(axis=0)) / spacing).astype(np.int64)
    size = cube.max(axis=0) + 1
    _, first = np.unique((cube[:, 0] * size[1] + cube[:, 1]) * size[2] + cube[:, 2], return_index=True)
    return np.sort(first)[:_MOST_CANDIDATES]


def _axes(square: Floats, down: Floats) -> list[Floats]:
    """Inward directions to try: square through the wall, straight along gravity, between the two."""
    return [axes[0] for axes in _axes_all(square[None], down) if np.linalg.norm(axes[0]) > 0.5]


def _axes_all(square: Floats, down: Floats) -> tuple[Floats, Floats, Floats]:
    """The same for many (N, 3); zero where there is none between the two."""
    between = square - down
    size = np.linalg.norm(between, axis=1)[:, None]
    between = np.where(size > 1e-3, between / np.maximum(size, 1e-300), 0.0)
    return square, np.broadcast_to(-down, square.shape), between


def _outer_point(mesh: Mesh, point: Floats, outward: Floats) -> Floats | None:
    """Where a ray from the cavity at `point` leaves the material it goes into first; None where that is another
    cavity."""
    hits = mesh.tree.rays((point + 1e-3 * outward)[None], outward[None], most=64)
    for distance, face in zip(hits.distance[0].tolist(), hits.face[0].tolist(), strict=True):
        if face >= 0 and float(mesh.area_vectors[face] @ outward) > 0:
            outside = mesh.shell_volumes[mesh.topology.shell[face]] > 0
            return np.asarray(point + distance * outward) if outside else None
    return None


def _allows(settings: PlaceSettings, mouth: Floats) -> bool:
    """Whether a hole may begin at a place."""

    def inside(balls: tuple[Ball, ...]) -> bool:
        return any(float(np.linalg.norm(mouth - np.array(at))) <= reach for at, reach in balls)

    return not inside(settings.keep_off) and (not settings.only_within or inside(settings.only_within))


def _may_reach(settings: PlaceSettings, points: Floats, reach: float) -> Bools:
    """Whether holes that come out so near to places (N, 3) of a room could begin where they may."""
    may = np.ones(len(points), bool)
    if settings.only_within:
        may[:] = False
        for at, radius in settings.only_within:
            may |= np.linalg.norm(points - np.array(at), axis=1) <= radius + reach
    for at, radius in settings.keep_off:
        may &= np.linalg.norm(points - np.array(at), axis=1) > radius - reach
    return may


def _seen(settings: PlaceSettings, outward: Floats) -> Floats:
    """How much holes that open along unit directions (N, 3) are seen (N,), from 0 to 1."""
    if settings.show is None:
        return np.zeros(len(outward))
    return np.maximum(0.0, outward @ np.array(settings.show) / np.linalg.norm(settings.show))
