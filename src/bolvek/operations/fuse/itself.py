"""The outer surface of a body that crosses itself."""

import numpy as np

from bolvek.arrays import Floats, Ints
from bolvek.errors import WorkError
from bolvek.mesh import Mesh
from bolvek.operations.convex import TooClose
from bolvek.operations.fuse.arrange import arrange_itself
from bolvek.operations.fuse.judge import judge
from bolvek.operations.fuse.unite import JITTER_SHARE, settled
from bolvek.units import point_text

_SEED, _TRIES = 43, 5


def uncrossed(body: Mesh) -> Mesh:
    """What a closed, consistently oriented body that crosses itself goes around at least once, sound as a file will
    hold it: it is cut where it crosses, and every face and piece with no layer of material before it is kept, faces
    away from there bit for bit. Voids that close in it stay, as shells of their own.

    Raises WorkError where three sheets meet, or two touch along whole faces.
    """

    def layers(points: Floats) -> Ints:
        return np.rint(body.tree.winding(points)).astype(np.int64)

    rng, made = np.random.default_rng(_SEED), None
    beside = np.unique(body.faces[body.meeting[0].ravel()])
    reach = JITTER_SHARE * float(body.size.max())
    for turn in range(_TRIES):
        moved = body
        if turn:  # what touches without crossing is moved a little
            vertices = body.vertices.copy()
            vertices[beside] += rng.uniform(-reach, reach, (len(beside), 3)) * 2.0**turn
            moved = body.moved(vertices)
        try:
            exact, source = arrange_itself(moved, layers)
        except TooClose:
            continue
        made = settled(exact, source) if len(exact.faces) else None
        if made is not None:
            break
    if made is None:
        where = body.vertices[body.faces[body.meeting[0][0, 0]]].mean(axis=0)
        raise WorkError(f"a part crosses itself, as at {point_text(where)}, where three sheets meet or two only touch")
    judge(made[0], [body])
    return made[0]
