"""Islands: where a sweep upward meets material that begins with nothing beneath.

A minimum of the surface is where material begins or where air does (the bottom of a cup); the winding number just
beneath tells which. What begins inside or on other material is held.
"""

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from bolvek.analyses.overhangs.clip import clip_below
from bolvek.analyses.thickness import sample_surface
from bolvek.arrays import Bools, Floats, Ints, Ints32
from bolvek.kernels.surface import sweep as kernels
from bolvek.mesh import Mesh, once_a_mesh
from bolvek.spatial.tree import Tree

MOST_SAMPLES = 20_000
FLOAT32_NOISE = 2.5e-7
"""Heights that differ by less than this share of the largest coordinate are one: float32 tells no more."""

BENEATH_SHARE = 1e-5
"""Just beneath a place: this share of the longest side."""


def noise_mm(mesh: Mesh) -> float:
    """Heights closer than this are as good as equal."""
    return FLOAT32_NOISE * float(np.abs(mesh.bounds).max(initial=0.0))


@once_a_mesh
def neighbours(mesh: Mesh) -> tuple[Ints, Ints32]:
    """Starts (V + 1,) and vertices around each vertex."""
    start, around = np.empty(len(mesh.vertices) + 1, np.int64), np.empty(6 * len(mesh.faces), np.int32)
    kernels.neighbour_starts(mesh.faces, start)
    kernels.fill_neighbours(mesh.faces, start, around)
    return start, around


def surface_minima(mesh: Mesh, height: Floats, limit: Callable[[Floats], Floats]) -> tuple[Ints, Ints32, Ints]:
    """Vertices where the surface begins and stays alone up to a limit, lowest first; what belongs to each.

    limit gives the height (N,) up to which something that begins at a height (N,) must stay alone. owner (V,) is the
    number of the minimum that each vertex up to there belongs to (-1: none), the last array the numbers of those
    that are returned. Equal heights side by side are one.
    """
    start, around = neighbours(mesh)
    minima = np.empty(len(height), np.int32)
    minima = minima[: kernels.find_minima(height, start, around, minima)]
    minima = minima[np.argsort(height[minima], kind="stable")]
    owner, stack = np.full(len(height), -1, np.int32), np.empty(len(height), np.int32)
    kept = np.zeros(len(minima), bool)
    kernels.grow_minima(height, start, around, minima, limit(height[minima]), owner, stack, kept)
    chosen = np.flatnonzero(kept)
    return minima[chosen].astype(np.int64), owner, chosen


@dataclass(frozen=True)
class Sweep:
    """A mesh swept upward: sign (F,) 1 where a face looks out of material, which the winding number of a tree tells;
    height (V,) along the unit vector up, floor the lowest, layers so many mm high."""

    mesh: Mesh
    sign: Floats
    tree: Tree
    height: Floats
    up: Floats
    floor: float
    layer_mm: float

    def just_above(self, height: Floats) -> Floats:
        """Heights (N,) as far above others as they can be told apart."""
        return np.asarray(height + noise_mm(self.mesh))

    def next_layer(self, height: Floats) -> Floats:
        """The height (N,) at which a layer is next cut, above heights (N,): a layer is what its middle shows."""
        above = height + noise_mm(self.mesh) - self.floor
        return np.asarray(self.floor + (np.floor(above / self.layer_mm + 0.5) + 0.5) * self.layer_mm)


def find_islands(sweep: Sweep, lowest: float, *, all_places: bool = False, samples: int = MOST_SAMPLES) -> Ints:
    """Vertices at the bottom of islands above the height `lowest`, lowest first: where material begins and stays
    alone until a layer is cut (all_places: also where it does not).

    Whether it is held after all is asked at about so many samples.
    """
    mesh, height = sweep.mesh, sweep.height
    limit = sweep.just_above if all_places else sweep.next_layer
    minima, owner, number = surface_minima(mesh, height, limit)
    raised = height[minima] > lowest
    minima, number = minima[raised], number[raised]
    just = BENEATH_SHARE * float(mesh.size.max())
    begins = sweep.tree.winding(mesh.vertices[minima] - just * sweep.up) < 0.5
    minima, number = minima[begins], number[begins]
    if not len(minima):
        return minima
    return minima[~_held(sweep, limit(height[minima]), owner, number, samples)]


def _held(sweep: Sweep, limit: Floats, owner: Ints32, number: Ints, samples: int) -> Bools:
    """Whether what begins in each basin (B,) is, below its limit, inside other material or rests on some.

    The faces of a basin are clipped at the limit and sampled; points just before them are asked, and points half a
    layer beneath those that look down.
    """
    mesh, height, tree = sweep.mesh, sweep.height, sweep.tree
    order = np.full(int(owner.max()) + 2, -1)
    order[number] = np.arange(len(number))
    mine = order[owner]
    inside = mine >= 0
    a, b, c = mesh.faces.T
    faces = np.flatnonzero(inside[a] | inside[b] | inside[c])
    basin = mine[mesh.faces[faces]].max(axis=1)
    pieces, row = clip_below(mesh.vertices[mesh.faces[faces]], height[mesh.faces[faces]], limit[basin])
    local = Mesh(pieces.reshape(-1, 3), np.arange(3 * len(pieces)).reshape(-1, 3))
    if not local.area > 0:
        return np.zeros(len(number), bool)
    spacing = max(float(np.sqrt(local.area / samples)), 1e-5 * float(mesh.size.max()))
    some = sample_surface(local, spacing)
    face = faces[row[some.face]]
    outward = mesh.normals_of(face) * sweep.sign[face][:, None]
    just = BENEATH_SHARE * float(mesh.size.max())
    held = np.zeros(len(some.points), bool)
    if mesh.topology.shells > 1:  # one shell begins in no other
        held = tree.winding(some.points + just * outward) > 0.5
    down = np.flatnonzero(outward @ sweep.up < -0.5)
    held[down] |= tree.winding(some.points[down] - 0.5 * sweep.layer_mm * sweep.up) > 0.5
    return np.bincount(basin[row[some.face]], held, len(number)) > 0
