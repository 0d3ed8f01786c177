"""The one way a verb runs: read, work, check, write, tell, record; for one model or for many."""

import dataclasses
import sys
import time
from collections.abc import Callable, Sequence
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING, Any, NoReturn

import click

from bolvek.analyses.finding import Finding
from bolvek.cli.base.bugs import as_bug
from bolvek.cli.base.console import Talk
from bolvek.cli.base.done import Done, ModelDone, ModelFailed, peak_mb
from bolvek.cli.base.kernels import prepare_kernels
from bolvek.cli.base.options import Asked
from bolvek.cli.base.outcome import COLLECTED, Collected, Outcome, Row, Run, Steps
from bolvek.cli.base.progress import Progress
from bolvek.cli.base.remedies import commands, lines
from bolvek.cli.base.targets import check_targets, outputs_for
from bolvek.cli.base.workers import PART, Beside, Finished, Kept, Part, part_task
from bolvek.errors import EXIT_SOUND, EXIT_STOPPED, BolvekError, UsageError, WorkError
from bolvek.formats import Model
from bolvek.formats.safe import Written, check_suffix, write_bytes
from bolvek.jobs.files import expand
from bolvek.jobs.ledger import digest
from bolvek.report.words.files import model_text, written_text
from bolvek.settings import Remedy
from bolvek.units import as_triple, count_text

if TYPE_CHECKING:
    from bolvek.mesh import Mesh


def run(how: Run, models: Sequence[Path], asked: Asked, output: Path | None = None) -> NoReturn:
    """Run a verb on files and folders and end the program with the worst exit code of any model.

    All that can be refused is refused before anything is read. A model that fails stops no other.
    """
    for settings in how.settings.values():
        settings.check()
    if COLLECTED:
        raise Collected(how)
    if asked.sheet_target is not None:
        from bolvek.cli.base.sheet import write_sheet

        write_sheet(asked.sheet_target, how.verb, models, output, asked)
        sys.exit(EXIT_SOUND)
    files = expand(models)
    targets = outputs_for(files, output, how.verb, how.suffix) if how.writes or how.suffix else []
    if PART:
        several, file = len(files) > 1, files[PART[0]]
        raise Finished(work_apart(how, file, targets[PART[0]] if targets else None, asked, several=several))
    alone = {"--picture": None if how.suffix == ".png" else asked.picture_target, **how.alone}
    if len(files) > 1:
        for name, path in (*alone.items(), *how.inputs.items()):
            if path is not None:
                raise UsageError(f"{name} is for one model, not for {len(files)}; name one")
    for target in targets if how.writes else ():
        check_suffix(target)
        if asked.ascii_stl and target.suffix.lower() != ".stl":
            raise UsageError(f"--ascii is for STL, not for {target}")
    read = [*files, *(path for path in how.inputs.values() if path is not None)]
    check_targets(read, [*targets, *alone.values(), asked.json_target, asked.table_target], replace=asked.replace)
    if asked.page_target is not None:
        from bolvek.cli.base.page import check_page  # what pages need takes a while to import

        check_page(asked.page_target, files, replace=asked.replace)
    talk = Talk(asked.json_target)
    drawn = asked.picture_target is not None or asked.page_target is not None or how.suffix == ".png"
    if how.engine is None:
        prepare_kernels(how.verb, files, [*how.kernels, *(["picture"] if drawn else [])], targets)
    begin = time.perf_counter()
    done = Done(how.kept)
    among = files if how.among is None else list(how.among)
    several = len(among) > 1
    try:
        if how.engine is not None or (asked.jobs > 1 and len(files) > 1 and how.as_set is None):
            _run_beside(how, files, targets, asked, talk, done, several=several)
        else:
            _run_here(how, files, targets, asked, talk, done, several=several)
    except KeyboardInterrupt:
        if not done.made:
            raise
        click.echo(f"bolvek: stopped; {count_text(done.made, 'file')} written before that", err=True)
        sys.exit(EXIT_STOPPED)
    done.sort(among)
    if several:
        talk.row("total", done.total_text(time.perf_counter() - begin), "bold")
    if asked.page_target is not None and done.entries:
        from bolvek.cli.base.page import write_page

        failed = [(str(file), str(one.error)) for file, one in done.failed]
        pages = write_page(asked.page_target, done.entries, failed, how.verb, replace=asked.replace)
        done.outputs += [str(path) for path in pages]
        missing = len(done.judged) - len(done.entries)
        talk.row("page", f"{pages[-1]}{_not_on(missing)}")
    if asked.table_target is not None:
        from bolvek.report.table import table_bytes

        write_bytes(asked.table_target, table_bytes(done.rows(how.verb), asked.table_target), replace=asked.replace)
        done.outputs.append(str(asked.table_target))
        talk.row("table", f"{asked.table_target}{_not_on(done.unknown)}")
    if asked.json_target is not None:
        done.write_record(how.verb, how.settings, asked, talk, several=several)
    sys.exit(done.exit_code)


