"""The inner shell: a cavity at a given wall; the outer surface is not touched.

The cavity's surface is extracted from a distance-like field (see `room`). One Newton step puts its vertices at the
exact distance where it is the wall that bounds it, slimming takes out what a smooth surface does not need, and
facets that then cut closer to the outside than the wall are lifted, face against face. What then is thin lies between
two sides of the shell itself: that is measured through the material as the proof does it; where a fin beside the cavity
is thinner than the wall, a ball as wide as the wall stays solid there. The product is checked: topology and
self-intersections, as computed and as an STL file will hold it.
"""

from dataclasses import dataclass

import numpy as np

from bolvek.analyses.soundness import find_defects
from bolvek.analyses.thickness import (
    SAMPLES_A_WALL,
    find_waists,
    measure,
    sample_surface,
    shortest_ways,
)
from bolvek.analyses.thickness.spots import gather_spots
from bolvek.arrays import Floats
from bolvek.errors import WorkError
from bolvek.mesh import Mesh
from bolvek.operations.hollow.lift import least_between, lift_to_wall
from bolvek.operations.hollow.room import find_room
from bolvek.operations.hollow.settings import HollowRecord, NoCavityError, check_hollowable
from bolvek.operations.slim import slim
from bolvek.operations.untangle import untangle
from bolvek.settings import remedy
from bolvek.settings.measures import wall_tolerance_mm
from bolvek.settings.shape import HollowSettings
from bolvek.spatial.isosurface import lipschitz_surface
from bolvek.spatial.tree import Tree
from bolvek.units import length_text, volume_text

SLIM_SHARE = 0.02
"""Deviation allowed to slimming the inner shell, as a share of the wall."""
POCKET_SHARE = 0.05
"""A pocket smaller than this share of its part's largest cavity is left solid."""
_MIN_CELLS_ACROSS = 3
_COARSEST_LOOK = 1 / 300  # of the longest side: the wall that would leave a cavity is told about as finely
# tolerances added to the level, and shares of the wall allowed to slimming: tried in turn until clean
_PLANS = ((0.5, (SLIM_SHARE,)), (2.0, (SLIM_SHARE,)), (4.0, (SLIM_SHARE, 0.25 * SLIM_SHARE, 0.0)))
_MOST_STEP = 0.3  # cells
_THICKEN_ROUNDS = 5


@dataclass
class _Shell:
    """A finished inner shell, facing the cavity: deviation and allowance of slimming, least wall, middles of fins."""

    mesh: Mesh
    deviation_mm: float
    allowed_mm: float
    least_mm: float
    thin: Floats


