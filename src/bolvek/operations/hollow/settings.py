"""What hollowing is asked, which models may be hollowed, and what it did."""

from dataclasses import dataclass

import numpy as np

from bolvek.analyses.shells import nest_exactly, standing
from bolvek.analyses.soundness import find_defects
from bolvek.analyses.zones import group_edges
from bolvek.errors import WorkError
from bolvek.mesh import Mesh
from bolvek.mesh.topology import OPEN
from bolvek.settings import Remedy
from bolvek.settings.ways_on import SOLID
from bolvek.units import point_text


class NoCavityError(WorkError):
    """No cavity worth having fits."""


@dataclass(frozen=True, kw_only=True)
class HollowRecord:
    """What hollowing did. Pockets are inner voids too small to drain that were left solid; solid_for_room_mm3
    (about) is what stayed solid because the cavity would have been narrower there than the room; thickened: places
    where a fin thinner than the wall was made as thick; solid_parts: parts without a cavity beside others that have
    one, and their volume; undrained: cavities that stayed solid because no drain reaches them."""

    wall_mm: float
    grid_mm: float
    room_mm: float
    cavities: int
    cavity_volume_mm3: float
    pockets_left_solid: int
    pocket_volume_mm3: float
    inner_triangles_before_slim: int
    inner_triangles: int
    slim_allowed_mm: float
    slim_deviation_mm: float
    least_wall_mm: float
    turned_shells: int
    solid_for_room_mm3: float = 0.0
    thickened: int = 0
    solid_parts: int = 0
    solid_parts_mm3: float = 0.0
    undrained: int = 0
    undrained_mm3: float = 0.0


def check_hollowable(mesh: Mesh, advice: Remedy = SOLID) -> tuple[Mesh, int]:
    """The mesh with outermost shells facing out, and how many were turned. Raises WorkError, with the advice where the
    model is not sound.

    May be hollowed: closed, manifold, oriented, no self-intersections, every shell a part of its
    own (no cavity yet, nothing buried).
    """
    if not len(mesh.faces):
        raise WorkError("the model has no triangles")
    defects = find_defects(mesh)
    if defects:
        told = []
        for defect in defects:
            text = defect.text
            if defect.code == "open_edges":
                count = count_openings(mesh)
                text += f" in {count} opening{'s' if count != 1 else ''}"
            told.append(f"{text}, first near {point_text(defect.where_mm[0])}")
        raise WorkError(f"the model cannot be hollowed: {'; '.join(told)}", advice)
    turned = np.flatnonzero(standing(mesh).inverted)
    if len(turned):
        flip = np.isin(mesh.topology.shell, turned)
        mesh = Mesh(mesh.vertices, np.where(flip[:, None], mesh.faces[:, ::-1], mesh.faces))
    shells = nest_exactly(mesh)
    if len(shells.cavities):
        raise WorkError(f"the model is hollow already: it has {len(shells.cavities)} closed cavity shell(s)")
    if (shells.depth > 0).any():
        inner = int(np.flatnonzero(shells.depth > 0)[0])
        place = mesh.vertices[mesh.faces[mesh.topology.first_face[inner]]].mean(axis=0)
        raise WorkError(
            f"the model cannot be hollowed: {int((shells.depth > 0).sum())} shell(s) lie inside another, "
            f"the first near {point_text(place)}: remove or join the inner one first"
        )
    return mesh, len(turned)


def count_openings(mesh: Mesh) -> int:
    """Groups of open edges that hang together."""
    return len(np.unique(group_edges(mesh, np.flatnonzero(mesh.topology.opposite == OPEN))))
