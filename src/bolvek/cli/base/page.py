"""Pages of a run: an entry for every model, gathered while they are worked on, written at the end."""

import dataclasses
from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any

from bolvek.cli.base.targets import is_folder
from bolvek.errors import UsageError
from bolvek.formats import Model
from bolvek.formats.safe import Inputs, check_target, write_bytes
from bolvek.report.page.entry import Entry, entry_of
from bolvek.report.page.page import page_bytes
from bolvek.report.page.scene import Scene
from bolvek.settings import settings_dict

if TYPE_CHECKING:
    from bolvek.cli.base.outcome import Outcome, Row
    from bolvek.mesh import Mesh

Failed = Sequence[tuple[str, str]]


def gathered(
    outcome: "Outcome",
    read: "Mesh",
    rows: "Sequence[Row]",
    settings: Mapping[str, Any],
    seconds: Mapping[str, float],
) -> Entry:
    """The entry of a model. read: its mesh as it was read, shown as before where that has changed."""
    mesh = outcome.model.mesh
    scene = Scene(mesh=mesh, before=None if read is mesh else read, **_named_parts(outcome.model))
    if outcome.scene is not None:
        scene = outcome.scene(scene)
    asked = {}
    for name, one in settings.items():
        for field, value in settings_dict(one).items():
            asked[f"{name} {field}".strip()] = value
    return entry_of(
        outcome.model.path,
        scene,
        outcome.findings,
        rows,
        verdict=outcome.verdict,
        ok=outcome.ok,
        settings=asked,
        seconds=dict(seconds),
    )


def _named_parts(model: Model) -> dict[str, Any]:
    """The named parts of a file, where they still stand for the faces there are."""
    parts = model.parts
    if parts is None or len(parts.part) != len(model.mesh.faces):
        return {}
    return {"part": parts.part, "part_names": parts.names}


def files_for(target: Path, models: Sequence[Path]) -> list[Path]:
    """The files that a page target stands for: itself, or those of a folder, the index last."""
    if not is_folder(target):
        return [target]
    return [*(target / f"{model.name}.html" for model in models), target / "index.html"]


def check_page(target: Path, models: Sequence[Path], *, replace: bool) -> None:
    """Raise FileError where a page may not be written, UsageError where two would be one file."""
    files = files_for(target, models)
    if len(set(files)) < len(files):
        raise UsageError(f"two of the models have one name: their pages in {target} would be one; name a page instead")
    sources = Inputs(models)
    for file in files:
        check_target(file, sources, replace=replace)


def write_page(target: Path, entries: Sequence[Entry], failed: Failed, verb: str, *, replace: bool) -> list[Path]:
    """Write one page, or a folder of them with an index; the files written."""
    if not is_folder(target):
        write_bytes(target, page_bytes(entries, failed, verb=verb), replace=replace)
        return [target]
    files = files_for(target, [Path(entry.name) for entry in entries])
    for entry, file in zip(entries, files, strict=False):
        write_bytes(file, page_bytes([entry], verb=verb), replace=replace)
    light = [dataclasses.replace(entry, packed="", scene={}) for entry in entries]
    index = page_bytes(light, failed, verb=verb, links=[file.name for file in files[:-1]])
    write_bytes(files[-1], index, replace=replace)
    return files
