"""`bolvek survey`."""

from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from bolvek.cli.base.bind import bound, taken
from bolvek.cli.base.options import Asked, material_option, options, reading_options, several_models
from bolvek.cli.base.shown import adds
from bolvek.cli.base.types import PATH
from bolvek.settings.measures import SurveySettings

if TYPE_CHECKING:
    from bolvek.analyses.survey import Marks
    from bolvek.cli.base.outcome import Outcome, Steps
    from bolvek.formats import Model


@click.command("survey")
@options(
    several_models,
    click.option("--isolate", type=PATH, metavar="FILE", help="Write only the faces in trouble, a part a class."),
    material_option,
    bound("--near", SurveySettings, "near_mm"),
    bound("--sliver", SurveySettings, "sliver_mm"),
    bound("--knife", SurveySettings, "knife_deg"),
    reading_options,
)
def command(models: tuple[Path, ...], isolate: Path | None, material: str | None, **values: Any) -> None:
    """What is this model: size, shells, openings, every defect with its place, and what it means.

    Several models or folders give a line each and a total; a file that cannot be read stops no other.

    \b
    Examples:
      bolvek survey finial.stl --picture finial.png
      bolvek survey downloads/ --json survey.json
      bolvek survey tile.ply --isolate trouble.obj
    """
    from bolvek.analyses.survey import judge, survey
    from bolvek.cli.base.outcome import Outcome, Run, owned
    from bolvek.cli.base.run import run
    from bolvek.formats.safe import check_suffix
    from bolvek.profiles import load_profiles
    from bolvek.report.words.survey import survey_line, survey_rows

    settings = taken(SurveySettings, values)
    asked = Asked(**values)
    profiles = load_profiles()
    chosen = profiles.material_for(material, None)
    if isolate:
        check_suffix(isolate)

    def work(model: "Model", step: "Steps") -> "Outcome":
        def look() -> Any:
            found, marks = survey(model.mesh, settings, model.parts)
            return found, marks, judge(found, model.polygons, unit=model.unit)

        found, marks, judgement = step("survey", look)
        rows = survey_rows(model, found, judgement, chosen, list(profiles.printers.values()), most=asked.most)
        outputs = []
        if isolate is not None:
            text = _write_isolated(isolate, model, marks, asked)
            rows.append(("isolated", text or f"no face is in trouble; {isolate} was not written", ""))
            outputs += [isolate] if text else []

        def draw() -> bytes:
            from bolvek.report.pictures.results import survey_result

            return survey_result(model.path, model.mesh, found, marks, judgement)

        return Outcome(
            model=model,
            sections={
                "survey": found,
                "judgement": judgement,
                "weight_g": None if found.volume_mm3 is None else chosen.weight_g(found.volume_mm3),
            },
            line=survey_line(model, found, judgement),
            **owned(judgement),
            rows=rows,
            remedies=judgement.remedies,
            picture=draw,
            scene=adds("survey", found, marks),
            outputs=outputs,
            volume_mm3=found.volume_mm3,
        )

    run(Run(verb="survey", settings={"": settings}, work=work, alone={"--isolate": isolate}), models, asked)


def _write_isolated(target: Path, model: "Model", marks: "Marks", asked: Asked) -> str:
    """Write the faces in trouble, and say so; nothing, and an empty text, where there are none."""
    from bolvek.analyses.survey import isolated
    from bolvek.formats import write_model
    from bolvek.report.words.files import written_text

    if not marks.faces:
        return ""
    faces, parts = isolated(model.mesh, marks)
    written = write_model(target, faces, parts=parts, replace=asked.replace)
    return f"{len(faces.faces):,} faces in trouble to {written_text(target, written)}"
