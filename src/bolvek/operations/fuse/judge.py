"""What came out of putting bodies together, held against what it should be: by winding numbers, not by how it was made.

Points all over the space and on either side of the bodies' surfaces lie in the union exactly where they lie in one
of the bodies and in none of the tools. Each body is asked by itself, so the arrangement has no part in the answer.
"""

from collections.abc import Sequence

import numpy as np

from bolvek.arrays import Bools, Floats
from bolvek.errors import WorkError
from bolvek.mesh import Mesh
from bolvek.units import as_triple, length_text, point_text

ASKED = 6000
"""Points asked: half all over the space, half beside the surfaces."""
_BESIDE_SHARE = 1e-3  # of the longest side: how far beside
NEAR_SHARE = 3e-4
"""Of the longest side: a point that lies so near to the surface of what came out is on either side of it."""
_SEED = 7


def judge(made: Mesh, bodies: Sequence[Mesh], tools: Sequence[Mesh] = ()) -> None:
    """Raise WorkError where what came out holds material that no body has, or lacks what one has and no tool takes."""
    points = _asked([*bodies, *tools])
    wanted = _in_any(bodies, points) & ~_in_any(tools, points)
    wrong = np.flatnonzero((made.tree.winding(points) > 0.5) != wanted)
    if not len(wrong):
        return
    longest = float(max(body.size.max() for body in bodies))
    gap, _ = made.tree.nearest(points[wrong])
    k = int(np.argmax(gap))
    if gap[k] > NEAR_SHARE * longest:
        what = "lacks material" if wanted[wrong[k]] else "has material that no part has"
        place = point_text(as_triple(points[wrong[k]]))
        raise WorkError(f"what came out {what} at {place}, {length_text(float(gap[k]))} deep: nothing is written")


def _asked(bodies: Sequence[Mesh]) -> Floats:
    """Points (P, 3), the same for the same bodies."""
    rng = np.random.default_rng(_SEED)
    low, high = (np.array([body.bounds[k] for body in bodies]) for k in (0, 1))
    low, high = low.min(axis=0), high.max(axis=0)
    everywhere = rng.uniform(low, high, (ASKED // 2, 3))
    area = np.array([body.area for body in bodies])
    count = np.maximum(1, (ASKED // 2 * area / area.sum()).astype(np.int64))
    beside = _BESIDE_SHARE * float((high - low).max())
    near = []
    for body, n in zip(bodies, count.tolist(), strict=True):
        face = rng.choice(len(body.faces), n, p=body.face_areas / body.area)
        share = rng.dirichlet((1, 1, 1), n)
        place = np.einsum("ij,ijk->ik", share, body.vertices[body.faces[face]])
        near.append(place + beside * rng.choice((-1.0, 1.0), (n, 1)) * body.normals_of(face))
    return np.concatenate([everywhere, *near])


def _in_any(bodies: Sequence[Mesh], points: Floats) -> Bools:
    """Points (P, 3) in the material of a body."""
    found = np.zeros(len(points), bool)
    for body in bodies:
        rows = np.flatnonzero(~found & ((points >= body.bounds[0]) & (points <= body.bounds[1])).all(axis=1))
        found[rows] = body.tree.winding(points[rows]) > 0.5
    return found
