"""Compiling the kernels once a machine: two processes share the work, the cache keeps it."""

import subprocess
import sys
from pathlib import Path
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from bolvek.mesh import Mesh

GROUPS = ("survey", "hollow")
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
    """Call every kernel of the group on a small model.

    What both groups need is compiled by the first one early and taken from the cache by the second one
    late.
    """
    if group == GROUPS[0]:
        _compile_survey()
        _compile_measures()
    else:
        _compile_hollow()
        _compile_proof()
        _compile_readers()


def _compile_hollow() -> None:
    """Isosurface, voxels, raster, nearest points, slimming."""
    import numpy as np

    from bolvek.mesh import Mesh
    from bolvek.operations.slim import slim
    from bolvek.report.raster import render
    from bolvek.report.view import View
    from bolvek.spatial.isosurface import dense_surface
    from bolvek.spatial.voxels import distance_to, label_regions, surface_voxels

    axis = np.linspace(-6, 6, 13)
    x, y, z = np.meshgrid(axis, axis, axis, indexing="ij")
    ball = dense_surface(np.sqrt(x * x + y * y + z * z) - 5.2, np.full(3, -6.0), 1.0)
    mesh = Mesh(ball.vertices, ball.faces)
    render(mesh, View.three_quarter(), 64, 64)
    voxels = surface_voxels(mesh.vertices, mesh.faces, np.full(3, -7.0), 1.0, (15, 15, 15)) > 0
    distance_to(voxels)
    label_regions(voxels)
    mesh.tree.nearest(mesh.vertices)
    mesh.tree.rays(mesh.vertices, mesh.vertices)
    slim(mesh, 0.05)


def _block(low: tuple[float, float, float], high: tuple[float, float, float]) -> "Mesh":
    """A box of twelve triangles."""
    import numpy as np

    from bolvek.mesh import Mesh

    ends = np.array([low, high], float)
    corners = np.array([[ends[i, 0], ends[j, 1], ends[k, 2]] for i in (0, 1) for j in (0, 1) for k in (0, 1)])
    quads = [(0, 1, 3, 2), (4, 6, 7, 5), (0, 4, 5, 1), (2, 3, 7, 6), (0, 2, 6, 4), (1, 5, 7, 3)]
    faces: list[tuple[int, int, int]] = [t for a, b, c, d in quads for t in ((a, b, c), (a, c, d))]
    return Mesh(corners, faces)


def _compile_proof() -> None:
    """Nesting, rooms and ways out, on a box with a room behind a narrow hole."""
    import numpy as np

    from bolvek.analyses.cavities import find_cavities, find_ways
    from bolvek.operations.convex_cut import prism, subtract

    block, room = _block((0, 0, 0), (6, 6, 6)), _block((1.5, 1.5, 1.5), (4.5, 4.5, 4.5)).turned()
    bottle = subtract(block.joined(room), [prism(np.array([3.02, 3.01, -1]), np.array([3.02, 3.01, 2]), 0.3, 5, 7.0)])
    find_cavities(bottle)
    find_ways(bottle, 1.5)


def _compile_measures() -> None:
    """Walls and build directions, on a deck between two posts and a pyramid that begins in the air."""
    import numpy as np

    from bolvek.analyses.overhangs import OverhangSettings, find_overhangs
    from bolvek.analyses.overhangs.directions import CompareSettings, compare_directions
    from bolvek.analyses.thickness import WallSettings, measure_walls
    from bolvek.mesh import Mesh

    corners = np.array([[0, 0, 5], [3, 0, 5], [0, 3, 5], [0, 0, 8.0]])
    pyramid = Mesh(corners, [[0, 2, 1], [0, 1, 3], [0, 3, 2], [1, 2, 3]])
    deck = [_block((0, 9, 0), (1, 10, 3)), _block((5, 9, 0), (6, 10, 3)), _block((0, 9, 2.5), (6, 10, 4))]
    mesh = pyramid.joined(*deck)
    measure_walls(mesh, WallSettings(min_mm=2.0, spacing_mm=1.0))
    find_overhangs(mesh)
    compare_directions(mesh, OverhangSettings(), CompareSettings(1))


def _compile_survey() -> None:
    """Exact tests and what a survey asks, on a model that needs every kernel."""
    import numpy as np

    from bolvek.analyses.survey import survey
    from bolvek.mesh import Mesh

    corners = np.array([[[0, 0, 0], [1, 0, 0], [0, 1, 0]], [[0, 0, 0], [1, 0, 0], [0, 0, 1.0]]])
    corners[1, 0, 0] = 1e-5
    mesh = Mesh.from_corners(corners)
    mesh.tree.meeting_pairs()
    survey(Mesh(mesh.vertices, np.concatenate([mesh.faces, mesh.faces[:1, ::-1]])))
    one, other = _block((0, 0, 0), (2, 2, 2)), _block((1, 1, 1), (3, 3, 3))
    survey(one.joined(Mesh(other.vertices, np.concatenate([other.faces[:1, ::-1], other.faces[1:]]))))


def _compile_readers() -> None:
    """Every format, from a few bytes each."""
    from pathlib import Path

    from bolvek.formats import obj, off, ply, stl, threemf
    from bolvek.mesh import Mesh

    nowhere = Path("warmup")
    mesh = Mesh([[0, 0, 0], [1, 0, 0], [0, 1, 0]], [[0, 1, 2]])
    stl.read_stl(stl.stl_text(mesh, None), nowhere)
    off.read_off(off.off_bytes(mesh, None), nowhere)
    threemf.read_3mf(threemf.threemf_bytes(mesh, None), nowhere)
    obj.read_obj(b"v 0 0 0\nv 1 0 0\nv 1 1 0\nv 0 1 0\nf 1 2 3 4\n", nowhere)
    head = "ply\nformat {} 1.0\nelement vertex 3\nproperty char x\nproperty char y\nproperty char z\n"
    head += "element face 1\nproperty list uchar char vertex_index\nproperty list uchar char more\nend_header\n"
    ply.read_ply(head.format("ascii").encode() + b"0 0 0 1 0 0 0 1 0 3 0 1 2 0\n", nowhere)
    body = bytes([0, 0, 0, 1, 0, 0, 0, 1, 0, 3, 0, 1, 2, 0])
    ply.read_ply(head.format("binary_little_endian").encode() + body, nowhere)


if __name__ == "__main__":
    if sys.argv[1:]:
        compile_group(sys.argv[1])
    elif kernels_missing():
        warm_up()
