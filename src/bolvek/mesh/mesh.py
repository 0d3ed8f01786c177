"""`Mesh`: triangles as frozen arrays, with topology, measures and the tree computed on demand."""

import numpy as np
from numpy.typing import ArrayLike, NDArray

from bolvek.arrays import Floats, Ints32, extent, stored
from bolvek.kernels.exact.triangles import area_vectors
from bolvek.kernels.surface import topology as kernels
from bolvek.mesh.derived import Derived, once_a_mesh
from bolvek.mesh.topology import Topology, build_topology, join_topologies
from bolvek.spatial.parallel import run_ranges, side_by_side
from bolvek.spatial.signed import SignedDistance
from bolvek.spatial.tree import Tree


class Mesh:
    """Triangles: vertices (V, 3) float64 in millimetres, faces (F, 3) int32, both read-only.

    Raises ValueError for arrays of another shape, coordinates that are not finite, or indices out
    of range. An operation never edits a mesh; it makes a new one.
    """

    def __init__(self, vertices: ArrayLike, faces: ArrayLike) -> None:
        v = np.array(vertices, np.float64, order="C").reshape(-1, 3)
        f = np.array(faces, np.int32, order="C").reshape(-1, 3)
        if not np.isfinite(v).all():
            raise ValueError("vertices must be finite")
        if len(f) and (f.min() < 0 or f.max() >= len(v)):
            raise ValueError(f"faces must index 0..{len(v) - 1}, got {f.min()}..{f.max()}")
        v += 0.0  # one zero only: -0.0 and 0.0 must weld
        v.flags.writeable = False
        f.flags.writeable = False
        self.vertices: Floats = v
        self.faces: Ints32 = f
        self.derived = Derived()

    @classmethod
    def from_corners(cls, corners: ArrayLike) -> "Mesh":
        """Weld corners (F, 3, 3): exactly equal points become one vertex, in order of appearance."""
        points = np.asarray(corners, np.float64).reshape(-1, 3)
        return cls.from_indexed(points, np.arange(len(points), dtype=np.int32).reshape(-1, 3))

    @classmethod
    def from_indexed(cls, vertices: ArrayLike, faces: ArrayLike) -> "Mesh":
        """Weld vertices (V, 3): exactly equal points become one; those of no face are left out."""
        points = np.ascontiguousarray(np.asarray(vertices, np.float64).reshape(-1, 3)) + 0.0
        label, first = _weld(points)
        mesh = cls(points[first], label[np.asarray(faces, np.int32)])
        used = np.zeros(len(first), bool)
        used[mesh.faces.ravel()] = True
        return mesh if used.all() else mesh.picked(slice(None))

    @classmethod
    def with_known(
        cls, vertices: ArrayLike, faces: ArrayLike, *, topology: Topology | None = None, tree: Tree | None = None
    ) -> "Mesh":
        """A mesh of which the caller knows the topology or the tree already: they are believed."""
        mesh = cls(vertices, faces)
        if topology is not None:
            mesh.derived.hand_over(_topology, topology)
        if tree is not None:
            mesh.derived.hand_over(_tree, tree)
        return mesh

    def __repr__(self) -> str:
        return f"Mesh({len(self.vertices)} vertices, {len(self.faces)} faces)"

    @property
    def topology(self) -> Topology:
        """Edges, shells and fans."""
        return _topology(self)

    @property
    def tree(self) -> Tree:
        """The bounding-volume tree over the faces."""
        return _tree(self)

    @property
    @once_a_mesh
    def signed_distance(self) -> SignedDistance:
        """Distance to the surface, negative in the material (meaningful for a closed, oriented mesh)."""
        return SignedDistance(self.tree, self.unit_normals, self.topology.opposite)

    def edge_ends(self, half: NDArray[np.integer]) -> tuple[Ints32, Ints32]:
        """First and last vertex (N,) of half-edges (N,), in the direction their faces run."""
        face, k = np.divmod(half, 3)
        return self.faces[face, k], self.faces[face, (k + 1) % 3]

    def prepare(self) -> None:
        """Tree and topology side by side: neither needs the other."""
        side_by_side(lambda: self.topology, lambda: self.tree)

    @property
    @once_a_mesh
    def meeting(self) -> tuple[Ints32, int]:
        """Pairs (P, 2) of faces that meet beyond what they share (a million at most), and how many there are."""
        return self.tree.meeting_pairs()

    @property
    def corners(self) -> Floats:
        """Corner points (F, 3, 3); made anew each time, nine numbers a face are not worth keeping."""
        return self.vertices[self.faces]

    @property
    def middles(self) -> Floats:
        """Middles (F, 3) of the faces."""
        a, b, c = (self.vertices[self.faces[:, k]] for k in range(3))
        return np.asarray((a + b + c) / 3)

    @property
    @once_a_mesh
    def area_vectors(self) -> Floats:
        """Face normals (F, 3) as long as the face's area in mm2."""
        out = np.empty((len(self.faces), 3))
        run_ranges(lambda b, e: area_vectors(self.vertices, self.faces, b, e, out), len(out))
        return out

    @property
    @once_a_mesh
    def face_areas(self) -> Floats:
        """Area (F,) in mm2."""
        return np.asarray(np.sqrt(np.einsum("ij,ij->i", self.area_vectors, self.area_vectors)))

    @property
    @once_a_mesh
    def unit_normals(self) -> Floats:
        """Normals (F, 3); zero for a face without area."""
        return np.asarray(self.area_vectors / np.maximum(self.face_areas, 1e-300)[:, None])

    @property
    @once_a_mesh
    def vertex_normals(self) -> Floats:
        """Normals (V, 3) of vertices: the mean of their faces', by area; zero where there is none."""
        total = np.zeros((len(self.vertices), 3))
        for k in range(3):
            for axis in range(3):
                total[:, axis] += np.bincount(self.faces[:, k], self.area_vectors[:, axis], len(total))
        return np.asarray(total / np.maximum(np.linalg.norm(total, axis=1), 1e-300)[:, None])

    def normals_of(self, faces: NDArray[np.integer]) -> Floats:
        """Normals (N, 3) of faces (N,), as in `unit_normals`, without making all."""
        return np.asarray(self.area_vectors[faces] / np.maximum(self.face_areas[faces], 1e-300)[:, None])

    @property
    def area(self) -> float:
        """Surface area in mm2."""
        return float(self.face_areas.sum())

    @property
    def face_volumes(self) -> Floats:
        """Volume (F,) in mm3 of the tetrahedra between faces and the middle of the bounds."""
        middle = self.bounds.mean(axis=0)
        return np.asarray(np.einsum("ij,ij->i", self.vertices[self.faces[:, 0]] - middle, self.area_vectors) / 3.0)

    @property
    @once_a_mesh
    def shell_volumes(self) -> Floats:
        """Signed volume (S,) of each shell in mm3; negative for one that faces inward."""
        return np.bincount(self.topology.shell, self.face_volumes, self.topology.shells).astype(np.float64)

    @property
    @once_a_mesh
    def shell_boxes(self) -> tuple[Floats, Floats]:
        """Lower and upper corner (S, 3) of each shell."""
        n = self.topology.shells
        if n == 1:
            return self.bounds[:1], self.bounds[1:]
        live = np.flatnonzero(~self.topology.collapsed)
        shell = self.topology.shell[live]
        order = np.argsort(shell, kind="stable")
        starts = np.searchsorted(shell[order], np.arange(n))
        low, high = np.full((n, 3), np.inf), np.full((n, 3), -np.inf)
        for k in range(3):
            points = self.vertices[self.faces[live[order], k]]
            low = np.minimum(low, np.minimum.reduceat(points, starts))
            high = np.maximum(high, np.maximum.reduceat(points, starts))
        return low, high

    @property
    @once_a_mesh
    def volume(self) -> float:
        """Signed volume in mm3 (meaningful for a closed mesh)."""
        return float(self.face_volumes.sum())

    @property
    @once_a_mesh
    def bounds(self) -> Floats:
        """Lower and upper corner (2, 3) of the faces; zeros when there are none."""
        if not len(self.faces):
            return np.zeros((2, 3))
        if len(self.faces) < len(self.vertices) // 8:
            return extent(self.vertices[self.faces.ravel()])
        used = np.zeros(len(self.vertices), bool)
        used[self.faces.ravel()] = True
        return extent(self.vertices if used.all() else self.vertices[used])

    @property
    def size(self) -> Floats:
        """Extent (3,) along x, y, z in mm."""
        return np.asarray(self.bounds[1] - self.bounds[0])

    def moved(self, vertices: ArrayLike) -> "Mesh":
        """The same faces on other vertices; the topology is kept."""
        return Mesh.with_known(vertices, self.faces, topology=self.topology if _topology in self.derived else None)

    def turned(self) -> "Mesh":
        """Every face the other way round."""
        return Mesh(self.vertices, self.faces[:, ::-1])

    def picked(self, faces: ArrayLike | slice) -> "Mesh":
        """Only the faces named by a mask, numbers or a slice, without unused vertices."""
        chosen = self.faces[faces if isinstance(faces, slice) else np.asarray(faces)]
        used = np.zeros(len(self.vertices), bool)
        used[chosen.ravel()] = True
        number = np.cumsum(used, dtype=np.int32) - 1
        return Mesh(self.vertices[used], number[chosen])

    def joined(self, *others: "Mesh") -> "Mesh":
        """This mesh and others in one, nothing welded; known topologies are carried over."""
        meshes = [self, *others]
        offsets = np.cumsum([0] + [len(m.vertices) for m in meshes])
        known = all(_topology in m.derived for m in meshes)
        return Mesh.with_known(
            np.concatenate([m.vertices for m in meshes]),
            np.concatenate([m.faces + np.int32(o) for m, o in zip(meshes, offsets[:-1], strict=True)]),
            topology=join_topologies([m.topology for m in meshes]) if known else None,
        )

    def with_tree(self, tree: Tree) -> "Mesh":
        """The same mesh with a tree over its faces that the caller has; the topology is kept."""
        known = self.topology if _topology in self.derived else None
        return Mesh.with_known(self.vertices, self.faces, topology=known, tree=tree)

    def as_stored(self) -> "Mesh":
        """What a binary STL file will hold: float32 coordinates, equal points welded.

        The mesh itself when it is so already.
        """
        stored = _stored(self)
        return self if stored is None else stored


@once_a_mesh
def _topology(mesh: Mesh) -> Topology:
    return build_topology(mesh.faces, len(mesh.vertices))


@once_a_mesh
def _tree(mesh: Mesh) -> Tree:
    return Tree(mesh.vertices, mesh.faces)


@once_a_mesh
def _stored(mesh: Mesh) -> Mesh | None:
    """What a binary STL will hold; None where that is the mesh itself."""
    rounded = stored(mesh.vertices) + 0.0
    label, first = _weld(rounded)
    if len(first) == len(rounded):
        return None if np.array_equal(rounded, mesh.vertices) else mesh.moved(rounded)
    return Mesh(rounded[first], label[mesh.faces])


def _weld(points: Floats) -> tuple[Ints32, Ints32]:
    """Label (N,) of equal points (N, 3), numbered by first appearance, and the row of each label."""
    size = 1 << max(4, int(2 * max(len(points), 1) - 1).bit_length())
    label = np.empty(len(points), np.int32)
    first = np.empty(len(points), np.int32)
    table = np.full(size, -1, np.int32)
    used = kernels.weld_rows(np.ascontiguousarray(points).view(np.int64), table, label, first)
    return label, first[:used].copy()
