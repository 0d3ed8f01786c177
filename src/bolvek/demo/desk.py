"""Where a chapter of the workshop's story works: its folder, how it tells, the pages it leaves."""

import time
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from pathlib import Path

from bolvek.analyses.finding import Finding
from bolvek.formats import Model, read_model, write_model
from bolvek.formats.safe import write_bytes
from bolvek.mesh import Mesh
from bolvek.report.page.entry import Entry, entry_of
from bolvek.report.page.scene import Scene

Tell = Callable[[str, str, float], None]
"""A step, what came of it, and its seconds."""


@dataclass
class Desk:
    """A chapter's place to work. entries: its pages, filled by `show`."""

    folder: Path
    tell: Tell
    busy: Callable[[str], None]
    replace: bool
    entries: list[Entry] = field(default_factory=list)

    def save(self, name: str, mesh: Mesh) -> None:
        """A model written to a file."""
        write_model(self.folder / name, mesh, replace=self.replace)

    def made(self, name: str, mesh: Mesh) -> Model:
        """A model written to a file, and read again."""
        self.save(name, mesh)
        return read_model(self.folder / name)

    def write(self, name: str, data: bytes) -> None:
        """A picture or a record."""
        write_bytes(self.folder / name, data, replace=self.replace)

    def show(
        self,
        path: Path,
        scene: Scene,
        findings: Sequence[Finding],
        rows: Sequence[tuple[str, str]],
        *,
        verdict: str,
        ok: bool,
        seconds: float,
    ) -> None:
        """One more model on the pages, with what is said of it."""
        told = [("verdict", verdict, "green" if ok else "red"), *((*row, "") for row in rows)]
        took = {"work": round(seconds, 2)}
        self.entries.append(entry_of(path, scene, findings, told, verdict=verdict, ok=ok, settings={}, seconds=took))


def since(begin: float) -> float:
    """Seconds."""
    return time.perf_counter() - begin
