"""Where output goes, and what may not be written, told before the work begins."""

from collections.abc import Sequence
from pathlib import Path

from bolvek.cli.base.types import FolderPath
from bolvek.errors import FileError, UsageError


def output_beside(model: Path, output: Path | None, verb: str, suffix: str | None = None) -> Path:
    """The file to write: as given, in the folder given, or beside the model with the verb in its name.

    Without a suffix it is the model's own where that can be written, else .stl.
    """
    from bolvek.formats.kinds import FORMATS

    if suffix is None:
        suffix = model.suffix if model.suffix.lower() in FORMATS else ".stl"
    name = f"{model.stem}.{verb}{suffix}"
    if output is None:
        return model.with_name(name)
    return output / name if is_folder(output) else output


def is_folder(output: Path) -> bool:
    """Whether an output names a folder: one that is there, one that ends in a slash, or a name without a suffix."""
    return isinstance(output, FolderPath) or output.is_dir() or (not output.suffix and not output.exists())


def outputs_for(files: Sequence[Path], output: Path | None, verb: str, suffix: str | None) -> list[Path]:
    """The file to write for each model. Raises UsageError where several would go to one."""
    if len(files) > 1 and output is not None and not is_folder(output):
        raise UsageError(f"{len(files)} models need a folder to go to, not the file {output}")
    if output is not None and is_folder(output):
        output = FolderPath(output)  # asked once
    targets = [output_beside(file, output, verb, suffix) for file in files]
    first: dict[Path, Path] = {}
    for file, target in zip(files, targets, strict=True):
        if target in first:
            raise UsageError(f"{first[target]} and {file} would both be written to {target}: give them different names")
        first[target] = file
    return targets


def check_targets(inputs: Sequence[Path], targets: Sequence[Path | None], *, replace: bool) -> None:
    """Refuse targets that may not be written, and two that are the same. Raises FileError."""
    from bolvek.formats.safe import Inputs, check_target

    files = [t for t in targets if t is not None and str(t) != "-"]
    known: set[Path] = set()
    sources = Inputs(inputs)
    for target in files:
        check_target(target, sources, replace=replace)
        if target.resolve() in known:
            raise FileError(f"{target} was named for two outputs")
        known.add(target.resolve())
