"""A job sheet at work: each verb's own command says how it works, here one hands its model to the next."""

import dataclasses
import importlib
import os
from collections.abc import Mapping
from dataclasses import dataclass
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from bolvek import __version__
from bolvek.analyses.soundness import made_worse, pass_gate
from bolvek.cli.base.console import Talk
from bolvek.cli.base.done import ModelDone
from bolvek.cli.base.outcome import COLLECTED, Collected, Outcome, Run, Steps
from bolvek.cli.base.targets import is_folder, outputs_for
from bolvek.cli.base.types import FolderPath
from bolvek.cli.base.workers import needed_mb
from bolvek.cli.verbs import HELP, VERBS
from bolvek.errors import BolvekError, FileError, WorkError
from bolvek.formats.registry import file_bytes
from bolvek.jobs.ledger import Entry, Ledger, asked_hash, digest, sha256, up_to_date
from bolvek.jobs.sheet import WHEN, Sheet, SheetStep
from bolvek.profiles import user_files
from bolvek.units import count_text, size_text

if TYPE_CHECKING:
    from bolvek.formats import Model

_NO_STEPS = ("picture", "page", "fuse", "join", "carve", "cut", "split", "compare", "profiles", "schema", "demo", "run")
WHAT_A_SHEET_WRITES = "a sheet writes models, a table, a record and a page"
OF_A_RUN = ("jobs", "details", "replace", "unit", "ascii")
"""Options that belong to the whole run."""


def of_a_step(option: click.Option) -> bool:
    """Whether a step of a sheet may have an option: one that names no file and does not belong to the whole run."""
    return not isinstance(option.type, click.Path) and key(option) not in OF_A_RUN


def step_verbs() -> tuple[str, ...]:
    """Verbs that make one model of one, or measure it."""
    return tuple(verb for verb in VERBS if verb not in _NO_STEPS)


