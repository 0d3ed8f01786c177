"""`bolvek fuse`."""

import dataclasses
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from bolvek.cli.base.bind import bound, given, taken
from bolvek.cli.base.options import Asked, models_argument, options, output_option, writing_options
from bolvek.errors import UsageError
from bolvek.settings.measures import LEAST_WALL_MM
from bolvek.settings.parts import FuseSettings
from bolvek.settings.repairs import RecastSettings

if TYPE_CHECKING:
    from bolvek.cli.base.outcome import Outcome, Steps
    from bolvek.formats import Model
    from bolvek.mesh import Mesh
    from bolvek.operations.fuse import FuseRecord


@click.command("fuse")
@options(
    models_argument,
    output_option,
    bound("--reach", FuseSettings, "reach_mm"),
    bound("--fill-voids", FuseSettings, "fill_voids"),
    click.option("--recast", "again", is_flag=True, help="Make parts anew that are open or cross themselves."),
    bound("--least-wall", RecastSettings, "least_mm", default=None, none=f"{LEAST_WALL_MM:g}mm with --recast"),
    writing_options,
)
def command(models: tuple[Path, ...], output: Path | None, again: bool, **values: Any) -> None:
    """Make one body of all closed parts of all models: what overlaps is one, untouched faces stay bit for bit.

    Several models go into one, written beside the first without -o.

    \b
    Examples:
      bolvek fuse finial.mend.stl --reach 0.2mm -o finial.stl
      bolvek fuse body.stl handle.stl spout.stl -o pot.stl
    """
    from bolvek.cli.base.outcome import Run
    from bolvek.cli.base.run import run
    from bolvek.formats import read_model
    from bolvek.jobs.files import expand
    from bolvek.operations.fuse import fuse, gather_all
    from bolvek.report.words.fuse import fuse_text

    settings = taken(FuseSettings, values)
    least = given(RecastSettings, "least_mm", values)
    if least is not None and not again:
        raise UsageError("--least-wall goes with --recast")
    asked = Asked(**values)
    anew = RecastSettings(least_mm=LEAST_WALL_MM if least is None else least) if again else None
    first, *others = expand(models)

    def work(model: "Model", step: "Steps") -> "Outcome":
        read = [step("read others", partial(read_model, path, unit=asked.unit)).mesh for path in others]
        names = [str(path) for path in (first, *others)] if read else [""]
        made, record = step("fuse", lambda: fuse(gather_all([model.mesh, *read], names, again=anew), settings))
        return fused_outcome(model, made, record, "fuse", asked)

    how = Run(
        verb="fuse",
        settings={"": settings} if anew is None else {"": settings, "recast": anew},
        work=work,
        writes="made",
        inputs={f"model {k}": path for k, path in enumerate(others, 2)},
        texts={"fuse": lambda done: fuse_text(done[1])},
        kernels=("walls", "hollow", "rooms", "places") if again else (),
    )
    run(how, [first], asked, output)


def fused_outcome(model: "Model", made: "Mesh", record: "FuseRecord", verb: str, asked: Asked) -> "Outcome":
    """What was fused or carved, with its rows and findings, drawn cut open where it has voids."""
    from bolvek.cli.base.outcome import remade
    from bolvek.cli.base.scaled import finding_rows
    from bolvek.report.pictures.results import solid_result
    from bolvek.report.words.fuse import fuse_rows, fuse_text

    done = remade(model, made, {verb: record}, fuse_text(record), record)
    rows = [(*row, "") for row in fuse_rows(record, most=asked.most)] + finding_rows(record.findings)
    return dataclasses.replace(
        done,
        rows=rows,
        picture=lambda: solid_result(model.path, made, cut_open=bool(record.voids)),
    )
