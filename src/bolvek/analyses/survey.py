"""What a model is: size, shells and their roles, openings, every class of defect with its places.

Counts of edges, twins, faces without area and self-intersections are exact. What needs a tolerance
(slivers, near-double vertices, knife edges, strays) has one that is named and reported.
"""

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from bolvek.analyses.cavities import Cavity, find_cavities
from bolvek.analyses.coincident import find_near, find_twins
from bolvek.analyses.crossings import find_crossings
from bolvek.analyses.openings import find_openings
from bolvek.analyses.roles import describe_shells, faces_to_turn, find_hidden, find_roles, material_volume
from bolvek.analyses.shells import nest_exactly, nest_shells
from bolvek.analyses.soundness import find_defects, flat_faces, split_vertices
from bolvek.analyses.survey_record import Class, Marks, Part, Survey
from bolvek.analyses.zones import edge_zones, face_zones, zones
from bolvek.errors import UsageError, WorkError
from bolvek.kernels import inspect as kernels
from bolvek.mesh import Mesh
from bolvek.mesh.topology import CROWDED, OPEN, label_patches
from bolvek.spatial.parallel import run_ranges
from bolvek.units import as_triple

Faces = NDArray[np.int64]

NEAR_SHARE, MOST_NEAR_MM = 1e-4, 0.02
"""Vertices nearer than this share of the longest side, at most so many mm, count as doubled."""

SLIVER_SHARE, MOST_SLIVER_MM = 1e-5, 0.001
"""Faces lower than this share of the longest side, at most so many mm, are slivers."""

KNIFE_DEG = 10.0
"""Edges whose material is sharper than this are knife edges."""


@dataclass(frozen=True)
class SurveySettings:
    """Tolerances; None takes the share of the longest side named above. mm and degrees."""

    near_mm: float | None = None
    sliver_mm: float | None = None
    knife_deg: float = KNIFE_DEG

    def check(self) -> None:
        """Raise UsageError when a tolerance makes no sense."""
        for name, value in (("--near", self.near_mm), ("--sliver", self.sliver_mm)):
            if value is not None and not (value >= 0 and np.isfinite(value)):
                raise UsageError(f"{name} must be 0 or more, not {value:g}")
        if not 0 <= self.knife_deg < 90:
            raise UsageError(f"--knife must be at least 0 and below 90 degrees, not {self.knife_deg:g}")


