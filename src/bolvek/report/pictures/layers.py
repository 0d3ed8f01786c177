"""Layers drawn: the area over the height with what happens there, and sections with material, voids, what stays."""

import numpy as np
from scipy import ndimage

from bolvek.analyses.columns import Columns
from bolvek.analyses.columns.still import ends_of
from bolvek.analyses.layers import LayerRecord, LayerView, first_layer
from bolvek.arrays import Bools, Floats
from bolvek.report.classes import class_of
from bolvek.report.pictures import palette
from bolvek.report.pictures.plain import legend_row
from bolvek.report.pictures.plot import Plot
from bolvek.report.pictures.sheet import HEIGHT, WIDTH, Caption, Sheet, words_wide
from bolvek.units import count_text, length_text

MATERIAL, VOID, STAYS, ISLAND = "#b89a76", "#dfe8ee", "#1f78b4", class_of("island").colour
_STRIP = 4
_LEGEND = (("material", MATERIAL), ("void", VOID), ("liquid stays", STAYS), ("island", ISLAND))


def layers_picture(record: LayerRecord, view: LayerView, caption: Caption) -> bytes:
    """PNG of the area over the height, and of the layers that tell most."""
    sheet = Sheet.new(caption)
    _area_plot(sheet, record)
    chosen = telling_layers(record)
    _sections(sheet, record, view, chosen, (24, 54, WIDTH - 48, 356))
    _legend(sheet)
    return sheet.png()


def section_sheet(record: LayerRecord, view: LayerView, layers: list[int], caption: Caption) -> bytes:
    """PNG of chosen layers, large."""
    sheet = Sheet.new(caption)
    _sections(sheet, record, view, [(k, "") for k in layers], (24, 64, WIDTH - 48, HEIGHT - 64 - 100))
    _legend(sheet)
    return sheet.png()


def telling_layers(record: LayerRecord) -> list[tuple[int, str]]:
    """Up to four layers that tell most, lowest first, and why each is shown."""

    def at(mm: float) -> int:
        return int(np.clip(mm / record.layer_mm, 0, record.count - 1))

    found: list[tuple[int, str]] = []
    for membrane in record.membranes[:1]:
        found.append(
            (
                at(membrane.layers[0] * record.layer_mm + 0.5 * membrane.least_mm),
                f"membrane, {length_text(membrane.least_mm)}",
            )
        )
    for cup in record.cups[:1]:
        found.append(
            (
                at(min(max(cup.widest_at_mm, cup.from_mm + record.layer_mm), cup.to_mm - record.layer_mm)),
                f"cup, {cup.area_mm2 / 100:.2f} cm2",
            )
        )
    for island in record.island_list[:1]:
        first = min(first_layer(island.height_mm, record.layer_mm), record.count - 1)
        found.append((first, "an island begins"))
    found.append((record.area_max_layer, "the widest"))
    if record.jumps:
        jump = max(record.jumps, key=lambda j: abs(j.after_mm2 - j.before_mm2))
        found.append((jump.layer, "jump in area"))
    for k in (2, 1, 3, 4, 5):
        found.append((at(record.height_mm * k / 6), ""))
    kept: list[tuple[int, str]] = []
    for layer, why in found:
        if len(kept) < _STRIP and all(abs(layer - k) > 0.02 * record.count or (why and w) for k, w in kept):
            if all(layer != k for k, _ in kept):
                kept.append((layer, why))
    return sorted(kept)


def _area_plot(sheet: Sheet, r: LayerRecord) -> None:
    at, area = np.array(r.table.at_mm), np.array(r.table.area_mm2) / 100
    top = max(float(area.max(initial=0.0)), 1e-9)
    part = sheet.at(80, 474)
    plot = Plot(part, WIDTH - 110, 200, (0.0, max(r.height_mm, 1e-9)), (0.0, 1.28 * top))
    if len(at):
        plot.filled(at, area, MATERIAL, 0.55)
    for cup in r.cups[:6]:
        plot.band(cup.from_mm, cup.to_mm, STAYS, 0.13)
    for membrane in r.membranes[:12]:
        plot.upright((membrane.layers[0] + 0.5) * r.layer_mm, palette.UNFIT, 1.2)
    if len(at):
        plot.line(at, area, palette.INK, 0.9)
    for x, y in plot.place(np.array([(i.height_mm, 1.18 * top) for i in r.island_list]).reshape(-1, 2)):
        part.area([(x - 4.2, y + 4.2), (x + 4.2, y + 4.2), (x, y - 4.2)], ISLAND)
    x, y = plot.place((r.area_max_at_mm, r.area_max_mm2 / 100))
    part.disc((x, y), 5, palette.INK, palette.INK, 0.5)
    left = r.area_max_at_mm < 0.7 * r.height_mm
    words = f"{r.area_max_mm2 / 100:.2f} cm2 at {length_text(r.area_max_at_mm)}"
    part.text(x + (8 if left else -8), y + 2, words, 9.5, across="left" if left else "right", up="bottom")
    plot.frame("height, mm", "area, cm2", size=9)
    events = [
        (r.islands, "\u25bc", "island", ISLAND),
        (len(r.membranes), "|", "membrane", palette.UNFIT),
        (len(r.cups), "\u25a0", "suction cup", "#c8dcea"),
    ]
    x = WIDTH - 460.0
    for count, mark, name, colour in events:
        if count:
            words = count_text(count, name)
            sheet.text(x, 690, mark, 11, colour, style="bold", up="middle")
            sheet.text(x + 16, 690, words, 9.5, up="middle")
            x += 40 + words_wide(words, 9.5)


