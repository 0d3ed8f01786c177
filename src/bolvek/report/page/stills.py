"""Still pictures for where nothing can be turned: without scripts, without WebGL, in lists."""

import numpy as np

from bolvek.arrays import Floats, Ints
from bolvek.formats.png import colour_png
from bolvek.mesh import Mesh
from bolvek.report.page.scene import Scene
from bolvek.report.pictures import palette
from bolvek.report.pictures.raster import render
from bolvek.report.pictures.view import View, cut_through

WIDTH, HEIGHT = 560, 380


def still_png(drawn: Mesh, scene: Scene, origin: Ints | None, *, cut_open: bool = False) -> bytes:
    """PNG of a model on paper, whole or cut open. origin: the face of the scene's mesh for each face that is drawn."""
    row = slice(None) if origin is None else origin
    inner = None if scene.inner is None else np.asarray(scene.inner, bool)[row]
    if cut_open:
        holes = [p.where_mm for p in scene.places if p.severity == "mark"]
        cut = cut_through(drawn.bounds, holes)
        image = render(drawn, cut.view(), WIDTH, HEIGHT, cut=cut, inner=inner)
    else:
        image = render(drawn, View.three_quarter(), WIDTH, HEIGHT, inner=inner, paint=_paint(scene, row))
    paper = np.array([int(palette.PAPER[k : k + 2], 16) / 255 for k in (1, 3, 5)])
    rgb = image.rgb * image.alpha[..., None] + paper * (1 - image.alpha[..., None])
    return colour_png(np.rint(255 * np.clip(rgb, 0, 1)).astype(np.uint8))


def _paint(scene: Scene, row: Ints | slice) -> Floats | None:
    """A colour a face, by what was measured first; None where nothing was."""
    if scene.fields:
        f = scene.fields[0]
        share = f.values[row] / f.limit if f.worse == "low" else f.limit / np.maximum(f.values[row], 1e-9 * f.limit)
        return palette.wall_colours(share)
    if scene.kinds:
        k = scene.kinds[0]
        colours = np.array([palette.PLAIN, *(palette.linear(colour) for _, colour in k.kinds)])
        return np.asarray(colours[np.asarray(k.kind)[row] + 1])
    return None
