"""What mending changed, place by place: where it helped it stays, where it left more faults than there were it goes."""

import numpy as np

from bolvek.analyses.deviation import matching_faces
from bolvek.arrays import Bools, Floats, Ints, Ints32
from bolvek.mesh import Mesh
from bolvek.mesh.topology import CROWDED, OPEN
from bolvek.operations.mend.draft import Draft
from bolvek.operations.mend.record import Left
from bolvek.spatial.groups import linked_groups
from bolvek.units import as_triple

_KINDS = 4  # open, crowded, running the same way; and pairs of faces that cross
_MOST_TOLD = 200


def without_harm(begin: Draft, after: Draft) -> tuple[Draft, list[Left]]:
    """`after` with every place as it was at the beginning where some fault of edges, or crossings, became more; and
    those places. A place is what was changed and hangs together by corners. The same draft where no place did."""
    old, new = begin.mesh, after.mesh
    kept_old, kept_new = (match == 1 for match in matching_faces(old, new))
    gone, added = np.flatnonzero(~kept_old), np.flatnonzero(~kept_new)
    points = np.concatenate([old.vertices, new.vertices]) + 0.0
    label = np.unique(points, axis=0, return_inverse=True)[1].ravel()
    of_old, of_new = label[old.faces], label[new.faces + len(old.vertices)]
    changed: Ints = np.concatenate([of_old[gone], of_new[added]])
    if not len(changed):
        return after, []
    rows = np.repeat(np.arange(len(changed)), 3)
    links = np.stack([rows, len(changed) + changed.ravel()], axis=1)
    group = linked_groups(len(changed) + int(label.max()) + 1, links)
    at = group[len(changed) :]  # the place of each corner
    touched = np.zeros(len(at), bool)
    touched[changed.ravel()] = True
    count = int(group.max()) + 1
    more = np.zeros((count, _KINDS), np.int64)
    for mesh, corners, sign in ((new, of_new, 1), (old, of_old, -1)):
        for kind, half in enumerate(_faulty_edges(mesh)):
            first = corners[half // 3, half % 3]
            second = corners[half // 3, (half % 3 + 1) % 3]
            known = np.where(touched[first], first, second)
            known = known[touched[known]]
            more[:, kind] += sign * np.bincount(at[known], minlength=count)
    for mesh, own, face_group, sign in (
        (new, ~kept_new, group[len(gone) : len(changed)], 1),
        (old, ~kept_old, group[: len(gone)], -1),
    ):
        place = np.full(len(mesh.faces), -1, np.int64)
        place[own] = face_group
        pairs = place[mesh.meeting[0].astype(np.int64)]
        met = pairs.max(axis=1, initial=-1) if len(pairs) else np.zeros(0, np.int64)
        more[:, 3] += sign * np.bincount(met[met >= 0], minlength=count)
    harmed: Bools = np.asarray((more > 0).any(axis=1))
    if not harmed.any():
        return after, []
    keep = kept_new.copy()
    keep[added] = ~harmed[group[len(gone) : len(changed)]]
    back = gone[harmed[group[: len(gone)]]]
    corners = np.concatenate([new.corners[keep], old.corners[back]])
    origin = np.concatenate([after.origin[keep], begin.origin[back]])
    return Draft(Mesh.from_corners(corners), origin.astype(np.int32)), _told(points, label, changed, group, harmed)


def _faulty_edges(mesh: Mesh) -> tuple[Ints, Ints, Ints]:
    """Half-edges that are open, crowded, and that run the same way as their neighbour."""
    t = mesh.topology
    return np.flatnonzero(t.opposite == OPEN), np.flatnonzero(t.opposite == CROWDED), np.flatnonzero(t.same_way)


def _told(points: Floats, label: Ints, changed: Ints, group: Ints32, harmed: Bools) -> list[Left]:
    where = np.zeros((int(label.max()) + 1, 3))
    where[label] = points
    found = []
    for place in np.flatnonzero(harmed)[:_MOST_TOLD].tolist():
        own = where[np.unique(changed[group[: len(changed)] == place])]
        if not len(own):
            continue
        low, high = own.min(axis=0), own.max(axis=0)
        text = "what mending does there leaves more faults than it takes: left as it was"
        found.append(Left("place", text, as_triple(0.5 * (low + high)), as_triple(high - low)))
    return found
