"""Shaded images of a mesh, without GPU or screen: raster kernel, then light per pixel."""

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from bolvek.arrays import Bools, Floats, Floats32, Ints32
from bolvek.kernels import raster as kernels
from bolvek.mesh import Mesh
from bolvek.report.pictures import palette
from bolvek.report.pictures.view import CutPlane, View
from bolvek.spatial.parallel import run_ranges

Paint = Floats | Callable[[NDArray[np.integer], Floats], Floats]
"""A colour (F, 3) a face, or what gives colours (N, 3) for faces (N,) at points (N, 3) of them."""

_SUPER = 2  # samples a pixel along each axis
_CREASE_COSINE = 0.8


@dataclass(frozen=True)
class Image:
    """rgb (H, W, 3) float in 0..1 with alpha (H, W); mm_per_pixel; origin: mm (right, up) at lower left;
    towards (H, W): how near to the eye each pixel is in mm, -inf where nothing is."""

    rgb: Floats
    alpha: Floats
    mm_per_pixel: float
    origin: tuple[float, float]
    towards: Floats

    def place(self, flat: Floats) -> Floats:
        """Pixels (P, 2), x right and y up from the lower left, of projected points (P, 3)."""
        return np.asarray((flat[:, :2] - np.array(self.origin)) / self.mm_per_pixel)

    def sees(self, flat: Floats, slack_mm: float) -> Bools:
        """Which of the projected points (P, 3) are not hidden behind anything, within a slack."""
        x, y = np.floor(self.place(flat)).astype(int).T
        height, width = self.towards.shape
        inside = (x >= 0) & (x < width) & (y >= 0) & (y < height)
        row, column = np.clip(height - 1 - y, 0, height - 1), np.clip(x, 0, width - 1)
        return np.asarray(inside & (flat[:, 2] >= self.towards[row, column] - slack_mm))


