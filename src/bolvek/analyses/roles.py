"""What each shell is to the others: its role, which way it faces, and which faces lie hidden in material."""

import numpy as np
from numpy.typing import NDArray

from bolvek.analyses.shells import Shells, nest_shells
from bolvek.analyses.survey_record import Faces, Shell
from bolvek.kernels import inspect as kernels
from bolvek.mesh import Mesh
from bolvek.mesh.topology import label_patches
from bolvek.spatial.tree import Tree
from bolvek.units import as_triple

STRAY_SHARE = 0.05
"""A shell whose box diagonal is below this share of the model's is a stray, unless it is all there is."""


def faces_to_turn(mesh: Mesh) -> NDArray[np.bool_]:
    """Faces (F,) that must be turned for each piece (joined by paired edges) to agree with its larger side."""
    n = len(mesh.faces)
    piece, turned = np.arange(n, dtype=np.int32), np.zeros(n, bool)
    if mesh.topology.badly_oriented_edges:
        kernels.orient_faces(mesh.topology.twin, mesh.topology.same_way, piece, turned)
        signed = np.bincount(piece, np.where(turned, -1.0, 1.0) * mesh.face_areas, n)
        turned ^= (signed < 0)[piece]
    return turned


def find_roles(
    mesh: Mesh, nested: Shells, pairs: NDArray[np.int32], turned: NDArray[np.bool_], skins: set[int]
) -> tuple[list[str], NDArray[np.int64], NDArray[np.bool_]]:
    """Role of each shell; facing (S,): 1 out of its own volume, -1 into it; mixed (S,): faces disagree."""
    topology = mesh.topology
    n = topology.shells
    mixed = np.zeros(n, bool)
    mixed[topology.shell[np.flatnonzero(topology.same_way) // 3]] = True
    sign = np.where(turned, -1.0, 1.0)
    volume = np.bincount(topology.shell, sign * mesh.face_volumes, n) if turned.any() else nested.volume
    facing = np.where(volume < 0, -1, 1)
    key = topology.shell[pairs].astype(np.int64) if len(pairs) else np.zeros((0, 2), np.int64)
    crossing = np.unique(np.concatenate([key[:, 0] * n + key[:, 1], key[:, 1] * n + key[:, 0]]))
    free = ~np.isin(nested.inner * n + nested.outer, crossing)
    inner, outer = nested.inner[free], nested.outer[free]
    # an outermost shell that faces inward still stands for material
    meant = np.where(np.bincount(inner, minlength=n) == 0, 1, facing)
    material = np.bincount(inner, meant[outer], n)
    depth = np.bincount(inner, minlength=n)
    low, high = mesh.shell_boxes
    diagonal = np.linalg.norm(high - low, axis=1)
    small = (diagonal < STRAY_SHARE * np.linalg.norm(mesh.size)) & (diagonal < diagonal.max(initial=0.0))
    roles = []
    for s in range(n):
        if small[s] and depth[s] == 0:
            roles.append("stray")
        elif not nested.closed[s]:
            roles.append("open skin" if s + 1 in skins else "open body")
        elif material[s] >= 1:
            roles.append("cavity" if facing[s] < 0 else "buried")
        else:
            roles.append("loose" if depth[s] else "outer")
    return roles, facing, mixed


def describe_shells(
    mesh: Mesh, nested: Shells, roles: list[str], facing: NDArray[np.int64], mixed: NDArray[np.bool_]
) -> list[Shell]:
    """A record a shell."""
    low, high = mesh.shell_boxes
    n = mesh.topology.shells
    triangles = np.bincount(mesh.topology.shell[~mesh.topology.collapsed], minlength=n)
    area = np.bincount(mesh.topology.shell, mesh.face_areas, n)
    found = []
    for s in range(n):
        closed = bool(nested.closed[s])
        found.append(
            Shell(
                number=s + 1,
                role=roles[s],
                faces="mixed" if mixed[s] else "" if not closed else "out" if facing[s] > 0 else "in",
                closed=closed,
                triangles=int(triangles[s]),
                volume_mm3=float(nested.volume[s]) if closed and not mixed[s] else None,
                area_mm2=float(area[s]),
                where_mm=as_triple(0.5 * (low[s] + high[s])),
                size_mm=as_triple(high[s] - low[s]),
            )
        )
    return found


def material_volume(nested: Shells, roles: list[str]) -> float:
    """Material: parts that stand free count whole, cavities are taken off, what is buried is there already."""
    total = 0.0
    for role, volume in zip(roles, nested.volume.tolist(), strict=True):
        if role == "cavity":
            total -= abs(volume)
        elif role != "buried":
            total += abs(volume)
    return total


def _inside_out(facing: NDArray[np.int64], nested: Shells) -> NDArray[np.bool_]:
    """Closed outermost shells (S,) that face inward."""
    return np.asarray((facing < 0) & (nested.depth == 0) & nested.closed)


def outward_signs(mesh: Mesh) -> NDArray[np.float64]:
    """Per face (F,): 1 where it faces out of its material as it stands, -1 where it is turned the wrong way.

    Computed once a mesh.
    """
    if "outward" not in mesh.__dict__:
        turned, nested, topology = faces_to_turn(mesh), nest_shells(mesh), mesh.topology
        sign = np.where(turned, -1.0, 1.0)
        volume = np.bincount(topology.shell, sign * mesh.face_volumes, topology.shells)
        sign[_inside_out(np.where(volume < 0, -1, 1), nested)[topology.shell]] *= -1.0
        mesh.__dict__["outward"] = sign
    return mesh.__dict__["outward"]


def find_hidden(
    mesh: Mesh, pairs: NDArray[np.int32], turned: NDArray[np.bool_], facing: NDArray[np.int64], nested: Shells
) -> Faces:
    """Faces with a closed shell's material before them.

    A face that crosses nothing shares the answer of its whole patch, so one winding number a patch is
    enough; crossing faces are asked one by one, at their middles.
    """
    topology, closed = mesh.topology, nested.closed
    if not closed.any() or (topology.shells == 1 and not len(pairs)):
        return np.zeros(0, np.int64)
    crossing = np.zeros(len(mesh.faces), bool)
    crossing[pairs.ravel()] = True
    patch, count = label_patches(topology, ~crossing)
    free = np.flatnonzero(~crossing)
    area = np.zeros(count)
    np.maximum.at(area, patch[free], mesh.face_areas[free])
    largest = free[mesh.face_areas[free] == area[patch[free]]]
    chosen = np.zeros(count, np.int64)
    chosen[patch[largest[::-1]]] = largest[::-1]
    asked = np.concatenate([chosen, np.flatnonzero(crossing)])
    # material is where the closed shells, made to agree and to face out, wind around a point
    wrong = turned ^ _inside_out(facing, nested)[topology.shell]
    if wrong.any() or not closed.all():
        faces = np.where(wrong[:, None], mesh.faces[:, ::-1], mesh.faces)[closed[topology.shell]]
        tree = Tree(mesh.vertices, np.ascontiguousarray(faces))
    else:
        tree = mesh.tree
    length = np.sqrt(mesh.face_areas[asked])
    normal = mesh.area_vectors[asked] / np.maximum(mesh.face_areas[asked], 1e-300)[:, None]
    normal[wrong[asked]] *= -1
    step = np.minimum(1e-3 * length, 1e-4 * float(mesh.size.max()))
    before = mesh.vertices[mesh.faces[asked]].mean(axis=1) + step[:, None] * normal
    inside = tree.winding(before) > 0.5
    hidden = np.zeros(len(mesh.faces), bool)
    hidden[free] = inside[:count][patch[free]]
    hidden[asked[count:]] = inside[count:]
    return np.flatnonzero(hidden & ~topology.collapsed)
