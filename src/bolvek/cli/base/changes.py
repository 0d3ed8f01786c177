"""Before and after, drawn with what changed in colour."""

from pathlib import Path
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from bolvek.mesh import Mesh


def draw_changes(path: Path, before: "Mesh", after: "Mesh", verdict: str, target: Path, *, replace: bool) -> None:
    """Compare two meshes of a model and draw them side by side into a file."""
    from bolvek.analyses.deviation import compare
    from bolvek.formats.safe import write_bytes
    from bolvek.report.pictures.results import compare_result

    record, found = compare(before, after)
    write_bytes(target, compare_result(path, before, after, record, found, verdict), replace=replace)
