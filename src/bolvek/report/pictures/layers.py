"""Layers drawn: the area over the height with what happens there, and sections with material, voids, what stays."""

from typing import TYPE_CHECKING, Any

import numpy as np
from scipy import ndimage

from bolvek.analyses.columns import Columns
from bolvek.analyses.columns.still import ends_of
from bolvek.analyses.layers import LayerRecord, LayerView, first_layer
from bolvek.arrays import Bools, Floats
from bolvek.report.classes import class_of
from bolvek.report.pictures import palette
from bolvek.report.pictures.plain import HEIGHT, WIDTH, Caption, new_figure, png_bytes
from bolvek.units import count_text, length_text

if TYPE_CHECKING:
    from matplotlib.axes import Axes
    from matplotlib.figure import Figure

MATERIAL, VOID, STAYS, ISLAND = "#b89a76", "#dfe8ee", "#1f78b4", class_of("island").colour
_STRIP = 4
_MOST_PIXELS = 1200
_LEGEND = (("material", MATERIAL), ("void", VOID), ("liquid stays", STAYS), ("island", ISLAND))


def layers_picture(record: LayerRecord, view: LayerView, caption: Caption) -> bytes:
    """PNG of the area over the height, and of the layers that tell most."""
    figure = new_figure(caption)
    _area_plot(figure, record)
    chosen = telling_layers(record)
    _sections(figure, record, view, chosen, (24, 54, WIDTH - 48, 356))
    _legend(figure)
    return png_bytes(figure)


def section_sheet(record: LayerRecord, view: LayerView, layers: list[int], caption: Caption) -> bytes:
    """PNG of chosen layers, large."""
    figure = new_figure(caption)
    _sections(figure, record, view, [(k, "") for k in layers], (24, 64, WIDTH - 48, HEIGHT - 64 - 100))
    _legend(figure)
    return png_bytes(figure)


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


def _area_plot(figure: "Figure", r: LayerRecord) -> None:
    axes = figure.add_axes((80 / WIDTH, 474 / HEIGHT, (WIDTH - 110) / WIDTH, 200 / HEIGHT))
    axes.patch.set_alpha(0)
    at, area = np.array(r.table.at_mm), np.array(r.table.area_mm2) / 100
    axes.fill_between(at, area, color=MATERIAL, alpha=0.55, lw=0, step="mid")
    axes.plot(at, area, color=palette.INK, lw=0.9)
    top = max(float(area.max(initial=0.0)), 1e-9)
    axes.set_xlim(0, max(r.height_mm, 1e-9))
    axes.set_ylim(0, 1.28 * top)
    for cup in r.cups[:6]:
        axes.axvspan(cup.from_mm, cup.to_mm, color=STAYS, alpha=0.13, lw=0)
    for membrane in r.membranes[:12]:
        axes.axvline((membrane.layers[0] + 0.5) * r.layer_mm, color=palette.UNFIT, lw=1.2)
    if r.islands:
        up = [i.height_mm for i in r.island_list]
        axes.plot(up, np.full(len(up), 1.18 * top), "v", color=ISLAND, ms=6, clip_on=False)
    peak = r.area_max_at_mm
    axes.plot([peak], [r.area_max_mm2 / 100], "o", color=palette.INK, ms=5)
    lean = "left" if peak < 0.7 * r.height_mm else "right"
    words = f"  {r.area_max_mm2 / 100:.2f} cm2 at {length_text(peak)}  "
    axes.text(peak, r.area_max_mm2 / 100, words, size=9.5, color=palette.INK, ha=lean, va="bottom")
    axes.set_xlabel("height, mm", size=9.5, color=palette.QUIET)
    axes.set_ylabel("area, cm2", size=9.5, color=palette.QUIET)
    axes.tick_params(labelsize=9, colors=palette.QUIET)
    for name, spine in axes.spines.items():
        spine.set_visible(name in ("left", "bottom"))
        spine.set_color(palette.QUIET)
    events = [
        (r.islands, "\u25bc", "island", ISLAND),
        (len(r.membranes), "|", "membrane", palette.UNFIT),
        (len(r.cups), "\u25a0", "suction cup", "#c8dcea"),
    ]
    x = WIDTH - 460.0
    for count, mark, name, colour in events:
        if count:
            figure.text(x / WIDTH, 690 / HEIGHT, mark, size=11, color=colour, weight="bold", va="center")
            figure.text(
                (x + 14) / WIDTH, 690 / HEIGHT, count_text(count, name), size=9.5, color=palette.INK, va="center"
            )
            x += 34 + 7.2 * len(count_text(count, name))


