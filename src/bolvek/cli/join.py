"""`bolvek join`."""

import dataclasses
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from bolvek.cli.base.options import Asked, models_argument, options, output_option, writing_options
from bolvek.errors import UsageError

if TYPE_CHECKING:
    from bolvek.cli.base.outcome import Outcome, Steps
    from bolvek.formats import Model


@click.command("join")
@options(models_argument, output_option, writing_options)
def command(models: tuple[Path, ...], output: Path | None, **shared: Any) -> None:
    """Put several models into one file, each a part with its name; nothing is welded, moved or checked.

    Without -o a 3MF beside the first model; 3MF, OBJ and text STL keep the names.

    \b
    Examples:
      bolvek join body.stl lid.stl handle.stl -o lantern.3mf
    """
    from bolvek.cli.base.outcome import Run, remade
    from bolvek.cli.base.run import run
    from bolvek.cli.base.targets import is_folder
    from bolvek.formats import read_model
    from bolvek.formats.safe import keeps_parts
    from bolvek.jobs.files import expand
    from bolvek.operations.split import join
    from bolvek.units import count_text

    asked = Asked(**shared)
    first, *others = expand(models)
    if not others:
        raise UsageError("join puts several models into one: name two at least")
    target = first.with_name(f"{first.stem}.join.3mf") if output is None else output
    if output is not None and is_folder(output):
        target = output / f"{first.stem}.join.3mf"

    def work(model: "Model", step: "Steps") -> "Outcome":
        read = [step("read others", partial(read_model, path, unit=asked.unit)) for path in others]
        mesh, parts, record = step("join", lambda: join([(m.path.stem, m.mesh, m.parts) for m in [model, *read]]))
        text = f"{count_text(record.models, 'model')}, {count_text(len(record.names), 'part')}"
        if not keeps_parts(target.suffix, text=asked.ascii_stl):
            text += f"; {target.suffix.lstrip('.').upper()} has no place for their names"
        done = remade(dataclasses.replace(model, parts=parts), mesh, {"join": record}, text, "done")
        return dataclasses.replace(done, rows=[("join", text, ""), ("parts", ", ".join(record.names), "")])

    how = Run(
        verb="join",
        settings={},
        work=work,
        writes="proven",
        inputs={f"model {k}": path for k, path in enumerate(others, 2)},
        keeps_names=True,
    )
    run(how, [first], asked, target)
