"""Software rasteriser: depth, face and barycentric place of what each pixel sees."""

import numpy as np

from bolvek.kernels import kernel


@kernel("f8[:,:] i4[:,:] f8[:] i8 i8 f8[:,:]! i4[:,:]! f4[:,:,:]!")
def raster(screen, faces, cut, row_begin, row_end, depth, face, weight):
    """Rasterise rows row_begin..row_end of an orthographic view.

    screen (V, 3): pixel column, pixel row, depth (smaller is nearer). cut (V,): positive where
    material is taken away. Fills depth (H, W) float64 (inf: nothing), face (H, W) int32 (-1) and
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