def hollow(mesh: Mesh, settings: HollowSettings) -> tuple[Mesh, HollowRecord]:
    """A sound solid (see `check_hollowable`) with its cavities: outer faces first, unchanged.

    Raises WorkError when no cavity worth having fits, with the largest wall that leaves one.
    """
    settings.check()
    mesh, turned = check_hollowable(mesh)
    longest = float(mesh.size.max())
    wall, cell = settings.wall_mm, settings.cell_mm(longest, mesh.area)
    core_cell = settings.core_cell_mm(longest, mesh.area)
    best: _Shell | None = None
    for extra, shares in _PLANS:
        level = wall + extra * wall_tolerance_mm(wall)
        room = find_room(mesh, level, wall, settings.least_room_mm, core_cell, settings.plugs_mm)
        if room is None:
            raise NoCavityError(_too_thick(mesh, settings, cell))
        for turn in range(_THICKEN_ROUNDS):
            surface = lipschitz_surface(room.value(level), mesh.bounds[0], mesh.bounds[1], cell)
            lattice, pockets, pocket_volume = _choose_cavities(
                mesh, Mesh(surface.vertices, surface.faces), cell, settings
            )
            if not len(lattice.faces):
                raise NoCavityError(_too_thick(mesh, settings, cell))
            exact = untangle(lattice, _to_distance(mesh, lattice, level, cell))
            # where there are fins, most show before the shell is finished, which takes longer
            thin, found = _thin_fins(exact.turned(), wall) if turn else np.zeros((0, 3)), None
            if not len(thin) or turn == _THICKEN_ROUNDS - 1:
                found = _finish(mesh, exact, wall, shares if settings.slim else (0.0,))
                if found is None or not len(found.thin):
                    break
                thin = found.thin
            room.filled = np.concatenate([room.filled, thin])
        if found is not None and (best is None or len(found.thin) < len(best.thin)):
            best, figures = found, (pockets, pocket_volume, len(lattice.faces), len(room.filled), level)
        if best is not None and not len(best.thin):
            break
    if best is None:
        raise WorkError(
            f"no clean inner shell was found for a wall of {length_text(wall)} on a grid of {length_text(cell)}",
            remedy("", "may find one", HollowSettings(wall_mm=wall, grid_mm=float(f"{0.5 * cell:.3g}"))),
        )
    inner = best.mesh
    pockets, pocket_volume, lattice_faces, thickened, level = figures
    _, near = mesh.tree.nearest(inner.vertices[inner.faces[inner.topology.first_face, 0]])
    whole = np.setdiff1d(np.flatnonzero(mesh.shell_volumes > 0), mesh.topology.shell[near])
    result = mesh.joined(inner)
    result = result.with_tree(Tree.joined(mesh.tree, inner.tree, result.vertices, result.faces))
    return result, HollowRecord(
        wall_mm=wall,
        grid_mm=cell,
        room_mm=settings.least_room_mm,
        cavities=inner.topology.shells,
        cavity_volume_mm3=-inner.volume,
        pockets_left_solid=pockets,
        pocket_volume_mm3=pocket_volume,
        inner_triangles_before_slim=lattice_faces,
        inner_triangles=len(inner.faces),
        slim_allowed_mm=best.allowed_mm,
        slim_deviation_mm=best.deviation_mm,
        least_wall_mm=best.least_mm,
        turned_shells=turned,
        solid_for_room_mm3=max(0.0, _deeper_than(mesh, level, min(2 * cell, 0.5 * level)).volume + inner.volume)
        if settings.least_room_mm
        else 0.0,
        thickened=thickened,
        solid_parts=len(whole),
        solid_parts_mm3=float(mesh.shell_volumes[whole].sum()),
    )


def _deeper_than(mesh: Mesh, level: float, cell: float) -> Mesh:
    """What lies farther than `level` from the surface, on a lattice."""
    surface = lipschitz_surface(
        lambda p: level + mesh.signed_distance.at(p, together=1), mesh.bounds[0], mesh.bounds[1], cell
    )
    return Mesh(surface.vertices, surface.faces)


def _choose_cavities(mesh: Mesh, raw: Mesh, cell: float, settings: HollowSettings) -> tuple[Mesh, int, float]:
    """The void's shells (facing out of the void) worth keeping, how many pockets stay solid, mm3. Raises
    NoCavityError."""
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
    worth = np.maximum(settings.least_mm3 or 0.0, settings.worth_share * mesh.shell_volumes[part])
    if (keep & (volume < worth)).any() and not (keep & (volume >= worth)).any():
        best = int(np.argmax(np.where(keep, volume, 0.0)))
        text = (
            f"its largest cavity, {volume_text(volume[best])}, is less than the {volume_text(worth[best])} worth holes"
        )
        all_the_same = HollowSettings(wall_mm=settings.wall_mm, least_mm3=0.0)
        raise NoCavityError(text, remedy("", "hollows it all the same", all_the_same))
    keep &= volume >= worth
    if keep.all():
        return raw, 0, 0.0
    return raw.picked(keep[raw.topology.shell]), int((~keep).sum()), float(volume[~keep].sum())


def _to_distance(mesh: Mesh, lattice: Mesh, level: float, cell: float) -> Mesh:
    """One Newton step of the vertices that lie near distance `level` onto it, short ones only: at creases the step
    would be long and the lattice surface is the better one; farther in, something else bounds the cavity."""
    # nearer than the wall is always mended
    step = mesh.tree.step_to(lattice.vertices, level, _MOST_STEP * cell, fading=True)
    return lattice.moved(lattice.vertices + step)