class Job:
    """All models of a sheet. output: where their files go; kernels: groups that its verbs need."""

    def __init__(self, sheet: Sheet, files: list[Path]) -> None:
        self.sheet, self.files = sheet, files
        self._folder = os.path.abspath(sheet.path.parent)
        text = sheet.output
        self.output = sheet.at(text)
        if text.endswith("/"):
            self.output = FolderPath(self.output)
        self.ledger = Ledger(self.output if is_folder(self.output) else self.output.parent)
        self.kernels = tuple(dict.fromkeys(g for s in sheet.steps for g in VERBS[s.verb].kernels))
        self.profiles = {path.name: file_bytes(path).decode("utf-8", "replace") for path in user_files()}
        self._runs: dict[str, Run] = {}

    def as_run(self, **more: Any) -> Run:
        """How `run` works on the models of the job."""
        return Run(
            verb="run", settings={}, work=self.work, writes="proven", keeps_names=True, kernels=self.kernels, **more
        )

    def check(self) -> None:
        """Read every step of every model as its verb does. Raises FileError with the sheet and the line."""
        asked = {repr((s.verb, s.options)): s for file in self.files for s in self.sheet.asked(file)}
        for step in asked.values():
            self.how(step)
        for file in self.files:
            supported: SheetStep | None = None
            for step in self.sheet.asked(file):
                if supported is not None and self.how(step).writes:
                    raise self._wrong(step, f"'{supported.verb}' made supports: no step changes the model after it")
                if step.verb == "supports" or step.options.get("supports"):
                    supported = step

    def how(self, step: SheetStep) -> Run:
        """How a verb works with the options of a step."""
        key = repr((step.verb, sorted(step.options.items(), key=str)))
        if key not in self._runs:
            self._runs[key] = self._collected(step)
        return self._runs[key]

    def _collected(self, step: SheetStep) -> Run:
        """What a verb's command would run, read from its own options."""
        from bolvek.settings import SettingError

        command = importlib.import_module(f"bolvek.cli.{step.verb}").command
        known = {key(p): p for p in command.params if isinstance(p, click.Option)}
        arguments = ["model.stl"]
        for name, value in step.options.items():
            if name not in known:
                import difflib

                close = difflib.get_close_matches(name, known, 1)
                hint = f"; did you mean '{close[0]}'?" if close else ""
                raise self._wrong(step, f"'{step.verb}' has no option '{name}'{hint}")
            if not of_a_step(known[name]):
                raise self._wrong(step, f"'{name}' is nothing that a step says; {WHAT_A_SHEET_WRITES}")
            arguments += _given(known[name], value)
        COLLECTED.append(True)
        try:
            with command.make_context(step.verb, arguments, obj=(), help_option_names=HELP) as context:
                command.invoke(context)
        except Collected as found:
            return found.how
        except click.ClickException as error:
            raise self._wrong(step, error.format_message()) from None
        except SettingError as error:
            from bolvek.cli.base.bind import named

            raise self._wrong(step, named(error, command)) from None
        except BolvekError as error:
            raise self._wrong(step, str(error)) from None
        finally:
            COLLECTED.pop()
        raise self._wrong(step, f"'{step.verb}' cannot be a step")

    def _wrong(self, step: SheetStep, text: str) -> FileError:
        return FileError(f"{self.sheet.path}, line {step.line}, step '{step.verb}': {text}")

    def targets(self) -> list[Path]:
        """The file that each model goes to."""
        return outputs_for(self.files, self.output, "run", None)

    def tell_plan(self, *, details: bool) -> None:
        """What would be done with each model; details: also from which size to which, for which it is read."""
        talk, known = Talk(None), self.ledger.read()
        for file, target in zip(self.files, self.targets(), strict=True):
            words = []
            for step in self.sheet.asked(file):
                given = " ".join(f"{k}={v}" for k, v in step.options.items())
                words.append(f"{step.verb} {given}".strip() + (f" when {step.when}" if step.when else ""))
            done = up_to_date(known.last.get(self.named(file)), file, self.hash(file), target)
            sizes = f"; {self._sizes(file)}" if details else ""
            kept = "; up to date" if done else ""
            way = ", then ".join(words)
            talk.row("plan", f"{file}: {way}{sizes}; to {target}; about {self.needed_mb(file):.0f} MB{kept}")
        talk.row("total", count_text(len(self.files), "model"), "bold")

    def _sizes(self, file: Path) -> str:
        """The size of a model, and that which its steps that only move give it."""
        from bolvek.formats import read_model

        try:
            model = read_model(file, unit=self.sheet.unit)
            before = model.mesh
            for ask in self.sheet.asked(file):
                how = self.how(ask)
                if how.writes == "moved" and (not ask.when or WHEN[ask.when](model.mesh)):
                    model = self._done(how, model, Steps(Talk(None), False, "", {})).model
        except BolvekError as error:
            return str(error)
        return f"{size_text(before.size)} to {size_text(model.mesh.size)}"

    def needed_mb(self, file: Path) -> float:
        """About how much memory a model takes: that of the step that takes most."""
        return max(needed_mb(file, step.verb) for step in self.sheet.steps)

    def named(self, file: Path) -> str:
        """A model as the ledger names it: as seen from the sheet, wherever the job is started from."""
        return Path(os.path.relpath(file, self._folder)).as_posix()

    def hash(self, file: Path) -> str:
        """Of what is asked for a model: steps, unit, and what profiles of the user's own say."""
        steps = [(s.verb, s.options, s.when) for s in self.sheet.asked(file)]
        return asked_hash([self.sheet.unit, self.sheet.ascii, self.profiles, steps])

    def sorted_out(self, files: list[Path], *, again: bool, replace: bool) -> "Sorted":
        """What is to be done with some of the files and what is left as it is, told."""
        talk, known, found = Talk(None), self.ledger.read(), Sorted([], {}, {}, 0)
        chosen = set(files)
        for file, target in zip(self.files, self.targets(), strict=True):
            entry = known.last.get(self.named(file))
            kept = None if again and file in chosen else self._kept(entry, file, target)
            if entry is not None and kept is not None:
                found.kept[file], found.told[file] = kept, entry.told
            if file not in chosen:
                continue
            if kept is not None:
                talk.row("up to date", f"{file}: {kept.verdict}; {target}")
            elif target.exists() and not replace and sha256(target) not in known.made.get(self.named(file), ()):
                said = "was changed since it was made" if entry else "is there and was not made by this job"
                talk.row("kept", f"{file}: {target} {said}; --replace writes over it", mark="red")
                found.changed += 1
            else:
                found.todo.append(file)
        return found

    def _kept(self, entry: Entry | None, file: Path, target: Path) -> ModelDone | None:
        """What is known of a model that needs no work."""
        if entry is None or not up_to_date(entry, file, self.hash(file), target):
            return None
        kept = ModelDone.from_values(entry.told)
        return kept and dataclasses.replace(kept, outputs=(str(target),))

    def entry(self, file: Path, target: Path, read: str, data: bytes, done: ModelDone) -> Entry:
        """What the ledger says of a model. read: the hash of what it was made from; data: what its file will hold."""
        return Entry(
            file=self.named(file),
            input=read,
            asked=self.hash(file),
            version=__version__,
            output=str(target),
            made=digest(data),
            exit_code=done.exit_code,
            verdict=done.verdict,
            told=done.as_values(),
        )

    def work(self, model: "Model", step: Steps) -> Outcome:
        """All steps of one model; verdict and findings are those of the last: what was found before may be mended."""
        told: list[Outcome] = []
        skipped = []
        for ask in self.sheet.asked(model.path):
            if ask.when and not WHEN[ask.when](model.mesh):
                skipped.append(f"{ask.verb}: not {ask.when}")
                continue
            how = self.how(ask)
            done = self._done(how, model, step)
            model = done.model
            if how.writes == "made":
                step("check", partial(pass_gate, model.mesh, how.verb))
            told.append(done)
        worse = made_worse(model.mesh, model.mesh) if model.mesh.as_stored() is not model.mesh else ()
        if worse:
            raise WorkError(f"rounding to what a file holds made {'; '.join(d.text for d in worse)} of it")
        parts = model.parts if model.parts is not None and len(model.parts.part) == len(model.mesh.faces) else None
        model = dataclasses.replace(model, mesh=model.mesh.as_stored(), parts=parts)
        rows = [row for done in told for row in done.rows if row[0] != "verdict"]
        rows += [("left out", text, "dim") for text in skipped]
        last = told[-1] if told else None
        verdict, ok = (last.verdict, last.ok) if last is not None else ("written", True)
        return Outcome(
            model=model,
            sections={name: section for done in told for name, section in done.sections.items()},
            line=last.line if last is not None else "nothing to do",
            verdict=verdict,
            ok=ok,
            rows=[("verdict", verdict, "bold green" if ok else "bold red"), *rows],
            findings=last.findings if last is not None else (),
            picture=last.picture if last is not None else None,
            scene=last.scene if last is not None else None,
            outputs=[path for done in told for path in done.outputs],
            supports=next((done.supports for done in told if done.supports is not None), None),
        )

    @staticmethod
    def _done(how: Run, model: "Model", step: Steps) -> Outcome:
        """One step of one model."""
        model = model.without_support() if how.model_only else model
        return how.work(model, step) if how.as_set is None else how.work(model, step, how.as_set([model.mesh]))


@dataclass
class Sorted:
    """Models of a job: those to be worked on, those that are left as they are with what the ledger tells of them, and
    how many were changed by hand."""

    todo: list[Path]
    kept: dict[Path, ModelDone]
    told: dict[Path, Mapping[str, Any]]
    changed: int

    def known(self) -> dict[Path, ModelDone]:
        """Those left as they are, with all that a record needs."""
        return {file: one.with_section(self.told[file]) for file, one in self.kept.items()}


def key(option: click.Option) -> str:
    """What an option is called in a sheet."""
    return option.opts[-1].lstrip("-").replace("-", "_")


def _given(option: click.Option, value: Any) -> list[str]:
    """A value of the sheet as the command line has it."""
    name = option.opts[-1]
    if option.is_flag:
        return [name] if value else []
    values = value if isinstance(value, list) and option.multiple else [value]
    text = [",".join(map(str, v)) if isinstance(v, list) else str(v) for v in values]
    return [f"{name}={one}" if name.startswith("--") else one for one in text]
