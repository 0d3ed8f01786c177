"""`bolvek supports`."""

from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from bolvek.cli.base.options import Asked, options, output_option, printer_option, several_models, writing_options
from bolvek.cli.base.shown import adds
from bolvek.cli.base.supported import body_options, rule_options, support_settings
from bolvek.cli.base.types import PATH

if TYPE_CHECKING:
    from bolvek.cli.base.outcome import Outcome, Steps
    from bolvek.formats import Model


@click.command("supports")
@options(
    several_models,
    output_option,
    printer_option,
    click.option("--only-supports", "alone", type=PATH, metavar="FILE", help="Write the supports without the model."),
    rule_options,
    body_options,
    writing_options,
)
def command(
    models: tuple[Path, ...], output: Path | None, printer: str | None, alone: Path | None, **values: Any
) -> None:
    """Hold a model while it is built: the fewest tips, their columns and feet; and the proof that they hold it.

    The model stands as it will be built. A 3MF gets two parts, model and supports; other formats one sound body.
    Falls short (exit code 1) where something stays without hold.

    \b
    Examples:
      bolvek supports carp.stl --printer small-resin -o carp.supported.3mf
      bolvek supports shade.stl --printer filament-bed --show 0,-1,0 --picture supports.png
      bolvek supports carp.stl --lift 5mm --foot plate --only-supports feet.stl
    """
    from bolvek.cli.base.outcome import Outcome, Run
    from bolvek.cli.base.run import run
    from bolvek.cli.base.scaled import finding_rows
    from bolvek.cli.base.targets import is_folder
    from bolvek.formats.safe import check_suffix, write_model
    from bolvek.operations.supports import find_supports
    from bolvek.report.words.files import model_text
    from bolvek.report.words.supports import supports_rows, supports_text, tip_rows

    settings = support_settings(values, printer)
    asked = Asked(**values)
    if alone is not None:
        check_suffix(alone)

    def work(model: "Model", step: "Steps") -> "Outcome":
        from bolvek.report.pictures.supports import supports_result

        mesh = model.mesh
        made, record = step("supports", lambda: find_supports(mesh, settings))
        rows = [("file", f"{model.path.name}: {model_text(model)}", "")]
        rows += [("verdict", supports_text(record), "bold green" if record.ok else "bold red")]
        rows += finding_rows(record.findings)
        rows += [(*row, "") for row in supports_rows(record, most=asked.most)]
        if asked.details:
            rows += [(*row, "") for row in tip_rows(record, most=asked.most)]
        outputs = []
        if alone is not None and made is not None:
            step("write supports", lambda: write_model(alone, made, text=asked.ascii_stl, replace=asked.replace))
            rows.append(("supports to", str(alone), ""))
            outputs.append(alone)
        return Outcome(
            model=model,
            sections={"supports": record},
            line=supports_text(record),
            verdict=record.verdict,
            ok=record.ok,
            findings=record.findings,
            rows=rows,
            picture=lambda: supports_result(model.path, mesh, made, record),
            scene=adds("supports", made, record),
            outputs=outputs,
            supports=made,
            # where nothing needs holding, only an output that was named is written
            written=output is not None or (made is not None and alone is None),
        )

    how = Run(
        verb="supports",
        model_only=True,
        settings={"": settings},
        work=work,
        writes="proven",
        suffix=".3mf" if output is None or is_folder(output) else None,
        alone={"--only-supports": alone},
    )
    run(how, models, asked, output)
