"""Thickness at points of a surface: rays, inscribed balls, and which of them to believe.

A ray along the inner normal tells the wall where the other side lies square across; a ball tells it
also where the sides lean. Both see edges too: a ray near a sharp edge leaves through the next face at
once, a ball near any convex edge is small. So a measure counts as a wall only where its two sides
face each other within `FACING_DEG` of parallel; else it stands beside an edge and decides nothing.
"""

from dataclasses import dataclass

import numpy as np

from bolvek.arrays import Bools, Floats, Ints, Ints32
from bolvek.errors import WorkError
from bolvek.kernels.tree import balls as kernels
from bolvek.mesh import Mesh
from bolvek.settings import remedy
from bolvek.spatial.parallel import run_ranges

FACING_DEG, SQUARE_DEG = 45.0, 20.0
"""Two sides that lean further than the first from parallel make an edge, not a wall; within the second they
face each other squarely: there a wall ends in nothing only when it is as good as gone."""

BALL_TOLERANCE = 1e-3
"""A ball has shrunk enough when nothing is nearer to its middle than this share less than its radius."""

SKIN_SHARE = 1e-8
"""Hits nearer than this share of the longest side are the point's own surface."""


@dataclass(frozen=True)
class Measures:
    """At Q points, mm: ray and ball (nan where they are no wall), and the ray as it is (inf: nothing was hit)
    with its facing: negative where it came to a face from the side it should not. square (Q,) bool: the
    smaller of the two has sides that face each other squarely. hit (Q,): the face the ray came to, -1 for none;
    rest (Q,): the face the ball rests on, -1 where that is the ray's or none; ball_mm (Q,): its width whatever its
    sides are (inf: wider than was looked for)."""

    ray: Floats
    ball: Floats
    ray_mm: Floats
    facing: Floats
    square: Bools
    hit: Ints32
    rest: Ints32
    ball_mm: Floats

    @property
    def wall(self) -> Floats:
        """The smaller of the two (Q,), nan where neither is a wall."""
        return np.fmin(self.ray, self.ball)


FLAT_SHARE = 1e-7
"""A model no thicker than this share of its longest side, in any direction, is flat."""


def check_solid(mesh: Mesh) -> None:
    """Raise WorkError for a model without surface, or one that is flat, however it lies."""
    if not len(mesh.faces) or not mesh.area > 0:
        raise WorkError("the model has no surface: its faces have no area")
    used = np.zeros(len(mesh.vertices), bool)
    used[mesh.faces] = True
    points = mesh.vertices[used]
    points = (points - points.mean(axis=0)) / mesh.size.max()
    across = np.linalg.eigh(points.T @ points)[1][:, 0]  # the direction of least spread
    if not float(np.ptp(points @ across)) > FLAT_SHARE:
        raise WorkError("the model is flat: it has no thickness in one direction", remedy("survey", "shows what it is"))


def measure(
    mesh: Mesh,
    points: Floats,
    face: Ints,
    sign: Floats,
    *,
    widest_ball_mm: float = np.inf,
    across_air: bool = False,
    normals: Floats | None = None,
    far_mm: float = np.inf,
) -> Measures:
    """Walls at points (Q, 3) on faces (Q,); sign (F,) is 1 where a face looks out of its material, else -1.

    Balls wider than widest_ball_mm are not looked for (0: none at all), nor anything farther than far_mm along
    rays. across_air measures gaps, outward, instead. normals (Q, 3), of unit length, stand for those of the faces.
    """
    tree = mesh.tree
    side = 1.0 if across_air else -1.0
    directions = (mesh.normals_of(face) if normals is None else normals) * (side * sign[face])[:, None]
    longest = float(mesh.size.max())
    hits = tree.rays(points, directions, near=SKIN_SHARE * longest, far=far_mm)
    ray, hit = hits.distance[:, 0], np.maximum(hits.face[:, 0], 0)
    # as if every face looked out of its material
    facing = -side * sign[hit] * np.einsum("ij,ij->i", directions, mesh.area_vectors[hit])
    facing /= np.maximum(mesh.face_areas[hit], 1e-300)
    least, squarely = np.cos(np.radians((FACING_DEG, SQUARE_DEG)))
    wall = np.where((facing >= least) & np.isfinite(ray), ray, np.nan)
    n = len(ray)
    if not widest_ball_mm > 0:
        no_rest = np.full(n, -1, np.int32)
        return Measures(
            wall, np.full(n, np.nan), ray, facing, facing >= squarely, hits.face[:, 0], no_rest, np.full(n, np.inf)
        )
    local = np.ascontiguousarray(points - tree.origin)
    width, across, contact = np.empty(n), np.empty(n, np.float32), np.empty(n, np.int32)
    run_ranges(
        lambda b, e: kernels.shrink_balls(
            tree.arrays,
            local,
            directions,
            ray,
            min(widest_ball_mm, 2.0 * longest),
            BALL_TOLERANCE,
            b,
            e,
            width,
            across,
            contact,
        ),
        n,
        grain=512,
    )
    # a ball that rests on what the ray hit, and was never shrunk, faces what the ray faces
    across = np.where(contact < 0, facing, across)
    whole = width
    width = np.where((across >= least) & np.isfinite(width), width, np.nan)
    square = np.where(np.fmin(wall, width) == wall, facing, across) >= squarely
    rest = np.where(contact >= 0, tree.order[np.maximum(contact, 0)], -1).astype(np.int32)
    return Measures(wall, width, ray, facing, square, hits.face[:, 0], rest, whole)


CONTACT_STEPS = 4
"""Surfaces nearer to each other than so many steps of float32 at the model's largest coordinate lie on each other: a
file holds contact no better."""

MOST_RAYS, _MOST_HITS = 50_000, 64
_ONE_PLACE = 3  # surfaces that may lie in one place


def surfaces_along(mesh: Mesh, points: Floats, directions: Floats, sign: Floats) -> tuple[Floats, Floats]:
    """Distances (Q, K) of all surfaces along rays, and what each does (Q, K): 1 leaves material, -1 enters it.

    0 stands for no surface, for the second face of an edge that a ray goes through, and where material is left and
    entered in one place (`CONTACT_STEPS`): parts that touch are one there. The sum along a ray is how many closed
    surfaces its point lies in. Up to 64 surfaces; for up to `MOST_RAYS` rays at a time.
    """
    longest = float(mesh.size.max())
    hits = mesh.tree.rays(points, directions, near=SKIN_SHARE * longest, most=_MOST_HITS)
    count = max(int(hits.found.max(initial=0)), 1)
    found, distance = hits.face[:, :count], hits.distance[:, :count]
    face = np.maximum(found, 0)
    leaving = np.einsum("ij,ikj->ik", directions, mesh.area_vectors[face] * sign[face][..., None])
    step = np.where(found >= 0, np.sign(leaving), 0.0)
    shell = mesh.topology.shell[face]
    contact = CONTACT_STEPS * float(np.spacing(np.float32(np.abs(mesh.bounds).max())))
    for one_place in (True, False):
        for k in range(1, count):
            for j in range(max(0, k - _ONE_PLACE), k):
                with np.errstate(invalid="ignore"):
                    near = distance[:, k] - distance[:, j] <= (0.1 * SKIN_SHARE * longest if one_place else contact)
                if one_place:  # two faces of one edge
                    step[near & (step[:, k] == step[:, j]) & (shell[:, k] == shell[:, j]), k] = 0.0
                else:
                    cancel = near & (step[:, k] == -step[:, j]) & (step[:, k] != 0)
                    step[cancel, k] = step[cancel, j] = 0.0
    return distance, step
