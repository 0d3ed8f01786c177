"""What a survey asks of every face, edge and vertex: heights, dihedrals, orientation, rims, near pairs."""

import numpy as np

from bolvek.kernels import helper, kernel
from bolvek.kernels.exact.predicates import orient3d
from bolvek.kernels.surface.topology import CROWDED


@kernel("f8[:,:] i4[:,:] i8 i8 f8[:]!")
def face_heights(v, faces, begin, end, height):
    """height (F,) float64: the smallest height of each face, 0 where it has no area."""
    for f in range(begin, end):
        a, b, c = faces[f, 0], faces[f, 1], faces[f, 2]
        ux, uy, uz = v[b, 0] - v[a, 0], v[b, 1] - v[a, 1], v[b, 2] - v[a, 2]
        wx, wy, wz = v[c, 0] - v[a, 0], v[c, 1] - v[a, 1], v[c, 2] - v[a, 2]
        x, y, z = uy * wz - uz * wy, uz * wx - ux * wz, ux * wy - uy * wx
        sx, sy, sz = wx - ux, wy - uy, wz - uz
        longest = max(ux * ux + uy * uy + uz * uz, wx * wx + wy * wy + wz * wz, sx * sx + sy * sy + sz * sz)
        height[f] = np.sqrt((x * x + y * y + z * z) / longest) if longest > 0.0 else 0.0


