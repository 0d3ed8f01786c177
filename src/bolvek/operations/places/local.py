"""What is at fault made anew in small cubes around it, and only there: the rest of the surface stays as it is.

After Bischoff and Kobbelt 2005 ("Structure Preserving CAD Model Repair"), with exact cuts in place of a stitched rim:
the model without the cubes is closed by the sides of the cubes that lie in its material; what lies in slightly larger
cubes, closed in the same way, is recast on a lattice of its own; the two sound bodies are put together exactly. Before
that, patches that lie within material go (see `faults`): often nothing is at fault after that, and no lattice needed.
"""

from dataclasses import dataclass, replace
from functools import partial

import numpy as np

from bolvek.analyses.shells import facing_out
from bolvek.analyses.zones import Zone, zones
from bolvek.arrays import Bools
from bolvek.errors import WorkError
from bolvek.mesh import Mesh
from bolvek.operations.convex import TooClose
from bolvek.operations.fuse.arrange import COMMON, DIFFERENCE, arrange
from bolvek.operations.fuse.unite import among, grown, stored_soundly, unite_exactly
from bolvek.operations.places.cubes import Cubes
from bolvek.operations.places.faults import (
    BURIED,
    UNDECIDED,
    WALL,
    Faults,
    find_faults,
    judge_patches,
    places_of,
    without_buried,
)
from bolvek.operations.recast import RecastRecord, recast
from bolvek.operations.recast.recast import without_drops
from bolvek.operations.refine import refine
from bolvek.settings.repairs import RecastSettings

MOST_SHARE = 1 / 3
"""Of the surface: where more than this would be made anew, all of it is."""
_CELLS, _LONG = 4.0, 3.0  # cells a cube; cubes that a face at fault is long at most
_FINER, _STEPS = 0.7, 7  # cells tried, each so much of the one before
_LITTLE = 0.08  # of the surface: where no more is made anew, no finer cell is asked for
_MOST_CELLS = 20_000  # on one side of what is made anew
_OVERLAPS = (0.05, 0.02, 0.1)  # of a cube's side: by so much what is made anew goes into the rest
_SHIFT = 0.5  # cells: by so much slivers along the cut may move when they are taken out
_TRIES, _ROUNDS = 3, 4


@dataclass(frozen=True, kw_only=True)
class LocalRecord:
    """share: of the surface, made anew; buried: faces that lay within material and went; zones: the places; cell_mm;
    recast: what was made there, None where nothing had to be."""

    share: float
    buried: int
    zones: tuple[Zone, ...]
    cell_mm: float
    recast: RecastRecord | None


def recast_places(found: Mesh, settings: RecastSettings) -> tuple[Mesh, LocalRecord]:
    """A sound solid from faces of which few are at fault. Raises WorkError where that does not come out, or takes more
    than a third of the surface."""
    mesh, buried = without_buried(facing_out(found))
    faults = find_faults(mesh)
    if not faults:
        return mesh, LocalRecord(share=0.0, buried=buried, zones=(), cell_mm=0.0, recast=None)
    failed = WorkError("its places at fault could not be cut out")
    cell, side = _fitting(mesh, faults, settings)
    mesh, faults = _in_small_faces(mesh, faults, _LONG * side)
    for turn in range(_TRIES):
        cubes, kept = _cubes(mesh, faults, side, turn)
        try:
            made, record = _made(mesh.picked(kept), cubes, replace(settings, grid_mm=cell))
        except TooClose:
            continue
        except WorkError as error:
            failed = error
            continue
        held = cubes.hold(mesh.corners.mean(axis=1))
        return made, LocalRecord(
            share=float(mesh.face_areas[held].sum() / mesh.area),
            buried=buried + int((~kept).sum()),
            zones=_zones(mesh, held, cubes),
            cell_mm=cell,
            recast=record,
        )
    raise failed


