"""Taking convex bodies out of a closed mesh: what is left of it and the walls of the bodies, put together."""

from collections.abc import Sequence

import numpy as np

from bolvek.arrays import Floats, Ints32
from bolvek.mesh import Mesh
from bolvek.operations.convex.body import ConvexBody
from bolvek.operations.convex.clip import Clip, Node, TooClose
from bolvek.spatial.polygons import PolygonError, seen_against, triangulate


def subtract(mesh: Mesh, bodies: Sequence[ConvexBody]) -> Mesh:
    """The closed mesh without the bodies; untouched triangles come first, as they were.

    Raises TooClose when a body should be moved a little, ValueError when one touches no face.
    """
    return subtract_and_trace(mesh, bodies)[0]


def subtract_and_trace(mesh: Mesh, bodies: Sequence[ConvexBody]) -> tuple[Mesh, Ints32]:
    """`subtract`, and for each face of the result (F,) the face it is of, -1 for a wall of a body.

    Bodies that touch no common triangle and do not come near each other are cut at once, the others one after
    the other.
    """
    cuts: list[Clip] = []
    taken: set[int] = set()
    later: list[ConvexBody] = []
    for body in bodies:
        cut = Clip(mesh, body)
        cut.run()
        if taken.isdisjoint(cut.dropped) and not any(_boxes_meet(body, other.body) for other in cuts):
            taken.update(cut.dropped)
            cuts.append(cut)
        else:
            later.append(body)
    result, source = _assemble(mesh, cuts)
    if later:
        result, again = subtract_and_trace(result, later)
        source = np.where(again >= 0, source[np.maximum(again, 0)], -1).astype(np.int32)
    return result, source


def _boxes_meet(a: ConvexBody, b: ConvexBody) -> bool:
    """Whether the boxes around two bodies meet: only then can the bodies."""
    return bool(((a.corner.min(axis=0) <= b.corner.max(axis=0)) & (b.corner.min(axis=0) <= a.corner.max(axis=0))).all())


def _assemble(mesh: Mesh, cuts: list[Clip]) -> tuple[Mesh, Ints32]:
    """The mesh without the dropped faces and with the triangulated polygons of all cuts; what each face is of."""
    extra: list[Floats] = []
    base = len(mesh.vertices)
    faces: list[tuple[int, int, int]] = []
    source: list[int] = []
    keep = np.ones(len(mesh.faces), bool)
    for cut in cuts:
        keep[cut.dropped] = False
        index: dict[Node, int] = {}

        def number(node: Node, cut: Clip = cut, index: dict[Node, int] = index) -> int:
            if node[0] == "vertex":
                return int(node[1])
            if node not in index:
                index[node] = base + len(extra)
                extra.append(cut.point[node])
            return index[node]

        for normal, loops, owner in cut.polygons:
            numbered = [[number(node) for node in loop] for loop in loops]
            points = {i: mesh.vertices[i] if i < base else extra[i - base] for loop in numbered for i in loop}
            try:
                faces += triangulate(seen_against(normal, points), numbered)  # type: ignore[arg-type]
            except PolygonError:
                raise TooClose from None
            source += [owner] * (len(faces) - len(source))
    vertices = np.concatenate([mesh.vertices, np.array(extra).reshape(-1, 3)])
    new = np.array(faces, np.int32).reshape(-1, 3)
    result = Mesh(vertices, np.concatenate([mesh.faces[keep], new])).picked(slice(None))
    return result, np.concatenate([np.flatnonzero(keep), source]).astype(np.int32)
