"""Hollowing: an inner shell at a given wall; the outer surface is not touched.

The cavity is the set of inside points farther than the wall from the surface (see
`bolvek.spatial.isosurface`). One Newton step puts its vertices at the exact distance, slimming
takes out what a smooth surface does not need, and wherever a facet then cuts closer to the outside
than the wall, its corners are moved inward until the measured wall holds. The product is checked:
topology and self-intersections, as computed and as an STL file will hold it.
"""

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from bolvek.analyses.defects import find_defects
from bolvek.analyses.sampling import surface_samples, wall_tolerance_mm
from bolvek.analyses.shells import nest_shells
from bolvek.errors import UsageError, WorkError
from bolvek.mesh import Mesh
from bolvek.operations.slim import slim
from bolvek.spatial.isosurface import MIN_CELLS_PER_LEVEL, inner_offset
from bolvek.spatial.tree import Tree
from bolvek.units import length_text, point_text

SLIM_SHARE = 0.02
"""Deviation allowed to slimming the inner shell, as a share of the wall."""
POCKET_SHARE = 0.05
"""A pocket smaller than this share of its part's largest cavity is left solid."""
_MIN_CELLS_ACROSS = 3
# tolerances added to the level, and shares of the wall allowed to slimming: tried in turn until clean
_PLANS = ((0.5, (SLIM_SHARE,)), (2.0, (SLIM_SHARE,)), (4.0, (SLIM_SHARE, 0.25 * SLIM_SHARE, 0.0)))
_MOST_STEP = 0.3  # cells
_UNTANGLE_ROUNDS = 8
_LIFT_ROUNDS = 8
_SAMPLES_A_WALL = 6

Floats = NDArray[np.float64]


@dataclass(frozen=True)
class HollowSettings:
    """Wall and lattice cell in mm (cell None: see `cell_mm`), slim the inner shell or not."""

    wall_mm: float
    grid_mm: float | None = None
    slim: bool = True
    keep_pockets: bool = False

    def cell_mm(self, longest_mm: float) -> float:
        """The lattice cell for a model: as given, else a quarter of the wall, at least 40 along its longest side."""
        return self.grid_mm if self.grid_mm is not None else min(0.25 * self.wall_mm, longest_mm / 40)

    def check(self) -> None:
        """Raise UsageError when the numbers make no sense."""
        if not self.wall_mm > 0:
            raise UsageError(f"--wall must be above 0, not {self.wall_mm:g} mm")
        if self.grid_mm is None:
            return
        if not self.grid_mm > 0:
            raise UsageError(f"--grid must be above 0, not {self.grid_mm:g} mm")
        most = self.wall_mm / MIN_CELLS_PER_LEVEL * 0.999
        if self.grid_mm > most:
            raise UsageError(
                f"--grid {length_text(self.grid_mm)} is too coarse for a wall of {length_text(self.wall_mm)}: "
                f"at most {length_text(most)}"
            )


@dataclass(frozen=True)
class HollowRecord:
    """What hollowing did. Pockets are inner voids too small to drain that were left solid."""

    wall_mm: float
    grid_mm: float
    cavities: int
    cavity_volume_mm3: float
    pockets_left_solid: int
    pocket_volume_mm3: float
    inner_triangles_before_slim: int
    inner_triangles: int
    slim_allowed_mm: float
    slim_deviation_mm: float
    least_wall_mm: float
    turned_shells: int


def check_hollowable(mesh: Mesh) -> tuple[Mesh, int]:
    """The mesh with outermost shells facing out, and how many were turned. Raises WorkError.

    May be hollowed: closed, manifold, oriented, no self-intersections, every shell a part of its
    own (no cavity yet, nothing buried).
    """
    if not len(mesh.faces):
        raise WorkError("the model has no triangles")
    defects = find_defects(mesh)
    if defects:
        told = []
        for defect in defects:
            text = defect.text
            if defect.code == "open_edges":
                count = count_openings(mesh)
                text += f" in {count} opening{'s' if count != 1 else ''}"
            told.append(f"{text}, first near {point_text(defect.where_mm[0])}")
        what = "close them first" if mesh.topology.open_edges else "mend that first"
        raise WorkError(f"the model cannot be hollowed: {'; '.join(told)}: {what}")
    shells = nest_shells(mesh)
    if len(shells.cavities) and not len(shells.inside_out):
        raise WorkError(f"the model is hollow already: it has {len(shells.cavities)} closed cavity shell(s)")
    turned = shells.inside_out
    if (shells.depth > 0).any():
        inner = int(np.flatnonzero(shells.depth > 0)[0])
        place = mesh.vertices[mesh.faces[mesh.topology.first_face[inner]]].mean(axis=0)
        raise WorkError(
            f"the model cannot be hollowed: {int((shells.depth > 0).sum())} shell(s) lie inside another, "
            f"the first near {point_text(place)}: remove or join the inner one first"
        )
    if len(turned):
        flip = np.isin(mesh.topology.shell, turned)
        mesh = Mesh(mesh.vertices, np.where(flip[:, None], mesh.faces[:, ::-1], mesh.faces))
    return mesh, len(turned)


