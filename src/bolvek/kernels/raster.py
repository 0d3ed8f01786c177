"""Software rasteriser: depth, face and barycentric place of what each sample sees, and the light of each pixel."""

import numpy as np

from bolvek.kernels import kernel

SUPER = 2
"""Samples a pixel along each axis."""
_CREASE_COSINE = 0.8  # a corner whose normal is farther off its face's keeps the face's
_STRIPE = 10  # samples, of the hatching of what is cut through


@kernel("f8[:,:] i4[:,:] f8[:] f8[:] i8 i8 f8[:,:]! i4[:,:]! f4[:,:,:]!")
def raster(screen, faces, cut, plane, row_begin, row_end, depth, face, weight):
    """Rasterise rows row_begin..row_end of an orthographic view.

    screen (V, 3): pixel column, pixel row, depth (smaller is nearer). cut (V,): positive where
    material is taken away; plane (3,) the cut's depth at column and row 0 and what a column and a row add, empty
    without one: where the first face behind it is seen from behind, the sight begins in material, and the depth is
    the cut's. Fills depth (H, W) float64 (inf: nothing), face (H, W) int32 (-1) and
    weight (H, W, 2) float32, the weights of corners 1 and 2. Ties go to the lower face number.
    """
    width = depth.shape[1]
    for f in range(faces.shape[0]):
        a, b, c = faces[f, 0], faces[f, 1], faces[f, 2]
        if cut[a] > 0.0 and cut[b] > 0.0 and cut[c] > 0.0:
            continue
        ax, ay = screen[a, 0], screen[a, 1]
        bx, by = screen[b, 0], screen[b, 1]
        cx, cy = screen[c, 0], screen[c, 1]
        y0 = max(int(np.ceil(min(ay, by, cy) - 0.5)), row_begin)
        y1 = min(int(np.floor(max(ay, by, cy) - 0.5)), row_end - 1)
        if y0 > y1:
            continue
        area = (bx - ax) * (cy - ay) - (by - ay) * (cx - ax)
        if area == 0.0:
            continue
        x0 = max(int(np.ceil(min(ax, bx, cx) - 0.5)), 0)
        x1 = min(int(np.floor(max(ax, bx, cx) - 0.5)), width - 1)
        for y in range(y0, y1 + 1):
            py = y + 0.5
            for x in range(x0, x1 + 1):
                px = x + 0.5
                wb = ((px - ax) * (cy - ay) - (py - ay) * (cx - ax)) / area
                wc = ((bx - ax) * (py - ay) - (by - ay) * (px - ax)) / area
                wa = 1.0 - wb - wc
                if wa < 0.0 or wb < 0.0 or wc < 0.0:
                    continue
                if wa * cut[a] + wb * cut[b] + wc * cut[c] > 0.0:
                    continue
                z = wa * screen[a, 2] + wb * screen[b, 2] + wc * screen[c, 2]
                if z < depth[y, x]:
                    depth[y, x] = z
                    face[y, x] = f
                    weight[y, x, 0] = wb
                    weight[y, x, 1] = wc
    if len(plane) == 0:
        return
    for y in range(row_begin, row_end):
        for x in range(width):
            f = face[y, x]
            if f < 0:
                continue
            a, b, c = faces[f, 0], faces[f, 1], faces[f, 2]
            ax, ay = screen[a, 0], screen[a, 1]
            area = (screen[b, 0] - ax) * (screen[c, 1] - ay) - (screen[b, 1] - ay) * (screen[c, 0] - ax)
            if area > 0.0:  # rows count downward
                depth[y, x] = plane[0] + plane[1] * (x + 0.5) + plane[2] * (y + 0.5)


