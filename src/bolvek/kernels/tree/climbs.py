"""Where the distance to a surface surely grows in one direction: bricks that hold no narrowest and no widest place.

The distance grows fastest away from what is nearest. At a point of the air that way lies in the cone of the normals of
all faces that are nearest there: else a direction that leads into the material behind all of them would come nearer to
the point. So where one direction leads out of every face that may be nearest to any point of a brick, the distance
grows along it throughout (critical points of distances: Grove 1993; Chazal, Cohen-Steiner and Lieutier 2009).
"""

import numpy as np

from bolvek.kernels import helper, kernel
from bolvek.kernels.tree.arrays import STACK
from bolvek.kernels.tree.distance import triangle_distance2
from bolvek.kernels.tree.lanes import child_bounds

_STEEP = 0.02  # cosine between the direction and a normal at least
_MOST_TURNS = 24  # corrections of the direction until one is given up


@kernel("tree f8[:,:] i8 i8 f4[:,:,:]! f4[:,:]!")
def normal_cones(tree, normal, begin, end, axis, cosine):
    """A cone around the normals of the faces below each child of nodes begin..end.

    normal (F, 3): unit normals in tree order. axis (N, 3, 8) and the cosine (N, 8) of the half angle: -2 where the
    normals have no mean.
    """
    first, count, child = tree.first, tree.count, tree.child
    for node in range(begin, end):
        for k in range(8):
            cosine[node, k] = -2.0
            if child[node, k] == -2:
                continue
            s, e = first[node, k], first[node, k] + count[node, k]
            x, y, z = 0.0, 0.0, 0.0
            for f in range(s, e):
                x, y, z = x + normal[f, 0], y + normal[f, 1], z + normal[f, 2]
            size = np.sqrt(x * x + y * y + z * z)
            if size < 1e-6 * (e - s):
                continue
            x, y, z = x / size, y / size, z / size
            least = 1.0
            for f in range(s, e):
                least = min(least, x * normal[f, 0] + y * normal[f, 1] + z * normal[f, 2])
            axis[node, 0, k], axis[node, 1, k], axis[node, 2, k] = x, y, z
            cosine[node, k] = least - 1e-5  # rounded


@helper
def _within_cone(axis, cosine, node, k, ux, uy, uz):
    """Whether the unit direction u leads steeply enough out of every face below a child."""
    c = np.float64(cosine[node, k])
    if c <= 0.0:
        return False
    along = ux * axis[node, 0, k] + uy * axis[node, 1, k] + uz * axis[node, 2, k]
    beside = np.sqrt(max(1.0 - along * along, 0.0))
    return along * c - beside * np.sqrt(max(1.0 - c * c, 0.0)) > _STEEP


@kernel("tree f8[:,:] f4[:,:,:] f4[:,:] f8[:,:] f8[:] i8 i8 b1[:]!")
def where_it_grows(tree, normal, axis, cosine, points, reach, begin, end, grows):
    """Whether one direction leads out of all faces nearer to each point (P, 3) than its reach (P,).

    normal, axis, cosine: see `normal_cones`. The direction is found by correcting it with each normal that it fails
    (the perceptron), a few times.
    """
    tri, box, disc = tree.triangles, tree.box, tree.disc
    child, first, count = tree.child, tree.first, tree.count
    stack = np.empty(STACK, np.int32)
    low = np.empty(8, np.float32)
    for row in range(begin, end):
        px, py, pz = points[row, 0], points[row, 1], points[row, 2]
        reach2 = reach[row] * reach[row]
        vx, vy, vz = 0.0, 0.0, 0.0
        ux, uy, uz = 0.0, 0.0, 0.0
        turns = 0
        again = True
        while again and turns <= _MOST_TURNS:
            again = False
            top = 1
            stack[0] = 0
            while top > 0 and turns <= _MOST_TURNS:
                top -= 1
                node = np.int64(stack[top])
                child_bounds(box, disc, node, np.float32(px), np.float32(py), np.float32(pz), low)
                for k in range(8):
                    c = child[node, k]
                    if c == -2 or low[k] > reach2 * (1.0 + 1e-5) or _within_cone(axis, cosine, node, k, ux, uy, uz):
                        continue
                    if c >= 0:
                        stack[top] = c
                        top += 1
                        continue
                    s = first[node, k]
                    for f in range(s, s + count[node, k]):
                        nx, ny, nz = normal[f, 0], normal[f, 1], normal[f, 2]
                        if ux * nx + uy * ny + uz * nz > _STEEP or triangle_distance2(tri, f, px, py, pz) > reach2:
                            continue
                        turns += 1
                        again = True
                        vx, vy, vz = vx + nx, vy + ny, vz + nz
                        size = np.sqrt(vx * vx + vy * vy + vz * vz)
                        if size > 1e-9:
                            ux, uy, uz = vx / size, vy / size, vz / size
        grows[row] = turns <= _MOST_TURNS