def render(
    mesh: Mesh,
    view: View,
    width: int,
    height: int,
    *,
    cut: CutPlane | None = None,
    inner: Bools | None = None,
    paint: Paint | None = None,
    window: tuple[Floats, float] | None = None,
) -> Image:
    """A shaded picture that fills width x height pixels with a small margin.

    cut takes away what lies in front of a plane and paints the material it goes through; inner (F,)
    marks faces to be painted as inside; paint gives the colours; window is the point in
    the middle and the width in mm of what is shown, instead of all.
    """
    flat = view.project(mesh.vertices)
    if window is None:
        low, high = flat[:, :2].min(axis=0), flat[:, :2].max(axis=0)
    else:
        middle = view.project(window[0][None])[0, :2]
        half = 0.47 * window[1] * np.array([1.0, height / width])
        low, high = middle - half, middle + half
    extent = np.maximum(high - low, 1e-9)
    mm = float(max(extent[0] / (0.94 * width), extent[1] / (0.94 * height)))
    origin = 0.5 * (low + high) - 0.5 * mm * np.array([width, height])
    w, h = width * _SUPER, height * _SUPER
    screen = np.empty_like(flat)
    screen[:, 0] = (flat[:, 0] - origin[0]) / mm * _SUPER
    screen[:, 1] = h - (flat[:, 1] - origin[1]) / mm * _SUPER
    screen[:, 2] = -flat[:, 2]
    value = cut.value(mesh.vertices) if cut is not None else np.full(len(flat), -1.0)
    depth = np.full((h, w), np.inf)
    face = np.full((h, w), -1, np.int32)
    weight = np.zeros((h, w, 2), np.float32)
    run_ranges(lambda b, e: kernels.raster(screen, mesh.faces, value, b, e, depth, face, weight), h, grain=-(-h // 4))
    seen = face >= 0
    if cut is not None:
        _flatten_cut(mesh, view, cut, face, seen, depth, mm / _SUPER, origin)
    shade, colour = _surface(mesh, view, face, weight, seen, inner, cut, paint)
    light = _light(shade, view) * _occlusion(depth, seen, mm / _SUPER)[..., None]
    rgb = np.clip(colour * light, 0, 1)
    alpha = seen.astype(np.float64)
    block = (height, _SUPER, width, _SUPER)
    alpha = alpha.reshape(block).mean(axis=(1, 3))
    rgb = (rgb * seen[..., None]).reshape(*block, 3).mean(axis=(1, 3)) / np.maximum(alpha, 1e-9)[..., None]
    towards = -depth.reshape(block).min(axis=(1, 3))
    return Image(np.clip(rgb, 0, 1) ** (1 / 1.6), alpha, mm, (float(origin[0]), float(origin[1])), towards)


def _surface(
    mesh: Mesh,
    view: View,
    face: Ints32,
    weight: Floats32,
    seen: Bools,
    inner: Bools | None,
    cut: CutPlane | None,
    colours: Paint | None,
) -> tuple[Floats, Floats]:
    """Normal and colour (H, W, 3) a sample; cut material gets the plane's normal and hatching."""
    unit = mesh.unit_normals
    f = face[seen]
    w = weight[seen].astype(np.float64)
    bary = np.stack([1 - w.sum(axis=1), w[:, 0], w[:, 1]], axis=1)
    flat = unit[f]
    soft = np.zeros_like(flat)
    for k in range(3):
        corner = mesh.vertex_normals[mesh.faces[f, k]]
        crease = np.einsum("ij,ij->i", corner, flat) < _CREASE_COSINE
        soft += bary[:, k, None] * np.where(crease[:, None], flat, corner)
    soft /= np.maximum(np.linalg.norm(soft, axis=1), 1e-300)[:, None]
    back = flat @ view.eye < 0
    normal = np.zeros((*face.shape, 3))
    colour = np.zeros((*face.shape, 3))
    paint = np.tile(np.array(palette.OUTSIDE), (len(f), 1))
    if callable(colours):
        paint = colours(f, np.einsum("nk,nkj->nj", bary, mesh.vertices[mesh.faces[f]]))
    elif colours is not None:
        paint = colours[f]
    if inner is not None:
        paint[inner[f]] = palette.INSIDE
    if cut is not None:
        soft[back] = cut.normal
        rows, columns = np.nonzero(seen)
        stripe = ((rows + columns) // (5 * _SUPER)) % 2 == 0
        paint[back] = np.where(stripe[back, None], palette.CUT, palette.CUT_DARK)
    else:
        soft[back] = -soft[back]
    normal[seen] = soft
    colour[seen] = paint
    return normal, colour


def _flatten_cut(
    mesh: Mesh,
    view: View,
    cut: CutPlane,
    face: Ints32,
    seen: Bools,
    depth: Floats,
    mm: float,
    origin: Floats,
) -> None:
    """Where the first face behind the plane is seen from behind, the ray began in material: put the
    depth onto the plane."""
    inside = seen.copy()
    inside[seen] = mesh.area_vectors[face[seen]] @ view.eye < 0
    rows, columns = np.nonzero(inside)
    right = origin[0] + (columns + 0.5) * mm
    up = origin[1] + (depth.shape[0] - rows - 0.5) * mm
    # solve normal @ (right, up, towards) = offset for the part towards the eye
    n = np.array([cut.normal @ view.right, cut.normal @ view.up, cut.normal @ view.eye])
    depth[inside] = -(cut.offset - n[0] * right - n[1] * up) / n[2]


def _light(normal: Floats, view: View) -> Floats:
    """Key light from the upper left, sky from above, a faint rim: factor (H, W, 1..3).

    Seen from below, light and sky come from below: what looks down is what one came to see.
    """
    upward = 1.0 if view.eye[2] >= 0 else -1.0
    key = -0.55 * view.right + 0.65 * upward * view.up + 0.75 * view.eye
    key /= np.linalg.norm(key)
    fill = 0.8 * view.right + 0.1 * view.up + 0.5 * view.eye
    fill /= np.linalg.norm(fill)
    diffuse = np.clip(normal @ key, 0, 1)
    side = np.clip(normal @ fill, 0, 1)
    sky = 0.5 + 0.5 * upward * normal[..., 2]
    half = key + view.eye
    half /= np.linalg.norm(half)
    gloss = np.clip(normal @ half, 0, 1) ** 40
    tone = 0.16 + 0.62 * diffuse + 0.16 * side + 0.18 * sky
    return np.asarray(tone[..., None] * np.array([1.0, 0.985, 0.96]) + 0.16 * gloss[..., None])


def _occlusion(depth: Floats, seen: Bools, mm: float) -> Floats:
    """Darkening of creases from the depth around each sample (screen-space ambient occlusion)."""
    if not seen.any():
        return np.ones_like(depth)
    z = np.where(seen, depth, depth[seen].max() + 10.0).astype(np.float32)
    h, w = z.shape
    total = np.zeros_like(z)
    rings = 0
    for radius in (int(0.006 * w) + 1, int(0.018 * w) + 2):
        reach = radius * mm
        for k in range(8):
            angle = 2 * np.pi * (k + 0.5 * (radius % 2)) / 8
            dx, dy = int(round(radius * np.cos(angle))), int(round(radius * np.sin(angle)))
            other = np.roll(z, (dy, dx), axis=(0, 1))
            rise = (z - other) / reach
            total += np.clip(rise, 0, 1.2) * (rise < 4.0)
            rings += 1
    return np.asarray(1.0 - 0.75 * np.clip(total / rings, 0, 0.9), np.float64)
