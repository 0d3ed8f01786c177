"""The one way a single operation runs: read, work, write, tell."""

import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

from bolvek.cli.common import Talk, check_targets, finish, output_beside
from bolvek.formats import read_model, write_model
from bolvek.mesh import Mesh
from bolvek.report.outputs import write_picture
from bolvek.report.record import Record, model_section, settings_dict
from bolvek.report.words import model_text, written_text


def operate(
    verb: str,
    model: Path,
    output: Path | None,
    settings: Any,
    work: Callable[[Mesh, Any], tuple[Mesh, Any]],
    words: Callable[[Any], str],
    *,
    json_target: Path | None,
    picture_target: Path | None,
    unit: str | None,
    replace: bool,
) -> None:
    """Run one operation on a file and end the program. Settings are checked before anything is read."""
    settings.check()
    target = output_beside(model, output, verb)
    check_targets(model, [target, json_target, picture_target], replace=replace)
    talk = Talk(json_target)
    seconds = {}

    def timed(name: str, call: Callable[[], Any]) -> Any:
        talk.busy(name)
        begin = time.perf_counter()
        result = call()
        seconds[name] = time.perf_counter() - begin
        return result

    read = timed("read", lambda: read_model(model, unit=unit))
    talk.step("read", model_text(read), seconds["read"])
    mesh, record = timed(verb, lambda: work(read.mesh, settings))
    talk.step(verb, words(record), seconds[verb])
    size = timed("write", lambda: write_model(target, mesh, replace=replace))
    talk.step("write", written_text(target, size), seconds["write"])
    if picture_target is not None:
        write_picture(picture_target, target, mesh, replace=replace)
    talk.write_record(
        Record(
            verb=verb,
            settings=settings_dict(settings),
            models=[model_section(read, mesh, **{verb: record})],
            findings=[],
            outputs=[str(p) for p in (target, picture_target) if p],
            verdict="done",
            seconds=seconds,
        ),
        replace=replace,
    )
    finish(True)