def _not_on(count: int) -> str:
    """What a page or a table does not show of models that are left as they were."""
    return (
        f"; without {count_text(count, 'model')} made before it was asked for: --again makes them anew" if count else ""
    )


def work_apart(how: Run, file: Path, target: Path | None, asked: Asked, *, several: bool) -> Part:
    """In a process that works for another: one file; what came of it, and what was said, goes back."""
    talk, done = Kept(), Done({})
    try:
        _run_here(how, [file], [target] if target is not None else [], asked, talk, done, several=several)
    except BolvekError as error:  # of a model that is alone
        return Part(error, talk.said)
    end = next(iter([*done.judged, *(one for _, one in done.failed)]))
    return Part(end, talk.said)


def _run_beside(
    how: Run, files: list[Path], targets: list[Path], asked: Asked, talk: Talk, done: Done, *, several: bool
) -> None:
    """Several models at once, told in their order."""
    arguments = tuple(click.get_current_context().find_root().obj or ())
    if how.task is not None:
        tasks = [how.task(file, target, several) for file, target in zip(files, targets, strict=True)]
    else:
        tasks = [part_task(file, how.verb, arguments, k) for k, file in enumerate(files)]
    engine = how.engine or Beside(asked.jobs)

    def tell(number: int, came: Part | BolvekError) -> None:
        if isinstance(came, BolvekError):
            if not several:
                raise came
            _failed(talk, done, files[number], came, {})
            return
        for cells in came.said:
            talk.tell(*cells)
        if isinstance(came.end, BolvekError):
            raise came.end
        done.add(files[number], came.end)

    progress = Progress(how.verb, files, [task.size for task in tasks])
    try:
        with talk.during(progress):
            engine.hand_out(tasks, tell, progress)
    except KeyboardInterrupt:
        if not progress.done:
            raise
        text = f"{progress.done} of {count_text(len(files), 'model')} done before that, their files written"
        click.echo(f"bolvek: stopped; {text}", err=True)
        sys.exit(EXIT_STOPPED)


def _run_here(
    how: Run, files: list[Path], targets: list[Path], asked: Asked, talk: Talk, done: Done, *, several: bool
) -> None:
    """Each model in turn, one in memory at a time unless they belong together. What goes wrong with one of several
    stops no other."""
    texts = {**(_TEXTS if how.writes else {}), **how.texts}
    loud = not several or asked.details
    steps = [
        Steps(talk, loud, f" {file.name} ({k} of {len(files)})" if several else "", texts)
        for k, file in enumerate(files, 1)
    ]
    read: dict[Path, Model] = {}
    shared: tuple[Any, ...] = ()
    if how.as_set is not None:
        for file, step in zip(files, steps, strict=True):
            read[file] = step("read", partial(how.store.read, file, asked.unit))
        shared = (how.as_set([model.mesh for model in read.values()]),)
    for k, file in enumerate(files):
        step = steps[k]
        if several and asked.details:
            talk.row("model", str(file), "bold")
        try:
            model = read.pop(file, None) or step("read", partial(how.store.read, file, asked.unit))
            model = model.without_support() if how.model_only else model
            end = _one(how, model, step, targets[k] if targets else None, shared, asked, talk, several=several)
        except Exception as error:
            if not several:
                raise
            if isinstance(error, MemoryError):
                told: BolvekError = WorkError("there is not enough memory for this on this machine")
            else:
                told = error if isinstance(error, BolvekError) else as_bug(error)
            _failed(talk, done, file, told, step.seconds)
        else:
            done.add(file, end)
            del model


