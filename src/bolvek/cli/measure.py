"""The one way a measuring verb runs: read, scale if asked, measure, tell, draw, record; on one model."""

import time
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import click

from bolvek.cli.common import (
    LENGTH,
    Talk,
    check_targets,
    finish,
    json_option,
    options,
    picture_option,
    replace_option,
    unit_option,
)
from bolvek.errors import UsageError
from bolvek.mesh import Mesh

scale_to_options = options(
    click.option("--height", type=LENGTH, help="Measure as if scaled to this height (z)."),
    click.option("--longest", type=LENGTH, help="Measure as if scaled to this longest side."),
    click.option("--by", type=float, help="Measure as if scaled by this factor."),
)
measure_options = options(
    scale_to_options,
    click.option("--details", is_flag=True, help="Leave nothing out of a list."),
    json_option,
    picture_option,
    unit_option,
    replace_option,
)


@dataclass(frozen=True)
class Answer:
    """What a measure found: sections of the record, rows of text, findings, verdict and how to draw it."""

    sections: dict[str, Any]
    rows: list[tuple[str, str]]
    findings: tuple[Any, ...]
    verdict: str
    good: bool
    picture: Callable[[Any], bytes]


def run_measure(
    verb: str,
    model: Path,
    settings: dict[str, Any],  # frozen settings by name; "" stands for the verb's own
    work: Callable[[Mesh, bool], Answer],
    *,
    height: float | None,
    longest: float | None,
    by: float | None,
    details: bool,
    json_target: Path | None,
    picture_target: Path | None,
    unit: str | None,
    replace: bool,
) -> None:
    """Run a measure and end the program: exit 0 when nothing is a fault, else 1."""
    from bolvek.formats import read_model
    from bolvek.formats.safe import write_bytes
    from bolvek.operations.scale import ScaleSettings, scale
    from bolvek.report.words import model_text, scale_text

    aims = [aim for aim in (height, longest, by) if aim is not None]
    if len(aims) > 1:
        raise UsageError("give at most one of --height, --longest and --by")
    to = ScaleSettings(by=by, height_mm=height, longest_mm=longest) if aims else None
    if to is not None:
        to.check()
    check_targets(model, [json_target, picture_target], replace=replace)
    talk = Talk(json_target)
    talk.busy("read")
    begin = time.perf_counter()
    read = read_model(model, unit=unit)
    mesh, sections = read.mesh, {}
    talk.row("file", f"{model.name}: {model_text(read)}")
    if to is not None:
        mesh, sections["scale"] = scale(mesh, to)
        talk.row("scaled", scale_text(sections["scale"]))
    middle = time.perf_counter()
    talk.busy(verb)
    answer = work(mesh, details)
    seconds = {"read": middle - begin, verb: time.perf_counter() - middle}
    talk.row("verdict", answer.verdict, "bold green" if answer.good else "bold red")
    for finding in sorted(answer.findings, key=lambda f: f.severity != "fault"):
        talk.row(finding.severity, finding.text, "red" if finding.severity == "fault" else "yellow")
    for name, text in answer.rows:
        talk.row(name, text)
    outputs = []
    if picture_target is not None:
        from bolvek.report.picture import model_caption

        talk.busy("picture")
        caption = model_caption(model, mesh, verdict=answer.verdict, fit=answer.good)
        write_bytes(picture_target, answer.picture(caption), replace=replace)
        talk.row("picture", str(picture_target))
        outputs.append(str(picture_target))
    talk.row("took", ", ".join(f"{k} {v:.2f} s" for k, v in seconds.items()), "dim")
    if json_target is not None:  # the record's schema takes half a second to import
        from bolvek.report.record import Record, model_section, settings_dict

        asked = settings_dict(settings[""])
        asked |= {name: settings_dict(more) for name, more in settings.items() if name and more is not None}
        talk.write_record(
            Record(
                verb=verb,
                settings=asked,
                models=[model_section(read, mesh, **sections, **answer.sections)],
                findings=list(answer.findings),
                outputs=outputs,
                verdict=answer.verdict,
                ok=answer.good,
                seconds=seconds,
            ),
            replace=replace,
        )
    finish(answer.good)
