"""`bolvek drain`."""

import dataclasses
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from bolvek.cli.base.bind import bound, given, taken
from bolvek.cli.base.options import (
    Asked,
    options,
    output_option,
    place_options,
    printer_option,
    several_models,
    writing_options,
)
from bolvek.cli.base.shown import adds
from bolvek.cli.base.types import PATH, PICTURE, PLACE, Parsed
from bolvek.errors import UsageError
from bolvek.settings.shape import AutoSettings, Drain, DrainSettings, PlaceSettings, PlugSettings

if TYPE_CHECKING:
    from bolvek.cli.base.outcome import Outcome, Steps
    from bolvek.formats import Model
    from bolvek.mesh import Mesh
    from bolvek.operations.drain import Bore, DrainRecord

_USUAL = -(2**31)
"""What --auto is when no number follows it."""
_DIAMETER_MM = 3.5


class AutoCommand(click.Command):
    """A command whose --auto takes a number only if one follows: a model's name after it is a model."""

    def parse_args(self, ctx: click.Context, args: list[str]) -> list[str]:
        """Put the usual number after an --auto that has none."""
        filled: list[str] = []
        for k, arg in enumerate(args):
            filled.append(arg)
            if arg == "--auto" and not (k + 1 < len(args) and args[k + 1].lstrip("-").isdigit()):
                filled.append(str(_USUAL))
        return super().parse_args(ctx, filled)


def parse_numbers(text: str) -> tuple[int, ...]:
    """Numbers of holes with commas, as in "2,3,4"."""
    try:
        found = tuple(int(part) for part in text.split(","))
    except ValueError:
        found = ()
    if not found or not all(1 <= n <= 20 for n in found) or len(found) > 6:
        raise UsageError(f"'{text}' is not a list of numbers: up to six of 1 to 20 with commas, as in 2,3,4")
    return found


@click.command("drain", cls=AutoCommand)
@options(
    several_models,
    output_option,
    bound("--at", DrainSettings, "drains", type=PLACE, several=True),
    bound("--auto", AutoSettings, "most", metavar="[N]"),
    bound("--diameter", Drain, "diameter_mm", several=True, none="3.5mm; once for all holes, or once a hole"),
    bound("--blind", Drain, "depth_mm", several=True),
    bound("--toward", Drain, "toward_mm", type=PLACE, several=True),
    bound("--sides", DrainSettings, "sides"),
    bound("--drain-up", PlaceSettings, "up", default=None, none="0,0,1; with --auto"),
    place_options,
    printer_option,
    click.option("--try", "tried", type=Parsed("N,N", parse_numbers), help="With --auto: what each number leaves."),
    click.option("--sheet", type=PICTURE, metavar="FILE.png", help="With --try: draw them side by side."),
    click.option("--plugs", type=PATH, metavar="FOLDER", help="Write a plug for every hole, numbered alike."),
    bound("--clearance", PlugSettings, "clearance_mm"),
    bound("--taper", PlugSettings, "taper_deg"),
    writing_options,
)
def command(
    models: tuple[Path, ...],
    output: Path | None,
    printer: str | None,
    tried: tuple[int, ...] | None,
    sheet: Path | None,
    plugs: Path | None,
    **values: Any,
) -> None:
    """Cut holes into sound models, all of them or none: where you say, or where liquid and air would stay.

    Options that may be repeated belong to the holes in order; given once, they count for all. With --auto the model
    is flooded, gets a hole where most stays, is cut and flooded again, until what stays is within the residue.

    \b
    Examples:
      bolvek drain hollow.stl --at 0,-4,1 --diameter 3.5mm -o drained.stl
      bolvek drain hollow.stl --auto --show 0,-1,0 --plugs plugs/
      bolvek drain hollow.stl --auto --try 1,2,3 --sheet ways.png
    """
    from bolvek.cli.base.outcome import Run
    from bolvek.cli.base.run import run
    from bolvek.formats.folder import check_folder
    from bolvek.report.words.drain import drain_text, flood_text

    plug_settings = taken(PlugSettings, values)
    plug_settings.check()
    place = {name: given(PlaceSettings, name, values) for name in ("up", "show", "keep_off", "only_within")}
    holes = {name: given(Drain, name, values) for name in ("diameter_mm", "toward_mm", "depth_mm")}
    places, sides = (given(DrainSettings, name, values) for name in ("drains", "sides"))
    auto = given(AutoSettings, "most", values)
    asked = Asked(**values)
    _check_ways(auto is not None, places, holes, bool(tried or any(place.values())))
    if tried and (output is not None or plugs is not None):
        raise UsageError("--try writes no model; leave out -o and --plugs")
    if sheet is not None and not tried:
        raise UsageError("--sheet goes with --try")
    if plugs is not None:
        check_folder(plugs, replace=asked.replace)
        if len(models) > 1:
            raise UsageError("--plugs is for one model; name one")
    settings: Any
    if auto is None:
        settings = DrainSettings(drains=_by_hand(places, holes, printer), sides=sides)
    else:
        settings = _by_flood(auto, holes["diameter_mm"], place, printer)

    def work(model: "Model", step: "Steps") -> "Outcome":
        if tried:
            return _try_numbers(model, settings, tried, sides, sheet, step, asked)
        return _drained(model, settings, sides, step, (plugs, plug_settings), asked)

    how = Run(
        verb="drain",
        settings={"": settings},
        work=work,
        writes=None if tried else "made",
        alone={"--sheet": sheet},
        kernels=(() if auto is None else ("mesh", "shells", "rooms", "columns", "walls"))
        + (("fuse",) if plugs else ()),
        texts={"drain": lambda done: drain_text(done[1]), "flood": lambda done: flood_text(*done)},
    )
    run(how, models, asked, output)


