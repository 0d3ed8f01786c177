"""Shells and named parts of a survey, told one by one."""

from dataclasses import replace

import numpy as np

from bolvek.analyses.shells import Standing
from bolvek.analyses.survey.record import Part, Shell
from bolvek.arrays import Bools, Ints32
from bolvek.formats.soup import Parts
from bolvek.mesh import Mesh
from bolvek.mesh.topology import OPEN
from bolvek.units import as_triple

STRAY_SHARE = 0.05
"""A shell apart from all others whose box diagonal is below this share of the largest shell's is a stray."""


def describe_shells(
    mesh: Mesh,
    found: Standing,
    pairs: Ints32,
    label: Ints32 | None,
    parts: Parts | None,
) -> list[Shell]:
    """A record a shell. pairs of faces that meet; label (F,) of the parts."""
    topology, nested = mesh.topology, found.nested
    n = topology.shells
    low, high = mesh.shell_boxes
    triangles = np.bincount(topology.shell[~topology.collapsed], minlength=n)
    area = np.bincount(topology.shell, mesh.face_areas, n)
    stray = _strays(mesh, found, pairs)
    names = _names(mesh, label, parts)
    # a shell that is a whole named part is no stray, however small
    if label is not None:
        owner = label[topology.first_face]
        stray &= np.bincount(owner)[owner] > 1
    facing = found.facing
    shells = []
    for s in range(n):
        closed = bool(nested.closed[s])
        shells.append(
            Shell(
                number=s + 1,
                role=found.roles[s],
                faces=_faces_text(bool(found.one_sided[s]), bool(found.mixed[s]), int(facing[s])),
                inside_out=bool(found.inverted[s]),
                stray=bool(stray[s]),
                closed=closed,
                triangles=int(triangles[s]),
                volume_mm3=float(nested.volume[s]) if closed and not found.mixed[s] else None,
                area_mm2=float(area[s]),
                where_mm=as_triple(0.5 * (low[s] + high[s])),
                size_mm=as_triple(high[s] - low[s]),
                part=names[s],
            )
        )
    if parts is not None and parts.support and label is not None:
        props = np.isin(label[topology.first_face], list(parts.support))
        shells = [replace(x, role="support", inside_out=False) if p else x for x, p in zip(shells, props, strict=True)]
    return shells


def _faces_text(one_sided: bool, mixed: bool, facing: int) -> str:
    if one_sided:
        return "one-sided"
    return "mixed" if mixed else {1: "out", -1: "in"}.get(facing, "")


def _strays(mesh: Mesh, found: Standing, pairs: Ints32) -> Bools:
    """Shells (S,) small against the largest, that lie in no other and cross none."""
    n = mesh.topology.shells
    low, high = mesh.shell_boxes
    diagonal = np.linalg.norm(high - low, axis=1)
    meets = np.zeros(n, bool)
    shell = mesh.topology.shell[pairs]
    meets[shell[shell[:, 0] != shell[:, 1]]] = True
    # what a seam joins to others is a piece of them
    alone = np.bincount(found.openings.group, minlength=n)[found.openings.group] == 1
    return np.asarray((diagonal < STRAY_SHARE * diagonal.max(initial=0.0)) & (found.nested.depth == 0) & ~meets & alone)


def _names(mesh: Mesh, label: Ints32 | None, parts: Parts | None) -> list[str | None]:
    """Name of the part that each shell belongs to."""
    if label is None or parts is None:
        return [None] * mesh.topology.shells
    return [parts.names[k] for k in label[mesh.topology.first_face].tolist()]


def describe_parts(mesh: Mesh, parts: Parts | None) -> list[Part]:
    """A record a named piece of the file, in the file's order."""
    if parts is None:
        return []
    order = np.argsort(parts.part, kind="stable")
    ends = np.searchsorted(parts.part[order], np.arange(len(parts.names) + 1))
    found = []
    for k, name in enumerate(parts.names):
        faces = order[ends[k] : ends[k + 1]]
        if not len(faces):
            continue
        points = mesh.vertices[mesh.faces[faces]].reshape(-1, 3)
        rim = int((mesh.topology.opposite.reshape(-1, 3)[faces] == OPEN).sum())
        shells = len(np.unique(mesh.topology.shell[faces]))
        size = as_triple(np.ptp(points, axis=0))
        found.append(Part(name, len(faces), shells, size, rim, k in parts.support))
    return found
