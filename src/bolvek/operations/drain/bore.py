"""A hole before it is cut: what is asked, and what rays over its cross-section say about the place.

They tell where the outer surface begins, where the wall ends, whether the room behind is enclosed and deep
enough, and how much of the wall is left beside the hole.
"""

import math
from dataclasses import dataclass

import numpy as np

from bolvek.arrays import Bools, Floats
from bolvek.errors import WorkError
from bolvek.mesh import Mesh
from bolvek.settings import Remedy, remedy
from bolvek.settings.measures import LEAST_WALL_MM
from bolvek.settings.shape import Drain
from bolvek.spatial.frames import across, fibonacci_sphere
from bolvek.units import length_text, point_text

Point = tuple[float, float, float]

_ENCLOSED_SHARE = 0.85
_MOST_SPREAD = 4.0  # diameters: a wall that ends so unevenly runs along the hole
_LEAST_COSINE = 0.15  # a hole flatter to the surface than this has no mouth to speak of


class BoreError(WorkError):
    """A hole that cannot be cut; `kind` is a word for counting."""

    def __init__(self, kind: str, text: str, *remedies: Remedy) -> None:
        super().__init__(text, *remedies)
        self.kind = kind


@dataclass(frozen=True)
class Bore:
    """A hole that can be cut: axis from start (outside) to end; the wall there; or why not.

    mouth: where the axis meets the outer surface. wall_mm (least, most) along the axis. material_mm: how far from start
    all of the cross-section is in the wall, and where the first of it leaves it. indoors: it begins in a room, or in a
    recess as deep.
    """

    start: Floats
    end: Floats
    mouth: Point
    wall_mm: tuple[float, float]
    blind: bool
    material_mm: tuple[float, float] = (0.0, 0.0)
    indoors: bool = False


def plan_bore(mesh: Mesh, drain: Drain) -> Bore:
    """Find out whether and how the drain can be cut. Raises WorkError with the reason."""
    at = np.array(drain.at_mm, np.float64)
    here = f"the drain at {point_text(at)}"
    gap, face = mesh.tree.nearest(at[None])
    surface = mesh.tree.closest_points(at[None], face)[0]
    if gap[0] > max(2.0, drain.diameter_mm):
        raise WorkError(
            f"{here} is {length_text(float(gap[0]))} from the surface; the nearest point on it is {point_text(surface)}"
        )
    radius = 0.5 * drain.diameter_mm
    if drain.toward_mm is not None:
        axis = np.array(drain.toward_mm) - surface
    else:
        axis = -_mean_normal(mesh, surface, radius)
    length = float(np.linalg.norm(axis))
    if not length > 0:
        raise WorkError(f"{here}: the surface has no clear direction there; name the point to aim at")
    depth, skin = drain.depth_mm, drain.least_skin_mm
    return bore_along(mesh, surface, axis / length, radius, depth=depth, skin=skin, name=here)


def _mean_normal(mesh: Mesh, point: Floats, radius: float) -> Floats:
    """Area-weighted mean of the outward normals of faces around a point that face its own way."""
    _, face = mesh.tree.nearest(point[None])
    own = mesh.area_vectors[face[0]]
    near = mesh.tree.faces_in_box(point - radius, point + radius)
    middle = mesh.vertices[mesh.faces[near]].mean(axis=1)
    near = near[(np.linalg.norm(middle - point, axis=1) < radius) & (mesh.area_vectors[near] @ own > 0)]
    total = mesh.area_vectors[near].sum(axis=0) if len(near) else own
    length = np.linalg.norm(total)
    return np.asarray(total / length if length > 0 else total)


def _disc(axis: Floats, radius: float) -> Floats:
    """Offsets (33, 3) over a disc square to the axis: centre, half and full radius."""
    u, w = across(axis)
    offsets = [np.zeros(3)]
    for share, count in ((0.35, 6), (0.7, 10), (1.0, 16)):
        angle = 2 * np.pi * (np.arange(count) + 0.37) / count
        offsets += list(share * radius * (np.cos(angle)[:, None] * u + np.sin(angle)[:, None] * w))
    return np.array(offsets)