def _sections(
    figure: "Figure",
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
    cell = width / columns, height / rows
    for k, (layer, why) in enumerate(layers):
        row, column = divmod(k, columns)
        box = (
            (left + column * cell[0] + 34) / WIDTH,
            (bottom + height - (row + 1) * cell[1] + 26) / HEIGHT,
            (cell[0] - 44) / WIDTH,
            (cell[1] - 62) / HEIGHT,
        )
        axes = figure.add_axes(box)
        _draw_section(axes, view, layer)
        begin = [i.where_mm for i in record.island_list if first_layer(i.height_mm, record.layer_mm) == layer]
        if begin:  # most are specks where they begin
            across = np.array(begin) @ view.columns.frame[:2].T
            axes.plot(*across.T, "o", ms=9, mfc="none", mec=ISLAND, mew=1.6, clip_on=False)
        area = record.table.area_mm2[layer]
        title = f"{length_text(record.table.at_mm[layer])}, layer {layer:,}"
        _above(axes, title, 17, size=10, color=palette.INK, weight="bold")
        _above(axes, f"{area / 100:.2f} cm2" + (f"; {why}" if why else ""), 4, size=9, color=palette.QUIET)


def _above(axes: "Axes", text: str, points: int, **style: Any) -> None:
    """A line of text so many points above the left end of the axes."""
    axes.annotate(text, (0, 1), (0, points), xycoords="axes fraction", textcoords="offset points", va="bottom", **style)


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


def _draw_section(axes: "Axes", view: LayerView, layer: int) -> None:
    from matplotlib.collections import LineCollection

    c = view.columns
    x0, y0 = c.origin_mm
    extent = (x0, x0 + c.shape[0] * c.pixel_mm, y0, y0 + c.shape[1] * c.pixel_mm)
    colours = section_colours(view, layer)
    step = max(1, max(colours.shape) // _MOST_PIXELS)
    axes.imshow(colours[::step, ::step], extent=extent, interpolation="antialiased")
    outlines = view.stack.outlines(layer)
    for closed, colour in ((True, palette.INK), (False, palette.UNFIT)):
        lines = [
            np.concatenate([o.points, o.points[:1]]) if closed else o.points for o in outlines if o.closed == closed
        ]
        axes.add_collection(LineCollection(lines, colors=colour, linewidths=0.6))
    axes.tick_params(labelsize=8, colors=palette.QUIET, length=2.5)
    for spine in axes.spines.values():
        spine.set_color(palette.QUIET)
        spine.set_linewidth(0.5)


def _rgb(colour: str) -> tuple[float, float, float]:
    r, g, b = (int(colour[k : k + 2], 16) / 255 for k in (1, 3, 5))
    return r, g, b


def _legend(figure: "Figure") -> None:
    x = 60.0
    for text, colour in _LEGEND:
        figure.text(x / WIDTH, 26 / HEIGHT, "\u25a0", size=14, color=colour, va="center")
        figure.text((x + 17) / WIDTH, 26 / HEIGHT, text, size=9.5, color=palette.INK, va="center")
        x += 44 + 7.0 * len(text)
    figure.text(x / WIDTH, 26 / HEIGHT, "mm along both axes", size=9.5, color=palette.QUIET, va="center")