@kernel("f8[:,:] i4[:,:] f8[:,:] i4[:] b1[:] i1[:] b1[:] f8 i8 i8 b1[:]!")
def knife_edges(v, faces, area, opposite, same_way, facing, skip, cosine, begin, end, knife):
    """knife (3F,) bool: paired edges, once each, whose material is sharper than an angle.

    area (F, 3) are area vectors, facing (F,) int8 is 1 where they point out of the material and -1 where
    into it, skip (F,) bool leaves faces out; cosine is that of the angle.
    """
    for f in range(begin, end):
        for k in range(3):
            h = 3 * f + k
            g = opposite[h]
            if g <= h or same_way[h] or skip[f] or skip[g // 3]:
                continue
            o = g // 3
            dot = area[f, 0] * area[o, 0] + area[f, 1] * area[o, 1] + area[f, 2] * area[o, 2]
            sf = area[f, 0] ** 2 + area[f, 1] ** 2 + area[f, 2] ** 2
            so = area[o, 0] ** 2 + area[o, 1] ** 2 + area[o, 2] ** 2
            # the angle between the faces is 180 degrees less that between their normals
            if dot > -cosine * np.sqrt(sf * so):
                continue
            a, d = faces[f, k], faces[o, (g % 3 + 2) % 3]
            above = (
                (v[d, 0] - v[a, 0]) * area[f, 0] + (v[d, 1] - v[a, 1]) * area[f, 1] + (v[d, 2] - v[a, 2]) * area[f, 2]
            )
            knife[h] = above * facing[f] <= 0.0


@helper
def _root(parent, odd, i):
    """Root of i and whether i runs the other way than it."""
    flip = False
    j = i
    while parent[j] != j:
        flip ^= odd[j]
        j = parent[j]
    while parent[i] != i:
        up, turned = parent[i], odd[i]
        parent[i] = j
        odd[i] = flip
        flip ^= turned
        i = up
    return j


@kernel("i4[:] b1[:] i4[:]! b1[:]!")
def orient_faces(opposite, same_way, piece, turned):
    """Make faces agree across paired edges.

    piece (F,) int32 gets the smallest face of each piece joined by paired edges, turned (F,) bool
    whether a face must be turned to agree with that one. Returns edges across which no turning helps.
    """
    n = piece.shape[0]
    for f in range(n):
        piece[f] = f
        turned[f] = False
    conflicts = 0
    for h in range(3 * n):
        g = opposite[h]
        if g <= h:
            continue
        a, b = h // 3, g // 3
        if a == b:
            continue
        ra = _root(piece, turned, a)
        rb = _root(piece, turned, b)
        oa = turned[a] if ra != a else False
        ob = turned[b] if rb != b else False
        differ = oa ^ ob ^ same_way[h]
        if ra == rb:
            conflicts += differ
        elif ra < rb:
            piece[rb] = ra
            turned[rb] = differ
        else:
            piece[ra] = rb
            turned[ra] = differ
    for f in range(n):
        r = _root(piece, turned, f)
        piece[f] = r
    return conflicts


@kernel("i4[:,:] i4[:] i8 i8 b1[:]!")
def double_candidates(faces, opposite, begin, end, mask):
    """mask (F,) bool: faces that may have a double of the same three corners: each of their edges is crowded
    or leads to a face with the same third corner."""
    for f in range(begin, end):
        fine = True
        for k in range(3):
            g = opposite[3 * f + k]
            if g == CROWDED:
                continue
            if g < 0 or faces[g // 3, (g % 3 + 2) % 3] != faces[f, (k + 2) % 3]:
                fine = False
                break
        mask[f] = fine


@kernel("f8[:,:] i4[:,:] i4[:,:] i8 i8 i1[:]!")
def pair_sides(v, faces, pairs, begin, end, kind):
    """kind (P,) int8 of pairs (P, 2) of faces that meet: 2 they lie in one plane, 1 each has corners strictly on both
    sides of the other's plane, 0 neither."""
    for i in range(begin, end):
        both = True
        level = True
        for turn in range(2):
            f, g = pairs[i, turn], pairs[i, 1 - turn]
            above = False
            below = False
            for k in range(3):
                s = orient3d(v, faces[f, 0], faces[f, 1], faces[f, 2], faces[g, k])
                above |= s > 0
                below |= s < 0
            both &= above and below
            level &= not (above or below)
        kind[i] = 2 if level else (1 if both else 0)


@kernel("i4[:] i4[:] i8[:] i4[:] i4[:]! i4[:]! b1[:]!")
def trace_rims(tail, head, first, edges, order, ends, closed):
    """Chains of edges that hang together at their ends, as long as they can be walked.

    Edge e runs between the nodes tail[e] and head[e]; edges of node i are edges[first[i]:first[i + 1]].
    order (E,) int32 lists the edges chain by chain, ends (E,) int32 where each chain ends in it, closed
    (E,) bool whether it comes back. Returns the number of chains.
    """
    count = tail.shape[0]
    used = np.zeros(count, np.bool_)
    n = 0
    chains = 0
    for sweep in range(2):
        for start in range(count):
            if used[start]:
                continue
            node = head[start]
            begin = tail[start]
            if sweep == 0:  # chains with two ends first
                lone = (first[begin + 1] - first[begin]) % 2 == 1
                if not lone and (first[node + 1] - first[node]) % 2 == 1:
                    begin, node = node, begin
                    lone = True
                if not lone:
                    continue
            e = start
            while True:
                used[e] = True
                order[n] = e
                n += 1
                step = -1
                for i in range(first[node], first[node + 1]):
                    if not used[edges[i]]:
                        step = edges[i]
                        break
                if step < 0 or node == begin:
                    break
                e = step
                node = head[e] if tail[e] == node else tail[e]
            ends[chains] = n
            closed[chains] = node == begin
            chains += 1
    return chains


@helper
def _slot(x, y, z, mask):
    h = np.uint64(x) * np.uint64(0x9E3779B97F4A7C15)
    h = (h ^ (h >> np.uint64(29))) + np.uint64(y) * np.uint64(0xBF58476D1CE4E5B9)
    h = (h ^ (h >> np.uint64(32))) + np.uint64(z) * np.uint64(0x94D049BB133111EB)
    return np.int64((h ^ (h >> np.uint64(31))) * np.uint64(0xD6E8FEB86659FD93) >> np.uint64(20)) & mask


@kernel("f8[:,:] f8 i4[:]! i4[:]! i4[:,:]!")
def near_pairs(points, radius, table, chain, pairs):
    """Pairs of points (N, 3) no farther apart than radius, until pairs (P, 2) is full; returns how many.

    table (power of two) int32 filled with -1 and chain (N,) int32 are scratch. Cells are eight times the
    radius wide, so most points have to look into one only; where two of several share a slot of the
    table, a pair comes twice.
    """
    mask = table.shape[0] - 1
    inverse = 0.125 / radius
    limit = radius * radius
    n = 0
    for i in range(points.shape[0]):
        gx, gy, gz = points[i, 0] * inverse, points[i, 1] * inverse, points[i, 2] * inverse
        x, y, z = np.int64(np.floor(gx)), np.int64(np.floor(gy)), np.int64(np.floor(gz))
        # which neighbours the ball around the point reaches into, a hair more for rounding
        sx = 1 if gx - x >= 0.8749 else (-1 if gx - x <= 0.1251 else 0)
        sy = 1 if gy - y >= 0.8749 else (-1 if gy - y <= 0.1251 else 0)
        sz = 1 if gz - z >= 0.8749 else (-1 if gz - z <= 0.1251 else 0)
        for corner in range(8):
            if (corner & 1 and sx == 0) or (corner & 2 and sy == 0) or (corner & 4 and sz == 0):
                continue
            slot = _slot(x + sx * (corner & 1), y + sy * (corner >> 1 & 1), z + sz * (corner >> 2), mask)
            j = table[slot]
            while j >= 0:
                d = (
                    (points[i, 0] - points[j, 0]) ** 2
                    + (points[i, 1] - points[j, 1]) ** 2
                    + (points[i, 2] - points[j, 2]) ** 2
                )
                if d <= limit:
                    pairs[n, 0], pairs[n, 1] = j, i
                    n += 1
                    if n == pairs.shape[0]:
                        return n
                j = chain[j]
        slot = _slot(x, y, z, mask)
        chain[i] = table[slot]
        table[slot] = i
    return n
