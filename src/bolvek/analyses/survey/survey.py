"""What a model is: size, shells and their roles, openings, every class of defect with its places.

Counts of edges, twins, faces without area and self-intersections are exact. What needs a tolerance
(slivers, near-double vertices, knife edges, strays) has one that is named and reported.
"""

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from bolvek.analyses.cavities import Cavity, find_cavities
from bolvek.analyses.shells import Standing, counted_once, faces_alike, nest_exactly, part_by_part, standing
from bolvek.analyses.shells.rims import near_mm as default_near_mm
from bolvek.analyses.shells.rims import odd_edges
from bolvek.analyses.soundness import find_defects, flat_faces, split_vertices
from bolvek.analyses.survey.crossings import find_crossings, find_touching
from bolvek.analyses.survey.describe import describe_parts, describe_shells
from bolvek.analyses.survey.duplicates import find_near, find_twins
from bolvek.analyses.survey.hidden import find_hidden
from bolvek.analyses.survey.record import Class, Marks, Shell, Survey
from bolvek.analyses.zones import edge_zones, face_zones, zones
from bolvek.arrays import Bools, Floats, Ints, Ints8, Ints32
from bolvek.errors import WorkError
from bolvek.formats.soup import Parts
from bolvek.kernels.surface import defects as kernels
from bolvek.mesh import Mesh
from bolvek.mesh.topology import CROWDED, label_patches
from bolvek.settings.measures import SurveySettings
from bolvek.spatial.parallel import run_ranges
from bolvek.units import as_triple

_PLAIN = SurveySettings()

SLIVER_SHARE, MOST_SLIVER_MM = 1e-5, 0.001
"""Faces lower than this share of the longest side, at most so many mm, are slivers."""


