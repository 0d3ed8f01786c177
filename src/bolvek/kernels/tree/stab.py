"""Which faces a line from a vertex goes through, decided exactly.

The line runs from the vertex along +x. In the other two coordinates it is moved by an infinitesimal
(e, e squared), so that it meets no edge and no corner (simulation of simplicity; Edelsbrunner and Muecke
1990): each face is either clearly hit or clearly missed, and a shared edge is hit in exactly one face.
"""

import numpy as np

from bolvek.kernels import helper, kernel
from bolvek.kernels.exact.predicates import orient2d, orient3d
from bolvek.kernels.tree.arrays import STACK
from bolvek.kernels.tree.lanes import child_overlaps

_Y, _Z = np.int64(1), np.int64(2)


@helper
def _side(v, a, b, p):
    """Side of a b, seen along x, on which the line through p passes: 1 left, -1 right, 0 for a point."""
    turn = orient2d(v, _Y, _Z, a, b, p)
    if turn != 0:
        return turn
    if v[b, 2] != v[a, 2]:
        return -1 if v[b, 2] > v[a, 2] else 1
    if v[b, 1] != v[a, 1]:
        return 1 if v[b, 1] > v[a, 1] else -1
    return 0


@kernel("f8[:,:] i4[:,:] tree i8[:] i8 i8 i4[:,:]!")
def stab_faces(v, faces, tree, starts, begin, end, found):
    """Faces that the lines from vertices starts[begin:end] go through; returns how many.

    found (N, 3) int32 gets row of starts, face, and 1 where the line leaves through the face (its normal
    points along +x) or -1 where it enters, as far as it reaches.
    """
    order, origin, box = tree.order, tree.origin, tree.box
    child, first, count = tree.child, tree.first, tree.count
    stack_node = np.empty(STACK, np.int32)
    n = 0
    for q in range(begin, end):
        p = np.int32(starts[q])
        x = np.float32(v[p, 0] - origin[0])
        y = np.float32(v[p, 1] - origin[1])
        z = np.float32(v[p, 2] - origin[2])
        far = np.float32(np.inf)
        top = 1
        stack_node[0] = 0
        while top > 0:
            top -= 1
            node = stack_node[top]
            near = child_overlaps(box, node, x, y, z, far, y, z)
            for k in range(8):
                if not (near >> k) & 1:
                    continue
                c = child[node, k]
                if c == -2:
                    continue
                if c >= 0:
                    stack_node[top] = c
                    top += 1
                    continue
                s = first[node, k]
                for place in range(s, s + count[node, k]):
                    f = order[place]
                    a, b, c3 = faces[f, 0], faces[f, 1], faces[f, 2]
                    turn = _side(v, a, b, p)
                    if turn == 0 or _side(v, b, c3, p) != turn or _side(v, c3, a, p) != turn:
                        continue
                    if orient3d(v, a, b, c3, p) * turn > 0:
                        if n < found.shape[0]:
                            found[n, 0] = q
                            found[n, 1] = f
                            found[n, 2] = turn
                        n += 1
    return n