def _finish(mesh: Mesh, exact: Mesh, wall: float, shares: tuple[float, ...]) -> _Shell | None:
    """Slim and lift the inner shell; the first of ever more careful tries that is clean."""
    for share in shares:
        inner, deviation = exact, 0.0
        if share:
            inner, record = slim(exact, share * wall)
            deviation = record.deviation_mm
        lifted, least = lift_to_wall(mesh, inner, wall)
        inner = untangle(inner, lifted)
        if inner is not lifted:
            least = least_between(mesh, inner, wall)
        # new geometry loses nothing by holding what a file can hold
        inner = _facing_the_cavity(mesh, inner.as_stored())
        if least >= wall - wall_tolerance_mm(wall) and not find_defects(inner):
            return _Shell(inner, deviation, share * wall, least, _thin_fins(inner, wall, waists=True))
    return None


def _facing_the_cavity(mesh: Mesh, inner: Mesh) -> Mesh:
    """The inner shell turned to face the cavity, its tree in the frame of the outer surface."""
    inner = inner.turned()
    return inner.with_tree(Tree(inner.vertices, inner.faces, mesh.tree.origin))


def _thin_fins(inner: Mesh, wall: float, *, waists: bool = False) -> Floats:
    """Middles (N, 3) of material between two sides of the inner shell (facing the cavity) thinner than the wall.

    The outside is a wall away at least, so only the shell itself can make a fin. waists: look for those too, where
    nothing else is thin.
    """
    spacing = wall / SAMPLES_A_WALL
    samples = sample_surface(inner, spacing)
    normals = inner.normals_of(samples.face)
    ones = np.ones(len(inner.faces))
    m = measure(inner, samples.points, samples.face, ones, widest_ball_mm=1.25 * wall, far_mm=1.25 * wall)
    # a little stricter than the proof, which samples elsewhere
    limit = wall - 0.5 * wall_tolerance_mm(wall)
    thin = np.flatnonzero(m.square & (m.wall < limit))
    ways = shortest_ways(inner, limit, wall, spacing)
    if waists and not len(thin) and not len(ways.length):
        lean, edge = ~(m.square & ~np.isnan(m.wall)), np.zeros(len(normals), bool)
        ways = find_waists(inner, samples.points, -normals, samples.face, m.ball_mm, limit, lean=lean, edge=edge)
    value = np.concatenate([m.wall[thin], ways.length])
    if not len(value):
        return np.zeros((0, 3))
    middle = samples.points[thin] - 0.5 * m.wall[thin, None] * normals[thin]
    middle = np.concatenate([middle, 0.5 * (ways.start + ways.end)])
    spots = gather_spots(middle, value, np.ones(len(value)), 0.25 * wall)
    rows = np.concatenate([_spread_over(middle[s.rows], 0.25 * wall) for s in spots])
    return rows


def _spread_over(points: Floats, spacing: float) -> Floats:
    """One point a cube of the given side, the one nearest to the mean of those in it."""
    cube = np.floor(points / spacing).astype(np.int64)
    _, group = np.unique(cube, axis=0, return_inverse=True)
    group = group.ravel()
    total = np.zeros((group.max() + 1, 3))
    np.add.at(total, group, points)
    return np.asarray(total / np.bincount(group)[:, None])


def _too_thick(mesh: Mesh, settings: HollowSettings, cell: float) -> str:
    """The reason when no cavity fits, with the largest wall that leaves one (by bisection)."""
    wall = settings.wall_mm
    half_room = 0.5 * settings.least_room_mm
    low, high = 0.0, wall
    for _ in range(7):
        middle = 0.5 * (low + high)
        grid = max(min(cell, 0.25 * middle), float(mesh.size.max()) * _COARSEST_LOOK)
        room = half_room * (middle / wall if settings.least_room_mm == wall else 1.0)
        core = _deeper_than(mesh, middle + room, grid)
        if len(core.faces) and (room > 0 or core.shell_volumes.max() > (grid * _MIN_CELLS_ACROSS) ** 3):
            low = middle
        else:
            high = middle
    wanted = f" {length_text(2 * half_room)} wide" if half_room else ""
    if low == 0.0:
        return f"the wall of {length_text(wall)} leaves no cavity{wanted}, and no thinner one was found that does"
    most = length_text(low)
    return f"the wall of {length_text(wall)} leaves no cavity{wanted}; the largest that does is about {most}"
