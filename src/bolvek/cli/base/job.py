"""A job sheet at work: each verb's own command says how it works, here one hands its model to the next."""

import dataclasses
import importlib
import os
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from bolvek import __version__
from bolvek.analyses.soundness import made_worse, pass_gate
from bolvek.cli.base.console import Talk
from bolvek.cli.base.run import COLLECTED, Collected, Outcome, Run, Steps
from bolvek.cli.base.targets import is_folder, outputs_for
from bolvek.cli.base.types import FolderPath
from bolvek.cli.base.workers import needed_mb
from bolvek.cli.verbs import VERBS
from bolvek.errors import EXIT_FINDINGS, EXIT_SOUND, BolvekError, FileError, WorkError
from bolvek.jobs.ledger import Entry, Ledger, asked_hash, sha256, up_to_date
from bolvek.jobs.sheet import WHEN, Sheet, SheetStep
from bolvek.units import count_text

if TYPE_CHECKING:
    from bolvek.formats import Model

_NO_STEPS = ("picture", "page", "fuse", "join", "carve", "cut", "split", "compare", "profiles", "schema", "demo", "run")


def step_verbs() -> tuple[str, ...]:
    """Verbs that make one model of one, or measure it."""
    return tuple(verb for verb in VERBS if verb not in _NO_STEPS)


class Job:
    """All models of a sheet. output: where their files go; kernels: groups that its verbs need."""

    def __init__(self, sheet: Sheet, files: list[Path]) -> None:
        self.sheet, self.files = sheet, files
        text = sheet.output
        self.output = sheet.at(text)
        if text.endswith("/"):
            self.output = FolderPath(self.output)
        self.ledger = Ledger(self.output if is_folder(self.output) else self.output.parent)
        self.kernels = tuple(dict.fromkeys(g for s in sheet.steps for g in VERBS[s.verb].kernels))
        self._known: dict[str, Run] = {}

    def check(self) -> None:
        """Read every step of every model as its verb does. Raises FileError with the sheet and the line."""
        asked = {repr((s.verb, s.options)): s for file in self.files for s in self.sheet.asked(file)}
        for step in asked.values():
            self.how(step)

    def how(self, step: SheetStep) -> Run:
        """How a verb works with the options of a step."""
        key = repr((step.verb, sorted(step.options.items(), key=str)))
        if key not in self._known:
            self._known[key] = self._collected(step)
        return self._known[key]

    def _collected(self, step: SheetStep) -> Run:
        """What a verb's command would run, read from its own options."""
        from bolvek.settings import SettingError

        command = importlib.import_module(f"bolvek.cli.{step.verb}").command
        known = {p.opts[-1].lstrip("-").replace("-", "_"): p for p in command.params if isinstance(p, click.Option)}
        arguments = ["model.stl"]
        for name, value in step.options.items():
            if name not in known:
                import difflib

                close = difflib.get_close_matches(name, known, 1)
                hint = f"; did you mean '{close[0]}'?" if close else ""
                raise self._wrong(step, f"'{step.verb}' has no option '{name}'{hint}")
            arguments += _given(known[name], value)
        COLLECTED.append(True)
        try:
            with command.make_context(step.verb, arguments, obj=()) as context:
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

    def tell_plan(self) -> None:
        """What would be done with each model."""
        talk, entries = Talk(None), self.ledger.entries()
        for file, target in zip(self.files, self.targets(), strict=True):
            words = []
            for step in self.sheet.asked(file):
                given = " ".join(f"{k}={v}" for k, v in step.options.items())
                words.append(f"{step.verb} {given}".strip() + (f" when {step.when}" if step.when else ""))
            done = up_to_date(entries.get(self.key(file)), file, self.hash(file), target)
            kept = "; up to date" if done else ""
            way = ", then ".join(words)
            talk.row("plan", f"{file}: {way}; to {target}; about {needed_mb(file, 'run'):.0f} MB{kept}")
        talk.row("total", count_text(len(self.files), "model"), "bold")

    def key(self, file: Path) -> str:
        """A model as the ledger names it: as seen from the sheet, wherever the job is started from."""
        return Path(os.path.relpath(file, self.sheet.path.parent)).as_posix()

    def hash(self, file: Path) -> str:
        """Of what is asked for a model."""
        return asked_hash([self.sheet.unit, [(s.verb, s.options, s.when) for s in self.sheet.asked(file)]])

    def sorted_out(self, *, again: bool, replace: bool) -> tuple[list[Path], int, int]:
        """Files to be worked on; how many are left because their output was changed by hand; the worst code of those
        that are up to date."""
        talk, entries = Talk(None), self.ledger.entries()
        todo, changed, worst = [], 0, 0
        for file, target in zip(self.files, self.targets(), strict=True):
            entry = entries.get(self.key(file))
            if entry is not None and not again and up_to_date(entry, file, self.hash(file), target):
                talk.row("up to date", f"{file}: {entry.verdict}; {target}")
                worst = max(worst, entry.exit_code)
            elif target.exists() and not replace and not (entry is not None and entry.made == sha256(target)):
                said = "was changed since it was made" if entry else "is there and was not made by this job"
                talk.row("kept", f"{file}: {target} {said}; --replace writes over it", mark="red")
                changed += 1
            else:
                todo.append(file)
        return todo, changed, worst

    def work(self, model: "Model", step: Steps) -> Outcome:
        """All steps of one model; verdict and findings are those of the last: what was found before may be mended."""
        told: list[Outcome] = []
        skipped = []
        for ask in self.sheet.asked(model.path):
            if ask.when and not WHEN[ask.when](model.mesh):
                skipped.append(f"{ask.verb}: not {ask.when}")
                continue
            how = self.how(ask)
            model = model.without_support() if how.model_only else model
            done = how.work(model, step) if how.as_set is None else how.work(model, step, how.as_set([model.mesh]))
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
        )

    def note(self, file: Path, target: Path | None, outcome: Outcome) -> None:
        """Put down what came of a model, its output written."""
        self.ledger.add(
            Entry(
                file=self.key(file),
                input=sha256(file),
                asked=self.hash(file),
                version=__version__,
                output=str(target or ""),
                made=sha256(target) if target is not None else "",
                exit_code=EXIT_SOUND if outcome.ok else EXIT_FINDINGS,
                verdict=outcome.verdict,
            )
        )


def _given(option: click.Option, value: Any) -> list[str]:
    """A value of the sheet as the command line has it."""
    name = option.opts[-1]
    if option.is_flag:
        return [name] if value else []
    values = value if isinstance(value, list) and option.multiple else [value]
    text = [",".join(map(str, v)) if isinstance(v, list) else str(v) for v in values]
    return [f"{name}={one}" if name.startswith("--") else one for one in text]
