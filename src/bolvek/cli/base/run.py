"""The one way a verb runs: read, work, check, write, tell, record; for one model or for many."""

import dataclasses
import sys
import time
from collections import Counter
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING, Any, Literal, NoReturn, TypeVar

import click

from bolvek.analyses.finding import Finding
from bolvek.cli.base.console import Talk
from bolvek.cli.base.kernels import prepare_kernels
from bolvek.cli.base.options import Asked
from bolvek.cli.base.remedies import commands, in_short, lines
from bolvek.cli.base.targets import check_targets, outputs_for
from bolvek.cli.base.workers import PART, Finished, Kept, each_in_its_own
from bolvek.errors import EXIT_FINDINGS, EXIT_SOUND, EXIT_STOPPED, BolvekError, UsageError, WorkError
from bolvek.formats import Model, Parts, read_model, write_model
from bolvek.formats.safe import Written, check_suffix, write_bytes
from bolvek.jobs.files import expand
from bolvek.report.words.files import model_text, written_text
from bolvek.settings import Remedy, settings_dict
from bolvek.units import as_triple, count_text

if TYPE_CHECKING:
    from bolvek.mesh import Mesh
    from bolvek.report.page.entry import Entry
    from bolvek.report.page.scene import Scene
    from bolvek.report.record import ModelSection
    from bolvek.report.table import Row as TableRow

T = TypeVar("T")
Row = tuple[str, str, str]
"""What, what is said about it, and a style."""


@dataclass(frozen=True, kw_only=True)
class Outcome:
    """What a verb found in a model, or made of it.

    model: as read, with the mesh that it has now; sections: those of the record; line: all in one line, where it is
    one of many; rows: everything, where it is alone; remedies: what to do now, beside those of findings; picture: draws
    it; outputs: files that the work wrote itself; volume_mm3: counted together where told.
    """

    model: Model
    sections: dict[str, Any]
    line: str
    verdict: str
    ok: bool = True
    rows: Sequence[Row] = ()
    findings: tuple[Finding, ...] = ()
    remedies: tuple[Remedy, ...] = ()
    picture: Callable[[], bytes] | None = None
    scene: "Callable[[Scene], Scene] | None" = None
    outputs: Sequence[Path] = ()
    volume_mm3: float | None = None


def remade(model: Model, mesh: "Mesh", records: dict[str, Any], line: str, verdict: str) -> Outcome:
    """The outcome of an operation: the model with another mesh."""

    def draw() -> bytes:
        from bolvek.report.pictures.results import plain_result  # imports what only pictures need

        return plain_result(model.path, mesh)

    after = dataclasses.replace(model, mesh=mesh)
    return Outcome(model=after, sections=records, line=line, verdict=verdict, picture=draw)


class Steps:
    """Runs the steps of one model, each with its seconds; tells of them where the model is alone."""

    def __init__(self, talk: Talk, loud: bool, of: str, texts: Mapping[str, Callable[[Any], str]]) -> None:
        self.seconds: dict[str, float] = {}
        self._talk, self._loud, self._of, self._texts = talk, loud, of, texts

    def __call__(self, name: str, work: Callable[[], T], /) -> T:
        begin = time.perf_counter()
        with self._talk.during(f"{name}{self._of}"):
            result = work()
        took = time.perf_counter() - begin
        self.seconds[name] = self.seconds.get(name, 0.0) + took
        if self._loud and name in self._texts:
            self._talk.step(name, self._texts[name](result), took)
        return result


@dataclass(frozen=True, kw_only=True)
class Run:
    """How a verb works on each of its models.

    settings: the verb's own by the name "", others by theirs. work(model, step) does it and returns the outcome.
    writes: the mesh of the outcome is written, after it passed the gate ("made"), when it was only moved ("moved":
    told what rounding made worse, and names kept), or as it is ("proven": the work has judged it already). suffix:
    that of the files written, where it is not the model's own. alone: targets that only one model may have, inputs:
    other files read for it. kernels: groups of them needed beyond the table. texts: what is told of each step.
    as_set: what is found from all meshes together before the work, which gets it as a third argument. keeps_names: the
    parts of the outcome's model, numbered face by face, are written with it. model_only: objects that the file calls
    support are left out before the work. after: what to do once a model's file stands. among: the files among which
    other processes count those that they work on, where it is not just these.
    """

    verb: str
    settings: Mapping[str, Any]
    work: Callable[..., Outcome]
    writes: Literal["made", "moved", "proven"] | None = None
    suffix: str | None = None
    alone: Mapping[str, Path | None] = field(default_factory=dict)
    inputs: Mapping[str, Path | None] = field(default_factory=dict)
    kernels: Sequence[str] = ()
    texts: Mapping[str, Callable[[Any], str]] = field(default_factory=dict)
    after: "Callable[[Path, Path | None, Outcome], None] | None" = None
    among: Sequence[Path] | None = None
    as_set: "Callable[[Sequence[Mesh]], Any] | None" = None
    keeps_names: bool = False
    model_only: bool = False


