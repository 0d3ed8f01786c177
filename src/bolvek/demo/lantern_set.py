"""The lantern set: body, lid and hook drawn in inches, which must be scaled by one factor to fit each other."""

import numpy as np

from bolvek.demo.pieces import in_one, turned
from bolvek.mesh import Mesh

UNIT = "in"


def lantern_set() -> dict[str, Mesh]:
    """The three parts by name, each sound and in place, their numbers in inches: about 3.9 in together."""
    wall = 0.1
    outer = [(0.9, 0.0), (1.15, 0.25), (1.3, 0.9), (1.3, 1.6), (1.1, 2.3), (0.85, 2.6)]
    inner = [
        (0.85 - wall, 2.6),
        (1.1 - wall, 2.27),
        (1.3 - wall, 1.58),
        (1.3 - wall, 0.93),
        (1.15 - wall, 0.32),
        (0.6, 0.15),
    ]
    body = turned([*outer, *inner, (0.0, 0.15)], 48)
    # the lid's plug goes into the body's mouth with two hundredths of an inch to spare
    plug = 0.85 - wall - 0.02
    lid = turned([(plug, 2.5), (plug, 2.62), (1.0, 2.62), (0.9, 2.8), (0.5, 3.05), (0.2, 3.2)], 48)
    angle = 2 * np.pi * np.arange(16) / 16
    ring = turned([(0.3 + 0.06 * np.cos(a), 0.06 * np.sin(a)) for a in angle], 40, ring=True)
    hook = Mesh(ring.vertices[:, [0, 2, 1]] + np.array([0, 0, 3.55]), ring.faces[:, ::-1])
    return {"body": in_one([body]), "lid": in_one([lid]), "hook": in_one([hook])}
