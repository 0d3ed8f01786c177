"""Before and after, drawn with what changed in colour."""

from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from bolvek.analyses.deviation import Compared
    from bolvek.cli.base.outcome import Outcome
    from bolvek.formats import Model
    from bolvek.mesh import Mesh
    from bolvek.operations.solid import SolidPlan, SolidRecord


def draw_changes(
    path: Path, before: "Mesh", after: "Mesh", made: "SolidRecord", target: Path, *, replace: bool
) -> None:
    """Compare two meshes of a model and draw them side by side into a file."""
    from bolvek.analyses.deviation import compare
    from bolvek.formats.safe import write_bytes
    from bolvek.report.pictures.results import compare_result

    record, found = compare(before, after)
    write_bytes(target, compare_result(path, before, after, record, found, made, way=made.way), replace=replace)


def draw_tries(
    sheet: Path | None, title: str, shown: "Sequence[tuple[str, Mesh, Compared, Sequence[str]]]", *, replace: bool
) -> tuple[list[tuple[str, str, str]], list[Path]]:
    """Draw several results of one model side by side, where a sheet is asked for: the row that tells, and the file."""
    if sheet is None:
        return [], []
    from bolvek.formats.safe import write_bytes
    from bolvek.report.pictures.compare import tries_sheet

    write_bytes(sheet, tries_sheet(title, shown), replace=replace)
    return [("sheet", str(sheet), "")], [sheet]


def plan_outcome(model: "Model", told: "SolidPlan") -> "Outcome":
    """The way to a solid, and why; nothing is made."""
    from bolvek.cli.base.outcome import Outcome
    from bolvek.report.words.solid import plan_rows

    line = f"{told.way}: {told.why}"
    return Outcome(model=model, sections={"plan": told}, line=line, verdict="done", rows=plan_rows(told))
