"""The carp: from model to proven print with one command, with the plugs of its holes; and on a plinth."""

import time
from collections.abc import Callable
from typing import Any

from bolvek.demo.carp import carp
from bolvek.demo.desk import Desk, since
from bolvek.formats import read_model
from bolvek.jobs.plugs import write_plugs
from bolvek.jobs.prep import prep_file
from bolvek.operations.plinth import add_plinth
from bolvek.report.page.scene import Scene
from bolvek.report.page.shown import rooms_scene
from bolvek.report.pictures.results import plain_result, proof_result
from bolvek.report.record import Record, model_section, record_json
from bolvek.report.words.drain import plug_rows
from bolvek.report.words.plinth import plinth_text
from bolvek.report.words.prep import STEPS
from bolvek.report.words.proof import proof_text
from bolvek.settings import settings_dict
from bolvek.settings.parts import PlinthSettings, ScaleSettings
from bolvek.settings.shape import HollowSettings, PlaceSettings, PlugSettings, PrepSettings
from bolvek.units import size_text

PREP = PrepSettings(
    hollow=HollowSettings(wall_mm=2.0),
    drains=PlaceSettings(diameter_mm=3.5),
    auto=True,
    scale=ScaleSettings(height_mm=90.0),
)

PLUGS = "carp.plugs"
"""The folder of the carp's plugs."""

FILES = (
    *("carp.stl", "carp.png", "carp.prep.stl", "carp.prep.png", "carp.prep.json"),
    *("carp.plinth.stl", "carp.plinth.png"),
)
"""What these leave, beside the plugs."""


def prepare_the_carp(desk: Desk) -> bool:
    """The whole way from model to proof; whether it is fit."""
    folder = desk.folder
    source, target = folder / "carp.stl", folder / "carp.prep.stl"
    begin = time.perf_counter()
    mesh = desk.made("carp.stl", carp()).mesh
    desk.tell("carp", f"{source}: {size_text(mesh.size)}, {len(mesh.faces):,} triangles, made by code", since(begin))
    begin = time.perf_counter()
    desk.write("carp.png", plain_result(source, mesh))
    desk.tell("picture", str(folder / "carp.png"), since(begin))
    seconds: dict[str, float] = {}

    def step(name: str, work: Callable[[], Any], /) -> Any:
        desk.busy(f"carp: {name}")
        begin = time.perf_counter()
        done = work()
        seconds[name] = seconds.get(name, 0.0) + since(begin)
        desk.tell(name, STEPS[name](done) if name in STEPS else str(target), since(begin))
        return done

    result = prep_file(source, target, PREP, step, replace=desk.replace)
    mesh = result.model.mesh
    begin = time.perf_counter()
    holes = [(p.drain, p.bore) for p in result.placed]
    plugs = write_plugs("carp", result.whole, holes, folder / PLUGS, PlugSettings(), desk.replace)
    desk.tell("plugs", "; ".join(text for _, text in plug_rows(plugs)), since(begin))
    begin = time.perf_counter()
    desk.write("carp.prep.png", proof_result(target, mesh, result.proof, result.rooms))
    desk.tell("picture", str(folder / "carp.prep.png"), since(begin))
    desk.show(
        target,
        rooms_scene(Scene(mesh=mesh, before=result.whole), result.proof, result.rooms),
        result.proof.findings,
        proof_text(result.proof),
        verdict=result.proof.verdict,
        ok=result.proof.ok,
        seconds=sum(seconds.values()),
    )
    section = model_section(
        result.model,
        mesh,
        scale=result.scale,
        hollow=result.hollow,
        drain=result.drain,
        plugs=plugs,
        proof=result.proof,
    )
    record = Record(
        verb="demo",
        settings=settings_dict(PREP),
        models=[section],
        findings=list(result.proof.findings),
        outputs=[str(folder / name) for name in ("carp.stl", "carp.prep.stl", "carp.png", "carp.prep.png")],
        verdict=result.proof.verdict,
        ok=result.proof.ok,
        seconds=seconds,
    )
    desk.write("carp.prep.json", record_json(record).encode())
    desk.tell("record", f"{folder / 'carp.prep.json'}; verdict: {result.proof.verdict}", 0.0)
    _put_it_on_a_plinth(desk)
    return result.proof.ok


def _put_it_on_a_plinth(desk: Desk) -> None:
    """The carp, sunk into a plinth that follows its foot."""

    desk.busy("carp: plinth")
    begin = time.perf_counter()
    path, target = desk.folder / "carp.stl", desk.folder / "carp.plinth.stl"
    mesh, record = add_plinth(read_model(path).mesh, PlinthSettings(height_mm=5.0))
    desk.save(target.name, mesh)
    desk.write("carp.plinth.png", plain_result(target, mesh))
    desk.tell("plinth", f"{path}: {plinth_text(record)}", since(begin))
