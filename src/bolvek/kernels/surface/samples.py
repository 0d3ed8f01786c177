"""Places all over faces, and which edges are worth a look."""

import numpy as np

from bolvek.kernels import kernel


@kernel("f8[:,:] i4[:,:] i4[:] f8 i8 i8 i8[:]! b1 f8[:,:]! f8[:]! i8[:]!")
def sample_faces(v, faces, order, spacing, begin, end, start, fill, points, weight, owner):
    """Samples of faces, about a spacing apart; one at least a face that has an area.

    A face is cut into columns along its longest edge and each column into cells; a sample stands in the
    middle of each cell and weighs its area. start (F + 1,) int64 gets the samples of each place of the
    order when fill is False; when True it says where they go in points (Q, 3), weight (Q,), owner (Q,).
    """
    for place in range(begin, end):
        f = order[place]
        # a, b: the longest edge; c: the corner across
        k = 0
        longest = -1.0
        for j in range(3):
            p, o = faces[f, j], faces[f, (j + 1) % 3]
            d = (v[o, 0] - v[p, 0]) ** 2 + (v[o, 1] - v[p, 1]) ** 2 + (v[o, 2] - v[p, 2]) ** 2
            if d > longest:
                longest = d
                k = j
        a, b, c = faces[f, k], faces[f, (k + 1) % 3], faces[f, (k + 2) % 3]
        length = np.sqrt(longest)
        if not length > 0.0:
            if not fill:
                start[place + 1] = 0
            continue
        ux, uy, uz = (v[b, 0] - v[a, 0]) / length, (v[b, 1] - v[a, 1]) / length, (v[b, 2] - v[a, 2]) / length
        wx, wy, wz = v[c, 0] - v[a, 0], v[c, 1] - v[a, 1], v[c, 2] - v[a, 2]
        foot = wx * ux + wy * uy + wz * uz
        hx, hy, hz = wx - foot * ux, wy - foot * uy, wz - foot * uz
        height = np.sqrt(hx * hx + hy * hy + hz * hz)
        if not height > 0.0:
            if not fill:
                start[place + 1] = 0
            continue
        foot = min(max(foot / length, 0.0), 1.0)
        columns = max(1, np.int64(np.ceil(length / spacing)))
        if columns == 1:
            if fill:
                at = start[place]
                for j in range(3):
                    points[at, j] = (v[a, j] + v[b, j] + v[c, j]) / 3.0
                weight[at] = 0.5 * length * height
                owner[at] = f
            else:
                start[place + 1] = 1
            continue
        at = start[place] if fill else 0
        for i in range(columns):
            left, right = i / columns, (i + 1) / columns
            # area and middle of the column, from the heights at its ends and at the foot
            area = 0.0
            moment = 0.0
            for half in range(2):
                s = left if half == 0 else max(left, foot)
                e = min(right, foot) if half == 0 else right
                if e <= s:
                    continue
                if half == 0:
                    hs, he = s / foot, e / foot
                else:
                    hs, he = (1.0 - s) / (1.0 - foot), (1.0 - e) / (1.0 - foot)
                piece = 0.5 * (hs + he) * (e - s)
                area += piece
                if hs + he > 0.0:
                    moment += piece * (s + (e - s) * (hs + 2.0 * he) / (3.0 * (hs + he)))
            if not area > 0.0:
                continue
            u = moment / area
            tall = min(u / foot if u < foot else 2.0, (1.0 - u) / (1.0 - foot) if u > foot else 2.0, 1.0)
            rows = max(1, np.int64(np.ceil(tall * height / spacing)))
            if fill:
                for j in range(rows):
                    w = tall * (j + 0.5) / rows
                    for axis in range(3):
                        rise = hx if axis == 0 else (hy if axis == 1 else hz)
                        along = ux if axis == 0 else (uy if axis == 1 else uz)
                        points[at + j, axis] = v[a, axis] + u * length * along + w * rise
                    weight[at + j] = area * length * height / rows
                    owner[at + j] = f
            at += rows
        if not fill:
            start[place + 1] = at


FLAT_EDGE, INWARD_EDGE, CREASE_EDGE = 1, 2, 3
"""Kinds of edges: those that hardly bend or do so towards the air by less than flat; more than that; sharply."""


@kernel("f8[:,:] i4[:,:] i4[:] f8[:,:] f8 f8 i8 i8 i1[:]!")
def edge_kinds(vertices, faces, opposite, normal, flat, crease, begin, end, kind):
    """The kind (3F,) int8 of each edge of faces begin..end, at its lower half-edge: 0 for one that bends outward.

    flat, crease: the gap between the unit normals (F, 3) of an edge's faces that bends by so much.
    """
    for h in range(3 * begin, 3 * end):
        o = opposite[h]
        kind[h] = 0
        if o <= h:
            continue
        f, g = h // 3, o // 3
        far, near = faces[g, (o % 3 + 2) % 3], faces[f, h % 3]
        rise, gap = 0.0, 0.0
        for k in range(3):
            rise += normal[f, k] * (vertices[far, k] - vertices[near, k])
            gap += (normal[f, k] - normal[g, k]) ** 2
        gap = np.sqrt(gap)
        if gap <= flat:
            kind[h] = FLAT_EDGE
        elif rise > 0.0:
            kind[h] = CREASE_EDGE if gap > crease else INWARD_EDGE