@kernel(
    "i4[:,:] f4[:,:,:] f8[:,:] i4[:,:] f8[:,:] f8[:,:] f8[:,:] b1 b1[:] f8[:,:] f8[:,:] b1 f8[:,:] i8 i8 "
    "f8[:,:,:]! f8[:,:]! f8[:,:]!"
)
def shade(
    face,
    weight,
    depth,
    faces,
    unit,
    corner,
    colours,
    each_pixel,
    inside,
    tints,
    lights,
    is_cut,
    around,
    row_begin,
    row_end,
    rgb,
    alpha,
    towards,
):
    """Light rows row_begin..row_end of the picture that `raster` has filled the samples of.

    unit (F, 3), corner (V, 3): unit normals of faces and vertices. colours (F, 3), or (H W, 3) where each_pixel;
    inside (F,) faces painted as inside, may be empty; tints (3, 3): inside, and the two of what is cut through.
    lights (5, 3): key, fill, halfway to the eye, the eye, the cut's normal. around (N, 3): columns, rows and mm off,
    where the depth tells how deep in a crease a place lies (screen-space ambient occlusion). Fills rgb (H, W, 3),
    alpha (H, W), towards (H, W), how near to the eye in mm.
    """
    height, width = depth.shape
    upward = 1.0 if lights[3, 2] >= 0.0 else -1.0
    for y in range(row_begin, row_end):
        for x in range(rgb.shape[1]):
            red = green = blue = 0.0
            count = 0
            crease = 1.0
            for s in range(SUPER * SUPER):
                row, column = SUPER * y + s // SUPER, SUPER * x + s % SUPER
                f = face[row, column]
                if f < 0:
                    continue
                z = depth[row, column]
                if count == 0:  # once a pixel
                    total = 0.0
                    for k in range(len(around)):
                        other_row, other_column = row + int(around[k, 1]), column + int(around[k, 0])
                        if 0 <= other_row < height and 0 <= other_column < width:
                            rise = (z - depth[other_row, other_column]) / around[k, 2]
                            if 0.0 < rise < 4.0:
                                total += min(rise, 1.2)
                    crease = 1.0 - 0.75 * min(total / len(around), 0.9)
                count += 1
                towards[y, x] = max(towards[y, x], -z)
                nx = ny = nz = 0.0
                fx, fy, fz = unit[f, 0], unit[f, 1], unit[f, 2]
                for k in range(3):
                    share = (
                        weight[row, column, k - 1] if k > 0 else 1.0 - weight[row, column, 0] - weight[row, column, 1]
                    )
                    v = faces[f, k]
                    cx, cy, cz = corner[v, 0], corner[v, 1], corner[v, 2]
                    if cx * fx + cy * fy + cz * fz < _CREASE_COSINE:
                        cx, cy, cz = fx, fy, fz
                    nx += share * cx
                    ny += share * cy
                    nz += share * cz
                size = max(np.sqrt(nx * nx + ny * ny + nz * nz), 1e-300)
                nx, ny, nz = nx / size, ny / size, nz / size
                paint = y * rgb.shape[1] + x if each_pixel else f
                r, g, b = colours[paint, 0], colours[paint, 1], colours[paint, 2]
                if len(inside) > 0 and inside[f]:
                    r, g, b = tints[0, 0], tints[0, 1], tints[0, 2]
                if fx * lights[3, 0] + fy * lights[3, 1] + fz * lights[3, 2] < 0.0:  # seen from behind
                    if is_cut:
                        nx, ny, nz = lights[4, 0], lights[4, 1], lights[4, 2]
                        k = 1 + ((row + column) // _STRIPE) % 2
                        r, g, b = tints[k, 0], tints[k, 1], tints[k, 2]
                    else:
                        nx, ny, nz = -nx, -ny, -nz
                key = max(nx * lights[0, 0] + ny * lights[0, 1] + nz * lights[0, 2], 0.0)
                fill = max(nx * lights[1, 0] + ny * lights[1, 1] + nz * lights[1, 2], 0.0)
                gloss = 0.16 * max(nx * lights[2, 0] + ny * lights[2, 1] + nz * lights[2, 2], 0.0) ** 40
                tone = 0.16 + 0.62 * key + 0.16 * fill + 0.18 * (0.5 + 0.5 * upward * nz)
                red += min(max(r * (tone + gloss) * crease, 0.0), 1.0)
                green += min(max(g * (0.985 * tone + gloss) * crease, 0.0), 1.0)
                blue += min(max(b * (0.96 * tone + gloss) * crease, 0.0), 1.0)
            if count > 0:
                rgb[y, x, 0] = (red / count) ** (1.0 / 1.6)
                rgb[y, x, 1] = (green / count) ** (1.0 / 1.6)
                rgb[y, x, 2] = (blue / count) ** (1.0 / 1.6)
                alpha[y, x] = count / (SUPER * SUPER)
