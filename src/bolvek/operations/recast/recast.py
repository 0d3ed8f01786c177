"""Any soup of faces becomes one closed solid, by construction.

With u the distance to the faces, whatever a ball of radius r (half the bridge) cannot reach from outside is closed in:
the surface u = r is taken, those of its shells that bound the outside air are kept, and the solid is what lies deeper
than r behind them (a closing). So gaps narrower than the bridge are shut, flat and convex places come back where they
were, and voids that nothing gets into are filled, or kept where the winding number of the faces says that they are
meant. What has no thickness of its own, or hardly any, vanishes in that; it is found by its distance to what came out
and by how thick that is there, and given one: the union with all that is nearer to it than the grow. Both surfaces
are level surfaces of functions that change by no more than a millimetre a millimetre, extracted so that they are
closed, manifold and free of crossings. What is still thinner than prints is made as thick along its
middle (see `thick`). Then the vertices are brought to the exact distance, or onto the original where that is near,
unless something would cross.
"""

import math

import numpy as np

from bolvek.analyses.cavities import find_cavities
from bolvek.analyses.shells import material_tree, nest_exactly
from bolvek.analyses.soundness import find_defects
from bolvek.arrays import Bools, Floats, Ints
from bolvek.errors import WorkError
from bolvek.mesh import Mesh
from bolvek.operations.recast.edges import with_edges
from bolvek.operations.recast.measure import measure, piece_areas
from bolvek.operations.recast.settings import LEAK_CELLS, MOST_CELLS, Leak, RecastRecord
from bolvek.operations.recast.thick import half_wall, ridge_faces
from bolvek.operations.slim import slim
from bolvek.operations.untangle import untangle
from bolvek.settings import remedy
from bolvek.settings.repairs import RecastSettings
from bolvek.spatial.isosurface import lipschitz_surface
from bolvek.spatial.tree import Tree

VANISHED_SHARE = 0.9
"""A piece of a face has vanished when its middle is farther outside the solid than this share of a cell."""

_LEAST_BRIDGE = 1.0  # cells: below that the lattice itself would leak
_LEAST_GROW = 0.75  # cells: thinner than that the lattice would lose it
_SQUARE = 0.8  # cosine between a piece and the side by which a line through it leaves
_PIECE = 3.0  # cells: faces are looked at in pieces no longer than this
_MOST_PIECES = 4_000_000
_MOST_STEP = 0.4  # cells
_PULL = 0.6  # cells: vertices nearer to the original than this are put onto it
_SLIM_SHARE = 0.05
_LEAST_SHAPE, _LEAST_EDGED, _SHAPE_ROUNDS = 0.1, 1e-3, 8  # of its area that a face keeps as its vertices move


_PLAIN = RecastSettings()


