"""One model into several files: named after it, all checked before the first is written."""

from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING

from bolvek.cli.base.options import Asked
from bolvek.cli.base.targets import check_targets, output_beside
from bolvek.formats import write_model
from bolvek.formats.safe import check_suffix

if TYPE_CHECKING:
    from bolvek.mesh import Mesh


def write_several(
    model: Path, meshes: "Sequence[tuple[str, Mesh]]", output: Path | None, verb: str, asked: Asked
) -> list[Path]:
    """Write meshes named by tags, as model.TAG.stl beside the model, in a folder, or after the file that output names.
    Raises FileError before any is written where one may not be."""
    base = output_beside(model, output, verb)
    stem = base.stem if output is not None and base == output else model.stem
    check_suffix(base)
    targets = [base.with_name(f"{stem}.{tag}{base.suffix}") for tag, _ in meshes]
    check_targets([model], targets, replace=asked.replace)
    for target, (_, mesh) in zip(targets, meshes, strict=True):
        write_model(target, mesh, text=asked.ascii_stl, replace=asked.replace)
    return targets
