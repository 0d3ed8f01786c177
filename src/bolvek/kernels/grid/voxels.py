"""Voxel kernels: which voxels a surface passes through, and exact distance transforms."""

import numpy as np

from bolvek.kernels import helper, kernel
from bolvek.kernels.roots import join, root_of


@helper
def _beside(ax, ay, bx, by, sign, x, y, half):
    """Whether the square around (x, y) lies wholly outside edge a b of a triangle seen flat."""
    nx = -(by - ay) * sign
    ny = (bx - ax) * sign
    return nx * (x - ax) + ny * (y - ay) + half * (abs(nx) + abs(ny)) < 0.0


@kernel("f8[:,:] i4[:,:] i8 i8 u1[:,:,:]!")
def mark_surface(vertices, faces, begin, end, voxels):
    """Set voxels[i, j, k] = 1 for every unit voxel around (i, j, k) that a triangle touches.

    vertices (V, 3) float64 are in voxel units. Separating axes: the box, the plane and the edges in the
    three projections (Schwarz and Seidel 2010). Conservative by one millionth of a voxel.
    """
    half = 0.5 + 1e-6
    nx, ny, nz = voxels.shape
    for f in range(begin, end):
        a, b, c = faces[f, 0], faces[f, 1], faces[f, 2]
        ax, ay, az = vertices[a, 0], vertices[a, 1], vertices[a, 2]
        bx, by, bz = vertices[b, 0], vertices[b, 1], vertices[b, 2]
        cx, cy, cz = vertices[c, 0], vertices[c, 1], vertices[c, 2]
        i0 = max(int(np.ceil(min(ax, bx, cx) - half)), 0)
        i1 = min(int(np.floor(max(ax, bx, cx) + half)), nx - 1)
        j0 = max(int(np.ceil(min(ay, by, cy) - half)), 0)
        j1 = min(int(np.floor(max(ay, by, cy) + half)), ny - 1)
        k0 = max(int(np.ceil(min(az, bz, cz) - half)), 0)
        k1 = min(int(np.floor(max(az, bz, cz) + half)), nz - 1)
        if i0 == i1 and j0 == j1 and k0 == k1:
            voxels[i0, j0, k0] = 1
            continue
        mx = (by - ay) * (cz - az) - (bz - az) * (cy - ay)
        my = (bz - az) * (cx - ax) - (bx - ax) * (cz - az)
        mz = (bx - ax) * (cy - ay) - (by - ay) * (cx - ax)
        reach = half * (abs(mx) + abs(my) + abs(mz))
        sx = 1.0 if mx >= 0.0 else -1.0
        sy = 1.0 if my >= 0.0 else -1.0
        sz = 1.0 if mz >= 0.0 else -1.0
        for i in range(i0, i1 + 1):
            for j in range(j0, j1 + 1):
                if mz != 0.0 and (
                    _beside(ax, ay, bx, by, sz, i, j, half)
                    or _beside(bx, by, cx, cy, sz, i, j, half)
                    or _beside(cx, cy, ax, ay, sz, i, j, half)
                ):
                    continue
                for k in range(k0, k1 + 1):
                    if voxels[i, j, k]:
                        continue
                    if abs(mx * (i - ax) + my * (j - ay) + mz * (k - az)) > reach:
                        continue
                    if mx != 0.0 and (
                        _beside(ay, az, by, bz, sx, j, k, half)
                        or _beside(by, bz, cy, cz, sx, j, k, half)
                        or _beside(cy, cz, ay, az, sx, j, k, half)
                    ):
                        continue
                    if my != 0.0 and (
                        _beside(az, ax, bz, bx, sy, k, i, half)
                        or _beside(bz, bx, cz, cx, sy, k, i, half)
                        or _beside(cz, cx, az, ax, sy, k, i, half)
                    ):
                        continue
                    voxels[i, j, k] = 1


_ABREAST = 16


@helper
def _distance_line(line, out, apex, border):
    """The lower envelope of the parabolas above one line; False, and nothing in `out`, where none stands on it."""
    n = len(line)
    plain = True
    for q in range(n):
        plain = plain and (line[q] == 0.0 or line[q] > 1e17)
    if plain:
        # all begin at 0, as in the first of three passes: the nearer of the last one and the next
        last = -1
        for q in range(n):
            if line[q] == 0.0:
                middle = 0 if last < 0 else (last + q) // 2 + 1
                for i in range(last + 1, middle):
                    out[i] = (i - last) * (i - last)
                for i in range(max(middle, last + 1), q + 1):
                    out[i] = (q - i) * (q - i)
                last = q
        if last >= 0:
            for i in range(last + 1, n):
                out[i] = (i - last) * (i - last)
        return last >= 0
    top = -1
    for q in range(n):
        if line[q] > 1e17:
            continue
        s = -np.inf
        while top >= 0:
            p = apex[top]
            s = ((line[q] + q * q) - (line[p] + p * p)) / (2.0 * (q - p))
            if s > border[top]:
                break
            top -= 1
        if top < 0:
            s = -np.inf
        top += 1
        apex[top] = q
        border[top] = s
    if top < 0:
        return False
    border[top + 1] = np.inf
    k = 0
    for i in range(n):
        while border[k + 1] < i:
            k += 1
        out[i] = (i - apex[k]) ** 2 + line[apex[k]]
    return True