def _sections(
    sheet: Sheet,
    record: LayerRecord,
    view: LayerView,
    layers: list[tuple[int, str]],
    room: tuple[int, int, int, int],
) -> None:
    """Sections side by side in a rectangle (left, bottom, width, height) of pixels."""
    left, bottom, width, height = room
    n = len(layers)
    aspect = view.columns.shape[0] / view.columns.shape[1]
    rows = min(range(1, n + 1), key=lambda k: -min((width / -(-n // k) - 44) / aspect, height / k - 62))
    columns = -(-n // rows)
    wide, high = width / columns, height / rows
    for k, (layer, why) in enumerate(layers):
        row, column = divmod(k, columns)
        box = left + column * wide + 34, bottom + height - (row + 1) * high + 26, wide - 44, high - 62
        plot = _draw_section(sheet, view, layer, box)
        begin = [i.where_mm for i in record.island_list if first_layer(i.height_mm, record.layer_mm) == layer]
        if begin:  # most are specks where they begin
            for place in plot.place(np.array(begin) @ view.columns.frame[:2].T):
                plot.sheet.disc(place, 9, None, ISLAND, 1.6)
        area = record.table.area_mm2[layer]
        title = f"{length_text(record.table.at_mm[layer])}, layer {layer:,}"
        plot.sheet.text(0, plot.height + 24, title, 10, style="bold", up="bottom")
        told = f"{area / 100:.2f} cm2" + (f"; {why}" if why else "")
        plot.sheet.text(0, plot.height + 6, told, 9, palette.QUIET, up="bottom")


def section_colours(view: LayerView, layer: int) -> Floats:
    """Colours (Y, X, 3) of the columns where they are cut by a layer, upper row first."""
    c, still, stack = view.columns, view.still, view.stack
    z = stack.floor_mm + (layer + 0.5) * stack.layer_mm
    image = np.empty((*c.shape, 3))
    image[:] = _rgb(palette.PAPER)
    flat = image.reshape(-1, 3)
    here = _material_at(c, z)
    beside, _ = ndimage.label(~here.reshape(c.shape))  # the first is the empty rim
    flat[(beside > 1).ravel()] = _rgb(VOID)
    nodes = np.flatnonzero(still.held_mm > 0)
    bottom, top = ends_of(still, nodes)
    flat[still.column[nodes[(bottom <= z) & (top > z)]]] = _rgb(STAYS)
    flat[here] = _rgb(MATERIAL)
    if layer > 0:
        before = _material_at(c, z - stack.layer_mm)
        label, count = ndimage.label(here.reshape(c.shape))
        held = np.bincount(label.ravel()[before], minlength=count + 1) > 0
        held[0] = True
        flat[~held[label.ravel()]] = _rgb(ISLAND)
    return np.asarray(image.transpose(1, 0, 2)[::-1])


def _material_at(c: Columns, z: float) -> Bools:
    mask = np.zeros(len(c.unclosed), bool)
    mask[c.column_of[(c.low <= z) & (c.high > z)]] = True
    return mask


def _draw_section(sheet: Sheet, view: LayerView, layer: int, box: tuple[float, float, float, float]) -> Plot:
    """A section as large as it fits into a box (left, bottom, width, height) of pixels."""
    c = view.columns
    x0, y0 = c.origin_mm
    size = np.array(c.shape) * c.pixel_mm
    scale = min(box[2] / size[0], box[3] / size[1])
    wide, high = size * scale
    part = sheet.at(box[0] + 0.5 * (box[2] - wide), box[1] + 0.5 * (box[3] - high))
    plot = Plot(part, wide, high, (x0, x0 + size[0]), (y0, y0 + size[1]))
    part.pixels(section_colours(view, layer), 0, 0, wide, high)
    outlines = view.stack.outlines(layer)
    for closed, colour in ((True, palette.INK), (False, palette.UNFIT)):
        lines = [
            np.concatenate([o.points, o.points[:1]]) if closed else o.points for o in outlines if o.closed == closed
        ]
        part.lines([plot.place(line) for line in lines], colour, 0.6)
    plot.frame(size=8, whole=True)
    return plot


def _rgb(colour: str) -> tuple[float, float, float]:
    r, g, b = (int(colour[k : k + 2], 16) / 255 for k in (1, 3, 5))
    return r, g, b


def _legend(sheet: Sheet) -> None:
    x = legend_row(sheet, 60, 26, _LEGEND)
    sheet.text(x, 26, "mm along both axes", 9.5, palette.QUIET, up="middle")
