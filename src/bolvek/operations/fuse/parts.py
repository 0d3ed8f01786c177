"""All closed parts of a model as one body."""

import heapq

import numpy as np

from bolvek.analyses.shells import standing
from bolvek.errors import WorkError
from bolvek.mesh import Mesh
from bolvek.operations.fuse.unite import stored_soundly, unite_exactly
from bolvek.units import count_text, point_text

MOST_PARTS = 600
"""More than so many parts are not put together one by one."""


def parts_of(mesh: Mesh) -> list[Mesh]:
    """The outermost shells of a closed mesh, facing out, each a body of its own; voids and what lies in them are left
    out. Raises WorkError where one of them crosses itself."""
    found = standing(mesh)
    outer = np.flatnonzero(np.array([role not in ("cavity", "buried") for role in found.roles]))
    shell = mesh.topology.shell
    pairs = mesh.meeting[0].astype(np.int64)
    own = pairs[shell[pairs[:, 0]] == shell[pairs[:, 1]]]
    if len(own):
        where = mesh.vertices[mesh.faces[own[0, 0]]].mean(axis=0)
        raise WorkError(f"a part crosses itself, as at {point_text(where)}")
    if len(outer) > MOST_PARTS:
        raise WorkError(f"{count_text(len(outer), 'part')} are too many to put together one by one")
    bodies = []
    for number in outer.tolist():
        body = mesh.picked(shell == number)
        bodies.append(body if body.volume > 0 else body.turned())
    return bodies


def fuse_parts(bodies: list[Mesh]) -> Mesh:
    """The union of bodies (one at least), the smallest first, as a file will hold it. Raises WorkError where two cannot
    be put together."""
    waiting = [(len(body.faces), number, body) for number, body in enumerate(bodies)]
    heapq.heapify(waiting)
    count = len(waiting)
    while len(waiting) > 1:
        _, _, one = heapq.heappop(waiting)
        _, _, other = heapq.heappop(waiting)
        apart = (one.bounds[0] > other.bounds[1]).any() or (other.bounds[0] > one.bounds[1]).any()
        both = other.joined(one) if apart else unite_exactly(other, one)
        heapq.heappush(waiting, (len(both.faces), count, both))
        count += 1
    union = waiting[0][2]
    own = np.unique(np.concatenate([body.vertices for body in bodies]).view("f8,f8,f8"))
    fixed = np.isin(np.ascontiguousarray(union.vertices).view("f8,f8,f8")[:, 0], own)
    return stored_soundly(union, fixed)