def _fitting(mesh: Mesh, faults: Faults, settings: RecastSettings) -> tuple[float, float]:
    """Cell and side of a cube (mm): the largest that leave most of the surface alone; no larger than those of a whole
    recast, and no finer than a lattice may be. Raises WorkError where that takes too much of the surface."""
    usual = settings.cell_mm(float(mesh.size.max()), mesh.area)
    # what is closed gets no thickness, and needs no room for it
    room = 1.2 * (settings.grow_mm or 0.0) if mesh.topology.open_edges else 0.0
    middle, best = mesh.corners.mean(axis=1), (np.inf, 0.0, 0.0)
    least = float(mesh.face_areas[faults.face].sum())
    if least > MOST_SHARE * mesh.area:
        raise _too_much(least / mesh.area)
    for cell in (usual * _FINER**k for k in range(_STEPS)):
        if np.isfinite(best[0]) and least / cell**2 > _MOST_CELLS:
            break
        side = max(_CELLS * cell, room + 2 * cell, 2 * (settings.bridge_mm or 0.0))
        cubes = Cubes.around(places_of(mesh, faults, side / 3), side, mesh.bounds[0])
        area = float(mesh.face_areas[cubes.hold(middle)].sum())
        share = area / mesh.area
        if share < best[0] and (not np.isfinite(best[0]) or area / cell**2 < _MOST_CELLS):
            best = (share, cell, side)
        if share <= _LITTLE:
            break
    share, cell, side = best
    if share > MOST_SHARE:
        raise _too_much(share)
    return cell, side


def _too_much(share: float) -> WorkError:
    return WorkError(f"{100 * share:.0f}% of its surface would be made anew")


def _in_small_faces(mesh: Mesh, faults: Faults, longest: float) -> tuple[Mesh, Faults]:
    """The mesh with faces at fault cut until they are short, so that what of them is at fault is as well."""
    for _ in range(_ROUNDS):
        corners = mesh.corners
        edges = np.linalg.norm(np.roll(corners, -1, axis=1) - corners, axis=2).max(axis=1)
        chosen = faults.face & (edges > longest)
        if not chosen.any():
            break
        mesh, _ = refine(mesh, chosen, longest)
        faults = find_faults(mesh)
    return mesh, faults


def _cubes(mesh: Mesh, faults: Faults, side: float, turn: int) -> tuple[Cubes, Bools]:
    """Cubes around all that is at fault or undecided; which faces (F,) stay, for they are not buried. Raises WorkError
    where that is too much of the surface."""
    more = np.zeros(len(mesh.faces), bool)
    middle = mesh.corners.mean(axis=1)
    while True:
        cubes = Cubes.around(places_of(mesh, faults, side / 3, more), side, mesh.bounds[0], turn)
        share = float(mesh.face_areas[cubes.hold(middle)].sum() / mesh.area)
        if share > MOST_SHARE:
            raise _too_much(share)
        held = np.asarray(cubes.hold(mesh.corners.reshape(-1, 3)).reshape(-1, 3).all(axis=1))
        patch, told = judge_patches(mesh, faults, held)
        verdict = np.where(patch >= 0, told[np.maximum(patch, 0)], 0)
        # of patches that lie within the cubes nothing was asked
        now = (verdict == UNDECIDED) & ~more & ~held
        if not now.any():
            return cubes, ~np.isin(verdict, (BURIED, WALL))
        more |= now


def _made(mesh: Mesh, cubes: Cubes, settings: RecastSettings) -> tuple[Mesh, RecastRecord]:
    """The mesh with what lies in the cubes made anew. Raises TooClose or WorkError."""
    cubes, body = cubes.body()
    _, wider = cubes.wider().body()
    rest, _ = arrange(mesh, body, DIFFERENCE)
    piece, _ = arrange(mesh, wider, COMMON)
    anew, record = recast(piece, settings, piece=True)
    for share in _OVERLAPS:
        try:
            inner, _ = arrange(anew, body.moved(grown(body, share * cubes.side_mm)), COMMON)
            both = unite_exactly(rest, inner)
            own = partial(among, both.vertices, mesh.vertices)
            made = stored_soundly(both, own, _SHIFT * record.grid_mm)
            # what hung on places at fault may have come apart from all else
            made, dropped = without_drops(made, settings.least_mm3)
            return made, replace(record, dropped=record.dropped + dropped)
        except (TooClose, WorkError):
            continue
    raise WorkError("what was made in places at fault does not go together with the rest")


def _zones(mesh: Mesh, held: Bools, cubes: Cubes) -> tuple[Zone, ...]:
    """The places that were made anew."""
    rows = np.flatnonzero(held)
    group = cubes.group_of(mesh.corners[rows].mean(axis=1))
    _, group = np.unique(group, return_inverse=True)
    return tuple(zones(mesh.corners[rows], group.astype(np.int32)))