@kernel("f4[:,:,:]! i8 i8")
def distance_lines(squared, begin, end):
    """Exact squared distance transform along axis 1 of squared (A, N, B) float32, in place.

    Lower envelope of parabolas (Felzenszwalb and Huttenlocher 2012); lines begin..end of A * B.
    """
    n = squared.shape[1]
    width = squared.shape[2]
    apex = np.empty(n, np.int64)
    border = np.empty(n + 1)
    lines = np.empty((_ABREAST, n))
    made = np.empty((_ABREAST, n))
    index = begin
    while index < end:
        # lines that lie abreast are read and written together: where their values are far apart, memory is the cost
        a = index // width
        b = index % width
        count = min(_ABREAST, width - b, end - index)
        for i in range(n):
            for m in range(count):
                lines[m, i] = squared[a, i, b + m]
        stands = False
        for m in range(count):
            if _distance_line(lines[m], made[m], apex, border):
                stands = True
            else:
                made[m] = lines[m]
        for i in range(n if stands else 0):
            for m in range(count):
                squared[a, i, b + m] = made[m, i]
        index += count


@helper
def _joined(parent, mine, other):
    """The root of two regions that touch (mine 0: there is none yet), from now on one."""
    return root_of(parent, other) if mine == 0 else join(parent, mine, other)


@kernel("b1[:,:,:] b1 i4[:,:,:]!")
def label_regions(mask, corners, label):
    """Connected regions of mask (X, Y, Z) bool, numbered from 1 by first voxel; returns how many.

    Neighbours share a side, or with `corners` also an edge or a corner. label int32 is filled.
    """
    nx, ny, nz = mask.shape
    parent = np.empty(mask.size // 2 + 2, np.int32)
    used = 0
    for i in range(nx):
        for j in range(ny):
            for k in range(nz):
                label[i, j, k] = 0
                if not mask[i, j, k]:
                    continue
                mine = np.int64(0)
                if corners:  # the thirteen neighbours that come before this voxel
                    for di in range(-1, 1):
                        for dj in range(-1, 2 if di < 0 else 1):
                            for dk in range(-1, 2 if di < 0 or dj < 0 else 0):
                                x, y, z = i + di, j + dj, k + dk
                                if x >= 0 and 0 <= y < ny and 0 <= z < nz and label[x, y, z] > 0:
                                    mine = _joined(parent, mine, np.int64(label[x, y, z]))
                else:
                    if k > 0 and label[i, j, k - 1] > 0:
                        mine = np.int64(label[i, j, k - 1])
                    if j > 0 and label[i, j - 1, k] > 0 and label[i, j - 1, k] != mine:
                        mine = _joined(parent, mine, np.int64(label[i, j - 1, k]))
                    if i > 0 and label[i - 1, j, k] > 0 and label[i - 1, j, k] != mine:
                        mine = _joined(parent, mine, np.int64(label[i - 1, j, k]))
                if mine == 0:
                    used += 1
                    parent[used] = used
                    mine = used
                label[i, j, k] = mine
    number = np.zeros(used + 1, np.int32)
    count = 0
    for region in range(1, used + 1):
        root = region
        while parent[root] != root:
            root = parent[root]
        if root == region:
            count += 1
            number[region] = count
        else:
            number[region] = number[root]
    for i in range(nx):
        for j in range(ny):
            for k in range(nz):
                label[i, j, k] = number[label[i, j, k]]
    return count


@kernel("i4[:,:,:] b1[:,:,:] i8[:]! i8[:]!")
def count_sides(region, outside, wall, open_sides):
    """Sides of voxels of each region (0: none) against the outside, and against anything else that is not of it."""
    shape = region.shape
    for i in range(shape[0]):
        for j in range(shape[1]):
            for k in range(shape[2]):
                mine = region[i, j, k]
                if mine == 0:
                    continue
                for side in range(6):
                    step = 1 - 2 * (side & 1)
                    x, y, z = i, j, k
                    if side < 2:
                        x += step
                    elif side < 4:
                        y += step
                    else:
                        z += step
                    if x < 0 or y < 0 or z < 0 or x >= shape[0] or y >= shape[1] or z >= shape[2]:
                        continue
                    if region[x, y, z] == mine:
                        continue
                    if outside[x, y, z]:
                        open_sides[mine] += 1
                    else:
                        wall[mine] += 1


@kernel("i4[:,:,:] i4[:,:]!")
def region_boxes(label, box):
    """box (R + 1, 6) int32: lowest and highest index of each region; comes filled lowest high, highest low."""
    nx, ny, nz = label.shape
    for i in range(nx):
        for j in range(ny):
            k = 0
            while k < nz:
                r = label[i, j, k]
                begin = k
                while k < nz and label[i, j, k] == r:
                    k += 1
                box[r, 0], box[r, 3] = min(box[r, 0], i), max(box[r, 3], i)
                box[r, 1], box[r, 4] = min(box[r, 1], j), max(box[r, 4], j)
                box[r, 2], box[r, 5] = min(box[r, 2], begin), max(box[r, 5], k - 1)


@kernel("f8[:,:] f8[:,:] f8[:] i4[:,:,:] i8 i8 i8 i4[:]!")
def look_along(points, normal, steps, label, unknown, begin, end, out):
    """The label each point looks into: the first that is not `unknown` along its normal.

    points (Q, 3) are in voxel units, normal (Q, 3) of any length, steps (N,) in voxels.
    """
    nx, ny, nz = label.shape
    for q in range(begin, end):
        length = np.sqrt(normal[q, 0] ** 2 + normal[q, 1] ** 2 + normal[q, 2] ** 2)
        scale = 1.0 / length if length > 0.0 else 0.0
        out[q] = unknown
        for n in range(steps.shape[0]):
            reach = steps[n] * scale
            i = int(np.rint(points[q, 0] + reach * normal[q, 0]))
            j = int(np.rint(points[q, 1] + reach * normal[q, 1]))
            k = int(np.rint(points[q, 2] + reach * normal[q, 2]))
            seen = label[min(max(i, 0), nx - 1), min(max(j, 0), ny - 1), min(max(k, 0), nz - 1)]
            if seen != unknown:
                out[q] = seen
                break