def count_openings(mesh: Mesh) -> int:
    """Groups of open edges that hang together."""
    from scipy.sparse import coo_matrix
    from scipy.sparse.csgraph import connected_components

    half = np.flatnonzero(mesh.topology.twin == -1)
    face, k = np.divmod(half, 3)
    a, b = mesh.faces[face, k], mesh.faces[face, (k + 1) % 3]
    _, index = np.unique(np.concatenate([a, b]), return_inverse=True)
    n = int(index.max()) + 1 if len(index) else 0
    graph = coo_matrix((np.ones(len(a)), (index[: len(a)], index[len(a) :])), shape=(n, n))
    return int(connected_components(graph, directed=False)[0])


def hollow(mesh: Mesh, settings: HollowSettings) -> tuple[Mesh, HollowRecord]:
    """A sound solid (see `check_hollowable`) with its cavities: outer faces first, unchanged.

    Raises WorkError when no cavity fits, with the largest wall that leaves one.
    """
    settings.check()
    mesh, turned = check_hollowable(mesh)
    wall, cell = settings.wall_mm, settings.cell_mm(float(mesh.size.max()))
    for extra, shares in _PLANS:
        level = wall + extra * wall_tolerance_mm(wall)
        surface = inner_offset(mesh.tree, mesh.bounds[0], mesh.bounds[1], level, cell)
        lattice, pockets, pocket_volume = _choose_cavities(mesh, Mesh(surface.vertices, surface.faces), cell, settings)
        if not len(lattice.faces):
            raise WorkError(_too_thick(mesh, wall, cell))
        exact = _untangle(lattice, _to_distance(mesh, lattice, level, cell))
        best = _finish(mesh, exact, wall, shares if settings.slim else (0.0,))
        if best is not None:
            break
    else:
        raise WorkError(
            f"no clean inner shell was found for a wall of {length_text(wall)} on a grid of {length_text(cell)}: "
            f"try --grid {0.5 * cell:.3g}mm"
        )
    inner, deviation, least, allowed = best
    result = mesh.joined(inner)
    result.__dict__["tree"] = Tree.joined(mesh.tree, inner.tree, result.vertices, result.faces)
    return result, HollowRecord(
        wall,
        cell,
        inner.topology.shells,
        -inner.volume,
        pockets,
        pocket_volume,
        len(lattice.faces),
        len(inner.faces),
        allowed,
        deviation,
        least,
        turned,
    )


def _choose_cavities(mesh: Mesh, raw: Mesh, cell: float, settings: HollowSettings) -> tuple[Mesh, int, float]:
    """The void's shells (facing out of the void) worth keeping, how many pockets stay solid, mm3."""
    n = raw.topology.shells
    if n == 0:
        return raw, 0, 0.0
    volume = raw.shell_volumes
    _, near = mesh.tree.nearest(raw.vertices[raw.faces[raw.topology.first_face]].mean(axis=1))
    part = mesh.topology.shell[near]
    largest = np.zeros(mesh.topology.shells)
    np.maximum.at(largest, part, volume)
    keep = volume > (cell * _MIN_CELLS_ACROSS) ** 3
    if not settings.keep_pockets:
        keep &= volume >= POCKET_SHARE * largest[part]
    if keep.all():
        return raw, 0, 0.0
    return raw.picked(keep[raw.topology.shell]), int((~keep).sum()), float(volume[~keep].sum())


def _to_distance(mesh: Mesh, lattice: Mesh, level: float, cell: float) -> Mesh:
    """One Newton step of every vertex to distance `level`, short ones only: at creases the step
    would be long and the lattice surface is the better one."""
    distance, face = mesh.tree.nearest(lattice.vertices)
    away = lattice.vertices - mesh.tree.closest_points(lattice.vertices, face)
    step = np.clip(level - distance, -_MOST_STEP * cell, _MOST_STEP * cell)
    return lattice.moved(lattice.vertices + away * (step / np.maximum(distance, 1e-12))[:, None])


def _untangle(clean: Mesh, wanted: Mesh) -> Mesh:
    """`wanted` with the vertices of crossing faces put back to `clean`, until nothing crosses."""
    mesh = wanted
    for _ in range(_UNTANGLE_ROUNDS):
        pairs, count = mesh.tree.meeting_pairs()
        if not count:
            return mesh
        around = np.zeros(len(mesh.vertices), bool)
        around[mesh.faces[pairs.ravel()].ravel()] = True
        ring = mesh.faces[around[mesh.faces].any(axis=1)].ravel()
        vertices = mesh.vertices.copy()
        vertices[ring] = clean.vertices[ring]
        mesh = clean.moved(vertices)
    return clean


