"""`bolvek layers`."""

import dataclasses
import re
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from bolvek.cli.base.bind import bound, given, taken
from bolvek.cli.base.options import (
    Asked,
    material_option,
    options,
    printer_option,
    reading_options,
    scaled_options,
    several_models,
)
from bolvek.cli.base.shown import adds
from bolvek.cli.base.types import LENGTH, PATH, Parsed
from bolvek.errors import UsageError
from bolvek.settings.measures import LayerSettings

if TYPE_CHECKING:
    from bolvek.analyses.layers import LayerRecord, LayerView
    from bolvek.cli.base.outcome import Outcome, Steps
    from bolvek.formats import Model
    from bolvek.profiles import Printer

_HOLES = 3
"""Of how many pools it is told what a hole would free."""


def parse_price(text: str) -> tuple[float, str]:
    """A price and what it is for, "l" or "kg", in a text such as "35/l"."""
    match = re.match(r"^\s*(\d+\.?\d*|\.\d+)\s*/\s*(l|kg)\s*$", text)
    if not match:
        raise UsageError(f"'{text}' is not a price: write a number for a litre or a kilogram, as in 35/l or 22/kg")
    return float(match.group(1)), match.group(2)


@click.command("layers")
@options(
    several_models,
    bound("--layer", LayerSettings, "layer_mm", default=None, none="the printer's, else 0.05mm"),
    printer_option,
    material_option,
    click.option("--price", type=Parsed("PRICE", parse_price), help="Of the material, as in 35/l or 22/kg."),
    bound("--up", LayerSettings, "up"),
    bound("--drain-up", LayerSettings, "drain_poses", several=True),
    bound("--on-plate", LayerSettings, "on_plate"),
    bound("--least-wall", LayerSettings, "least_wall_mm", default=None, none="the printer's, else 0.8mm"),
    bound("--pixel", LayerSettings, "pixel_mm"),
    click.option(
        "--layer-at", "heights", type=LENGTH, multiple=True, help="Draw the layer at this height; repeat for more."
    ),
    click.option("--pngs", type=PATH, metavar="FOLDER", help="Write a PNG a layer at the printer's pixels."),
    click.option("--svg", type=PATH, metavar="FOLDER", help="Write exact outlines, of --layer-at or every layer."),
    click.option("--csv", "table", type=PATH, metavar="FILE.csv", help="Write a row a layer."),
    scaled_options,
    reading_options,
)
def command(
    models: tuple[Path, ...],
    printer: str | None,
    material: str | None,
    price: tuple[float, str] | None,
    heights: tuple[float, ...],
    pngs: Path | None,
    svg: Path | None,
    table: Path | None,
    **values: Any,
) -> None:
    """What every layer holds: area, islands, membranes, what stays inside, what pulls; as a table and as pictures.

    \b
    Examples:
      bolvek layers carp.stl --printer small-resin --price 35/l --picture layers.png
      bolvek layers gourd.stl --layer-at 12.4mm --layer-at 30mm --picture two.png --csv gourd.csv
    """
    from bolvek.analyses.columns import hole_beneath
    from bolvek.analyses.layers import read_layers
    from bolvek.cli.base.making import making_of
    from bolvek.cli.base.options import scaling_of
    from bolvek.cli.base.outcome import Run
    from bolvek.cli.base.run import run
    from bolvek.cli.base.scaled import measured, scaled_model
    from bolvek.formats.folder import check_folder
    from bolvek.profiles import limits, load_profiles

    profiles = load_profiles()
    known = profiles.printer(printer) if printer is not None else None
    layer, least = (given(LayerSettings, name, values) for name in ("layer_mm", "least_wall_mm"))
    settings = taken(
        LayerSettings,
        values,
        layer_mm=layer if layer is not None else known.layer_mm if known is not None else 0.05,
        least_wall_mm=limits(printer)[1] if least is None else least,
        making=making_of(known, profiles.material_for(material, known), price),
    )
    scaling, asked = scaling_of(values), Asked(**values)
    if heights and asked.picture_target is None and svg is None:
        raise UsageError("--layer-at draws layers: name a --picture FILE.png, or a folder with --svg")
    if len(models) > 1 and (pngs is not None or svg is not None):
        raise UsageError("--pngs and --svg are for one model; name one")
    for folder in (pngs, svg):
        if folder is not None:
            check_folder(folder, replace=asked.replace)

    def work(model: "Model", step: "Steps") -> "Outcome":
        from bolvek.report.words.layers import hole_text, layer_line, layer_rows

        model, scaled = scaled_model(model, scaling)
        record, view = step("layers", lambda: read_layers(model.mesh, settings))
        wanted = _layers_at(heights, record)
        deep = [p for p in record.pools[:_HOLES] if p.covered_share > 0.5]
        holes = step("holes", lambda: [hole_text(*hole_beneath(view.still, p)) for p in deep]) if deep else []
        rows = layer_rows(record, holes if deep == record.pools[: len(deep)] else [], most=asked.most)
        outputs = _write_files(record, view, known, wanted, (pngs, svg, table), asked, step)
        rows += [("wrote", str(path)) for path in outputs]

        draw = partial(_drawn, model, record, view, wanted)
        done = measured(model, scaled, record, {"layers": record}, rows, layer_line(record), draw, outputs)
        return dataclasses.replace(done, scene=adds("layers", record))

    run(Run(verb="layers", settings={"": settings}, work=work, alone={"--csv": table}, model_only=True), models, asked)


def _drawn(model: "Model", record: "LayerRecord", view: "LayerView", wanted: list[int]) -> bytes:
    from bolvek.report.pictures.layers import layers_picture, section_sheet
    from bolvek.report.pictures.plain import model_caption

    layers = f"{record.count:,} layers"
    caption = model_caption(model.path, model.mesh, record, layers=layers)
    return section_sheet(record, view, wanted, caption) if wanted else layers_picture(record, view, caption)


def _layers_at(heights: tuple[float, ...], record: "LayerRecord") -> list[int]:
    """The layers at heights. Raises UsageError for one above or below the model."""
    for h in heights:
        if not 0 <= h <= record.height_mm:
            raise UsageError(f"--layer-at {h:g} mm is not in the model, which is {record.height_mm:.3f} mm tall")
    return [min(int(h / record.layer_mm), record.count - 1) for h in heights]


def _write_files(
    record: "LayerRecord",
    view: "LayerView",
    printer: "Printer | None",
    wanted: list[int],
    targets: tuple[Path | None, Path | None, Path | None],
    asked: Asked,
    step: "Steps",
) -> list[Path]:
    from bolvek.formats.folder import write_folder
    from bolvek.formats.safe import write_bytes
    from bolvek.report.layer_files import layer_pngs, layer_svgs, layer_table

    pngs, svg, table = targets
    if pngs is not None:
        pixel = printer.pixel_mm if printer is not None and printer.pixel_mm else record.pixel_mm
        plate = printer.build_mm[:2] if printer is not None and printer.pixel_mm else None
        step("pngs", lambda: write_folder(pngs, layer_pngs(view, pixel, plate), replace=asked.replace))
    if svg is not None:
        step("svg", lambda: write_folder(svg, layer_svgs(view, wanted or None), replace=asked.replace))
    if table is not None:
        write_bytes(table, layer_table(record), replace=asked.replace)
    return [path for path in targets if path is not None]