def survey(mesh: Mesh, settings: SurveySettings = _PLAIN, parts: Parts | None = None) -> tuple[Survey, Marks]:
    """Survey a mesh; parts are the named pieces of its file. Raises UsageError, or WorkError for a mesh without faces.

    Counts are those of the mesh, parts that are closed by themselves taken apart; what is measured and which
    shell stands how is told of its faces without copies.
    """
    settings.check()
    if not len(mesh.faces):
        raise WorkError("the model has no faces")
    longest = float(mesh.size.max())
    near_mm = default_near_mm(mesh) if settings.near_mm is None else settings.near_mm
    sliver_mm = min(SLIVER_SHARE * longest, MOST_SLIVER_MM) if settings.sliver_mm is None else settings.sliver_mm
    views = _views(mesh, parts)
    body, whole = views.body, views.whole
    twins, twin_faces = find_twins(mesh, None if parts is None else parts.part)
    defects = find_defects(whole)
    topology = whole.topology
    crowded = np.flatnonzero(topology.opposite == CROWDED)
    found = standing(body)
    patch, _ = label_patches(body.topology, found.turned)
    flipped = np.flatnonzero(found.turned)
    flat = flat_faces(mesh)
    low = flat | (_heights(mesh) < sliver_mm)
    slivers = np.flatnonzero(low & ~flat)
    pairs = _without_twins(body)
    touch = find_touching(body, pairs, found.sign)
    shells = describe_shells(body, found, pairs, views.label, parts)
    apart = _of_parts(touch, body.topology.shells, shells)
    crossings = find_crossings(
        body, pairs, total=whole.meeting[1], twins=_twin_pairs(mesh, flat), touch=touch, apart=apart
    )
    hidden = find_hidden(body, pairs, found, touch)
    # the faces of a cavity point out of the material all the same
    knives = _knives(body, found.sign.astype(np.int8), low[views.of_file], settings.knife_deg)
    wrong = np.array([s.inside_out for s in shells])
    role = np.array([s.role for s in shells])
    parted = [d for d in defects if d.code != "self_intersections"]
    result = Survey(
        sound=not parted and not crossings.faulty and not twins.same_way and not wrong.any(),
        triangles=len(mesh.faces),
        vertices=len(mesh.vertices),
        size_mm=as_triple(mesh.size),
        low_mm=as_triple(mesh.bounds[0]),
        area_mm2=float(body.face_areas[role[body.topology.shell] != "support"].sum()),
        volume_mm3=_volume(found, role) if not body.topology.badly_oriented_edges else None,
        shells=topology.shells,
        shell_list=shells,
        parts=describe_parts(whole, parts),
        open_edges=topology.open_edges,
        nonmanifold_edges=topology.nonmanifold_edges,
        badly_oriented_edges=topology.badly_oriented_edges,
        nonmanifold_left=body.topology.nonmanifold_edges,
        odd_edges=len(odd_edges(body)),
        split_vertices=len(split_vertices(whole)),
        flat_faces=int(flat.sum()),
        one_sided=int(found.one_sided.sum()),
        inside_out=int(wrong.sum()),
        everything_inside_out=bool(wrong.all()),
        openings=found.openings.found,
        nonmanifold=Class(topology.nonmanifold_edges, edge_zones(whole, crowded)),
        flipped=Class(len(flipped), zones(body.vertices[body.faces[flipped]], patch[flipped])),
        twins=twins,
        slivers=Class(len(slivers), face_zones(mesh, slivers)),
        sliver_mm=sliver_mm,
        near=find_near(body, near_mm),
        self_intersections=crossings,
        hidden=Class(len(hidden), face_zones(body, hidden)),
        knives=Class(len(knives), edge_zones(body, knives)),
        knife_deg=settings.knife_deg,
        rooms=_rooms(mesh) if not defects else [],
    )
    marks = {
        "open_edges": views.of_file[np.unique(np.concatenate([crowded[:0], *found.openings.half]) // 3)],
        "nonmanifold_edges": np.unique(crowded // 3),
        "badly_oriented_edges": np.unique(np.flatnonzero(topology.same_way) // 3),
        "flipped_faces": views.of_file[flipped],
        "inside_out": views.of_file[wrong[body.topology.shell]],
        "twin_faces": twin_faces,
        "flat_faces": np.flatnonzero(flat),
        "slivers": slivers,
        "self_intersections": views.of_file[np.unique(pairs)],
        "hidden_faces": views.of_file[hidden],
        "knife_edges": views.of_file[np.unique(np.concatenate([knives // 3, body.topology.opposite[knives] // 3]))],
        "strays": views.of_file[np.array([s.stray for s in shells])[body.topology.shell]],
    }
    return result, Marks({code: faces for code, faces in marks.items() if len(faces)})


@dataclass(frozen=True)
class _Views:
    """A file's faces as they are asked. whole: parts that are closed by themselves taken apart; body: that without the
    copies of faces; of_file (B,): which faces of the file those are; label (B,): their parts (None: it has none)."""

    whole: Mesh
    body: Mesh
    of_file: Ints
    label: Ints32 | None


def _views(mesh: Mesh, parts: Parts | None) -> _Views:
    whole = mesh if parts is None else part_by_part(mesh, parts.part)
    once, keep = counted_once(mesh)
    of_file = np.arange(len(mesh.faces)) if keep is None else keep
    label = None if parts is None else parts.part[of_file]
    body = whole if keep is None else once if label is None else part_by_part(once, label)
    return _Views(whole, body, of_file, label)


def _volume(found: Standing, role: NDArray[np.str_]) -> float | None:
    """The material's volume, what is support in the file left out."""
    volume = found.volume_mm3
    return None if volume is None else volume - float(np.abs(found.nested.volume[role == "support"]).sum())


def _without_twins(mesh: Mesh) -> Ints32:
    """Pairs of faces that meet, but for those on the same three corners."""
    pairs = mesh.meeting[0]
    if not len(faces_alike(mesh).faces):
        return pairs
    corners = np.sort(mesh.faces[pairs], axis=2)
    return pairs[(corners[:, 0] != corners[:, 1]).any(axis=1)]


def _twin_pairs(mesh: Mesh, flat: Bools) -> int:
    """Pairs of faces with an area on the same three corners."""
    alike = faces_alike(mesh)
    count = np.bincount(alike.key[~flat[alike.faces]]).astype(np.int64) if len(alike.key) else np.zeros(0, np.int64)
    return int((count * (count - 1) // 2).sum())


def _of_parts(touch: Ints, shells: int, described: list[Shell]) -> Ints:
    """Those pairs of shells that are named parts of the file, two different ones."""
    names = [s.part for s in described]
    named = [
        names[a] is not None and names[b] is not None and a != b for a, b in (divmod(int(c), shells) for c in touch)
    ]
    return touch[np.array(named, bool)]


def _rooms(mesh: Mesh) -> list[Cavity]:
    """Cavities of a sound mesh that are more than pockets of the skin; none while its shells contradict each other."""
    nested = nest_exactly(mesh)
    if ((nested.volume < 0) != (nested.around == 1)).any():
        return []
    return [c for c in find_cavities(mesh, nested=nested).found if c.holds]


def _heights(mesh: Mesh) -> Floats:
    height = np.empty(len(mesh.faces))
    run_ranges(lambda b, e: kernels.face_heights(mesh.vertices, mesh.faces, b, e, height), len(height))
    return height


def _knives(mesh: Mesh, facing: Ints8, skip: Bools, angle_deg: float) -> Ints:
    """Half-edges, one an edge, whose material is sharper than the angle."""
    v, f, area, t = mesh.vertices, mesh.faces, mesh.area_vectors, mesh.topology
    knife = np.zeros(3 * len(f), bool)
    cosine = float(np.cos(np.radians(angle_deg)))
    if angle_deg > 0:
        run_ranges(
            lambda b, e: kernels.knife_edges(v, f, area, t.opposite, t.same_way, facing, skip, cosine, b, e, knife),
            len(f),
        )
    return np.flatnonzero(knife)
