"""Self-intersections gathered into zones, told apart by the shells that meet."""

import numpy as np
from numpy.typing import NDArray

from bolvek.analyses.survey_record import Crossing, Crossings
from bolvek.analyses.zones import gather, zones
from bolvek.mesh import Mesh

_MOST_ZONES = 10_000


def find_crossings(mesh: Mesh, pairs: NDArray[np.int32], total: int) -> Crossings:
    """Zones of pairs (P, 2) of meeting faces, out of `total` pairs that there are."""
    if not len(pairs):
        return Crossings()
    shells = mesh.topology.shells
    shell = mesh.topology.shell.astype(np.int64)
    key = np.sort(shell[pairs], axis=1)
    key_code = key[:, 0] * shells + key[:, 1]
    keys, at = np.unique(key_code, return_inverse=True)
    # a node is a face together with the pair of shells it crosses for
    code = pairs.astype(np.int64) * len(keys) + at.ravel()[:, None]
    nodes, number = np.unique(code, return_inverse=True)
    number = number.reshape(-1, 2)
    face, kind = np.divmod(nodes, len(keys))
    links = [number]
    for k in range(3):
        twin = mesh.topology.twin[3 * face + k]
        beside = np.where(twin >= 0, twin // 3 * len(keys) + kind, -1)
        place = np.minimum(np.searchsorted(nodes, beside), len(nodes) - 1)
        same = nodes[place] == beside
        links.append(np.stack([np.flatnonzero(same), place[same]], axis=1))
    group = gather(len(nodes), np.concatenate(links))
    # a pair lies in the group of either of its nodes, and in what the boxes of its faces have in common
    pair_group = group[number[:, 0]]
    of = np.zeros(int(group.max()) + 1, np.int64)
    of[pair_group] = at.ravel()
    corners = mesh.vertices[mesh.faces[pairs]]
    common = np.stack([corners.min(axis=2).max(axis=1), corners.max(axis=2).min(axis=1)], axis=1)
    label = np.asarray(np.unique(pair_group, return_inverse=True)[1], np.int32)
    count = np.bincount(label)
    kinds = of[np.unique(pair_group)]
    found = []
    for zone in zones(common, label, np.arange(len(count)), _MOST_ZONES):  # the group's number stands in for the count
        a, b = divmod(int(keys[kinds[zone.count]]), shells)
        found.append(Crossing(int(count[zone.count]), zone.where_mm, zone.size_mm, (a + 1, b + 1)))
    of_itself = int((key[:, 0] == key[:, 1]).sum())
    return Crossings(total, len(pairs), len(pairs) - of_itself, of_itself, len(count), found)
