"""Cutting holes: straight prisms taken out of the wall, all of them or none; the product is checked."""

import numpy as np

from bolvek.analyses.soundness import find_defects, require_sound
from bolvek.arrays import Floats, Ints32
from bolvek.errors import WorkError
from bolvek.mesh import Mesh
from bolvek.operations.convex import TooClose, prism, subtract_and_trace
from bolvek.operations.drain.bore import Bore, plan_bore
from bolvek.operations.drain.record import BoreRecord, DrainRecord
from bolvek.settings.shape import DrainSettings
from bolvek.settings.ways_on import SOLID
from bolvek.units import point_text

Point = tuple[float, float, float]

JITTER_MM = 1e-4
"""How far a body is moved when a decision is too close to call."""
_TRIES = 12
_SEED = 20


def drain(mesh: Mesh, settings: DrainSettings) -> tuple[Mesh, DrainRecord]:
    """Cut all holes or none. The mesh must be closed and sound; the result is checked to be.

    Raises UsageError for impossible settings and WorkError, naming the hole, when one cannot be cut.
    """
    settings.check()
    check_drillable(mesh)
    return cut_bores(mesh, settings, [plan_bore(mesh, d) for d in settings.drains])


def check_drillable(mesh: Mesh) -> None:
    """Raise WorkError for a mesh that is not sound."""
    require_sound(mesh, "holes are cut into sound models only", SOLID)


def no_holes(mesh: Mesh) -> DrainRecord:
    """The record of a mesh that needs none."""
    n = len(mesh.faces)
    return DrainRecord(holes=(), triangles_before=n, triangles_after=n, volume_removed_mm3=0.0)


def cut_bores(
    mesh: Mesh, settings: DrainSettings, bores: list[Bore], *, as_stored: bool = False
) -> tuple[Mesh, DrainRecord]:
    """Cut planned bores into a mesh known to be sound; `as_stored` rounds the result to float32."""
    result, record, _ = cut_and_trace(mesh, settings, bores, as_stored=as_stored)
    return result, record


def cut_and_trace(
    mesh: Mesh, settings: DrainSettings, bores: list[Bore], *, as_stored: bool = False, check: bool = True
) -> tuple[Mesh, DrainRecord, Ints32]:
    """`cut_bores`, and for each face of the result (F,) the face it is of, -1 for the side of a hole.

    check=False: the result is only to be measured, whether it is sound does not matter yet.
    """
    for i, a in enumerate(bores):
        for j, b in enumerate(bores[:i]):
            reach = 0.5 * (settings.drains[i].diameter_mm + settings.drains[j].diameter_mm)
            if np.linalg.norm(np.subtract(a.mouth, b.mouth)) < 1.001 * reach:
                raise WorkError(
                    f"the holes at {point_text(b.mouth)} and {point_text(a.mouth)} run into each other or touch: "
                    "move one away, or make one hole of them"
                )
    rng = np.random.default_rng(_SEED)
    retries = 0
    for _ in range(_TRIES):
        bodies = []
        for bore, hole in zip(bores, settings.drains, strict=True):
            shift = rng.uniform(-JITTER_MM, JITTER_MM, 3)
            turn = float(rng.uniform(0, 360))
            bodies.append(prism(bore.start + shift, bore.end + shift, 0.5 * hole.diameter_mm, settings.sides, turn))
        try:
            result, source = subtract_and_trace(mesh, bodies)
        except TooClose:
            retries += 1
            continue
        except ValueError:
            raise WorkError("a drain touches no face of the model") from None
        if as_stored:
            result = result.as_stored()  # keeps every face
        if not check or not find_defects(result) and not find_defects(result.as_stored()):
            break
        retries += 1
    else:
        raise WorkError(
            f"the holes could not be cut cleanly in {_TRIES} tries: an edge of the model runs just where a hole would; "
            "move a drain a little"
        )
    holes = tuple(
        BoreRecord(
            at_mm=b.mouth,
            direction=_unit(b.end - b.start),
            diameter_mm=h.diameter_mm,
            wall_min_mm=b.wall_mm[0],
            wall_max_mm=b.wall_mm[1],
            blind=b.blind,
        )
        for b, h in zip(bores, settings.drains, strict=True)
    )
    record = DrainRecord(
        holes=holes,
        triangles_before=len(mesh.faces),
        triangles_after=len(result.faces),
        volume_removed_mm3=mesh.volume - result.volume,
        retries=retries,
    )
    return result, record, source


def _unit(v: Floats) -> Point:
    x, y, z = (float(c) for c in v / np.linalg.norm(v))
    return x, y, z
