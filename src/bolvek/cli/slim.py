"""`bolvek slim`."""

import dataclasses
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from bolvek.cli.base.bind import bound, taken
from bolvek.cli.base.options import Asked, options, output_option, several_models, writing_options
from bolvek.cli.base.shown import adds
from bolvek.settings.repairs import SlimSettings

if TYPE_CHECKING:
    from bolvek.cli.base.outcome import Outcome, Steps
    from bolvek.formats import Model


@click.command("slim")
@options(
    several_models,
    output_option,
    bound("--within", SlimSettings, "within_mm"),
    bound("--triangles", SlimSettings, "triangles"),
    bound("--ratio", SlimSettings, "ratio"),
    bound("--megabytes", SlimSettings, "megabytes"),
    writing_options,
)
def command(models: tuple[Path, ...], output: Path | None, **values: Any) -> None:
    """Fewer triangles, with the deviation measured and told. Borders stay, and a sound model stays sound.

    \b
    Examples:
      bolvek slim carp.stl --within 0.02mm
      bolvek slim scan.ply --triangles 100000 -o light.stl
    """
    from bolvek.analyses.soundness import find_defects
    from bolvek.cli.base.outcome import Run, remade
    from bolvek.cli.base.run import run
    from bolvek.errors import WorkError
    from bolvek.operations.slim import slim_to
    from bolvek.report.words.recast import slim_text

    settings = taken(SlimSettings, values)

    def work(model: "Model", step: "Steps") -> "Outcome":
        before = model.mesh.as_stored()
        mesh, record = step("slim", lambda: slim_to(before, settings))
        mesh = mesh.as_stored()
        known = {d.code: d.count for d in find_defects(before)}
        worse = [d.text for d in step("check", lambda: find_defects(mesh)) if d.count > known.get(d.code, 0)]
        if worse:
            raise WorkError(f"slimming left {'; '.join(worse)}: allow it less")
        done = remade(model, mesh, {"slim": record}, slim_text(record), "done")
        return dataclasses.replace(done, scene=adds("changed", before))

    how = Run(
        verb="slim",
        settings={"": settings},
        work=work,
        writes="proven",
        texts={"slim": lambda done: slim_text(done[1])},
    )
    run(how, models, Asked(**values), output)