def bore_along(
    mesh: Mesh,
    surface: Floats,
    axis: Floats,
    radius: float,
    *,
    depth: float | None = None,
    skin: float = LEAST_WALL_MM,
    name: str = "the drain",
) -> Bore:
    """The bore from outside through `surface` along the unit axis. Raises WorkError with the reason."""
    offsets = _disc(axis, 1.02 * radius)
    along = _entered(mesh, surface, axis, offsets, radius, name)
    entry, leave = along[:, 0], along[:, 1]
    begin = float(entry.min() - 0.5 * radius - 0.05)
    start = surface + begin * axis
    within = float(entry.max()) - begin, float(leave.min()) - begin
    mouth = surface + entry[0] * axis
    place = (float(mouth[0]), float(mouth[1]), float(mouth[2]))
    if depth is not None:
        floor = float(entry[0]) + depth
        if _opens(along, floor, depth, skin, name):
            return Bore(start, surface + floor * axis, place, _wall(entry, leave), False, within)
        return Bore(start, surface + floor * axis, place, (depth, depth), True)
    if not np.isfinite(leave[0]):
        raise BoreError("solid", f"{name} meets no cavity: no wall ends along its axis")
    if not np.isfinite(leave).all():
        raise BoreError(
            "room",
            f"{name}: a diameter of {length_text(2 * radius)} is wider than the cavity behind the wall "
            f"({int((~np.isfinite(leave)).sum())} of {len(offsets)} probes miss it): use a smaller drain",
        )
    exits = surface + offsets + (leave[:, None] + 1e-3) * axis
    if enclosed_share(mesh, exits[0]) < _ENCLOSED_SHARE:
        through = float(leave.max() - entry[0]) + 0.3 * radius + 0.1
        raise BoreError(
            "open",
            f"{name} meets no cavity: after {length_text(float(leave[0] - entry[0]))} of material it would come out "
            "in the open",
            remedy("", "would bore right through", blind=f"{through:.2f}mm"),
        )
    spread = float(leave.max() - leave.min())
    if spread > _MOST_SPREAD * 2 * radius:
        raise BoreError(
            "along",
            f"{name} would run along a wall: it ends {length_text(spread)} deeper on one side than on the other; "
            "aim it more squarely at a point within",
        )
    end = float(leave.max()) + 0.3 * radius + 0.05
    _check_room(along, end, name)
    indoors = enclosed_share(mesh, mouth - 1e-3 * axis) >= _ENCLOSED_SHARE
    return Bore(start, surface + end * axis, place, _wall(entry, leave), False, within, indoors)


def _entered(mesh: Mesh, surface: Floats, axis: Floats, offsets: Floats, radius: float, name: str) -> Floats:
    """Where the cross-section of a bore enters, leaves and enters material (R, 3), from an outer surface that is all
    there and free above. Raises BoreError with the reason."""
    _, face = mesh.tree.nearest(surface[None])
    lean = abs(float(mesh.normals_of(face)[0] @ axis))
    if lean < _LEAST_COSINE:
        angle = np.degrees(np.arcsin(lean))
        raise BoreError("flat", f"{name} is too flat: its axis meets the surface at {angle:.0f} degrees, at least 9")
    # how far the outer surface may slope away over the cross-section
    rise = radius * (2.0 + 1.3 * math.sqrt(max(1 - lean * lean, 0.0)) / lean) + 0.2
    along, outside_first = _passages(mesh, surface + offsets - rise * axis, axis, rise)
    first_enters = outside_first & (along[:, 0] <= rise)
    if not first_enters[0] and first_enters[1:].any() and not (along[0, 0] <= rise):
        raise BoreError("hole", f"{name}: there is a hole already; put it on the surface beside, or name another place")
    if not first_enters[0]:
        raise BoreError(
            "start", f"{name} does not start on an outer surface: something is in its way, or it points outward"
        )
    if not first_enters.all():
        raise BoreError(
            "patch",
            f"{name}: a diameter of {length_text(2 * radius)} is wider than the wall patch it stands on "
            f"({int((~first_enters).sum())} of {len(offsets)} probes miss it): use a smaller drain or another place",
        )
    entry = along[:, 0]
    above = mesh.tree.rays(surface + offsets + (entry[:, None] - 1e-6) * axis, np.broadcast_to(-axis, offsets.shape))
    if (above.distance[:, 0] < float(entry.max() - entry.min() + 0.5 * radius + 0.05)).any():
        raise BoreError(
            "above",
            f"{name} has no room to start: another surface is {length_text(float(above.distance.min()))} above it",
        )
    return along