def _check_ways(auto: bool, places: tuple[Any, ...], holes: dict[str, tuple[Any, ...]], of_auto: bool) -> None:
    """Raise UsageError where what goes with places by hand and with places found is mixed."""
    if auto and places:
        raise UsageError("--at names places and --auto finds them: give one of the two")
    if not auto and not places:
        raise UsageError("name places with --at X,Y,Z, or let them be found with --auto")
    if not auto and of_auto:
        raise UsageError("--try, --show, --keep-off, --only-within and --drain-up go with --auto")
    if auto and (holes["depth_mm"] or holes["toward_mm"] or len(holes["diameter_mm"]) > 1):
        raise UsageError("--blind, --toward and a --diameter a hole go with --at")


def _by_hand(places: tuple[Any, ...], holes: dict[str, tuple[Any, ...]], printer: str | None) -> "tuple[Drain, ...]":
    from bolvek.profiles import limits

    _, least_wall = limits(printer)

    def each(name: str, values: tuple[Any, ...], otherwise: Any) -> list[Any]:
        if len(values) not in (0, 1, len(places)):
            raise UsageError(f"{name} was given {len(values)} times for {len(places)} holes: once, or once a hole")
        return list(values) if len(values) == len(places) else [values[0] if values else otherwise] * len(places)

    each_hole = zip(
        places,
        each("--diameter", holes["diameter_mm"], _DIAMETER_MM),
        each("--toward", holes["toward_mm"], None),
        each("--blind", holes["depth_mm"], None),
        strict=True,
    )
    return tuple(Drain(*hole, least_skin_mm=least_wall) for hole in each_hole)


def _by_flood(most: int, diameters: tuple[float, ...], where: dict[str, Any], printer: str | None) -> "AutoSettings":
    from bolvek.profiles import limits

    least_drain, least_wall = limits(printer)
    diameter = diameters[0] if diameters else max(_DIAMETER_MM, least_drain)
    least = min(least_drain, diameter)
    asked = {name: value for name, value in where.items() if value is not None}
    place = PlaceSettings(diameter_mm=diameter, least_mm=least, wall_mm=least_wall, **asked)
    return AutoSettings(place=place, most=None if most == _USUAL else most, least_drain_mm=least, wall_mm=least_wall)


