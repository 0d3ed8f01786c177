"""Exact weld and edge topology in linear time: hashing and counting sorts over flat arrays.

Half-edge h = 3 * face + k runs from corner k to corner k + 1 of its face.
"""

import numpy as np

from bolvek.kernels import helper, kernel
from bolvek.kernels.roots import join, root_of

OPEN = -1
CROWDED = -2  # the edge has more than two uses


@kernel("i8[:,:] i4[:]! i4[:]! i4[:]!")
def weld_rows(rows, table, label, first):
    """Give equal rows of rows (N, 3) int64 one label, numbered by first sight; returns how many.

    table (power of two, at least 2 N) int32 must come filled with -1. first (N,) int32 gets the
    row of each label.
    """
    mask = table.shape[0] - 1
    used = 0
    for i in range(rows.shape[0]):
        a, b, c = rows[i, 0], rows[i, 1], rows[i, 2]
        h = np.uint64(a) * np.uint64(0x9E3779B97F4A7C15)
        h = (h ^ (h >> np.uint64(29))) + np.uint64(b) * np.uint64(0xBF58476D1CE4E5B9)
        h = (h ^ (h >> np.uint64(32))) + np.uint64(c) * np.uint64(0x94D049BB133111EB)
        h ^= h >> np.uint64(31)
        h *= np.uint64(0xD6E8FEB86659FD93)
        slot = np.int64(h >> np.uint64(20)) & mask
        while True:
            j = table[slot]
            if j < 0:
                table[slot] = i
                label[i] = used
                first[used] = i
                used += 1
                break
            if rows[j, 0] == a and rows[j, 1] == b and rows[j, 2] == c:
                label[i] = label[j]
                break
            slot = (slot + 1) & mask
    return used


@helper
def _face_of(h):
    # without a sign a division by three is a product
    return np.int64(np.uint64(h) // np.uint64(3))


@kernel("i4[:,:] i8 i4[:]! b1[:]! i4[:]! i4[:]! i8[:]!")
def pair_edges(faces, vertex_count, opposite, same_way, shell, fan, totals):
    """Pair half-edges, and join faces into shells and corners into fans.

    opposite (3F,) int32: the other half-edge, OPEN or CROWDED. same_way (3F,) bool: a pair whose two
    uses run the same way. shell (F,) int32: smallest face of the edge-connected shell. fan (3F,)
    int32: smallest corner of the corner's fan. totals (4,) int64: edges that are open, crowded,
    badly oriented; vertices beyond one fan each. Edges from a vertex to itself are left alone.
    """
    n = faces.shape[0]
    start = np.zeros(vertex_count + 2, np.int64)
    for f in range(n):
        for k in range(3):
            start[min(faces[f, k], faces[f, (k + 1) % 3]) + 2] += 1
    for i in range(vertex_count):
        start[i + 2] += start[i + 1]
    by_low, far = np.empty(3 * n, np.int32), np.empty(3 * n, np.int32)
    for f in range(n):
        for k in range(3):
            a, b = faces[f, k], faces[f, (k + 1) % 3]
            low = min(a, b)
            by_low[start[low + 1]] = 3 * f + k
            far[start[low + 1]] = max(a, b)
            start[low + 1] += 1
    for f in range(n):
        shell[f] = f
        for k in range(3):
            fan[3 * f + k] = 3 * f + k
            opposite[3 * f + k] = OPEN
            same_way[3 * f + k] = False
    for i in range(4):
        totals[i] = 0
    for low in range(vertex_count):
        s, e = start[low], start[low + 1]
        # sort the few half-edges of this bucket by their far end, keeping their order
        for i in range(s + 1, e):
            h, key = by_low[i], far[i]
            j = i
            while j > s and far[j - 1] > key:
                by_low[j], far[j] = by_low[j - 1], far[j - 1]
                j -= 1
            by_low[j], far[j] = h, key
        i = s
        while i < e:
            h = by_low[i]
            j = i + 1
            while j < e and far[j] == far[i]:
                j += 1
            if far[i] == low:
                i = j
                continue
            uses = j - i
            if uses == 1:
                totals[0] += 1
            elif uses == 2:
                g = by_low[i + 1]
                opposite[h] = g
                opposite[g] = h
                hf, gf = _face_of(h), _face_of(g)
                hn = h + 1 if h < 3 * hf + 2 else 3 * hf
                gn = g + 1 if g < 3 * gf + 2 else 3 * gf
                join(shell, hf, gf)
                if faces[hf, h - 3 * hf] == faces[gf, g - 3 * gf]:
                    same_way[h] = True
                    same_way[g] = True
                    totals[2] += 1
                    join(fan, np.int64(h), np.int64(g))
                    join(fan, np.int64(hn), np.int64(gn))
                else:
                    join(fan, np.int64(h), np.int64(gn))
                    join(fan, np.int64(hn), np.int64(g))
            else:
                totals[1] += 1
                for m in range(i, j):
                    opposite[by_low[m]] = CROWDED
                    join(shell, _face_of(h), _face_of(by_low[m]))
            i = j
    fans = 0
    used = np.zeros(vertex_count, np.bool_)
    vertices = 0
    for f in range(n):
        shell[f] = root_of(shell, f)
        for k in range(3):
            c = 3 * f + k
            fan[c] = root_of(fan, c)
            if fan[c] == c:
                fans += 1
            if not used[faces[f, k]]:
                used[faces[f, k]] = True
                vertices += 1
    totals[3] = fans - vertices


@kernel("i8[:,:] i4[:]!")
def join_links(links, label):
    """label (N,) int32: smallest node of the group that each node belongs to, joined by links (L, 2)."""
    for i in range(label.shape[0]):
        label[i] = i
    for k in range(links.shape[0]):
        join(label, links[k, 0], links[k, 1])
    for i in range(label.shape[0]):
        label[i] = root_of(label, i)


@kernel("i4[:] b1[:] i4[:]!")
def join_wanted(opposite, wanted, patch):
    """patch (F,) int32: smallest face of the patch of wanted faces that hang together by paired edges.

    Faces that are not wanted get -1.
    """
    for f in range(wanted.shape[0]):
        patch[f] = f
    for h in range(opposite.shape[0]):
        g = opposite[h]
        if g > h and wanted[h // 3] and wanted[g // 3]:
            join(patch, h // 3, g // 3)
    for f in range(wanted.shape[0]):
        patch[f] = root_of(patch, f)
    for f in range(wanted.shape[0]):
        if not wanted[f]:
            patch[f] = -1
