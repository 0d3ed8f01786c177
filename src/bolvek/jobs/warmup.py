"""Compiling the kernels once a machine: two processes share the work, the cache keeps it."""

import subprocess
import sys
from pathlib import Path

GROUPS = ("meeting", "rest")
_DONE = ".compiled"


def _marker() -> Path:
    from bolvek.kernels import CACHE_FOLDER

    return CACHE_FOLDER / _DONE


def kernels_missing() -> bool:
    """Whether this machine has not compiled this version's kernels yet."""
    return not _marker().exists()


def warm_up() -> None:
    """Compile everything; a process a group, this one waits. Failure here is no failure: kernels
    also compile when first called."""
    workers = [
        subprocess.Popen([sys.executable, "-m", "bolvek.jobs.warmup", group], stdin=subprocess.DEVNULL)
        for group in GROUPS
    ]
    if all([worker.wait() == 0 for worker in workers]):
        try:
            _marker().touch()
        except OSError:
            pass


def compile_group(group: str) -> None:
    """Call every kernel of the group on a small model."""
    import numpy as np

    from bolvek.mesh import Mesh
    from bolvek.spatial.isosurface import dense_surface

    axis = np.linspace(-6, 6, 13)
    x, y, z = np.meshgrid(axis, axis, axis, indexing="ij")
    ball = dense_surface(np.sqrt(x * x + y * y + z * z) - 5.2, np.full(3, -6.0), 1.0)
    mesh = Mesh(ball.vertices, ball.faces)
    if group == "meeting":
        mesh.tree.meeting_pairs()
        return
    from bolvek.analyses.cavities import find_cavities
    from bolvek.analyses.defects import flat_faces
    from bolvek.operations.slim import slim
    from bolvek.report.raster import render
    from bolvek.report.view import View

    mesh.tree.nearest(mesh.vertices)
    mesh.tree.rays(mesh.vertices, mesh.vertices)
    flat_faces(Mesh(np.zeros((3, 3)), [[0, 1, 2]]))
    Mesh.from_corners(mesh.corners).topology  # noqa: B018
    slim(mesh, 0.05)
    find_cavities(mesh)
    render(mesh, View.three_quarter(), 64, 64)


if __name__ == "__main__":
    if sys.argv[1:]:
        compile_group(sys.argv[1])
    elif kernels_missing():
        warm_up()
