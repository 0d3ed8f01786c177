"""Plugs of holes as files."""

import dataclasses
from collections.abc import Sequence
from pathlib import Path

from bolvek.formats.folder import write_folder
from bolvek.formats.stl import stl_bytes
from bolvek.mesh import Mesh
from bolvek.operations.drain import Bore, PlugRecord, make_plug
from bolvek.settings.shape import Drain, PlugSettings


def write_plugs(
    name: str,
    mesh: Mesh,
    holes: Sequence[tuple[Drain, Bore]],
    folder: Path,
    settings: PlugSettings,
    replace: bool,
) -> list[PlugRecord]:
    """A plug a hole of a mesh that does not have them yet, named after it and numbered as they are; none is written
    where none can be made. Raises FileError."""
    records, files = [], []
    for k, (hole, bore) in enumerate(holes, 1):
        plug, record = make_plug(mesh, k, bore, hole, settings)
        if plug is not None:
            record = dataclasses.replace(record, file=f"{name}.plug{k}.stl")
            files.append((record.file, stl_bytes(plug, None)))
        records.append(record)
    if files:
        write_folder(folder, files, replace=replace)
    return records
