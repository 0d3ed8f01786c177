"""Whether a curved fill goes on as the surface around it does, or is a dome that nothing around it asks for.

A fill that bends least leaves the end of a pipe as a dome half as high as the pipe is wide. It is one only where the
surface around the opening bends towards closing, too: seen along its meridians, from a rim of radius a at which it
leans by an angle t to the rim's plane, a ball bends by sin(t) / a a millimetre, a pipe or a cone not at all.
"""

import numpy as np

from bolvek.analyses.shells.islands import newell
from bolvek.arrays import Floats, Ints
from bolvek.mesh import Mesh
from bolvek.operations.mend.fills import Rim

BEYOND_SHARE = 0.1
"""A fill may go beyond its rim, square to it, by this share of the opening's width, whatever is around it."""
BENDING_SHARE = 0.5
"""Farther only where the surface around bends by this share of what closes the opening."""


def is_dome(mesh: Mesh, rim: Rim, around: Ints, points: Floats) -> bool:
    """Whether a fill's own points (P, 3) go farther beyond the rim than the faces around it (A,) say."""
    outer = rim.points[list(rim.loops[0])]
    normal = newell(outer)
    size = float(np.linalg.norm(normal))
    if not size > 0 or not len(points):
        return False
    normal = normal / size
    width = rim.span_mm
    own, fill = rim.points @ normal, points @ normal
    beyond = max(float(fill.max() - own.max()), float(own.min() - fill.min()))
    if beyond <= BEYOND_SHARE * width:
        return False
    lean, bend = _lean_and_bend(mesh, outer, normal, around)
    return bend < BENDING_SHARE * np.sin(lean) / (0.5 * width)


def _lean_and_bend(mesh: Mesh, rim: Floats, normal: Floats, around: Ints) -> tuple[float, float]:
    """The angle (radians) between the surface at a rim (N, 3) and its plane, and how much that grows a millimetre away
    from it: a line through the faces around (A,), by area."""
    middle = mesh.vertices[mesh.faces[around]].mean(axis=1)
    along, start = np.roll(rim, -1, axis=0) - rim, rim
    off = middle[:, None] - start
    square = np.maximum(np.einsum("ij,ij->i", along, along), 1e-300)
    t = np.clip(np.einsum("fij,ij->fi", off, along) / square, 0.0, 1.0)
    away = np.linalg.norm(off - t[..., None] * along, axis=2).min(axis=1)
    lean = np.arccos(np.clip(mesh.normals_of(around) @ normal, -1.0, 1.0))
    weight = mesh.face_areas[around]
    total = max(float(weight.sum()), 1e-300)
    mean_away, mean_lean = float(weight @ away) / total, float(weight @ lean) / total
    spread = float(weight @ (away - mean_away) ** 2)
    if not spread > 0:
        return mean_lean, 0.0
    bend = float(weight @ ((away - mean_away) * (lean - mean_lean))) / spread
    return mean_lean - bend * mean_away, bend
