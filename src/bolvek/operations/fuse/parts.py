"""All closed parts of a model as one body."""

import heapq
from collections.abc import Callable
from functools import partial

import numpy as np

from bolvek.analyses.shells import standing
from bolvek.arrays import Floats
from bolvek.errors import WorkError
from bolvek.mesh import Mesh
from bolvek.operations.fuse.itself import uncrossed
from bolvek.operations.fuse.unite import among, grown, put_together, stored_soundly, unite_exactly
from bolvek.units import count_text

_STEP_SHARE = 2e-6  # of the longest side: what bodies that are set apart differ by
_TOGETHER_SHARE = 1e-4  # of the longest side: what comes apart by that is put together again within this
MOST_PARTS = 600
"""More than so many parts are not put together one by one."""


def parts_of(mesh: Mesh, otherwise: Callable[[Mesh], Mesh] | None = None) -> list[Mesh]:
    """The outermost shells of a closed mesh, facing out, each a body of its own, or the outside of one that crosses
    itself; voids and what lies in them are left out. otherwise: what makes a sound body of one that has no such
    outside. Raises WorkError where nothing does."""
    found = standing(mesh)
    outer = np.flatnonzero(np.array([role not in ("cavity", "buried") for role in found.roles]))
    shell = mesh.topology.shell
    pairs = mesh.meeting[0].astype(np.int64)
    crossed = np.unique(shell[pairs[:, 0]][shell[pairs[:, 0]] == shell[pairs[:, 1]]]).tolist()
    if len(outer) > MOST_PARTS:
        raise WorkError(f"{count_text(len(outer), 'part')} are too many to put together one by one")
    bodies = []
    for number in outer.tolist():
        body = mesh.picked(shell == number)
        body = body if body.volume > 0 else body.turned()
        if number not in crossed:
            bodies.append(body)
            continue
        try:
            made = uncrossed(body)
        except WorkError:
            if otherwise is None:
                raise
            made = otherwise(body)
        bodies += parts_of(made)
    return bodies


def fuse_parts(bodies: list[Mesh], otherwise: Callable[[Mesh], Mesh] | None = None) -> Mesh:
    """The union of bodies (one at least), as a file will hold it: neighbours first, or where that comes out unsound (it
    may, with many faces that lie on each other) the smallest. otherwise: what makes a union sound that rounding makes
    cross itself. Raises WorkError where two cannot be put together."""
    failed, crossing = WorkError("no order serves"), None
    for order in (_by_halves, _smallest_first, _set_apart):
        try:
            union = order(bodies)
            crossing = union
            return stored_soundly(union, partial(among, union.vertices, _corners(bodies)))
        except WorkError as error:
            failed = error
    if otherwise is None or crossing is None:
        raise failed
    return otherwise(crossing.as_stored())


def _by_halves(bodies: list[Mesh]) -> Mesh:
    """The union, by halves along the longest side of all: so most of what is buried is gone before it is cut again."""
    if len(bodies) == 1:
        return bodies[0]
    middle = np.array([body.bounds.mean(axis=0) for body in bodies])
    axis = int(np.argmax(np.ptp(middle, axis=0)))
    order = np.argsort(middle[:, axis], kind="stable").tolist()
    half = len(bodies) // 2
    one, other = (_by_halves([bodies[k] for k in part]) for part in (order[:half], order[half:]))
    return _both(one, other) if len(one.faces) >= len(other.faces) else _both(other, one)


def _smallest_first(bodies: list[Mesh]) -> Mesh:
    """The union, always the two smallest of what is left."""
    waiting = [(len(body.faces), number, body) for number, body in enumerate(bodies)]
    heapq.heapify(waiting)
    count = len(waiting)
    while len(waiting) > 1:
        _, _, one = heapq.heappop(waiting)
        _, _, other = heapq.heappop(waiting)
        both = _both(other, one)
        heapq.heappush(waiting, (len(both.faces), count, both))
        count += 1
    return waiting[0][2]


def _set_apart(bodies: list[Mesh]) -> Mesh:
    """The union of bodies that are first grown by amounts that differ wherever two meet, so that faces which lie on
    each other come apart for good."""
    low, high = (np.array([body.bounds[k] for body in bodies]) for k in (0, 1))
    longest = float((high.max(axis=0) - low.min(axis=0)).max())
    slack = _STEP_SHARE * longest
    meet = np.asarray(((low[:, None] <= high[None] + slack) & (high[:, None] >= low[None] - slack)).all(axis=2))
    step = np.zeros(len(bodies), np.int64)
    for k in sorted(range(len(bodies)), key=lambda k: (-abs(bodies[k].volume), k)):
        taken = set(step[meet[k] & (np.arange(len(bodies)) != k)].tolist())
        step[k] = next(n for n in range(1, len(bodies) + 1) if n not in taken)
    apart = [
        body.moved(grown(body, slack * (n - 1))) if n > 1 else body
        for body, n in zip(bodies, step.tolist(), strict=True)
    ]
    return put_together(_by_halves(apart), _corners(bodies), _TOGETHER_SHARE * longest)


def _corners(bodies: list[Mesh]) -> Floats:
    return np.concatenate([body.vertices for body in bodies])


def _both(one: Mesh, other: Mesh) -> Mesh:
    apart = (one.bounds[0] > other.bounds[1]).any() or (other.bounds[0] > one.bounds[1]).any()
    return one.joined(other) if apart else unite_exactly(one, other)
