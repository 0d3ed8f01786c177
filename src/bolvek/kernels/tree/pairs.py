"""Pairs of faces that meet."""

import numpy as np

from bolvek.kernels import kernel
from bolvek.kernels.exact.triangles import surely_aside, surely_beside, triangles_meet
from bolvek.kernels.tree.arrays import STACK
from bolvek.kernels.tree.lanes import child_overlaps


@kernel("f8[:,:] i4[:,:] f4[:,:] f8[:,:] tree i8 i8 i4[:,:]!")
def meeting_pairs(vertices, faces, rec, plane, tree, begin, end, pairs):
    """Pairs of faces that meet beyond what they share, each once, for the leaves of nodes begin..end.

    rec (F, 6) float32 holds the faces' boxes, inflated, and plane (F, 4) their planes, in tree order. One
    walk a leaf finds all leaves that may touch it. Fills pairs (P, 2) int32 as far as it reaches, returns how many.
    """
    order, box, child, first, count = tree.order, tree.box, tree.child, tree.first, tree.count
    stack_node = np.empty(STACK, np.int32)
    n = 0
    for home in range(begin, end):
        for slot in range(8):
            if child[home, slot] != -1:
                continue
            s0 = first[home, slot]
            e0 = s0 + count[home, slot]
            top = 1
            stack_node[0] = 0
            while top > 0:
                top -= 1
                node = stack_node[top]
                near = child_overlaps(
                    box,
                    node,
                    box[home, 0, slot],
                    box[home, 1, slot],
                    box[home, 2, slot],
                    box[home, 3, slot],
                    box[home, 4, slot],
                    box[home, 5, slot],
                )
                for k in range(8):
                    if not (near >> k) & 1:
                        continue
                    c = child[node, k]
                    # every pair is found from its earlier place, so ranges before it are skipped
                    if c == -2 or first[node, k] + count[node, k] <= s0:
                        continue
                    if c >= 0:
                        stack_node[top] = c
                        top += 1
                        continue
                    s = first[node, k]
                    e = s + count[node, k]
                    for place in range(s0, e0):
                        f = order[place]
                        for other in range(max(s, place + 1), e):
                            if (
                                rec[other, 0] <= rec[place, 3]
                                and rec[other, 3] >= rec[place, 0]
                                and rec[other, 1] <= rec[place, 4]
                                and rec[other, 4] >= rec[place, 1]
                                and rec[other, 2] <= rec[place, 5]
                                and rec[other, 5] >= rec[place, 2]
                            ):
                                g = order[other]
                                if (
                                    surely_beside(vertices, faces, f, g, plane, other)
                                    or surely_beside(vertices, faces, g, f, plane, place)
                                    or surely_aside(vertices, faces, f, g, plane, other)
                                ):
                                    continue
                                if triangles_meet(vertices, faces, min(f, g), max(f, g)):
                                    if n < pairs.shape[0]:
                                        pairs[n, 0] = min(f, g)
                                        pairs[n, 1] = max(f, g)
                                    n += 1
    return n