COLLECTED: list[bool] = []
"""Not empty while verbs are only asked how they would work."""


class Collected(BaseException):
    """How a verb would work, instead of its work."""

    def __init__(self, how: Run) -> None:
        super().__init__()
        self.how = how


@dataclass(frozen=True)
class _Judged:
    """What is left of an outcome when its model is gone."""

    verdict: str
    ok: bool
    findings: tuple[Finding, ...]
    volume_mm3: float | None


@dataclass
class _Done:
    """What the total and the record need of all models."""

    sections: "list[ModelSection]" = field(default_factory=list)
    judged: list[_Judged] = field(default_factory=list)
    triangles: int = 0
    failed: list[tuple[Path, BolvekError]] = field(default_factory=list)
    outputs: list[str] = field(default_factory=list)
    entries: "list[Entry]" = field(default_factory=list)
    rows: "list[TableRow]" = field(default_factory=list)
    seconds: dict[str, float] = field(default_factory=dict)

    def add(self, other: "_Done") -> None:
        """What another process has done, after what there is."""
        self.sections += other.sections
        self.judged += other.judged
        self.failed += other.failed
        self.outputs += other.outputs
        self.entries += other.entries
        self.rows += other.rows
        self.triangles += other.triangles
        for name, seconds in other.seconds.items():
            self.seconds[name] = self.seconds.get(name, 0.0) + seconds


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
    if PART:
        _work_on_part(how, files, asked, output)
    alone = {"--picture": None if how.suffix else asked.picture_target, **how.alone}
    if len(files) > 1:
        for name, path in (*alone.items(), *how.inputs.items()):
            if path is not None:
                raise UsageError(f"{name} is for one model, not for {len(files)}; name one")
    targets: list[Path] = []
    if how.writes or how.suffix:
        targets = outputs_for(files, output, how.verb, how.suffix)
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
    prepare_kernels(how.verb, files, [*how.kernels, *(["picture"] if drawn else [])], targets)
    begin = time.perf_counter()
    done = _Done()
    try:
        if asked.jobs > 1 and len(files) > 1 and how.as_set is None:
            _run_beside(how, files, asked, talk, done)
        else:
            _run_all(how, files, targets, asked, talk, done)
    except KeyboardInterrupt:
        if not done.outputs:
            raise
        click.echo(f"bolvek: stopped; {count_text(len(done.outputs), 'file')} written before that", err=True)
        sys.exit(EXIT_STOPPED)
    if len(files) > 1:
        talk.row("total", _total_text(done, time.perf_counter() - begin), "bold")
    if asked.page_target is not None and done.entries:
        from bolvek.cli.base.page import write_page

        failed = [(str(file), str(error)) for file, error in done.failed]
        pages = write_page(asked.page_target, done.entries, failed, how.verb, replace=asked.replace)
        done.outputs += [str(path) for path in pages]
        talk.row("page", str(pages[-1]))
    if asked.table_target is not None:
        from bolvek.report.table import table_bytes

        write_bytes(asked.table_target, table_bytes(done.rows, asked.table_target), replace=asked.replace)
        done.outputs.append(str(asked.table_target))
        talk.row("table", str(asked.table_target))
    if asked.json_target is not None:
        _write_record(how, len(files) > 1, asked, talk, done)
    codes = [error.exit_code for _, error in done.failed]
    codes += [EXIT_SOUND if outcome.ok else EXIT_FINDINGS for outcome in done.judged]
    sys.exit(max(codes))


def _work_on_part(how: Run, files: list[Path], asked: Asked, output: Path | None) -> NoReturn:
    """In a worker: the one file, as one of several; what came of it, and what was said, goes back."""
    number, talk, done = PART[0], Kept(), _Done()
    targets = outputs_for(files, output, how.verb, how.suffix) if how.writes or how.suffix else []
    _run_all(how, files, targets, asked, talk, done, only=number)
    raise Finished((done, talk.said))