def survey(
    mesh: Mesh,
    settings: SurveySettings = SurveySettings(),
    parts: tuple[tuple[str, ...], NDArray[np.int32]] | None = None,
) -> tuple[Survey, Marks]:
    """Survey a mesh; parts are names and the name number (F,) of each face.

    Raises UsageError, or WorkError for a mesh without faces.
    """
    settings.check()
    if not len(mesh.faces):
        raise WorkError("the model has no faces")
    defects = find_defects(mesh)
    topology = mesh.topology
    longest = float(mesh.size.max())
    near_mm = min(NEAR_SHARE * longest, MOST_NEAR_MM) if settings.near_mm is None else settings.near_mm
    sliver_mm = min(SLIVER_SHARE * longest, MOST_SLIVER_MM) if settings.sliver_mm is None else settings.sliver_mm

    openings, rims = find_openings(mesh)
    crowded = np.flatnonzero(topology.twin == CROWDED)
    turned = faces_to_turn(mesh)
    flipped = np.flatnonzero(turned)
    patch, _ = label_patches(topology, turned)
    twins, twin_faces = find_twins(mesh)
    flat = flat_faces(mesh)
    low = flat | (_heights(mesh) < sliver_mm)
    slivers = np.flatnonzero(low & ~flat)
    pairs, pair_count = mesh.meeting
    nested = nest_shells(mesh)
    roles, facing, mixed = find_roles(mesh, nested, pairs, turned, {o.shell for o in openings if o.kind == "rim"})
    hidden = find_hidden(mesh, pairs, turned, facing, nested)
    # the faces of a cavity point out of the material all the same
    inward = (facing < 0) & (np.array(roles) != "cavity")
    knives = _knives(mesh, np.where(inward, -1, 1)[topology.shell].astype(np.int8), low, settings.knife_deg)
    shells = describe_shells(mesh, nested, roles, facing, mixed)
    strays = np.isin(topology.shell, [s.number - 1 for s in shells if s.role == "stray"])
    whole = bool(nested.closed.all()) and not topology.badly_oriented_edges
    marks = {
        "open_edges": np.unique(np.concatenate(rims) // 3) if rims else np.zeros(0, np.int64),
        "nonmanifold_edges": np.unique(crowded // 3),
        "badly_oriented_edges": np.unique(np.flatnonzero(topology.same_way) // 3),
        "flipped_faces": flipped,
        "twin_faces": twin_faces,
        "flat_faces": np.flatnonzero(flat),
        "slivers": slivers,
        "self_intersections": np.unique(pairs).astype(np.int64),
        "hidden_faces": hidden,
        "knife_edges": np.unique(np.concatenate([knives // 3, topology.twin[knives] // 3])),
        "strays": np.flatnonzero(strays),
    }
    result = Survey(
        sound=not defects and not any(s.role == "outer" and s.faces == "in" for s in shells),
        triangles=len(mesh.faces),
        vertices=len(mesh.vertices),
        size_mm=as_triple(mesh.size),
        low_mm=as_triple(mesh.bounds[0]),
        area_mm2=mesh.area,
        volume_mm3=material_volume(nested, roles) if whole else None,
        shells=topology.shells,
        shell_list=shells,
        parts=_parts(mesh, parts),
        open_edges=topology.open_edges,
        nonmanifold_edges=topology.nonmanifold_edges,
        badly_oriented_edges=topology.badly_oriented_edges,
        split_vertices=len(split_vertices(mesh)),
        flat_faces=int(flat.sum()),
        openings=openings,
        nonmanifold=Class(topology.nonmanifold_edges, edge_zones(mesh, crowded)),
        flipped=Class(len(flipped), zones(mesh.vertices[mesh.faces[flipped]], patch[flipped])),
        twins=twins,
        slivers=Class(len(slivers), face_zones(mesh, slivers)),
        sliver_mm=sliver_mm,
        near=find_near(mesh, near_mm),
        self_intersections=find_crossings(mesh, pairs, pair_count),
        hidden=Class(len(hidden), face_zones(mesh, hidden)),
        knives=Class(len(knives), edge_zones(mesh, knives)),
        knife_deg=settings.knife_deg,
        rooms=_rooms(mesh) if not defects else [],
    )
    return result, Marks({code: faces for code, faces in marks.items() if len(faces)})


def _rooms(mesh: Mesh) -> list[Cavity]:
    """Cavities of a sound mesh that are more than pockets of the skin; none while its shells contradict each other."""
    nested = nest_exactly(mesh)
    if ((nested.volume < 0) != (nested.around == 1)).any():
        return []
    return [c for c in find_cavities(mesh, nested=nested).found if not c.pocket]


def _heights(mesh: Mesh) -> NDArray[np.float64]:
    height = np.empty(len(mesh.faces))
    run_ranges(lambda b, e: kernels.face_heights(mesh.vertices, mesh.faces, b, e, height), len(height))
    return height


def _knives(mesh: Mesh, facing: NDArray[np.int8], skip: NDArray[np.bool_], angle_deg: float) -> Faces:
    """Half-edges, one an edge, whose material is sharper than the angle."""
    v, f, area, t = mesh.vertices, mesh.faces, mesh.area_vectors, mesh.topology
    knife = np.zeros(3 * len(f), bool)
    cosine = float(np.cos(np.radians(angle_deg)))
    if angle_deg > 0:
        run_ranges(
            lambda b, e: kernels.knife_edges(v, f, area, t.twin, t.same_way, facing, skip, cosine, b, e, knife), len(f)
        )
    return np.flatnonzero(knife)


def _parts(mesh: Mesh, parts: tuple[tuple[str, ...], NDArray[np.int32]] | None) -> list[Part]:
    if parts is None:
        return []
    names, label = parts
    order = np.argsort(label, kind="stable")
    ends = np.searchsorted(label[order], np.arange(len(names) + 1))
    found = []
    for k, name in enumerate(names):
        faces = order[ends[k] : ends[k + 1]]
        if not len(faces):
            continue
        points = mesh.vertices[mesh.faces[faces]].reshape(-1, 3)
        rim = int((mesh.topology.twin.reshape(-1, 3)[faces] == OPEN).sum())
        shells = len(np.unique(mesh.topology.shell[faces]))
        found.append(Part(name, len(faces), shells, as_triple(np.ptp(points, axis=0)), rim))
    return found
