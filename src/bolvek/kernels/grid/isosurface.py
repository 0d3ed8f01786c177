"""Extracting the zero surface of corner values on lattice cells: one fan of triangles a loop.

Per cell the crossed edges are joined into loops over the cell's faces; on a face with two inside
corners across a diagonal each inside corner is cut off alone. Both cells at a face see the same
four values and so the same segments, which makes the surface closed and manifold. Loops of three
and, in cells without such a face, of four edges need no extra vertex; any other loop is fanned
around its mean point, which lies strictly inside the cell.
"""

import numpy as np

from bolvek.kernels import kernel


def _loops_of_case(case: int) -> list[list[int]]:
    """Loops of crossed edges for one pattern of inside corners (bit k set: corner k inside)."""
    step: dict[int, int] = {}
    for axis in range(3):
        i, j = 1 << ((axis + 1) % 3), 1 << ((axis + 2) % 3)
        for side in range(2):
            base = side << axis
            ring = [base, base | i, base | i | j, base | j]
            if side == 0:
                ring = ring[::-1]
            inside = [bool(case >> c & 1) for c in ring]
            for k in range(4):
                if inside[k] and not inside[k - 1]:
                    m = k
                    while inside[(m + 1) % 4] and m < k + 3:
                        if inside[k] and inside[(k + 2) % 4] and not inside[(k + 1) % 4]:
                            break
                        m += 1
                    enter = _edge(ring[k - 1], ring[k])
                    leave = _edge(ring[m % 4], ring[(m + 1) % 4])
                    step[enter] = leave
    loops = []
    while step:
        edge = min(step)
        loop = []
        while edge in step:
            loop.append(edge)
            edge = step.pop(edge)
        loops.append(loop)
    return loops


def _edge(a: int, b: int) -> int:
    """Edge number 4 * axis + place of the edge between two neighbouring corners."""
    axis = {1: 0, 2: 1, 4: 2}[a ^ b]
    low = min(a, b)
    i, j = (axis + 1) % 3, (axis + 2) % 3
    return 4 * axis + (low >> i & 1) + 2 * (low >> j & 1)


def _build_tables() -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    low = np.zeros(12, np.int64)
    for axis in range(3):
        i, j = (axis + 1) % 3, (axis + 2) % 3
        for p in range(4):
            low[4 * axis + p] = ((p & 1) << i) | ((p >> 1) << j)
    sizes = np.zeros((256, 5), np.int8)
    edges = np.full((256, 12), -1, np.int8)
    for case in range(256):
        loops = _loops_of_case(case)
        sizes[case, : len(loops)] = [len(loop) for loop in loops]
        flat = [e for loop in loops for e in loop]
        edges[case, : len(flat)] = flat
    return low, sizes, edges


EDGE_LOW, LOOP_SIZES, LOOP_EDGES = _build_tables()
_CLAMP = 0.1  # crossings keep this share of the edge from its ends


@kernel("i4[:,:] f8[:] i1[:,:]")
def count_parts(corner, value, sizes):
    """Faces and centre vertices that `extract` will make."""
    faces = 0
    centres = 0
    for c in range(corner.shape[0]):
        case = 0
        for k in range(8):
            if value[corner[c, k]] < 0.0:
                case |= 1 << k
        single = sizes[case, 1] == 0
        for s in range(5):
            n = sizes[case, s]
            if n == 0:
                break
            if n == 3:
                faces += 1
            elif n == 4 and single:
                faces += 2
            else:
                faces += n
                centres += 1
    return faces, centres


@kernel("i4[:,:] f8[:] f8[:,:] i8[:] i1[:,:] i1[:,:] i4[:,:]! f8[:,:]! i4[:,:]!")
def extract(corner, value, place, edge_low, sizes, edges, on_edge, vertices, faces):
    """Triangles of the zero surface; they face the positive side. Returns vertices used.

    corner (C, 8) int32 names the lattice points of each cell (bit 0 x, 1 y, 2 z), value (M,) and
    place (M, 3) float64 belong to the points, on_edge (M, 3) int32 comes filled with -1.
    """
    used = 0
    made = 0
    loop = np.empty(12, np.int32)
    for c in range(corner.shape[0]):
        case = 0
        for k in range(8):
            if value[corner[c, k]] < 0.0:
                case |= 1 << k
        at = 0
        single = sizes[case, 1] == 0
        for s in range(5):
            n = sizes[case, s]
            if n == 0:
                break
            for m in range(n):
                e = edges[case, at + m]
                axis = e // 4
                a = corner[c, edge_low[e]]
                b = corner[c, edge_low[e] + (1 << axis)]
                v = on_edge[a, axis]
                if v < 0:
                    v = used
                    on_edge[a, axis] = v
                    used += 1
                    t = value[a] / (value[a] - value[b])
                    t = min(max(t, _CLAMP), 1.0 - _CLAMP)
                    for x in range(3):
                        vertices[v, x] = place[a, x] + t * (place[b, x] - place[a, x])
                loop[m] = v
            at += n
            if n == 3:
                faces[made, 0], faces[made, 1], faces[made, 2] = loop[0], loop[1], loop[2]
                made += 1
            elif n == 4 and single:
                # the shorter diagonal
                d02 = 0.0
                d13 = 0.0
                for x in range(3):
                    d02 += (vertices[loop[0], x] - vertices[loop[2], x]) ** 2
                    d13 += (vertices[loop[1], x] - vertices[loop[3], x]) ** 2
                o = 0 if d02 <= d13 else 1
                faces[made, 0], faces[made, 1], faces[made, 2] = loop[o], loop[o + 1], loop[o + 2]
                faces[made + 1, 0], faces[made + 1, 1], faces[made + 1, 2] = loop[o], loop[o + 2], loop[(o + 3) % 4]
                made += 2
            else:
                for x in range(3):
                    total = 0.0
                    for m in range(n):
                        total += vertices[loop[m], x]
                    vertices[used, x] = total / n
                for m in range(n):
                    faces[made, 0] = used
                    faces[made, 1] = loop[m]
                    faces[made, 2] = loop[(m + 1) % n]
                    made += 1
                used += 1
    return used