def recast(mesh: Mesh, settings: RecastSettings = _PLAIN, *, piece: bool = False) -> tuple[Mesh, RecastRecord]:
    """A sound solid from any faces. piece: of a larger surface: no leaks are looked for. Raises UsageError, or
    WorkError where the grid would not fit into memory, or where nothing would be left."""
    settings.check()
    area = mesh.face_areas
    if not len(mesh.faces) or not area.sum() > 0:
        raise WorkError("the model has no faces with an area")
    soup = mesh.picked(area > 0)
    cell = settings.cell_mm(float(soup.size.max()), soup.area)
    if cell < (fits := math.sqrt(soup.area / MOST_CELLS)):
        raise WorkError(
            f"a grid of {cell:.3g} mm on {soup.area:.3g} mm2 of faces would not fit into memory",
            remedy("recast", "would", RecastSettings(grid_mm=float(f"{1.05 * fits:.2g}"))),
        )
    bridge = max(2 * cell if settings.bridge_mm is None else settings.bridge_mm, _LEAST_BRIDGE * cell)
    grow = cell if settings.grow_mm is None else settings.grow_mm
    if grow > 0:
        grow = max(grow, _LEAST_GROW * cell)
    pieces, face = _pieces(soup, _PIECE * cell)
    grow_of = np.full(len(pieces), grow)
    if settings.grow_closed_mm is not None:
        least = max(settings.grow_closed_mm, _LEAST_GROW * cell)
        topology = soup.topology
        grow_of[~topology.open_shells[topology.shell[face]]] = min(grow, least)
    closed_in, filled, cavities = _closed_in(soup, 0.5 * bridge, cell, settings.inside)
    field = _Field(closed_in, 0.5 * bridge)
    rough = field.surface(cell)
    thin = _too_thin(pieces, rough, VANISHED_SHARE * cell, grow_of)
    allowed = _SLIM_SHARE * cell if settings.within_mm is None else settings.within_mm
    least, ridges = settings.least_mm or 0.0, [np.zeros((0, 3, 3))]
    # not of what is grown below: at a sharp edge that is a bead, and no wall
    if least > 0 and len(rough.faces):
        ridges.append(ridge_faces(rough, rough.corners, np.arange(len(rough.faces)), least))
    if least > 0 and thin.any():
        ridges.append(ridge_faces(soup, pieces[thin], face[thin], least))
    ridge = np.concatenate(ridges)
    if thin.any() and grow > 0:
        field = _Field(closed_in, 0.5 * bridge, pieces[thin], grow_of[thin])
    if len(ridge):
        field.add(ridge, half_wall(least, cell, allowed))
    if field.beside:
        rough = field.surface(cell)
    rough, dropped = without_drops(rough, settings.least_mm3)
    if not len(rough.faces):
        raise WorkError(
            f"nothing would be left: no part is thicker than a cell of {cell:.3g} mm",
            remedy("recast", "gives what is thin a thickness", RecastSettings(grow_mm=float(f"{cell:.2g}"))),
        )
    solid, deviation, sharpened = _finished(rough, field, soup, cell, allowed, edges=settings.keep_edges)
    found = measure(pieces, soup, solid, cell)
    return solid, RecastRecord(
        grid_mm=cell,
        bridge_mm=bridge,
        grow_mm=grow,
        parts=int((solid.shell_volumes > 0).sum()),
        cavities=cavities,
        voids_filled=filled,
        dropped=dropped,
        grown_mm2=float(piece_areas(pieces[thin]).sum()) if grow > 0 else 0.0,
        least_mm=least,
        thick_mm2=float(piece_areas(ridge).sum()),
        triangles_before_slim=len(rough.faces),
        triangles=len(solid.faces),
        volume_mm3=solid.volume,
        slim_deviation_mm=deviation,
        edge_points=sharpened,
        **vars(found),
        leaks=[] if piece else _leaks(solid, cell),
    )


def _pieces(soup: Mesh, longest: float) -> tuple[Floats, Ints]:
    """The faces (N, 3, 3), halved at their longest edges until none is longer than asked, or there are too many; and
    the face (N,) that each was."""
    done: list[Floats] = []
    source: list[Ints] = []
    left, face = soup.corners, np.arange(len(soup.faces))
    while len(left):
        edges = np.linalg.norm(np.roll(left, -1, axis=1) - left, axis=2)
        long = edges.max(axis=1) > longest
        if sum(len(d) for d in done) + 2 * int(long.sum()) > _MOST_PIECES:
            long[:] = False
        done.append(left[~long])
        source.append(face[~long])
        left, edges, face = left[long], edges[long], face[long]
        k = edges.argmax(axis=1)
        rows = np.arange(len(left))
        a, b, c = (left[rows, (k + i) % 3] for i in range(3))
        middle = 0.5 * (a + b)
        left = np.concatenate([np.stack([a, middle, c], axis=1), np.stack([middle, b, c], axis=1)])
        face = np.concatenate([face, face])
    return np.concatenate(done), np.concatenate(source)


def _closed_in(soup: Mesh, reach: float, cell: float, inside: str) -> tuple[Mesh, int, int]:
    """The surface at `reach` from the faces as far as it bounds air: outside, and in voids that are meant; how many
    voids were filled and how many kept."""
    tree = soup.tree
    low, high = soup.bounds[0] - reach - 2 * cell, soup.bounds[1] + reach + 2 * cell
    surface = lipschitz_surface(lambda p: tree.nearest(p)[0] - reach, low, high, cell, thin_sheets=True)
    around = Mesh(surface.vertices, surface.faces)
    volume = around.shell_volumes
    pocket = volume <= 0
    air = np.zeros(len(volume), bool)
    if pocket.any():
        rows = np.flatnonzero(pocket)
        points = around.vertices[around.faces[around.topology.first_face[rows], 0]]
        air[rows] = material_tree(soup).winding(points) < 0.5
    kept = air & (inside == "keep-cavities")
    filled = pocket & ~kept
    # what lies right in a filled pocket is material already
    nested = nest_exactly(around)
    depth = np.bincount(nested.inner, minlength=len(volume))
    home = np.full(len(volume), -1)
    order = np.argsort(depth[nested.outer], kind="stable")
    home[nested.inner[order]] = nested.outer[order]
    buried = ~pocket & (home >= 0) & filled[home]
    keep = ~filled & ~buried
    return around.picked(keep[around.topology.shell]), int((filled & air).sum()), int(kept.sum())


