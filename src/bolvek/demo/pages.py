"""The workshop's story as pages: what was made and measured, to be turned and cut open."""

from collections.abc import Sequence
from pathlib import Path

from bolvek.analyses.finding import Finding
from bolvek.formats.safe import write_bytes
from bolvek.report.page.entry import Entry, entry_of
from bolvek.report.page.page import page_bytes
from bolvek.report.page.scene import Scene

NAME = "index.html"
"""The page of the story."""


class Pages:
    """Gathers what is to be seen."""

    def __init__(self) -> None:
        self._entries: list[Entry] = []

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
        """One more model, with what is said of it."""
        told = [("verdict", verdict, "green" if ok else "red"), *((*row, "") for row in rows)]
        took = {"work": round(seconds, 2)}
        self._entries.append(entry_of(path, scene, findings, told, verdict=verdict, ok=ok, settings={}, seconds=took))

    def write(self, folder: Path, *, replace: bool) -> Path:
        """All of them, the last shown first."""
        target = folder / NAME
        write_bytes(target, page_bytes(self._entries[::-1], verb="demo"), replace=replace)
        return target
