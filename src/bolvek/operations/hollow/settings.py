"""What hollowing is asked, which models may be hollowed, and what it did."""

from dataclasses import dataclass

import numpy as np

from bolvek.analyses.shells import nest_exactly, standing
from bolvek.analyses.soundness import find_defects
from bolvek.analyses.zones import group_edges
from bolvek.errors import UsageError, WorkError
from bolvek.mesh import Mesh
from bolvek.mesh.topology import OPEN
from bolvek.spatial.isosurface import MIN_CELLS_PER_LEVEL
from bolvek.units import length_text, point_text

CELLS, CORE_CELLS = 50_000, 150_000
"""Lattice cells that the surface of a cavity, and of its core, may take before they get coarser than `FINEST`."""
FINEST, COARSEST, CORE_COARSEST = 0.25, 0.45, 0.35
"""Of the wall: how long the sides of such cells are."""


class NoCavityError(WorkError):
    """No cavity worth having fits."""


@dataclass(frozen=True, kw_only=True)
class HollowSettings:
    """Wall, lattice cell (None: see `cell_mm`) and least width of the cavity (None: as wide as the wall; 0: any) in mm;
    slim the inner shell or not; hollow small pockets too. plugs_mm: balls (x, y, z, radius) that stay solid, to close
    a neck of the cavity."""

    wall_mm: float
    grid_mm: float | None = None
    slim: bool = True
    keep_pockets: bool = False
    room_mm: float | None = None
    plugs_mm: tuple[tuple[float, float, float, float], ...] = ()

    @property
    def least_room_mm(self) -> float:
        """How wide the cavity is at least."""
        return self.wall_mm if self.room_mm is None else self.room_mm

    def cell_mm(self, longest_mm: float, area_mm2: float) -> float:
        """The lattice cell of the cavity's surface: as given, else a quarter of the wall, coarser where that would take
        more than `CELLS` cells, and at least 40 along the longest side of the model."""
        return self._cell(longest_mm, area_mm2, CELLS, COARSEST)

    def core_cell_mm(self, longest_mm: float, area_mm2: float) -> float:
        """The lattice cell on which it is found where the cavity may be: its narrow places need it finer."""
        return self._cell(longest_mm, area_mm2, CORE_CELLS, CORE_COARSEST)

    def _cell(self, longest: float, area: float, cells: int, coarsest: float) -> float:
        if self.grid_mm is not None:
            return self.grid_mm
        usual = np.clip(np.sqrt(area / cells), FINEST * self.wall_mm, coarsest * self.wall_mm)
        return min(float(usual), longest / 40)

    def check(self) -> None:
        """Raise UsageError when the numbers make no sense."""
        if not 0 < self.wall_mm < float("inf"):
            raise UsageError(f"--wall must be above 0, not {self.wall_mm:g} mm")
        if self.room_mm is not None and not 0 <= self.room_mm < float("inf"):
            raise UsageError(f"--room must be 0 or more, not {self.room_mm:g} mm")
        if self.grid_mm is None:
            return
        if not self.grid_mm > 0:
            raise UsageError(f"--grid must be above 0, not {self.grid_mm:g} mm")
        most = self.wall_mm / MIN_CELLS_PER_LEVEL * 0.999
        if self.grid_mm > most:
            raise UsageError(
                f"--grid {length_text(self.grid_mm)} is too coarse for a wall of {length_text(self.wall_mm)}: "
                f"at most {length_text(most)}"
            )


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


def check_hollowable(mesh: Mesh) -> tuple[Mesh, int]:
    """The mesh with outermost shells facing out, and how many were turned. Raises WorkError.

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
        raise WorkError(f"the model cannot be hollowed: {'; '.join(told)}: 'bolvek mend --plan' tells what helps")
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
