"""Shaded images of a mesh, without GPU or screen: what every sample sees, then its light, by kernels."""

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

_SUPER = kernels.SUPER


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
    plane = np.zeros(0) if cut is None else _plane_on_screen(view, cut, mm / _SUPER, origin, h)
    depth = np.full((h, w), np.inf)
    face = np.full((h, w), -1, np.int32)
    weight = np.zeros((h, w, 2), np.float32)
    grain = _SUPER * -(-height // 8)
    run_ranges(lambda b, e: kernels.raster(screen, mesh.faces, value, plane, b, e, depth, face, weight), h, grain=grain)
    colours, each_pixel = _colours(mesh, face, weight, paint)
    inside = np.zeros(0, bool) if inner is None else np.ascontiguousarray(inner, bool)
    light = _lights(view, cut)
    tints = np.array([palette.INSIDE, palette.CUT, palette.CUT_DARK])
    around = _around(w, mm / _SUPER)
    rgb, alpha, towards = np.zeros((height, width, 3)), np.zeros((height, width)), np.full((height, width), -np.inf)
    seen = face, weight, depth, mesh.faces, mesh.unit_normals, mesh.vertex_normals
    run_ranges(
        lambda b, e: kernels.shade(
            *seen, colours, each_pixel, inside, tints, light, cut is not None, around, b, e, rgb, alpha, towards
        ),
        height,
        grain=-(-height // 8),
    )
    return Image(rgb, alpha, mm, (float(origin[0]), float(origin[1])), towards)


def _colours(mesh: Mesh, face: Ints32, weight: Floats32, paint: Paint | None) -> tuple[Floats, bool]:
    """Colours (N, 3) a face, or a pixel of the picture, and whether the latter: what is measured at places is asked
    once a pixel, at the first of its samples that sees anything."""
    if paint is None:
        return np.tile(np.array(palette.OUTSIDE), (len(mesh.faces), 1)), False
    if not callable(paint):
        return np.ascontiguousarray(paint, np.float64), False
    height, width = (n // _SUPER for n in face.shape)
    samples = face.reshape(height, _SUPER, width, _SUPER).transpose(0, 2, 1, 3).reshape(height * width, -1)
    first = np.argmax(samples >= 0, axis=1)
    pixel = np.flatnonzero((samples >= 0).any(axis=1))
    row, column = np.divmod(pixel, width)
    row, column = _SUPER * row + first[pixel] // _SUPER, _SUPER * column + first[pixel] % _SUPER
    f, w = face[row, column], weight[row, column].astype(np.float64)
    shares = np.stack([1 - w.sum(axis=1), w[:, 0], w[:, 1]], axis=1)
    colours = np.zeros((height * width, 3))
    colours[pixel] = paint(f, np.einsum("nk,nkj->nj", shares, mesh.vertices[mesh.faces[f]]))
    return colours, True


def _plane_on_screen(view: View, cut: CutPlane, mm: float, origin: Floats, height: int) -> Floats:
    """A cut's depth on the screen: (3,), where column and row are 0, and what a column and a row add."""
    # normal @ (right, up, towards) = offset, solved for the part towards the eye; depth runs the other way
    n = np.array([cut.normal @ view.right, cut.normal @ view.up, cut.normal @ view.eye])
    at_zero = cut.offset - n[0] * origin[0] - n[1] * (origin[1] + height * mm)
    return np.array([-at_zero, n[0] * mm, -n[1] * mm]) / n[2]


def _lights(view: View, cut: CutPlane | None) -> Floats:
    """Directions (5, 3): key light from the upper left, fill from the right, halfway between key and eye, the eye,
    and the normal of the cut.

    Seen from below, light and sky come from below: what looks down is what one came to see.
    """
    upward = 1.0 if view.eye[2] >= 0 else -1.0
    key = -0.55 * view.right + 0.65 * upward * view.up + 0.75 * view.eye
    key /= np.linalg.norm(key)
    fill = 0.8 * view.right + 0.1 * view.up + 0.5 * view.eye
    fill /= np.linalg.norm(fill)
    half = key + view.eye
    half /= np.linalg.norm(half)
    return np.array([key, fill, half, view.eye, np.zeros(3) if cut is None else cut.normal])


def _around(width: int, mm: float) -> Floats:
    """Where creases are looked for around a sample: (N, 3) columns and rows off, and the reach in mm."""
    offsets = []
    for radius in (int(0.006 * width) + 1, int(0.018 * width) + 2):
        for k in range(8):
            angle = 2 * np.pi * (k + 0.5 * (radius % 2)) / 8
            offsets.append((round(radius * np.cos(angle)), round(radius * np.sin(angle)), radius * mm))
    return np.array(offsets, np.float64)
