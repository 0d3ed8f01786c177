"""Calming a surface: normals averaged with those of neighbours that look the same way, vertices moved after them."""

import numpy as np

from bolvek.kernels import kernel


@kernel("f8[:,:] f8[:] i4[:] f8 i8 i8 f8[:,:]!")
def filter_normals(normal, area, opposite, sigma, begin, end, out):
    """Unit normals out (F, 3) of faces begin..end: each the mean of its own and those across its edges, by area and by
    how alike they are (a Gaussian of their difference)."""
    for f in range(begin, end):
        x, y, z = normal[f, 0] * area[f], normal[f, 1] * area[f], normal[f, 2] * area[f]
        for k in range(3):
            o = opposite[3 * f + k]
            if o < 0:
                continue
            g = o // 3
            dx, dy, dz = normal[g, 0] - normal[f, 0], normal[g, 1] - normal[f, 1], normal[g, 2] - normal[f, 2]
            apart = (dx * dx + dy * dy + dz * dz) / (sigma * sigma)
            if apart > 9.0:  # a sharp edge has no say at all: what is flat beside it stays bit for bit
                continue
            w = area[g] * np.exp(-0.5 * apart)
            x += w * normal[g, 0]
            y += w * normal[g, 1]
            z += w * normal[g, 2]
        length = np.sqrt(x * x + y * y + z * z)
        if length > 0.0:
            out[f, 0], out[f, 1], out[f, 2] = x / length, y / length, z / length
        else:
            out[f, 0], out[f, 1], out[f, 2] = normal[f, 0], normal[f, 1], normal[f, 2]


@kernel("f8[:,:] i4[:,:] f8[:,:] i8[:] i4[:] b1[:] f8[:,:] f8 i8 i8 f8[:,:]!")
def follow_normals(vertices, faces, normal, start, around, free, origin, most, begin, end, out):
    """Places out (V, 3) of vertices begin..end: free ones moved by the mean of the ways that bring them onto the planes
    through the middles of their faces, square to the normals (F, 3), and no farther than `most` from their origin.

    start (V + 1,), around: the faces of each vertex.
    """
    for v in range(begin, end):
        px, py, pz = vertices[v, 0], vertices[v, 1], vertices[v, 2]
        out[v, 0], out[v, 1], out[v, 2] = px, py, pz
        count = start[v + 1] - start[v]
        if not free[v] or count == 0:
            continue
        mx, my, mz = 0.0, 0.0, 0.0
        for i in range(start[v], start[v + 1]):
            f = around[i]
            a, b, c = faces[f, 0], faces[f, 1], faces[f, 2]
            off = 0.0
            for k in range(3):
                middle = (vertices[a, k] + vertices[b, k] + vertices[c, k]) / 3.0
                off += normal[f, k] * (middle - vertices[v, k])
            mx += off * normal[f, 0]
            my += off * normal[f, 1]
            mz += off * normal[f, 2]
        dx, dy, dz = px + mx / count - origin[v, 0], py + my / count - origin[v, 1], pz + mz / count - origin[v, 2]
        far = np.sqrt(dx * dx + dy * dy + dz * dz)
        share = most / far if far > most else 1.0
        out[v, 0] = origin[v, 0] + share * dx
        out[v, 1] = origin[v, 1] + share * dy
        out[v, 2] = origin[v, 2] + share * dz
