"""Layers as files: pixels of a printer, exact outlines, a table."""

from collections.abc import Iterator

import numpy as np

from bolvek.analyses.layers import LayerRecord, LayerView, Outline
from bolvek.arrays import Floats
from bolvek.errors import WorkError
from bolvek.formats.png import bit_png
from bolvek.units import size_text


def layer_table(record: LayerRecord) -> bytes:
    """CSV: a row a layer, counted from 0."""
    t = record.table
    cups = t.cup_mm2 or [0.0] * record.count
    lines = ["layer,at_mm,area_mm2,islands,sealed_mm2,cup_mm2,disagree_mm2"]
    rows = zip(t.at_mm, t.area_mm2, t.islands, t.sealed_mm2, cups, t.disagree_mm2, strict=True)
    for k, (at, area, islands, sealed, cup, apart) in enumerate(rows):
        lines.append(f"{k},{at:g},{area:.4f},{islands},{sealed:.4f},{cup:.4f},{apart:.4f}")
    return ("\n".join(lines) + "\n").encode()


def layer_pngs(view: LayerView, pixel_mm: float, plate_mm: tuple[float, float] | None) -> Iterator[tuple[str, bytes]]:
    """A PNG a layer, by name: of the whole plate with the model in its middle, or of the model alone.

    Raises WorkError when the model is larger than the plate.
    """
    xy = view.stack.xy[view.stack.mesh.faces.ravel()]
    low, high = xy.min(axis=0), xy.max(axis=0)
    size = high - low
    if plate_mm is not None and (size > np.array(plate_mm) + 1e-9).any():
        raise WorkError(
            f"the model is {size_text(size)} across, the plate {size_text(plate_mm)}: scale or turn it first"
        )
    window = np.array(plate_mm) if plate_mm is not None else size
    shape = np.maximum(np.round(window / pixel_mm if plate_mm else np.ceil(window / pixel_mm - 1e-6)), 1).astype(int)
    origin = 0.5 * (low + high) - 0.5 * shape * pixel_mm
    # only what the model covers is drawn, from whole bytes on
    first = np.maximum(np.floor((low - origin) / pixel_mm).astype(int), 0) // [8, 1] * [8, 1]
    some = np.minimum(np.ceil((high - origin) / pixel_mm).astype(int) + 1, shape) - first
    rows, begin = slice(first[1], first[1] + some[1]), first[0] // 8
    plate = np.zeros((shape[1], -(-shape[0] // 8)), np.uint8)
    drawn = view.stack.pixels(pixel_mm, origin + first * pixel_mm, (int(some[1]), int(some[0])))
    for k, pixels in enumerate(drawn):
        bits = np.packbits(pixels, axis=1)
        plate[rows, begin : begin + bits.shape[1]] = bits
        yield f"layer_{k:05d}.png", bit_png(plate, int(shape[0]), pixel_mm)


def layer_svgs(view: LayerView, layers: list[int] | None = None) -> Iterator[tuple[str, bytes]]:
    """An SVG a layer, by name, with its exact outlines in mm, y upward as in the model."""
    xy = view.stack.xy
    low, high = xy.min(axis=0), xy.max(axis=0)
    for k in layers if layers is not None else range(view.stack.count):
        yield f"layer_{k:05d}.svg", outline_svg(view.stack.outlines(k), low, high)


def outline_svg(outlines: list[Outline], low: Floats, high: Floats) -> bytes:
    """Outlines as one path filled by winding number; lines that do not close are drawn open, in red."""

    def path(points: Floats, close: str) -> str:
        turned = points * [1.0, -1.0]
        return "M" + "L".join(f"{x:.6g} {y:.6g}" for x, y in turned.tolist()) + close

    width, depth = (high - low).tolist()
    closed = "".join(path(o.points, "Z") for o in outlines if o.closed)
    body = f'<path fill="#2a2622" fill-rule="nonzero" d="{closed}"/>' if closed else ""
    loose = "".join(path(o.points, "") for o in outlines if not o.closed)
    if loose:
        body += f'<path fill="none" stroke="#b3261e" stroke-width="0.1" d="{loose}"/>'
    box = f"{low[0]:.6g} {-high[1]:.6g} {width:.6g} {depth:.6g}"
    head = f'<svg xmlns="http://www.w3.org/2000/svg" width="{width:.6g}mm" height="{depth:.6g}mm" viewBox="{box}">'
    return f"{head}{body}</svg>\n".encode()
