"""Tables of values."""

import numpy as np

from bolvek.arrays import Floats
from bolvek.mesh import Mesh


def face_table(mesh: Mesh, columns: dict[str, Floats]) -> bytes:
    """CSV of values a face: number from 0, middle in mm, then the columns; empty where there is no value."""
    middles = mesh.middles
    lines = [",".join(["face", "x_mm", "y_mm", "z_mm", *columns])]
    for f, (place, values) in enumerate(zip(middles.tolist(), zip(*columns.values(), strict=True), strict=True)):
        cells = [f"{x:.6g}" for x in place] + ["" if np.isnan(v) else f"{v:.6g}" for v in values]
        lines.append(",".join([str(f), *cells]))
    return ("\n".join(lines) + "\n").encode()
