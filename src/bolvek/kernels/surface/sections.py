"""Level sections of a mesh: where its faces cross planes, and what the lines enclose.

A corner just on a plane counts as below it. Where an edge meets a plane is computed from the edge alone, its lower
end first, so that both its faces give the same point. Each face that crosses gives one line from the edge that goes
down to the one that goes up, with material on its left.

xy (V, 2), height (V,) float64. Layer k of a stack is cut at floor + (k + 0.5) * layer.
"""

import numpy as np

from bolvek.kernels import helper, kernel


@helper
def _meet(xy, height, a, b, z):
    if height[a] > z:
        a, b = b, a
    t = (z - height[a]) / (height[b] - height[a])
    return xy[a, 0] + t * (xy[b, 0] - xy[a, 0]), xy[a, 1] + t * (xy[b, 1] - xy[a, 1])


@helper
def _line(xy, height, a, b, c, z):
    """The line of a face that crosses z: its ends, and which of the edges a b, b c, c a each lies on."""
    below_a, below_b, below_c = height[a] <= z, height[b] <= z, height[c] <= z
    side = 0
    if below_a == below_b:
        a, b, c = c, a, b
        side = 2
        below_a = below_c
    elif below_b != below_c:
        a, b, c = b, c, a
        side = 1
        below_a = below_b
    # a alone lies on one side; its edges are side and side - 1
    other = (side + 2) % 3
    x0, y0 = _meet(xy, height, a, b, z)
    x1, y1 = _meet(xy, height, c, a, z)
    if below_a:  # a b goes up, c a goes down
        return x1, y1, x0, y0, other, side
    return x0, y0, x1, y1, side, other


@helper
def _span(height, a, b, c, floor, layer, layers):
    """The layers whose planes a face crosses."""
    low = min(height[a], height[b], height[c])
    high = max(height[a], height[b], height[c])
    first = np.int64(min(max(np.floor((low - floor) / layer - 0.5) - 1.0, 0.0), np.float64(layers)))
    last = np.int64(min(max(np.floor((high - floor) / layer - 0.5) + 2.0, 0.0), np.float64(layers)))
    while first < last and floor + (first + 0.5) * layer < low:
        first += 1
    while last > first and floor + (last - 0.5) * layer >= high:
        last -= 1
    return first, last


@kernel("f8[:,:] f8[:] i4[:,:] f8 f8 i8 i8 f8[:]!")
def layer_areas(xy, height, faces, floor, layer, begin, end, area):
    """Add to area (L,) what the lines of faces begin..end enclose on each layer, by winding number."""
    for f in range(begin, end):
        a, b, c = faces[f, 0], faces[f, 1], faces[f, 2]
        first, last = _span(height, a, b, c, floor, layer, area.shape[0])
        for k in range(first, last):
            x0, y0, x1, y1, down, up = _line(xy, height, a, b, c, floor + (k + 0.5) * layer)
            area[k] += 0.5 * (x0 * y1 - x1 * y0)


@kernel("f8[:] i4[:,:] f8 f8 i8 i8 i8 i8[:]!")
def count_layers(height, faces, floor, layer, layers, begin, end, count):
    """How many layers each of the faces begin..end crosses."""
    for f in range(begin, end):
        first, last = _span(height, faces[f, 0], faces[f, 1], faces[f, 2], floor, layer, layers)
        count[f] = last - first


@kernel("f8[:] i4[:,:] f8 f8 i8[:]! i4[:]!")
def faces_of_layers(height, faces, floor, layer, place, found):
    """The faces of each layer; place (L,) comes with the beginning of each, and is moved on."""
    for f in range(faces.shape[0]):
        first, last = _span(height, faces[f, 0], faces[f, 1], faces[f, 2], floor, layer, place.shape[0])
        for k in range(first, last):
            found[place[k]] = f
            place[k] += 1


@kernel("f8[:,:] f8[:] i4[:,:] i4[:] i4[:] f8 i4[:]! f8[:,:]! i4[:]! i8[:]!")
def section_lines(xy, height, faces, opposite, some, z, row_of, line, order, loop):
    """The lines of faces `some` (M,), which cross z, walked through one after the other.

    opposite (3 F,) the half-edge across each, -1 for none; row_of (F,) comes as -1 and is left so. line (M, 4): both
    ends of each line; order (M,): rows of lines, loop by loop; loop (M + 1,): where each begins in it, negative (-1 -
    place) for one that does not close. Returns the number of loops.
    """
    m = some.shape[0]
    following = np.empty(m, np.int32)
    led = np.zeros(m, np.bool_)
    for r in range(m):
        row_of[some[r]] = r
    for r in range(m):
        f = some[r]
        x0, y0, x1, y1, down, up = _line(xy, height, faces[f, 0], faces[f, 1], faces[f, 2], z)
        line[r, 0], line[r, 1], line[r, 2], line[r, 3] = x0, y0, x1, y1
        over = opposite[3 * np.int64(f) + up]
        following[r] = row_of[over // 3] if over >= 0 else -1
        if following[r] >= 0:
            led[following[r]] = True
    for r in range(m):
        row_of[some[r]] = -1
    seen = np.zeros(m, np.bool_)
    n = 0
    loops = 0
    for turn in range(2):
        for r in range(m):
            if seen[r] or (turn == 0 and led[r]):
                continue
            loop[loops] = n if turn == 1 else -1 - n
            loops += 1
            k = r
            while k >= 0 and not seen[k]:
                seen[k] = True
                order[n] = k
                n += 1
                k = following[k]
    return loops


@kernel("f8[:,:] i2[:,:]! b1[:,:]!")
def fill_lines(line, step, inside):
    """Pixels inside (Y, X) whose middles lines (M, 4), in pixels, wind around; step (Y, X) comes as zeros and is
    left so."""
    ny, nx = inside.shape
    low, high = ny, 0
    for r in range(line.shape[0]):
        x0, y0, x1, y1 = line[r, 0], line[r, 1], line[r, 2], line[r, 3]
        way = -1
        if y0 > y1:
            x0, y0, x1, y1 = x1, y1, x0, y0
            way = 1
        first = np.int64(min(max(np.ceil(y0 - 0.5), 0.0), np.float64(ny)))
        last = np.int64(min(max(np.ceil(y1 - 0.5), 0.0), np.float64(ny)))
        if first < last:
            low, high = min(low, first), max(high, last)
        for j in range(first, last):
            x = x0 + (j + 0.5 - y0) / (y1 - y0) * (x1 - x0)
            k = np.int64(min(max(np.ceil(x - 0.5), 0.0), np.float64(nx)))
            if k < nx:
                step[j, k] += way
    for j in range(low, high):
        winding = 0
        for k in range(nx):
            winding += step[j, k]
            step[j, k] = 0
            inside[j, k] = winding > 0