def _run_beside(how: Run, files: list[Path], asked: Asked, talk: Talk, done: _Done) -> None:
    """Several models at once, told in their order."""
    arguments = tuple(click.get_current_context().find_root().obj or ())

    among = files if how.among is None else list(how.among)

    def tell(number: int, came: Any) -> None:
        if isinstance(came, BolvekError):
            _failed(talk, done, among[number], came, how.verb, tabled=asked.table_target is not None)
            return
        part, said = came
        for cells in said:
            talk.tell(*cells)
        done.add(part)

    with talk.during(f"{how.verb} {len(files)} models, {asked.jobs} at once"):
        each_in_its_own(among, [among.index(f) for f in files], how.verb, arguments, asked.jobs, tell)


def _run_all(
    how: Run,
    files: list[Path],
    targets: list[Path],
    asked: Asked,
    talk: Talk,
    done: _Done,
    only: int | None = None,
) -> None:
    """Each model in turn, one in memory at a time unless they belong together; or only one of them."""
    several = len(files) > 1
    tabled = asked.table_target is not None
    texts = {**(_TEXTS if how.writes else {}), **how.texts}
    loud = not several or asked.details
    steps = {file: Steps(talk, loud, _of(file, files), texts) for file in files}
    read: dict[Path, Model] = {}
    shared: tuple[Any, ...] = ()
    if how.as_set is not None:
        for file in files:
            read[file] = steps[file]("read", partial(read_model, file, unit=asked.unit))
        shared = (how.as_set([model.mesh for model in read.values()]),)
    for k, file in enumerate(files):
        if only is not None and k != only:
            continue
        target = targets[k] if targets else None
        step = steps[file]
        if several and asked.details:
            talk.row("model", str(file), "bold")
        try:
            model = read.pop(file, None) or step("read", partial(read_model, file, unit=asked.unit))
            model = model.without_support() if how.model_only else model
            outcome = _one(how, model, step, target, shared, asked, talk, done, several=several)
        except BolvekError as error:
            if not several:
                raise
            _failed(talk, done, file, error, how.verb, tabled=tabled)
        except MemoryError:
            if not several:
                raise
            gone = WorkError("there is not enough memory for this on this machine")
            _failed(talk, done, file, gone, how.verb, tabled=tabled)
        else:
            done.triangles += len(outcome.model.mesh.faces)
            done.judged.append(_Judged(outcome.verdict, outcome.ok, outcome.findings, outcome.volume_mm3))
            del model, outcome
        for name, seconds in step.seconds.items():
            done.seconds[name] = done.seconds.get(name, 0.0) + seconds


def _one(
    how: Run,
    model: Model,
    step: Steps,
    target: Path | None,
    shared: tuple[Any, ...],
    asked: Asked,
    talk: Talk,
    done: _Done,
    *,
    several: bool,
) -> Outcome:
    """Work on one model, write it, tell of it."""
    before = model.mesh if how.writes == "moved" else None
    was = as_triple(model.mesh.size), len(model.mesh.faces)
    made = len(done.outputs)
    read = model.mesh if asked.page_target is not None else None
    outcome = how.work(model, step, *shared)
    written = ""
    if how.writes and target is not None:
        outcome = _gated(how, outcome, before, target, asked, step)
        parts = outcome.model.parts if how.writes == "moved" or how.keeps_names else None
        step("write", partial(_write, target, outcome.model.mesh, parts, asked))
        written = f"; to {target}"
        done.outputs.append(str(target))
    if how.after is not None:
        how.after(model.path, target if written else None, outcome)
    picture = target if how.suffix == ".png" else asked.picture_target
    ways = _ways(outcome, target if written else None)
    if not several or asked.details:
        for row in _verdict_first(outcome, ways):
            talk.row(*row)
    done.outputs += [str(path) for path in outcome.outputs]
    if picture is not None and outcome.picture is not None:
        with talk.during("picture"):
            write_bytes(picture, outcome.picture(), replace=asked.replace)
        if not several:
            talk.row("picture", str(picture))
        done.outputs.append(str(picture))
    if read is not None:
        from bolvek.cli.base.page import gathered

        rows = _verdict_first(outcome, ways)
        with talk.during("page"):
            page = gathered(outcome, read, rows, how.settings, step.seconds, target if written else None)
        done.entries.append(page)
    if several and not asked.details:
        mark = "green" if outcome.ok else "red"
        first = f"; {in_short(ways, how.verb)}" if ways and not outcome.ok else ""
        talk.row(outcome.verdict, f"{model.path}: {outcome.line}{written}{first}", mark=mark)
    elif not how.writes and how.suffix is None:
        talk.row("took", ", ".join(f"{name} {seconds:.2f} s" for name, seconds in step.seconds.items()), "dim")
    if asked.json_target is not None or asked.table_target is not None:
        from bolvek.report.record import model_section  # the record's schema takes half a second to import

        section = model_section(
            outcome.model,
            outcome.model.mesh,
            verdict=outcome.verdict,
            outputs=done.outputs[made:],
            next=ways,
            **outcome.sections,
        )
        done.sections.append(section)
        if asked.table_target is not None:
            from bolvek.report.table import table_row

            done.rows.append(
                table_row(
                    section,
                    outcome.findings,
                    verb=how.verb,
                    exit_code=EXIT_SOUND if outcome.ok else EXIT_FINDINGS,
                    before=was,
                    seconds=round(sum(step.seconds.values()), 3),
                    memory_mb=peak_mb(),
                )
            )
    return outcome


