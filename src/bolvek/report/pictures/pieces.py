"""Pieces pulled apart, numbered, from above and from below."""

from collections.abc import Sequence

import numpy as np

from bolvek.arrays import Floats
from bolvek.mesh import Mesh
from bolvek.operations.cut import FITTING, SURFACE, Piece, Plane
from bolvek.report.pictures import palette
from bolvek.report.pictures.callouts import spaced
from bolvek.report.pictures.plain import add_scale_bar, legend_row
from bolvek.report.pictures.raster import render
from bolvek.report.pictures.sheet import HEIGHT, WIDTH, Caption, Sheet
from bolvek.report.pictures.view import View
from bolvek.units import size_text

_APART = 0.12
"""Of the longest side: so far each plane pulls what is above it from what is below it."""
_TOP, _BOTTOM, _MARGIN = 84, 46, 24
_TINTS = ("#dcb88c", "#b9c6a4", "#c9a7a0", "#a9bfc8", "#d9cf9a", "#bcb0c8")
_FITTING = "#2c6e8f"
_CAP = "#cf5a3c"
_LEGEND = (("model", _TINTS[0]), ("cut", _CAP), ("peg, socket, lip", _FITTING))
_MOST_LABELS, _LONGEST = 24, 24


def pieces_picture(pieces: Sequence[Piece], planes: Sequence[Plane], caption: Caption) -> bytes:
    """PNG of all pieces of a model, moved apart square to the cuts."""
    meshes, colours, middles = [], [], []
    whole = np.array([piece.mesh.bounds for piece in pieces])
    step = _APART * float((whole[:, 1].max(axis=0) - whole[:, 0].min(axis=0)).max())
    for k, piece in enumerate(pieces):
        shift = sum(
            (step * np.array(p.normal) for p, side in zip(planes, piece.sides, strict=True) if side > 0), np.zeros(3)
        )
        mesh = piece.mesh.moved(piece.mesh.vertices + shift)
        meshes.append(mesh)
        middles.append(_seen_middle(mesh))
        tint = np.array(palette.linear(_TINTS[k % len(_TINTS)]))
        paint = np.tile(tint, (len(mesh.faces), 1))
        paint[piece.label > SURFACE] = palette.linear(_CAP)
        paint[piece.label == FITTING] = palette.linear(_FITTING)
        colours.append(paint)
    labels = [f"{k}: {size_text(piece.mesh.size)}" for k, piece in enumerate(pieces, 1)]
    return _sheet(meshes, np.concatenate(colours), middles, labels, caption, "pulled apart, from above", _LEGEND)


def parts_picture(parts: Sequence[Mesh], names: Sequence[str], caption: Caption) -> bytes:
    """PNG of the parts of a model where they are, each in a colour of its own."""
    colours = [
        np.tile(np.array(palette.linear(_TINTS[k % len(_TINTS)])), (len(part.faces), 1)) for k, part in enumerate(parts)
    ]
    middles = [_seen_middle(part) for part in parts]
    labels = [
        f"{k}: {_short(name) or size_text(part.size)}"
        for k, (part, name) in enumerate(zip(parts, names, strict=True), 1)
    ]
    return _sheet(list(parts), np.concatenate(colours), middles, labels, caption, "from above", ())


def _short(name: str) -> str:
    return name if len(name) <= _LONGEST else name[: _LONGEST - 2] + ".."


def _sheet(
    meshes: list[Mesh],
    paint: Floats,
    middles: list[Floats],
    labels: list[str],
    caption: Caption,
    name: str,
    legend: Sequence[tuple[str, str]],
) -> bytes:
    joined = meshes[0].joined(*meshes[1:])
    sheet = Sheet.new(caption)
    for side, elevation in enumerate((18.0, -24.0)):
        title = "from below" if side else name
        _panel(sheet, side, joined, paint, np.array(middles), labels, elevation, title, legend)
    return sheet.png()


def _seen_middle(mesh: Mesh) -> Floats:
    """The middle of the faces that look to the front: a place on the piece where a box's middle may lie beside it."""
    facing = np.maximum(mesh.area_vectors @ View.three_quarter().eye, 0.0)
    middle = (mesh.middles * facing[:, None]).sum(axis=0) / max(float(facing.sum()), 1e-12)
    _, face = mesh.tree.nearest(middle[None])
    return mesh.tree.closest_points(middle[None], face)[0]


def _panel(
    sheet: Sheet,
    side: int,
    mesh: Mesh,
    paint: Floats,
    middles: Floats,
    labels: list[str],
    elevation: float,
    name: str,
    legend: Sequence[tuple[str, str]],
) -> None:
    """A view with a label a piece; the sizes stand at the left view only."""
    view = View.three_quarter(elevation_deg=elevation)
    room = 186 if side == 0 else 40
    width, height = WIDTH // 2 - 2 * _MARGIN - room, HEIGHT - _TOP - _BOTTOM - 24
    image = render(mesh, view, width, height, paint=paint)
    left = _MARGIN + side * (WIDTH // 2) + (room if side == 0 else 0)
    panel = sheet.image(image, left, _BOTTOM)
    add_scale_bar(panel, image)
    panel.text(0 if side else -room, height + 8, name, 11, style="italic")
    at = image.place(view.project(middles))
    shown = min(len(labels), _MOST_LABELS)
    heights = spaced([float(y) for y in at[:shown, 1]], 10, height - 16, 22)
    x = 0.0 if side == 0 else width + 10.0
    for k, y in zip(range(shown), heights, strict=True):
        panel.lines([[at[k], (x, y)]], palette.INK, 0.7)
        panel.disc(at[k], 5, palette.INK, palette.PAPER, 0.8)
    for k, y in zip(range(shown), heights, strict=True):
        text = labels[k] if side == 0 else labels[k].partition(":")[0]
        panel.boxed(x, y, text, 9.5, across="right" if side == 0 else "left")
    if side:
        legend_row(panel, width - 330, -14, legend)
