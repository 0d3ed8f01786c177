"""A relief stands: its rim is drawn down to a plane and closed there."""

import numpy as np

from bolvek.analyses.shells.rims import cut_at_repeats
from bolvek.arrays import Ints
from bolvek.errors import WorkError
from bolvek.mesh import Mesh
from bolvek.mesh.topology import OPEN
from bolvek.operations.convex import TooClose, prism, subtract
from bolvek.operations.hollow import hollow
from bolvek.settings.shape import HollowSettings
from bolvek.spatial.polygons import PolygonError, triangulate
from bolvek.units import length_text

_AXES = {"x": 0, "y": 1, "z": 2}
_JITTER_MM, _TRIES, _SEED = 1e-4, 8, 53


def facing_foot(skin: Mesh, foot: tuple[str, float]) -> Mesh:
    """The skin, each piece turned to look away from the plane of the foot. Raises WorkError where it does not lie on
    one side of it."""
    axis, place = _AXES[foot[0]], foot[1]
    low, high = skin.bounds[:, axis]
    if low <= place <= high:
        beyond = low if place - low <= high - place else high
        raise WorkError(
            f"the foot at {foot[0]} = {length_text(place)} lies within the skin, which goes from {length_text(low)} to "
            f"{length_text(high)}: put it beyond {length_text(beyond)}"
        )
    up = 1.0 if place < low else -1.0
    toward = np.bincount(skin.topology.shell, up * skin.area_vectors[:, axis], skin.topology.shells)
    turn = (toward < 0)[skin.topology.shell]
    return Mesh(skin.vertices, np.where(turn[:, None], skin.faces[:, ::-1], skin.faces)) if turn.any() else skin


def with_foot(skin: Mesh, foot: tuple[str, float]) -> Mesh | None:
    """The skin (see `facing_foot`), walls straight down from its rim, and the foot; the skin's faces first, then two of
    the wall for each open half-edge. None where the rim's outline crosses itself, seen along the axis."""
    axis, place = _AXES[foot[0]], foot[1]
    half = np.flatnonzero(skin.topology.opposite == OPEN)
    a, b = (end.astype(np.int64) for end in skin.edge_ends(half))
    rim = np.unique(np.concatenate([a, b]))
    number = np.full(len(skin.vertices), -1)
    number[rim] = len(skin.vertices) + np.arange(len(rim))
    low = skin.vertices[rim].copy()
    low[:, axis] = np.float64(np.float32(place))
    points = np.concatenate([skin.vertices, low])
    walls = np.stack([np.stack([b, a, number[a]], axis=1), np.stack([b, number[a], number[b]], axis=1)], axis=1)
    i, j = ((axis + 1) % 3, (axis + 2) % 3)
    if place < skin.bounds[0, axis]:
        i, j = j, i  # the foot looks down
    flat = {int(number[v]): (float(skin.vertices[v, i]), float(skin.vertices[v, j])) for v in rim}
    loops = _loops(number[b], number[a])
    try:
        caps = np.array(triangulate(flat, loops), np.int64).reshape(-1, 3)  # type: ignore[arg-type]
    except PolygonError:
        return None
    return Mesh(points, np.concatenate([skin.faces, walls.reshape(-1, 3), caps])).picked(slice(None))


def in_the_way(skin: Mesh, foot: tuple[str, float]) -> Ints:
    """Faces that cross others, or the walls under the rim, or whose edges at the rim do seen along the axis."""
    axis = _AXES[foot[0]]
    n = len(skin.faces)
    made = with_foot(skin, foot)
    half = np.flatnonzero(skin.topology.opposite == OPEN)
    if made is None:
        # the outline crosses itself: the edges that do, and the faces beside them
        a, b = skin.edge_ends(half)
        flat = skin.vertices.copy()
        flat[:, axis] = foot[1]
        tall = np.zeros(3)
        tall[axis] = float(skin.size.max())
        count = len(skin.vertices)
        curtain = Mesh(
            np.concatenate([flat - tall, flat + tall]),
            np.concatenate([np.stack([a, b, b + count], axis=1), np.stack([a, b + count, a + count], axis=1)]),
        ).picked(slice(None))
        found = curtain.tree.meeting_pairs()[0]
        return np.unique(half[np.unique(found) % len(half)] // 3)
    pairs = made.as_stored().tree.meeting_pairs()[0].astype(np.int64).ravel()
    own, walls = pairs[pairs < n], pairs[(pairs >= n) & (pairs < n + 2 * len(half))]
    return np.unique(np.concatenate([own, half[(walls - n) // 2] // 3]))


def _loops(start: Ints, end: Ints) -> list[list[int]]:
    """Closed walks of steps from start to end, cut where they pass a place twice."""
    after: dict[int, list[int]] = {}
    for s, e in zip(start.tolist(), end.tolist(), strict=True):
        after.setdefault(s, []).append(e)
    loops = []
    while after:
        first = next(iter(after))
        walk, at = [first], _take(after, first)
        while at != first and at in after:
            walk.append(at)
            at = _take(after, at)
        places = np.array(walk)
        loops += [[walk[k] for k in rows] for rows in cut_at_repeats(places)]
    return loops


def _take(after: dict[int, list[int]], place: int) -> int:
    following = after[place].pop()
    if not after[place]:
        del after[place]
    return following


def hollow_beneath(skin: Mesh, foot: tuple[str, float], wall: float) -> Mesh | None:
    """As `with_foot`, hollow from below: a wall under the skin and along the sides. None as there."""
    axis, place = _AXES[foot[0]], foot[1]
    down = -1.0 if place < skin.bounds[0, axis] else 1.0
    deep = with_foot(skin, (foot[0], place + down * 3 * wall))
    if deep is None:
        return None
    shell, _ = hollow(deep, HollowSettings(wall_mm=wall, keep_pockets=True))
    middle, reach = shell.bounds.mean(axis=0), float(np.linalg.norm(shell.size))
    rng = np.random.default_rng(_SEED)
    for turn in range(_TRIES):
        start = middle + rng.uniform(-_JITTER_MM, _JITTER_MM, 3)
        start[axis] = place + (rng.uniform(-_JITTER_MM, _JITTER_MM) if turn else 0.0)
        end = start.copy()
        end[axis] = place + down * 5 * wall
        try:
            return subtract(shell, [prism(start, end, reach, 6, float(rng.uniform(0, 60)))])
        except TooClose:
            continue
    raise WorkError("the foot could not be cut cleanly: move it a little")
