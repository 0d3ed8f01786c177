"""The workshop's example, run for real: a carp is written, scaled, hollowed, drained and proven."""

import time
from collections.abc import Callable
from pathlib import Path

from bolvek.demo.carp import carp
from bolvek.formats import check_target, write_model
from bolvek.formats.safe import write_bytes
from bolvek.jobs.prep import PrepSettings, prep
from bolvek.operations.hollow import HollowSettings
from bolvek.operations.place_drains import PlaceSettings
from bolvek.operations.scale import ScaleSettings
from bolvek.report.outputs import write_picture
from bolvek.report.record import Record, model_section, record_json, settings_dict
from bolvek.report.words import size_text

PREP = PrepSettings(HollowSettings(2.0), PlaceSettings(2, 3.5), ScaleSettings(height_mm=90.0))


def run_demo(
    folder: Path,
    tell: Callable[[str, str, float], None],
    begin_step: Callable[[str], None] = lambda _: None,
    *,
    replace: bool = False,
) -> bool:
    """Write carp.stl, carp.prep.stl, its record and pictures into a folder; whether the carp is fit.

    Raises FileError when one of them exists and `replace` is not set.
    """
    source, target = folder / "carp.stl", folder / "carp.prep.stl"
    record, before, after = folder / "carp.prep.json", folder / "carp.png", folder / "carp.prep.png"
    for path in (source, target, record, before, after):
        check_target(path, replace=replace)
    begin = time.perf_counter()
    begin_step("carp")
    mesh = carp()
    write_model(source, mesh, replace=replace)
    tell("carp", f"{source}: {size_text(mesh.size)}, {len(mesh.faces):,} triangles, made by code", _since(begin))
    begin = time.perf_counter()
    write_picture(before, source, mesh, replace=replace)
    tell("picture", str(before), _since(begin))
    settings = PrepSettings(PREP.hollow, PREP.drains, PREP.scale, replace=replace)
    result = prep(source, target, settings, tell, begin_step)
    begin = time.perf_counter()
    write_picture(after, target, result.after, result.proof, replace=replace)
    tell("picture", str(after), _since(begin))
    section = model_section(
        result.model, result.after, scale=result.scale, hollow=result.hollow, drain=result.drain, proof=result.proof
    )
    text = record_json(
        Record(
            verb="demo",
            settings=settings_dict(settings),
            models=[section],
            findings=list(result.proof.findings),
            outputs=[str(p) for p in (source, target, before, after)],
            verdict=result.proof.verdict,
            seconds=result.seconds,
        )
    )
    write_bytes(record, text.encode(), replace=replace)
    tell("record", f"{record}; verdict: {result.proof.verdict}", 0.0)
    return result.proof.verdict == "fit"


def _since(begin: float) -> float:
    return time.perf_counter() - begin