def _cut(mesh: "Mesh", settings: Any, sides: int, step: "Steps") -> "tuple[Mesh, DrainRecord, list[Drain], list[Bore]]":
    """The drained mesh (the same where nothing stays), the record, and the holes with their bores."""
    from bolvek.operations.drain import cut_bores, drain, place_by_flood, plan_bore
    from bolvek.operations.drain.cut import check_drillable, no_holes

    if not isinstance(settings, AutoSettings):
        made, record = step("drain", lambda: drain(mesh, settings))
        return made, record, list(settings.drains), [plan_bore(mesh, d) for d in settings.drains]
    check_drillable(mesh)
    placed, _, auto = step("flood", lambda: place_by_flood(mesh, settings))
    holes, bores = [p.drain for p in placed], [p.bore for p in placed]
    if not placed:
        return mesh, dataclasses.replace(no_holes(mesh), auto=auto), [], []
    cut = DrainSettings(drains=tuple(holes), sides=sides)
    made, record = step("drain", lambda: cut_bores(mesh, cut, bores, as_stored=True))
    return made, dataclasses.replace(record, auto=auto), holes, bores


def _drained(
    model: "Model",
    settings: Any,
    sides: int,
    step: "Steps",
    plugs: "tuple[Path | None, PlugSettings]",
    asked: Asked,
) -> "Outcome":
    """The model with its holes, and their plugs; falls short where more stays than may."""
    from bolvek.cli.base.outcome import remade
    from bolvek.cli.base.scaled import finding_rows
    from bolvek.jobs.plugs import write_plugs
    from bolvek.report.pictures.results import drain_result
    from bolvek.report.words.drain import drain_text, plug_rows, room_rows

    mesh, record, holes, bores = _cut(model.mesh, settings, sides, step)
    sections: dict[str, Any] = {"drain": record}
    rows: list[Any] = []
    outputs: list[Path] = []
    folder, plug_settings = plugs
    if folder is not None:
        made = step(
            "plugs",
            lambda: write_plugs(
                model.path.stem, model.mesh, list(zip(holes, bores, strict=True)), folder, plug_settings, asked.replace
            ),
        )
        sections["plugs"] = made
        rows += [(*row, "") for row in plug_rows(made)]
        outputs = [folder / p.file for p in made if p.file]
    done = remade(model, mesh, sections, drain_text(record), record)
    if record.auto is not None:
        rows = [(*row, "") for row in room_rows(record.auto)] + rows + finding_rows(record.findings)
    picture = done.picture
    if record.auto is not None and record.holes:
        picture = lambda: drain_result(model.path, model.mesh, mesh, record)  # noqa: E731
    return dataclasses.replace(done, rows=rows, outputs=outputs, picture=picture, scene=adds("drains", record))


def _try_numbers(
    model: "Model",
    settings: "AutoSettings",
    numbers: tuple[int, ...],
    sides: int,
    sheet: Path | None,
    step: "Steps",
    asked: Asked,
) -> "Outcome":
    """What each number of holes a cavity leaves; the fewest that drain are proposed."""
    from bolvek.cli.base.outcome import Outcome
    from bolvek.formats.safe import write_bytes
    from bolvek.report.words.drain import airs, drained_all, tried_text

    rows: list[tuple[str, str, str]] = []
    records, shown = [], []
    for n in numbers:
        mesh, record, _, _ = _cut(model.mesh, dataclasses.replace(settings, most=n), sides, step)
        assert record.auto is not None
        rows.append((f"{n} a cavity", tried_text(record), ""))
        records.append(record)
        shown.append((f"{n} a cavity", mesh, record))
    tellers = [(n, r.auto) for n, r in zip(numbers, records, strict=True) if r.auto is not None]
    good = [n for n, auto in tellers if drained_all(auto)]
    airy = [n for n, auto in tellers if drained_all(auto) and airs(auto)]
    if airy:
        line = f"--auto {min(airy)}: the fewest that drain it and let air in"
    elif good:
        line = f"--auto {min(good)}: the fewest that drain it; no number lets air in everywhere"
    else:
        line = "none of these drains it: more holes, narrower ones, or another way up"
    rows.append(("suggestion", line, "bold"))
    outputs = []
    if sheet is not None:
        from bolvek.report.pictures.drains import drains_sheet

        write_bytes(sheet, drains_sheet(model.path.name, shown), replace=asked.replace)
        rows.append(("sheet", str(sheet), ""))
        outputs.append(sheet)
    return Outcome(
        model=model,
        sections={"tries": records},
        line=line,
        verdict="done",
        rows=rows,
        outputs=outputs,
    )