def _ways(outcome: Outcome, made: Path | None) -> list[Remedy]:
    """What to do now, as commands; faults before notes."""
    ordered = sorted(outcome.findings, key=lambda f: f.severity != "fault")
    found = [*outcome.remedies, *(one for f in ordered for one in f.remedies)]
    arguments = click.get_current_context().find_root().obj or ()
    return commands(found, arguments, str(outcome.model.path), str(made or ""))


def _verdict_first(outcome: Outcome, ways: list[Remedy]) -> list[Row]:
    """The rows of one model: the verdict and what speaks against its unit, what to do now, everything else."""
    head = [row for row in outcome.rows if row[0] in ("verdict", "unit")]
    rest = [row for row in outcome.rows if row[0] not in ("verdict", "unit")]
    return [*head, *(("next", line, "bold") for line in lines(ways)), *rest]


def _write(target: Path, mesh: "Mesh", parts: Parts | None, asked: Asked) -> tuple[Path, Written]:
    return target, write_model(target, mesh, parts=parts, text=asked.ascii_stl, replace=asked.replace)


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


def _failed(talk: Talk, done: _Done, file: Path, error: BolvekError, verb: str, *, tabled: bool) -> None:
    text = str(error).removeprefix(f"{file}: ").removeprefix(f"{file} ")
    if first := in_short(error.remedies, verb):
        text += f"; {first}"
    talk.row("failed", f"{file}: {text}", mark="red")
    done.failed.append((file, error))
    if tabled:
        from bolvek.report.table import failed_row

        done.rows.append(failed_row(str(file), text, error.exit_code))


def peak_mb() -> float | None:
    """The most memory that this process has had, MB."""
    try:
        import resource
    except ImportError:  # not on this system
        return None
    most = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss
    return round(most / (1e6 if sys.platform == "darwin" else 1024), 1)


def _of(file: Path, files: list[Path]) -> str:
    return f" {file.name} ({files.index(file) + 1} of {len(files)})" if len(files) > 1 else ""


def _total_text(done: _Done, seconds: float) -> str:
    """How many of each verdict, and what they are together."""
    words = [f"{n:,} {verdict}" for verdict, n in Counter(o.verdict for o in done.judged).most_common()]
    if done.failed:
        words.append(f"{len(done.failed):,} failed")
    text = f"{count_text(len(done.judged) + len(done.failed), 'model')}: {', '.join(words)}"
    text += f"; {count_text(done.triangles, 'triangle')}"
    volumes = [o.volume_mm3 for o in done.judged if o.volume_mm3 is not None]
    if volumes:
        text += f", {sum(volumes) / 1000:.2f} cm3 where closed"
    return f"{text}; {seconds:.1f} s"


def _write_record(how: Run, several: bool, asked: Asked, talk: Talk, done: _Done) -> None:
    from bolvek.report.record import Failure, Record

    fallen = [o for o in done.judged if not o.ok]
    first = fallen[0] if fallen else done.judged[0] if done.judged else None
    findings = [f for o in done.judged for f in o.findings]
    if several:
        named = [(s.file, o.findings) for s, o in zip(done.sections, done.judged, strict=True)]
        findings = [dataclasses.replace(f, file=file) for file, found in named for f in found]
    settings = settings_dict(how.settings[""]) if "" in how.settings else {}
    settings |= {name: settings_dict(more) for name, more in how.settings.items() if name}
    talk.write_record(
        Record(
            verb=how.verb,
            settings=settings,
            models=done.sections,
            failed=[Failure(file=str(path), text=str(error)) for path, error in done.failed],
            findings=findings,
            outputs=done.outputs,
            verdict=first.verdict if first else "failed",
            ok=not (done.failed or fallen),
            seconds=done.seconds,
        ),
        replace=asked.replace,
    )


_TEXTS: dict[str, Callable[[Any], str]] = {"read": model_text, "write": lambda done: written_text(*done)}
