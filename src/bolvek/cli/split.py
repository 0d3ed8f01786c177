"""`bolvek split`."""

from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from bolvek.cli.base.bind import bound, taken
from bolvek.cli.base.options import Asked, options, output_option, several_models, writing_options
from bolvek.settings.parts import SplitSettings

if TYPE_CHECKING:
    from bolvek.cli.base.outcome import Outcome, Steps
    from bolvek.formats import Model


@click.command("split")
@options(
    several_models,
    bound("--into", SplitSettings, "by"),
    bound("--least-size", SplitSettings, "least_mm"),
    bound("--gather", SplitSettings, "gather"),
    bound("--largest", SplitSettings, "largest"),
    output_option,
    writing_options,
)
def command(models: tuple[Path, ...], output: Path | None, **values: Any) -> None:
    """Write each part of models into a file of its own, the largest first; a shell with its voids is one part.

    Files with names of parts (3MF, OBJ) are split by them unless --into part is given. Nothing is moved or mended.

    \b
    Examples:
      bolvek split lantern.3mf -o parts/
      bolvek split scan.stl --least-size 2mm --gather
    """
    from bolvek.cli.base.outcome import Outcome, Run
    from bolvek.cli.base.run import run
    from bolvek.cli.base.scaled import finding_rows
    from bolvek.cli.base.several import write_several
    from bolvek.operations.split import named, split, tags
    from bolvek.report.words.split import split_rows, split_text

    settings = taken(SplitSettings, values)
    asked = Asked(**values)

    def work(model: "Model", step: "Steps") -> "Outcome":
        made, record = step("split", lambda: split(model.mesh, model.parts, settings))
        files = list(zip(tags(record), made.parts, strict=True))
        if made.strays is not None:
            files.append(("strays", made.strays))
        outputs = step("write", lambda: write_several(model.path, files, output, "split", asked))
        names = [str(path) for path in outputs]
        record = named(record, names[: len(made.parts)], names[-1] if made.strays is not None else "")
        rows = [("split", split_text(record), ""), *((*row, "") for row in split_rows(record, most=asked.most))]

        def draw() -> bytes:
            from bolvek.report.pictures.pieces import parts_picture
            from bolvek.report.pictures.plain import model_caption

            caption = model_caption(model.path, model.mesh, parts=f"{len(made.parts)} parts")
            return parts_picture(made.parts, [part.name for part in record.parts], caption)

        return Outcome(
            model=model,
            sections={"split": record},
            line=split_text(record),
            verdict="done",
            rows=rows + finding_rows(record.findings),
            findings=record.findings,
            picture=draw,
            outputs=outputs,
        )

    run(Run(verb="split", settings={"": settings}, work=work), models, asked)
