"""Where to put drains: the lowest reachable point of each cavity, and a vent at its highest.

Works on a freshly hollowed model, whose cavities are shells of their own. Candidates are points of
the inner surface, the lowest first, on a level floor those nearest to the middle; among those from which
a clean bore reaches the outside, low and through little more than the wall wins.
"""

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from bolvek.analyses.shells import nest_shells
from bolvek.errors import UsageError, WorkError
from bolvek.mesh import Mesh
from bolvek.operations.drain import Bore, Drain, bore_along
from bolvek.units import length_text

Floats = NDArray[np.float64]

_MOST_CANDIDATES = 400
_ASIDE_COST = 0.01  # mm of height given up for a mm nearer to the middle of the cavity
_EXTRA_WALL_COST = 0.3  # mm of height given up for a mm less of uneven wall
_APART = 2.5  # holes of one cavity keep this many diameters between them


@dataclass(frozen=True)
class PlaceSettings:
    """Holes a cavity (one: lowest; two: lowest and highest; more: the next lowest), diameter, up."""

    count: int = 2
    diameter_mm: float = 3.5
    up: tuple[float, float, float] = (0.0, 0.0, 1.0)

    def check(self) -> None:
        """Raise UsageError when the numbers make no sense."""
        if not 0 <= self.count <= 20:
            raise UsageError(f"--drains must be 0 to 20 a cavity, not {self.count}")
        if not self.diameter_mm > 0:
            raise UsageError(f"--diameter must be above 0, not {self.diameter_mm:g} mm")
        if not np.linalg.norm(self.up) > 0:
            raise UsageError("--up must not be the zero direction")


@dataclass(frozen=True)
class Placed:
    """A drain that was placed, its bore, and how far its mouth in the cavity lies from the extreme (mm)."""

    drain: Drain
    bore: Bore
    role: str
    above_extreme_mm: float


def place_drains(mesh: Mesh, settings: PlaceSettings) -> list[Placed]:
    """Drains for every closed cavity of a hollowed mesh, lowest first. Raises WorkError.

    WorkError when the model has no cavity, or a cavity cannot be reached with this diameter.
    """
    settings.check()
    nested = nest_shells(mesh)
    cavities = nested.cavities
    if not len(cavities):
        raise WorkError("the model has no closed cavity to drain")
    up = np.array(settings.up) / np.linalg.norm(settings.up)
    placed: list[Placed] = []
    for n, shell in enumerate(cavities):
        inner = mesh.picked(mesh.topology.shell == shell)
        for k in range(settings.count):
            role = "vent" if k == 1 else "drain"
            placed.append(_place_one(mesh, inner, n + 1, role, up, settings, placed))
    return placed


def _place_one(
    mesh: Mesh,
    inner: Mesh,
    number: int,
    role: str,
    up: Floats,
    settings: PlaceSettings,
    taken: list[Placed],
) -> Placed:
    """The best clean bore: low (a vent: high) and through little more than the wall."""
    radius = 0.5 * settings.diameter_mm
    down = -up if role == "drain" else up
    depth = inner.vertices @ down
    extreme = float(depth.max())
    aside = inner.vertices - inner.bounds.mean(axis=0)
    aside -= (aside @ up)[:, None] * up
    bound = extreme - depth + _ASIDE_COST * np.linalg.norm(aside, axis=1)
    order = np.argsort(bound, kind="stable")
    chosen = order[_thinned(inner.vertices[order], 0.6 * radius)]
    normal = _vertex_normals(inner)
    apart = _APART * settings.diameter_mm
    best: Placed | None = None
    least = np.inf
    for vertex in chosen:
        point = inner.vertices[vertex]
        if bound[vertex] >= least:
            break
        above = extreme - float(point @ down)
        if any(np.linalg.norm(point - t.bore.mouth) < apart for t in taken):
            continue
        for axis in _axes(normal[vertex], down):
            start = _outer_point(mesh, point, -axis)
            if start is None:
                continue
            try:
                bore = bore_along(mesh, start, axis, radius)
            except WorkError:
                continue
            if any(np.linalg.norm(np.subtract(bore.mouth, t.bore.mouth)) < apart for t in taken):
                continue
            cost = float(bound[vertex]) + _EXTRA_WALL_COST * (bore.wall_mm[1] - bore.wall_mm[0])
            if cost < least:
                x, y, z = (float(c) for c in point)
                least = cost
                best = Placed(Drain(bore.mouth, settings.diameter_mm, (x, y, z)), bore, role, above)
    if best is not None:
        return best
    raise WorkError(
        f"no {role} of {length_text(settings.diameter_mm)} reaches cavity {number} from outside "
        f"({len(chosen)} places tried): use a smaller --diameter, or place one by hand with drain --at"
    )


def _thinned(points: Floats, spacing: float) -> NDArray[np.int64]:
    """Rows of the first point of each cube of the given side, in order, at most `_MOST_CANDIDATES`."""
    cube = np.floor((points - points.min(axis=0)) / spacing).astype(np.int64)
    size = cube.max(axis=0) + 1
    _, first = np.unique((cube[:, 0] * size[1] + cube[:, 1]) * size[2] + cube[:, 2], return_index=True)
    return np.sort(first)[:_MOST_CANDIDATES]


def _vertex_normals(inner: Mesh) -> Floats:
    """Unit normals (V, 3), into the cavity: away from the nearest outside, since the wall is even."""
    total = np.zeros((len(inner.vertices), 3))
    for k in range(3):
        np.add.at(total, inner.faces[:, k], inner.area_vectors)
    return total / np.maximum(np.linalg.norm(total, axis=1), 1e-300)[:, None]


def _axes(square: Floats, down: Floats) -> list[Floats]:
    """Inward directions to try: square through the wall, straight along gravity, between the two."""
    axes = [square, -down]
    between = square - down
    size = np.linalg.norm(between)
    if size > 1e-3:
        axes.append(between / size)
    return axes


def _outer_point(mesh: Mesh, point: Floats, outward: Floats) -> Floats | None:
    """Where a ray from just inside the cavity at `point` leaves the wall."""
    hits = mesh.tree.rays((point - 1e-3 * outward)[None], outward[None], most=2)
    if hits.face[0, 1] < 0:
        return None
    return np.asarray(point + (hits.distance[0, 1] - 1e-3) * outward)