class _Field:
    """Negative in the solid: what is deeper than `reach` behind a surface, and what is nearer to thin pieces (N, 3, 3)
    than they are to grow (N,)."""

    def __init__(self, closed_in: Mesh, reach: float, thin: Floats | None = None, grow: Floats | None = None) -> None:
        self.behind, self.reach = closed_in, reach
        self.low, self.high = closed_in.bounds
        self.beside = list[tuple[Tree, float]]()
        if thin is not None and grow is not None:
            for amount in np.unique(grow).tolist():
                self.add(thin[grow == amount], amount)

    def add(self, pieces: Floats, amount: float) -> None:
        """Give pieces (N, 3, 3), or points as such, so much material around."""
        corners = pieces.reshape(-1, 3)
        self.beside.append((Tree(corners, np.arange(len(corners), dtype=np.int32).reshape(-1, 3)), amount))
        # it may reach farther than what was closed in
        self.low = np.minimum(self.low, corners.min(axis=0) - amount)
        self.high = np.maximum(self.high, corners.max(axis=0) + amount)

    def at(self, points: Floats) -> Floats:
        """Values (P,) in mm, that change by a millimetre a millimetre at most."""
        found = self.behind.signed_distance.at(points) + self.reach
        for tree, amount in self.beside:
            found = np.minimum(found, tree.nearest(points)[0] - amount)
        return found

    def surface(self, cell: float) -> Mesh:
        """Where it is zero, on a lattice."""
        surface = lipschitz_surface(self.at, self.low - 2 * cell, self.high + 2 * cell, cell)
        return Mesh(surface.vertices, surface.faces)

    def exact(self, points: Floats, cell: float) -> tuple[Floats, Bools]:
        """Points (P, 3) near the surface brought onto it, and which of them belong to what was given a thickness."""
        wanted = points + self.behind.tree.step_to(points, self.reach, _MOST_STEP * cell)
        thin = np.zeros(len(points), bool)
        least = self.behind.signed_distance.at(points) + self.reach if self.beside else np.zeros(0)
        for tree, amount in self.beside:
            depth = tree.nearest(points)[0] - amount
            nearer = depth < least
            wanted[nearer] = points[nearer] + tree.step_to(points[nearer], amount, _MOST_STEP * cell)
            thin |= nearer
            least = np.minimum(least, depth)
        return wanted, thin


def _finished(
    rough: Mesh, field: _Field, soup: Mesh, cell: float, allowed: float, *, edges: bool
) -> tuple[Mesh, float, int]:
    """The surface with its vertices in place, slimmed, sound as a file will hold it; what slimming moved (mm); and at
    how many points edges were brought back.

    Vertices go onto the original where that is near, else to the exact distance; what that spoils is tried with less.
    """
    exact, thin = field.exact(rough.vertices, cell)
    gap, face = soup.tree.nearest(exact)
    pulled = (gap <= _PULL * cell) & ~thin
    on = exact.copy()
    on[pulled] = soup.tree.closest_points(exact[pulled], face[pulled])
    for wanted in (on, exact, rough.vertices):
        placed = untangle(rough, rough.moved(_in_shape(rough, wanted, cell)))
        ways = [(placed, 0)]
        if edges and wanted is on:
            once, first = _edged(placed, soup, thin, cell)
            more = np.zeros(len(once.vertices), bool)
            more[: len(thin)] = thin
            twice, second = _edged(once, soup, more, cell)
            ways = [(twice, first + second), (once, first), *ways]
        for way, points in ways:
            way = way.as_stored()
            sound = not find_defects(way)
            # slimming may take away what rounding made cross; what it leaves alone stays as it is
            for share in ((1.0, 0.3) if sound else (1.0,)) if allowed > 0 else ():
                slimmed, record = slim(way, share * allowed)
                slimmed = slimmed.as_stored()
                if not find_defects(slimmed):
                    return slimmed, record.deviation_mm, points
            if sound:
                return way, 0.0, points
    other = remedy("recast", "may have better luck", RecastSettings(grid_mm=float(f"{0.93 * cell:.3g}")))
    raise WorkError(f"no sound solid came out on a grid of {cell:.3g} mm", other)


