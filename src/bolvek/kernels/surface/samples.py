"""Places all over faces, and which edges are worth a look."""

import numpy as np

from bolvek.kernels import helper, kernel


@helper
def _longest_side(v, faces, f):
    """The corner at which a face's longest side begins, and that side's length squared."""
    k = 0
    longest = -1.0
    for j in range(3):
        p, o = faces[f, j], faces[f, (j + 1) % 3]
        d = (v[o, 0] - v[p, 0]) ** 2 + (v[o, 1] - v[p, 1]) ** 2 + (v[o, 2] - v[p, 2]) ** 2
        if d > longest:
            longest = d
            k = j
    return k, longest


@kernel("f8[:,:] i4[:,:] i4[:] f8 i8 i8 i8[:]! b1 f8[:,:]! f8[:]! i8[:]!")
def sample_faces(v, faces, order, spacing, begin, end, start, fill, points, weight, owner):
    """Samples of faces, about a spacing apart; one at least a face that has an area.

    A face is cut into columns along its longest edge and each column into cells; a sample stands in the
    middle of each cell and weighs its area. start (F + 1,) int64 gets the samples of each place of the
    order when fill is False; when True it says where they go in points (Q, 3), weight (Q,), owner (Q,).
    """
    for place in range(begin, end):
        f = np.int64(order[place])
        # a, b: the longest edge; c: the corner across
        k, longest = _longest_side(v, faces, f)
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


@kernel("f8[:,:] i4[:,:] f8[:,:] f8[:] i8[:] i8[:] f8[:] i8[:] f8[:,:] i8 i8 f8[:]!")
def carry_to_places(v, faces, points, value, first, count, corner, face, places, begin, end, found):
    """Values at places begin..end (P, 3) of faces (P,), from those at the samples that `sample_faces` has made.

    points (Q, 3), value (Q,) of samples; first, count (F,): where those of a face begin, and how many; corner (V,)
    values at vertices, nan where they take that of the face. Of several samples the nearest in its column decides; a
    single one counts in the middle of the face, the corners at its corners. Fills found (P,).
    """
    for p in range(begin, end):
        f = face[p]
        at, n = first[f], count[f]
        if n == 0:
            found[p] = np.nan
            continue
        k, longest = _longest_side(v, faces, f)
        a, b, c = faces[f, k], faces[f, (k + 1) % 3], faces[f, (k + 2) % 3]
        length = np.sqrt(longest)
        ux, uy, uz = (v[b, 0] - v[a, 0]) / length, (v[b, 1] - v[a, 1]) / length, (v[b, 2] - v[a, 2]) / length
        wx, wy, wz = v[c, 0] - v[a, 0], v[c, 1] - v[a, 1], v[c, 2] - v[a, 2]
        foot = wx * ux + wy * uy + wz * uz
        hx, hy, hz = wx - foot * ux, wy - foot * uy, wz - foot * uz
        tall = hx * hx + hy * hy + hz * hz
        px, py, pz = places[p, 0] - v[a, 0], places[p, 1] - v[a, 1], places[p, 2] - v[a, 2]
        along, rise = px * ux + py * uy + pz * uz, (px * hx + py * hy + pz * hz) / tall
        if n == 1:
            wc = min(max(rise, 0.0), 1.0)
            wb = min(max((along - rise * foot) / length, 0.0), 1.0 - wc)
            wa = 1.0 - wb - wc
            least = min(wa, wb, wc)
            own = value[at]
            at_a, at_b, at_c = corner[a], corner[b], corner[c]
            found[p] = 3.0 * least * own
            found[p] += (wa - least) * (own if np.isnan(at_a) else at_a)
            found[p] += (wb - least) * (own if np.isnan(at_b) else at_b)
            found[p] += (wc - least) * (own if np.isnan(at_c) else at_c)
            continue
        # samples stand by columns along the longest edge, and in each by their height
        low, high = at, at + n - 1
        while low < high:  # the first of the column at or after the place
            middle = (low + high) // 2
            q = (points[middle, 0] - v[a, 0]) * ux + (points[middle, 1] - v[a, 1]) * uy
            q += (points[middle, 2] - v[a, 2]) * uz
            if q < along:
                low = middle + 1
            else:
                high = middle
        best, best_gap = low, np.inf
        for way in range(-1, 2, 2):  # that column upward, and the one before it downward
            s = low if way > 0 else low - 1
            here = np.inf
            while at <= s < at + n:
                d = (points[s, 0] - places[p, 0]) ** 2 + (points[s, 1] - places[p, 1]) ** 2
                d += (points[s, 2] - places[p, 2]) ** 2
                if d > here:
                    break
                here = d
                if d < best_gap:
                    best_gap, best = d, s
                s += way
        found[p] = value[best]


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
