"""The one way an operation runs: read, work, write, tell; on one model, or on several as a set."""

import time
from collections.abc import Callable, Sequence
from pathlib import Path
from typing import Any

from bolvek.analyses.finding import Finding
from bolvek.analyses.soundness import made_worse, pass_gate
from bolvek.cli.common import Talk, check_targets, finish, is_folder, output_beside
from bolvek.errors import UsageError
from bolvek.formats import read_model, write_model
from bolvek.formats.safe import check_suffix
from bolvek.mesh import Mesh
from bolvek.report.words import model_text, written_text

Work = Callable[[Sequence[Mesh], Any], Sequence[tuple[Mesh, Any]]]


def one_by_one(work: Callable[[Mesh, Any], tuple[Mesh, Any]]) -> Work:
    """An operation on one mesh as one on a set."""
    return lambda meshes, settings: [work(mesh, settings) for mesh in meshes]


def operate(
    verb: str,
    models: Sequence[Path],
    output: Path | None,
    settings: Any,
    work: Work,
    words: Callable[[Any], str],
    *,
    json_target: Path | None,
    picture_target: Path | None,
    unit: str | None,
    ascii_stl: bool,
    replace: bool,
    keep_parts: bool = False,
    choose: Callable[[Any], Any] | None = None,
    moves_only: bool = False,
) -> None:
    """Run one operation on files and end the program. Settings are checked before anything is read.

    keep_parts: the faces stay the same, so the names of the file's pieces stay with them. choose: completes the
    settings by looking at the model, after everything that can be refused without it was. moves_only: the operation
    makes no geometry, so what it is told of is only what rounding made worse; all others pass the gate.
    """
    settings.check()
    if len(models) > 1 and output is not None and not is_folder(output):
        raise UsageError(f"{len(models)} models need a folder to go to, not the file {output}")
    if len(models) > 1 and picture_target is not None:
        raise UsageError(f"--picture is for one model, not for {len(models)}")
    targets = [output_beside(model, output, verb) for model in models]
    for target in targets:
        check_suffix(target)
        if ascii_stl and target.suffix.lower() != ".stl":
            raise UsageError(f"--ascii is for STL, not for {target}")
    for k, target in enumerate(targets):
        if target in targets[:k]:
            first = models[targets.index(target)]
            raise UsageError(f"{first} and {models[k]} would both be written to {target}: give them different names")
    check_targets(models, [*targets, json_target, picture_target], replace=replace)
    talk = Talk(json_target)
    if choose is not None:
        settings = choose(settings)
        settings.check()
    seconds: dict[str, float] = {}

    def timed(name: str, call: Callable[[], Any]) -> tuple[Any, float]:
        talk.busy(name)
        begin = time.perf_counter()
        result = call()
        took = time.perf_counter() - begin
        seconds[name] = seconds.get(name, 0.0) + took
        return result, took

    read = []
    for model in models:
        found, took = timed("read", lambda model=model: read_model(model, unit=unit))  # type: ignore[misc]
        talk.step("read", (f"{model.name}: " if len(models) > 1 else "") + model_text(found), took)
        read.append(found)
    results, took = timed(verb, lambda: work([r.mesh for r in read], settings))
    for model, (_, record) in zip(models, results, strict=True):
        talk.step(verb, (f"{model.name}: " if len(models) > 1 else "") + words(record), took)
    findings = []
    for model, found, target, (mesh, _) in zip(models, read, targets, results, strict=True):
        if not moves_only:
            timed("check", lambda mesh=mesh: pass_gate(mesh, verb))  # type: ignore[misc]
        elif target.suffix.lower() == ".stl" and not ascii_stl:
            worse, _ = timed("check", lambda found=found, mesh=mesh: made_worse(found.mesh, mesh))  # type: ignore[misc]
            if worse:
                text = f"{model.name}: rounding to what the file holds made {'; '.join(d.text for d in worse)} of it"
                findings.append(Finding("rounded", "fault", sum(d.count for d in worse), text, worse[0].where_mm[0]))
        parts = found.parts if keep_parts else None

        def write(target: Path = target, mesh: Mesh = mesh, parts: Any = parts) -> Any:
            return write_model(target, mesh, parts=parts, text=ascii_stl, replace=replace)

        written, took = timed("write", write)
        talk.step("write", written_text(target, written), took)
    if picture_target is not None:
        from bolvek.report.outputs import write_picture

        write_picture(picture_target, targets[0], results[0][0], replace=replace)
    if json_target is not None:  # the record's schema takes half a second to import
        from bolvek.report.record import Record, model_section, settings_dict

        talk.write_record(
            Record(
                verb=verb,
                settings=settings_dict(settings),
                models=[
                    model_section(found, mesh, **{verb: record})
                    for found, (mesh, record) in zip(read, results, strict=True)
                ],
                findings=findings,
                outputs=[str(p) for p in (*targets, picture_target) if p],
                verdict="worse" if findings else "written" if moves_only else "done",
                ok=not findings,
                seconds=seconds,
            ),
            replace=replace,
        )
    for finding in findings:
        talk.row("fault", finding.text, "red")
    finish(not findings)