def _one(
    how: Run,
    model: Model,
    step: Steps,
    target: Path | None,
    shared: tuple[Any, ...],
    asked: Asked,
    talk: Talk,
    *,
    several: bool,
) -> ModelDone:
    """Work on one model, write it, tell of it."""
    before = model.mesh if how.writes == "moved" else None
    was = as_triple(model.mesh.size), len(model.mesh.faces)
    read = model.mesh if asked.page_target is not None else None
    outcome = how.work(model, step, *shared)
    writes = bool(how.writes) and target is not None and outcome.written
    if writes and target is not None:
        outcome = _gated(how, outcome, before, target, asked, step)
    picture = target if how.suffix == ".png" else asked.picture_target
    picture = picture if outcome.picture is not None else None
    outputs = [target if writes else None, *outcome.outputs, picture]
    ways = _ways(outcome, target if writes else None)
    end = ModelDone(
        verdict=outcome.verdict,
        ok=outcome.ok,
        findings=outcome.findings,
        triangles=len(outcome.model.mesh.faces),
        volume_mm3=outcome.volume_mm3,
        outputs=tuple(str(path) for path in outputs if path is not None),
        seconds=step.seconds,
        before=was,
        memory_mb=peak_mb(),
    )
    if asked.json_target is not None or asked.table_target is not None:
        from bolvek.report.record import model_section  # the record's schema takes half a second to import

        section = model_section(
            outcome.model,
            outcome.model.mesh,
            verdict=outcome.verdict,
            outputs=list(end.outputs),
            next=ways,
            **outcome.sections,
        )
        end = dataclasses.replace(end, section=section)
    hashed = ""
    if writes and target is not None:
        if picture is None and read is None:
            outcome.model.mesh.derived.forget()  # the bytes, and what is read back of them, take memory too
        model = outcome.model
        if outcome.supports is not None:
            from bolvek.cli.base.supported import with_supports  # what fuses takes a while to import

            model = with_supports(model, outcome.supports, target, step)
        hashed = step("write", partial(_write, how, model, target, asked, end))[2]
    if not several or asked.details:
        for row in _verdict_first(outcome, ways):
            talk.row(*row)
    if picture is not None and outcome.picture is not None:
        with talk.during("picture"):
            write_bytes(picture, outcome.picture(), replace=asked.replace)
        if not several:
            talk.row("picture", str(picture))
    if read is not None:
        from bolvek.cli.base.page import gathered

        rows = _verdict_first(outcome, ways)
        if writes:
            rows += [("written", str(target), ""), ("its SHA-256", hashed, "")]
        with talk.during("page"):
            end = dataclasses.replace(end, entry=gathered(outcome, read, rows, how.settings, step.seconds))
    if several and not asked.details:
        mark = "green" if outcome.ok else "red"
        written = f"; to {target}" if writes else ""
        first = f"; next: {ways[0].command}" if ways and not outcome.ok else ""
        talk.row(outcome.verdict, f"{model.path}: {outcome.line}{written}{first}", mark=mark)
    elif not how.writes and how.suffix is None:
        talk.row("took", ", ".join(f"{name} {seconds:.2f} s" for name, seconds in step.seconds.items()), "dim")
    return end


def _ways(outcome: Outcome, made: Path | None) -> list[Remedy]:
    """What to do now, as commands; faults before notes."""
    ordered = sorted(outcome.findings, key=lambda f: f.severity != "fault")
    found = [*outcome.remedies, *(one for f in ordered for one in f.remedies)]
    return _commands(found, str(outcome.model.path), str(made or ""))


def _commands(remedies: Sequence[Remedy], read: str, made: str = "") -> list[Remedy]:
    """Remedies worded for the command line of this run."""
    return commands(remedies, click.get_current_context().find_root().obj or (), read, made)


def _verdict_first(outcome: Outcome, ways: list[Remedy]) -> list[Row]:
    """The rows of one model: the verdict and what speaks against its unit, what to do now, everything else."""
    head = [row for row in outcome.rows if row[0] in ("verdict", "unit")]
    rest = [row for row in outcome.rows if row[0] not in ("verdict", "unit")]
    return [*head, *(("next", line, "bold") for line in lines(ways)), *rest]


def _write(how: Run, model: Model, target: Path, asked: Asked, end: ModelDone) -> tuple[Path, Written, str]:
    """Write a model, announced where that was asked for; and the SHA-256 of the file."""
    named = how.writes == "moved" or how.keeps_names or (model.parts is not None and bool(model.parts.support))
    parts = model.parts if named else None
    hashed = []

    def announce(data: bytes) -> None:
        if asked.page_target is not None:
            hashed.append(digest(data))
        if how.announce is not None:
            how.announce(model.path, target, data, end)

    written = how.store.write(target, model.mesh, parts, asked, announce)
    return target, written, "".join(hashed)


def _gated(how: Run, outcome: Outcome, before: "Mesh | None", target: Path, asked: Asked, step: Steps) -> Outcome:
    """The outcome, checked: what was made is sound or raises WorkError; what was moved is told what rounding did."""
    from bolvek.analyses.soundness import made_worse, pass_gate

    mesh = outcome.model.mesh
    if how.writes == "made":
        step("check", lambda: pass_gate(mesh, how.verb))
    elif before is not None and target.suffix.lower() == ".stl" and not asked.ascii_stl:
        worse = step("check", lambda: made_worse(before, mesh))
        if worse:
            name = outcome.model.path.name
            text = f"{name}: rounding to what the file holds made {'; '.join(d.text for d in worse)} of it"
            finding = Finding("rounded", "fault", sum(d.count for d in worse), text, worse[0].where_mm[0])
            rows = [*outcome.rows, ("fault", text, "red")]
            outcome = dataclasses.replace(outcome, verdict="worse", ok=False, findings=(finding,), rows=rows)
    return outcome


def _failed(talk: Talk, done: Done, file: Path, error: BolvekError, seconds: dict[str, float]) -> None:
    text = str(error).removeprefix(f"{file}: ").removeprefix(f"{file} ")
    if ways := _commands(error.remedies, str(file)):
        text += f"; next: {ways[0].command}"
    talk.row("failed", f"{file}: {text}", mark="red")
    done.add(file, ModelFailed(error=error, text=text, seconds=seconds))


_TEXTS: dict[str, Callable[[Any], str]] = {"read": model_text, "write": lambda done: written_text(*done[:2])}