def _edged(placed: Mesh, soup: Mesh, thin: Bools, cell: float) -> tuple[Mesh, int]:
    """The surface with sharp edges and corners of the original, and at how many points they were brought back."""
    gap, face = soup.tree.nearest(placed.vertices)
    known = (gap <= _PULL * cell) & ~thin
    anchors = soup.tree.closest_points(placed.vertices, face)
    normals = soup.normals_of(face)
    normals *= np.where(np.einsum("ij,ij->i", normals, placed.vertex_normals) < 0, -1.0, 1.0)[:, None]
    found = with_edges(placed, anchors, normals, known, cell)
    plain = found.plain
    made = untangle(plain, plain.moved(_in_shape(plain, found.wanted, cell, _LEAST_EDGED)))
    return made, len(plain.vertices) - len(placed.vertices)


def _in_shape(rough: Mesh, wanted: Floats, cell: float, least: float = _LEAST_SHAPE) -> Floats:
    """Places (V, 3) wanted for the vertices; as they were where a face would turn over or lose its area."""
    normal, area = rough.unit_normals, np.maximum(rough.face_areas, 1e-300)
    points = wanted.copy()
    for _ in range(_SHAPE_ROUNDS):
        a, b, c = (points[rough.faces[:, k]] for k in range(3))
        cross = 0.5 * np.cross(b - a, c - a)
        bad = np.einsum("ij,ij->i", cross, normal) < least * np.minimum(area, cell * cell)
        if not bad.any():
            break
        back = rough.faces[bad].ravel()
        points[back] = rough.vertices[back]
    return points


def _too_thin(pieces: Floats, solid: Mesh, limit: float, grow: Floats) -> Bools:
    """Pieces (N,) whose middle is farther outside the solid than the limit, or that it leaves on both sides within one
    and a half times the grow (N,)."""
    if not len(solid.faces):
        return np.ones(len(pieces), bool)
    middles, at = pieces.mean(axis=1), solid.signed_distance.at
    normal = np.cross(pieces[:, 1] - pieces[:, 0], pieces[:, 2] - pieces[:, 0])
    normal /= np.maximum(np.linalg.norm(normal, axis=1), 1e-300)[:, None]
    through = np.ones(len(middles), bool)
    for side in (-1.5 * grow, 1.5 * grow):
        beyond = middles + side[:, None] * normal
        through &= at(beyond) > 0
        # a plate is left where it faces the other way; a wedge beside its edge is no plate
        rows = np.flatnonzero(through)
        _, face = solid.tree.nearest(beyond[rows])
        off = beyond[rows] - solid.tree.closest_points(beyond[rows], face)
        square = np.abs(np.einsum("ij,ij->i", off, normal[rows])) >= _SQUARE * np.linalg.norm(off, axis=1)
        through[rows[~square]] = False
    return np.asarray((at(middles) > limit) | through)


def _leaks(solid: Mesh, cell: float) -> list[Leak]:
    """Rooms behind ways in that are only a few cells wide: gaps of the faces that the bridge did not close."""
    found = []
    for room in find_cavities(solid).found:
        ways = [way for way in room.openings if way.width_mm <= LEAK_CELLS * cell]
        if not room.pocket and ways and len(ways) == len(room.openings):
            widest = max(ways, key=lambda way: way.width_mm)
            found.append(Leak(room.volume_mm3, widest.where_mm, widest.width_mm))
    return found


def without_drops(solid: Mesh, least_mm3: float) -> tuple[Mesh, int]:
    """Without shells of less volume than a limit, or than nothing to speak of."""
    if not len(solid.faces):
        return solid, 0
    small = np.abs(solid.shell_volumes) <= least_mm3
    return (solid.picked(~small[solid.topology.shell]), int(small.sum())) if small.any() else (solid, 0)