def _finish(mesh: Mesh, exact: Mesh, wall: float, shares: tuple[float, ...]) -> tuple[Mesh, float, float, float] | None:
    """Slim and lift the inner shell; the first of ever more careful tries that is clean.

    Returns the shell (facing the cavity), the slimming's deviation, the least wall and the deviation allowed.
    """
    for share in shares:
        inner, deviation = exact, 0.0
        if share:
            inner, record = slim(exact, share * wall)
            deviation = record.deviation_mm
        lifted, least = lift_to_wall(mesh, inner, wall)
        inner = _untangle(inner, lifted)
        if inner is not lifted:
            points, _ = surface_samples(inner, np.arange(len(inner.faces)), wall / _SAMPLES_A_WALL)
            least = float(mesh.tree.nearest(points)[0].min())
        # new geometry loses nothing by holding what a file can hold
        inner = inner.as_stored().turned()
        inner.__dict__["tree"] = Tree(inner.vertices, inner.faces, mesh.tree.origin)
        if least >= wall - wall_tolerance_mm(wall) and not find_defects(inner):
            return inner, deviation, least, share * wall
    return None


def lift_to_wall(mesh: Mesh, inner: Mesh, wall: float) -> tuple[Mesh, float]:
    """Move corners of facets that come nearer than the wall away from the surface; and the least wall.

    Measured at samples a sixth of the wall apart, a few rounds. A corner is moved in the mean
    direction in which the samples that fall short would have to go.
    """
    aim = wall - 0.4 * wall_tolerance_mm(wall)
    todo = np.arange(len(inner.faces))
    least = np.full(len(inner.faces), np.inf)
    for _ in range(_LIFT_ROUNDS):
        points, owner = surface_samples(inner, todo, wall / _SAMPLES_A_WALL)
        distance, face = mesh.tree.nearest(points)
        least[todo] = np.inf
        np.minimum.at(least, owner, distance)
        short = np.flatnonzero(distance < aim)
        if not len(short):
            break
        need = wall - distance[short]
        away = points[short] - mesh.tree.closest_points(points[short], face[short])
        away *= (need / np.maximum(distance[short], 1e-12))[:, None]
        push = np.zeros((len(inner.vertices), 3))
        most = np.zeros(len(inner.vertices))
        for k in range(3):
            corner = inner.faces[owner[short], k]
            np.add.at(push, corner, away)
            np.maximum.at(most, corner, need)
        moved = np.flatnonzero(most)
        push = push[moved] / np.maximum(np.linalg.norm(push[moved], axis=1), 1e-300)[:, None]
        vertices = inner.vertices.copy()
        vertices[moved] = _kept_off(mesh, vertices[moved], vertices[moved] + 1.1 * most[moved, None] * push, aim)
        inner = inner.moved(vertices)
        touched = np.zeros(len(vertices), bool)
        touched[moved] = True
        todo = np.flatnonzero(touched[inner.faces].any(axis=1))
    else:
        points, owner = surface_samples(inner, todo, wall / _SAMPLES_A_WALL)
        least[todo] = np.inf
        np.minimum.at(least, owner, mesh.tree.nearest(points)[0])
    return inner, float(least.min())


def _kept_off(mesh: Mesh, old: Floats, new: Floats, aim: float) -> Floats:
    """The new places, those nearer than `aim` pushed off once, and given up where that fails."""
    for last in (False, True):
        distance, face = mesh.tree.nearest(new)
        short = np.flatnonzero(distance < aim)
        if not len(short):
            break
        if last:
            new[short] = old[short]
        else:
            away = new[short] - mesh.tree.closest_points(new[short], face[short])
            new[short] += away * ((aim - distance[short]) / np.maximum(distance[short], 1e-12) * 1.05)[:, None]
    return new


def _too_thick(mesh: Mesh, wall: float, cell: float) -> str:
    """The reason when no cavity fits, with the largest wall that leaves one (by bisection)."""
    low, high = 0.0, wall
    for _ in range(7):
        middle = 0.5 * (low + high)
        grid = min(cell, 0.25 * middle)
        deep = inner_offset(mesh.tree, mesh.bounds[0], mesh.bounds[1], middle, grid)
        void = Mesh(deep.vertices, deep.faces)
        if len(void.faces) and void.shell_volumes.max() > (grid * _MIN_CELLS_ACROSS) ** 3:
            low = middle
        else:
            high = middle
    if low == 0.0:
        return f"the wall of {length_text(wall)} leaves no cavity, and no thinner one was found that does"
    return f"the wall of {length_text(wall)} leaves no cavity; the largest that does is about {length_text(low)}"