def _opens(along: Floats, floor: float, depth: float, skin: float, name: str) -> bool:
    """Whether a bore with its floor there opens the wall. Raises BoreError where it would do so in part."""
    entry, leave = along[:, 0], along[:, 1]
    if not np.isfinite(leave).any() or floor <= leave.min() - skin:
        return False
    if floor <= leave.max() + 0.05:
        low, high = (length_text(float(x - entry[0])) for x in (leave.min(), leave.max()))
        raise BoreError(
            "floor",
            f"{name}: a depth of {length_text(depth)} would open the wall in part or leave a skin: its far "
            f"side lies {low} to {high} deep; go deeper to open it, or leave {length_text(skin)} at least",
        )
    _check_room(along, floor, name)
    return True


def _passages(mesh: Mesh, origins: Floats, axis: Floats, rise: float) -> tuple[Floats, Bools]:
    """Where parallel rays enter, leave and enter again (R, 3), inf where not; do they begin in air.

    A ray through an edge meets both its faces: only changes between air and material count.
    """
    most = 32
    hits = mesh.tree.rays(origins, np.broadcast_to(axis, origins.shape), most=most)
    while (hits.found == most).any():  # as through the tip of a cone, where many faces meet
        most *= 8
        hits = mesh.tree.rays(origins, np.broadcast_to(axis, origins.shape), most=most)
    along = np.full((len(origins), 3), np.inf)
    begins_outside = np.zeros(len(origins), bool)
    enters = (mesh.area_vectors[hits.face] @ axis < 0) & (hits.face >= 0)
    for ray in range(len(origins)):
        n = int(hits.found[ray])
        begins_outside[ray] = n > 0 and bool(enters[ray, 0])
        wanted = 0
        for k in range(n):
            if wanted < 3 and bool(enters[ray, k]) == (wanted != 1):
                along[ray, wanted] = hits.distance[ray, k] - rise
                wanted += 1
    return along, begins_outside


def _wall(entry: Floats, leave: Floats) -> tuple[float, float]:
    return float((leave - entry).min()), float((leave - entry).max())


def _check_room(along: Floats, end: float, name: str) -> None:
    """The far wall of the cavity must lie behind the end of the drain."""
    far = np.where(np.isfinite(along[:, 2]), along[:, 2], np.inf)
    if not (far <= end + 0.02).any():
        return
    room = float((far - along[:, 1]).min())
    if far[0] <= end + 0.02:
        raise BoreError(
            "deep", f"{name}: the cavity is only {length_text(room)} deep there; the drain would cut its far wall"
        )
    raise BoreError(
        "side",
        f"{name} would scrape the cavity's side wall, {length_text(room)} behind the wall it goes through: move it "
        "towards the middle, or use a smaller drain",
    )


def enclosed_share(mesh: Mesh, point: Floats) -> float:
    """Share of 128 evenly spread directions in which a ray from the point meets the model."""
    directions = fibonacci_sphere(128)
    hits = mesh.tree.rays(np.broadcast_to(point, directions.shape), directions)
    return float(np.isfinite(hits.distance[:, 0]).mean())
