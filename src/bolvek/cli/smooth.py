"""`bolvek smooth`."""

import dataclasses
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from bolvek.cli.base.bind import bound, taken
from bolvek.cli.base.options import Asked, options, output_option, several_models, writing_options
from bolvek.cli.base.shown import adds
from bolvek.cli.base.types import Parsed, parse_ball
from bolvek.errors import UsageError
from bolvek.settings.repairs import Region, SmoothSettings
from bolvek.units import parse_length, parse_point

if TYPE_CHECKING:
    from bolvek.cli.base.outcome import Outcome, Steps
    from bolvek.formats import Model


def parse_region(text: str) -> "Region":
    """A ball as in "10,0,5:8mm", a box as in "0,0,0:10,10,10", or what is near open rims as in "rim:3mm"."""

    first, colon, second = text.partition(":")
    if not colon:
        raise UsageError(f"'{text}' is no region: write 10,0,5:8mm for a ball, two points for a box, or rim:3mm")
    if first.strip() == "rim":
        return Region(rim_mm=parse_length(second))
    if "," in second:
        return Region(box=(parse_point(first), parse_point(second)))
    return Region(ball=parse_ball(text))


@click.command("smooth")
@options(
    several_models,
    bound("--region", SmoothSettings, "within", type=Parsed("REGION", parse_region), several=True),
    bound("--within", SmoothSettings, "most_mm"),
    bound("--crease", SmoothSettings, "keep_edges_deg"),
    bound("--passes", SmoothSettings, "passes"),
    bound("--least-wall", SmoothSettings, "least_mm"),
    output_option,
    writing_options,
)
def command(models: tuple[Path, ...], output: Path | None, **values: Any) -> None:
    """Calm the noise of scanned or sculpted surfaces without shrinking them; creases and rims stay.

    \b
    Examples:
      bolvek smooth cloud_tile.ply --within 0.15mm
      bolvek smooth carp.stl --region 10,0,40:8mm --within 0.05mm --picture calm.png
    """
    from bolvek.cli.base.outcome import Run, remade
    from bolvek.cli.base.run import run
    from bolvek.cli.base.scaled import finding_rows
    from bolvek.operations.smooth import smooth
    from bolvek.report.words.smooth import smooth_rows, smooth_text

    settings = taken(SmoothSettings, values)
    asked = Asked(**values)

    def work(model: "Model", step: "Steps") -> "Outcome":
        mesh, record = step("smooth", lambda: smooth(model.mesh, settings))
        done = remade(model, mesh, {"smooth": record}, smooth_text(record), record)
        rows = [(*row, "") for row in smooth_rows(record, settings.most_mm)] + finding_rows(record.findings)

        def draw() -> bytes:
            from bolvek.report.pictures.before import before_after
            from bolvek.report.pictures.plain import model_caption

            return before_after(model.mesh, mesh, model_caption(model.path, mesh, smooth=smooth_text(record)))

        return dataclasses.replace(done, rows=rows, picture=draw, scene=adds("changed", model.mesh))

    how = Run(
        verb="smooth",
        settings={"": settings},
        work=work,
        writes="moved",
        texts={"smooth": lambda done: smooth_text(done[1])},
        kernels=("walls", "faults") if settings.least_mm is not None else (),
    )
    run(how, models, asked, output)
