"""Scraps: bits that hung on a body by an edge or a corner, and are open pieces of their own once it is closed."""

import numpy as np

from bolvek.mesh import Mesh
from bolvek.operations.mend.draft import NEW, Draft, shell_places
from bolvek.operations.mend.record import MendStep
from bolvek.spatial.groups import linked_groups

SCRAP_SHARE = 0.01
"""A scrap has at most this share of the area of the body that it hung on."""


def drop_scraps(draft: Draft, begin: Mesh) -> tuple[Draft, MendStep]:
    """Take out open shells that were part of a body in the mesh of the beginning, or were made on the way, where the
    largest shell of that body is closed and far larger."""
    mesh = draft.mesh
    topology = mesh.topology
    n, is_open = topology.shells, topology.open_shells
    if n < 2 or not is_open.any() or is_open.all():
        return draft, MendStep(step="drop")
    links = np.concatenate([begin.faces[:, [0, 1]], begin.faces[:, [1, 2]]])
    body = linked_groups(len(begin.vertices), links)[begin.faces[:, 0]].astype(np.int64)
    of_face = np.where(draft.origin == NEW, -1, body[np.maximum(draft.origin, 0)])
    of_shell = np.full(n, -1, np.int64)
    old = of_face >= 0
    of_shell[topology.shell[old]] = of_face[old]
    area = np.bincount(topology.shell, mesh.face_areas, n)
    largest = np.full(int(body.max(initial=0)) + 1, -1, np.int64)
    order = np.argsort(area, kind="stable")
    order = order[of_shell[order] >= 0]
    largest[of_shell[order]] = order  # the last one written is the largest
    home = np.where(of_shell >= 0, largest[of_shell], int(np.argmax(area)))
    scrap = is_open & ~is_open[home] & (area <= SCRAP_SHARE * area[home])
    if not scrap.any():
        return draft, MendStep(step="drop")
    places = shell_places(mesh, np.flatnonzero(scrap), "scrap")
    counts = {"scraps": int(scrap.sum())}
    return draft.picked(~scrap[topology.shell]), MendStep(step="drop", counts=counts, places=places)
