"""The lantern post: a fluted post with a foot and a crown, twice as tall as the workshop's small printer."""

import numpy as np

from bolvek.demo.pieces import turned
from bolvek.mesh import Mesh

_PROFILE = (
    *((30.0, 0.0), (32.0, 3.0), (32.0, 12.0), (27.0, 16.0), (24.0, 26.0), (17.0, 34.0)),
    *((14.0, 60.0), (15.5, 100.0), (20.0, 108.0), (20.0, 116.0), (15.0, 124.0), (13.0, 170.0)),
    *((12.0, 205.0), (17.0, 212.0), (17.0, 220.0), (12.0, 228.0), (11.0, 270.0), (13.0, 288.0)),
    *((22.0, 300.0), (24.0, 306.0), (24.0, 314.0), (18.0, 318.0), (7.0, 322.0)),
)
_SIDES, _ROW_MM = 144, 2.5
_FLUTES, _DEEP, _TWIST_MM = 9, 0.07, 190.0


def lantern_post() -> Mesh:
    """The post, sound, standing at the origin: 322 mm tall."""
    rows: list[tuple[float, float]] = []
    for (r, z), (s, y) in zip(_PROFILE, _PROFILE[1:], strict=False):
        steps = max(1, round((y - z) / _ROW_MM))
        rows += [(r + k / steps * (s - r), z + k / steps * (y - z)) for k in range(steps)]
    body = turned([*rows, _PROFILE[-1]], _SIDES)
    x, y, z = body.vertices.T
    angle = np.arctan2(y, x)
    shaft = np.clip(np.minimum(z - 40.0, 285.0 - z) / 12.0, 0.0, 1.0)
    flute = 1 - _DEEP * shaft * (0.5 + 0.5 * np.cos(_FLUTES * angle + 2 * np.pi * z / _TWIST_MM))
    return body.moved(np.stack([x * flute, y * flute, z], axis=1)).as_stored()
