"""The twin lamp: looks fine on the screen, and hides three faults that only a proof finds."""

import numpy as np

from bolvek.demo.pieces import block, globe
from bolvek.mesh import Mesh
from bolvek.operations.convex import prism, subtract

WALL_MM = 2.0
NECK_MM, BUBBLE_MM, LEFT_MM = 0.6, 2.0, 0.4
"""Width of the hole between its chambers, of the bubble in the partition, and what a blind hole leaves of the wall."""


def twin_lamp() -> Mesh:
    """A box with two chambers of which one is drained, a bubble in the partition, a blind hole above the first."""
    mesh = block((0, 0, 0), (60, 40, 40))
    for low, high in (((2, 2, 2), (28, 38, 38)), ((31, 2, 2), (58, 38, 38))):
        mesh = mesh.joined(block(low, high).turned())
    mesh = mesh.joined(globe(0.5 * BUBBLE_MM, (29.5, 20, 8), 24).turned())
    holes = (
        ((14, 20, -2), (14, 20, 3), 3.5),
        ((14, 20, 42), (14, 20, 37), 3.5),
        ((27, 20, 30), (32, 20, 30), NECK_MM),
        ((8, 8, 42), (8, 8, 38 + LEFT_MM), 1.0),
    )
    # off every edge of the model, so that each cut is clear
    shift = np.array([0.0123, 0.0071, 0.0])
    bodies = [prism(np.array(a) + shift, np.array(b) + shift, 0.5 * wide, 32, 3.0) for a, b, wide in holes]
    for body in bodies:
        mesh = subtract(mesh, [body])
    return mesh.as_stored()
