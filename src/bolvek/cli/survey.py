"""`bolvek survey`."""

import time
from pathlib import Path
from typing import TYPE_CHECKING

import click

from bolvek.cli.common import (
    LENGTH,
    PATH,
    Talk,
    check_targets,
    json_option,
    material_option,
    models_argument,
    options,
    picture_option,
    replace_option,
    unit_option,
)
from bolvek.errors import EXIT_FILE, EXIT_FINDINGS, EXIT_SOUND

if TYPE_CHECKING:
    from bolvek.analyses.finding import Finding
    from bolvek.analyses.survey import Judgement
    from bolvek.jobs.look import Looked
    from bolvek.profiles import Material, Printer
    from bolvek.report.record import ModelSection

    Done = tuple[Judgement, int, float]  # what the total needs: judgement, triangles, volume


@click.command("survey")
@options(
    models_argument,
    click.option("--details", is_flag=True, help="Everything about every model, nothing left out of a list."),
    click.option("--isolate", type=PATH, metavar="FILE", help="Write only the faces in trouble, a part a class."),
    material_option,
    click.option("--near", type=LENGTH, help="Vertices nearer than this count as doubled."),
    click.option("--sliver", type=LENGTH, help="Faces lower than this are slivers."),
    click.option(
        "--knife", type=float, default=10.0, show_default=True, metavar="DEGREES", help="Sharper is a knife edge."
    ),
    json_option,
    picture_option,
    unit_option,
    replace_option,
)
def command(
    models: tuple[Path, ...],
    details: bool,
    isolate: Path | None,
    material: str,
    near: float | None,
    sliver: float | None,
    knife: float,
    json_target: Path | None,
    picture_target: Path | None,
    unit: str | None,
    replace: bool,
) -> None:
    """What is this model: size, shells, openings, every defect with its place, and what it means.

    Several models or folders give a line each and a total; a file that cannot be read stops no other.

    \b
    Examples:
      bolvek survey finial.stl --picture finial.png
      bolvek survey downloads/ --json survey.json
      bolvek survey tile.ply --isolate trouble.obj
    """
    from bolvek.analyses.survey import SurveySettings
    from bolvek.errors import BolvekError, UsageError
    from bolvek.formats.safe import check_suffix
    from bolvek.jobs.look import expand, look
    from bolvek.profiles import load_profiles
    from bolvek.report.survey_words import failure_line, survey_line

    settings = SurveySettings(near, sliver, knife)
    settings.check()
    profiles = load_profiles()
    chosen = profiles.material(material)
    files = expand(models)
    if len(files) > 1 and (isolate or picture_target):
        raise UsageError(f"--isolate and --picture are for one model, not for {len(files)}; name one")
    if isolate:
        check_suffix(isolate)
    for file in files:
        check_targets(file, [isolate, picture_target, json_target], replace=replace)
    talk = Talk(json_target)
    begin = time.perf_counter()
    printers = list(profiles.printers.values())
    sections: list[ModelSection] = []
    done: list[Done] = []
    failed: list[tuple[Path, str]] = []
    outputs: list[str] = []
    seconds = {"read": 0.0, "survey": 0.0}
    for k, file in enumerate(files):
        talk.busy(f"survey {file.name} ({k + 1} of {len(files)})" if len(files) > 1 else "survey")
        try:
            found = look(file, settings, unit=unit)
        except BolvekError as error:
            if len(files) == 1:
                raise
            failed.append((file, str(error)))
            talk.row("unread", f"{file}: {failure_line(file, error)}", "red")
            continue
        done.append((found.judgement, found.survey.triangles, found.survey.volume_mm3 or 0.0))
        if json_target is not None:
            from bolvek.report.record import model_section

            mesh = found.model.mesh
            sections.append(model_section(found.model, mesh, survey=found.survey, judgement=found.judgement))
        seconds = {step: seconds[step] + found.seconds[step] for step in seconds}
        if len(files) == 1 or details:
            _tell(talk, found, chosen, printers, details=details)
        else:
            faulty = found.judgement.verdict == "faulty"
            line = survey_line(found.model, found.survey, found.judgement)
            talk.row("faulty" if faulty else "clean", f"{file}: {line}", "red" if faulty else "green")
        if len(files) == 1:
            outputs = _write(talk, found, isolate, picture_target, replace=replace)
        del found  # one model in memory at a time
    if len(files) > 1:
        _total(talk, done, len(failed), time.perf_counter() - begin)
    faulty = any(judgement.verdict == "faulty" for judgement, _, _ in done)
    if json_target is not None:
        from bolvek.report.record import Failure, Record, settings_dict

        talk.write_record(
            Record(
                verb="survey",
                settings=settings_dict(settings),
                models=sections,
                failed=[Failure(file=str(path), text=text) for path, text in failed],
                findings=_findings(sections, len(files) > 1),
                outputs=outputs,
                verdict="unread" if not done else "faulty" if faulty else "clean",
                ok=not (failed or faulty),
                seconds=seconds,
            ),
            replace=replace,
        )
    raise SystemExit(EXIT_FILE if failed else EXIT_FINDINGS if faulty else EXIT_SOUND)


def _tell(talk: Talk, found: "Looked", material: "Material", printers: "list[Printer]", *, details: bool) -> None:
    """Everything about one model."""
    from bolvek.report.survey_words import survey_rows

    extra = {"most": 1_000_000} if details else {}
    for name, text, style in survey_rows(found.model, found.survey, found.judgement, material, printers, **extra):
        talk.row(name, text, style)
    talk.row("took", ", ".join(f"{k} {v:.2f} s" for k, v in found.seconds.items()), "dim")


def _write(
    talk: Talk, found: "Looked", isolate: Path | None, picture_target: Path | None, *, replace: bool
) -> list[str]:
    """Faces in trouble and picture, where asked for; the files written."""
    from bolvek.formats import write_model
    from bolvek.jobs.look import isolated
    from bolvek.report.words import written_text

    outputs: list[str] = []
    mesh, marks = found.model.mesh, found.marks
    if isolate is not None:
        if marks.faces:
            faces, parts = isolated(mesh, marks)
            written = write_model(isolate, faces, parts=parts, replace=replace)
            talk.row("isolated", f"{len(faces.faces):,} faces in trouble to {written_text(isolate, written)}")
            outputs.append(str(isolate))
        else:
            talk.row("isolated", f"no face is in trouble; {isolate} was not written")
    if picture_target is not None:
        from bolvek.report.outputs import write_survey_picture

        write_survey_picture(picture_target, found.model.path, mesh, found.survey, marks, replace=replace)
        talk.row("picture", str(picture_target))
        outputs.append(str(picture_target))
    return outputs


def _total(talk: Talk, done: "list[Done]", failed: int, seconds: float) -> None:
    clean = sum(judgement.verdict == "clean" for judgement, _, _ in done)
    triangles, volume = sum(t for _, t, _ in done), sum(v for _, _, v in done)
    unread = f", {failed} unread" if failed else ""
    talk.row(
        "total",
        f"{len(done) + failed} models: {clean} clean, {len(done) - clean} faulty{unread}; {triangles:,} triangles, "
        f"{volume / 1000:.2f} cm3 where closed; {seconds:.1f} s",
        "bold",
    )


def _findings(sections: "list[ModelSection]", several: bool) -> "list[Finding]":
    """All findings; with the file's name where there are several."""
    from dataclasses import replace

    return [replace(f, file=s.file) if several else f for s in sections if s.judgement for f in s.judgement.findings]
