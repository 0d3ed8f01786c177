"""`bolvek compare`."""

from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from bolvek.cli.base.bind import bound, taken
from bolvek.cli.base.options import Asked, options, reading_options
from bolvek.cli.base.shown import adds
from bolvek.cli.base.types import PATH
from bolvek.settings.measures import CompareSettings

if TYPE_CHECKING:
    from bolvek.cli.base.outcome import Outcome, Steps
    from bolvek.formats import Model


@click.command("compare")
@options(
    click.argument("old", type=PATH, metavar="OLD"),
    click.argument("new", type=PATH, metavar="NEW"),
    bound("--within", CompareSettings, "within_mm"),
    bound("--spacing", CompareSettings, "spacing_mm"),
    reading_options,
)
def command(old: Path, new: Path, **values: Any) -> None:
    """Old against new: faces bit for bit the same, distances both ways, volume, size, openings.

    \b
    Examples:
      bolvek compare finial.stl finial.mend.stl --picture changes.png
      bolvek compare scan.ply slim.stl --within 0.05mm
    """
    from bolvek.analyses.deviation import compare
    from bolvek.cli.base.outcome import Outcome, Run, owned
    from bolvek.cli.base.run import run
    from bolvek.cli.base.scaled import finding_rows
    from bolvek.formats import read_model
    from bolvek.report.pictures.results import compare_result
    from bolvek.report.words.compare import compare_line, compare_rows
    from bolvek.units import length_text

    settings = taken(CompareSettings, values)
    asked, within = Asked(**values), settings.within_mm

    def work(model: "Model", step: "Steps") -> "Outcome":
        before = step("old", lambda: read_model(old, unit=asked.unit)).mesh
        record, found = step("compare", lambda: compare(before, model.mesh, settings))
        rows = [*compare_rows(record, most=asked.most), *finding_rows(record.findings)]
        if within is not None:
            words = f"{record.verdict}: {'within' if record.ok else 'more than'} {length_text(within)}"
            rows.append(("verdict", words, "bold green" if record.ok else "bold red"))
        return Outcome(
            model=model,
            sections={"compare": record},
            line=compare_line(record),
            **owned(record),
            rows=rows,
            picture=lambda: compare_result(model.path, before, model.mesh, record, found, record),
            scene=adds("changed", before, (record, found)),
        )

    run(Run(verb="compare", settings={"": settings}, work=work, inputs={"OLD": old}), [new], asked)
