"""What is left of models once they are worked on and out of memory: for the total, the record, the table, the page."""

import dataclasses
import sys
from collections import Counter
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import TYPE_CHECKING, Any

from bolvek.analyses.finding import Finding
from bolvek.cli.base.console import Talk
from bolvek.errors import EXIT_FINDINGS, EXIT_SOUND, BolvekError
from bolvek.settings import settings_dict
from bolvek.units import Triple, count_text

if TYPE_CHECKING:
    from bolvek.cli.base.options import Asked
    from bolvek.report.page.entry import Entry
    from bolvek.report.record import ModelSection
    from bolvek.report.table import Row


@dataclass(frozen=True, kw_only=True)
class ModelDone:
    """A model that was worked on. before: its size (mm) and triangles as it was read; section and entry: where a record
    or table, or a page, was asked for."""

    verdict: str
    ok: bool
    findings: tuple[Finding, ...]
    triangles: int
    volume_mm3: float | None
    outputs: tuple[str, ...]
    seconds: dict[str, float]
    before: tuple[Triple, int]
    memory_mb: float | None = None
    section: "ModelSection | None" = None
    entry: "Entry | None" = None

    @property
    def exit_code(self) -> int:
        """What the command line returns for it alone."""
        return EXIT_SOUND if self.ok else EXIT_FINDINGS

    def as_values(self) -> dict[str, Any]:
        """Plain values, to be kept as JSON; without the entry of a page."""
        values = {f.name: getattr(self, f.name) for f in dataclasses.fields(self) if f.name not in ("entry", "section")}
        values["findings"] = [dataclasses.asdict(one) for one in self.findings]
        tree = None if self.section is None else self.section.model_dump(mode="json")
        values["section"] = tree and {name: one for name, one in tree.items() if one is not None}
        return values

    @classmethod
    def from_values(cls, values: Mapping[str, Any]) -> "ModelDone | None":
        """From what was kept, without what a record needs. None where the values are none."""
        try:
            size, triangles = values["before"]
            plain = {"outputs": tuple(values["outputs"]), "findings": (), "section": None}
            return cls(**(dict(values) | plain | {"before": (tuple(size), triangles)}))
        except (ValueError, TypeError, KeyError):
            return None

    def with_section(self, values: Mapping[str, Any]) -> "ModelDone":
        """With what a record needs, as far as it was kept."""
        from pydantic import TypeAdapter

        from bolvek.report.record import ModelSection

        try:
            section = ModelSection.model_validate(values["section"])
            findings = TypeAdapter(tuple[Finding, ...]).validate_python(values["findings"])
        except (ValueError, KeyError):
            return self
        return dataclasses.replace(self, section=section, findings=findings)


@dataclass(frozen=True, kw_only=True)
class ModelFailed:
    """A model that nothing came of; text: why, without the name of the file."""

    error: BolvekError
    text: str
    seconds: dict[str, float] = field(default_factory=dict)

    @property
    def exit_code(self) -> int:
        """What the command line returns for it alone."""
        return self.error.exit_code


class Done:
    """All models of a run. kept: those that are left as they were, known from an earlier run."""

    def __init__(self, kept: Mapping[Path, ModelDone]) -> None:
        self._ends: dict[Path, ModelDone | ModelFailed] = dict(kept)
        self._kept = len(kept)
        self.outputs = [path for one in kept.values() for path in one.outputs]
        self.made = 0

    def add(self, file: Path, end: ModelDone | ModelFailed) -> None:
        """One more model has come to its end."""
        self._ends[file] = end
        if isinstance(end, ModelDone):
            self.outputs += end.outputs
            self.made += len(end.outputs)

    def sort(self, files: Sequence[Path]) -> None:
        """Put everything in the order of these files."""
        self._ends = {file: self._ends[file] for file in files if file in self._ends}
        self.outputs = [path for one in self.judged for path in one.outputs]

    @property
    def judged(self) -> list[ModelDone]:
        """Models with a verdict."""
        return [one for one in self._ends.values() if isinstance(one, ModelDone)]

    @property
    def failed(self) -> list[tuple[Path, ModelFailed]]:
        """Models without."""
        return [(file, one) for file, one in self._ends.items() if isinstance(one, ModelFailed)]

    @property
    def entries(self) -> "list[Entry]":
        """What a page shows."""
        return [one.entry for one in self.judged if one.entry is not None]

    @property
    def exit_code(self) -> int:
        """The worst of any model."""
        return max((one.exit_code for one in self._ends.values()), default=EXIT_SOUND)

    @property
    def unknown(self) -> int:
        """So many models are left as they were of which a record and a table know nothing."""
        return sum(one.section is None for one in self.judged)

    def total_text(self, seconds: float) -> str:
        """How many of each verdict, and what they are together."""
        judged, failed = self.judged, self.failed
        words = [f"{n:,} {verdict}" for verdict, n in Counter(one.verdict for one in judged).most_common()]
        if failed:
            words.append(f"{len(failed):,} failed")
        text = f"{count_text(len(self._ends), 'model')}: {', '.join(words)}"
        if self._kept:
            text += f" ({self._kept:,} as they were)"
        text += f"; {count_text(sum(one.triangles for one in judged), 'triangle')}"
        volumes = [one.volume_mm3 for one in judged if one.volume_mm3 is not None]
        if volumes:
            text += f", {sum(volumes) / 1000:.2f} cm3 where closed"
        return f"{text}; {seconds:.1f} s"

    def rows(self, verb: str) -> "list[Row]":
        """The rows of a table."""
        from bolvek.report.table import failed_row, table_row

        rows = []
        for file, one in self._ends.items():
            if isinstance(one, ModelFailed):
                rows.append(failed_row(str(file), one.text, one.exit_code))
            elif one.section is not None:
                rows.append(
                    table_row(
                        one.section,
                        one.findings,
                        verb=verb,
                        exit_code=one.exit_code,
                        before=one.before,
                        seconds=round(sum(one.seconds.values()), 3),
                        memory_mb=one.memory_mb,
                    )
                )
        return rows

    def write_record(
        self, verb: str, settings: Mapping[str, Any], asked: "Asked", talk: Talk, *, several: bool
    ) -> None:
        """The JSON record of the run."""
        from bolvek.report.record import Failure, Record

        judged, failed = self.judged, self.failed
        fallen = [one for one in judged if not one.ok]
        first = next(iter(fallen or judged), None)
        findings = [
            dataclasses.replace(f, file=one.section.file) if several and one.section is not None else f
            for one in judged
            for f in one.findings
        ]
        told = settings_dict(settings[""]) if "" in settings else {}
        told |= {name: settings_dict(more) for name, more in settings.items() if name}
        seconds: dict[str, float] = {}
        for end in self._ends.values():
            for name, took in end.seconds.items():
                seconds[name] = seconds.get(name, 0.0) + took
        talk.write_record(
            Record(
                verb=verb,
                settings=told,
                models=[one.section for one in judged if one.section is not None],
                failed=[Failure(file=str(file), text=str(one.error)) for file, one in failed],
                findings=findings,
                outputs=self.outputs,
                verdict=first.verdict if first else "failed",
                ok=not (failed or fallen),
                seconds=seconds,
            ),
            replace=asked.replace,
        )


def peak_mb() -> float | None:
    """The most memory that this process has had, MB."""
    try:
        import resource
    except ImportError:  # not on this system
        return None
    most = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss
    return round(most / (1e6 if sys.platform == "darwin" else 1024), 1)
