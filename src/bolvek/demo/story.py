"""The workshop's example, run for real: troubled models are surveyed, a set is sized, a carp is made fit to print."""

import dataclasses
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

from bolvek.analyses.deviation import compare
from bolvek.analyses.layers import read_layers
from bolvek.analyses.overhangs import find_overhangs
from bolvek.analyses.overhangs.directions import compare_directions, faces_in_directions
from bolvek.analyses.proof import examine
from bolvek.analyses.survey import judge, survey
from bolvek.analyses.thickness import measure_walls
from bolvek.demo.carp import carp
from bolvek.demo.lantern_set import UNIT, lantern_set
from bolvek.demo.leaf import maple_leaf
from bolvek.demo.measured import gourd, lattice_shade
from bolvek.demo.pages import NAME as INDEX
from bolvek.demo.pages import Pages
from bolvek.demo.parts_story import (
    PARTS_FILES,
    calm_the_tile,
    cut_the_post,
    fuse_the_finial,
    put_the_carp_on_a_plinth,
)
from bolvek.demo.troubled import cloud_tile, dragon_bracket, finial
from bolvek.demo.twin_lamp import WALL_MM, twin_lamp
from bolvek.formats import check_target, read_model, write_model
from bolvek.formats.folder import check_folder
from bolvek.formats.safe import write_bytes
from bolvek.jobs.plugs import write_plugs
from bolvek.jobs.prep import prep_file
from bolvek.mesh import Mesh
from bolvek.operations.drain import cut_bores, place_by_flood
from bolvek.operations.mend import mend
from bolvek.operations.recast import recast
from bolvek.operations.scale import scale_together
from bolvek.operations.thicken import thicken
from bolvek.profiles import load_profiles
from bolvek.report.page.scene import Scene
from bolvek.report.page.shown import layers_scene, overhangs_scene, rooms_scene, survey_scene, walls_scene
from bolvek.report.pictures.layers import layers_picture
from bolvek.report.pictures.overhangs import directions_picture, overhangs_picture
from bolvek.report.pictures.plain import model_caption
from bolvek.report.pictures.results import (
    compare_result,
    drain_result,
    neck_marks,
    plain_result,
    proof_result,
    survey_result,
    thicken_result,
)
from bolvek.report.pictures.walls import walls_picture
from bolvek.report.record import Record, model_section, record_json
from bolvek.report.words.drain import flood_text, plug_rows
from bolvek.report.words.layers import layer_line, layer_rows
from bolvek.report.words.mend import mend_line
from bolvek.report.words.overhangs import overhang_rows
from bolvek.report.words.prep import STEPS
from bolvek.report.words.proof import proof_text
from bolvek.report.words.recast import recast_text
from bolvek.report.words.scale import scale_text
from bolvek.report.words.survey import survey_line
from bolvek.report.words.thicken import thicken_text
from bolvek.report.words.walls import wall_rows
from bolvek.settings import settings_dict
from bolvek.settings.measures import (
    LayerSettings,
    Making,
    OverhangSettings,
    ProofSettings,
    SurveySettings,
    WallSettings,
)
from bolvek.settings.parts import ScaleSettings
from bolvek.settings.repairs import RecastSettings, ThickenSettings
from bolvek.settings.shape import AutoSettings, DrainSettings, HollowSettings, PlaceSettings, PlugSettings, PrepSettings
from bolvek.units import size_text

PREP = PrepSettings(
    hollow=HollowSettings(wall_mm=2.0),
    drains=PlaceSettings(diameter_mm=3.5),
    auto=True,
    scale=ScaleSettings(height_mm=90.0),
)
TROUBLED: dict[str, Callable[[], Mesh]] = {
    "finial.stl": lambda: finial()[0],
    "cloud_tile.ply": lambda: cloud_tile()[0],
    "dragon_bracket.obj": lambda: dragon_bracket()[0],
}
"""Models with faults, by the file they are written to: each in another format."""

MENDED = ("finial.stl", "cloud_tile.ply")
"""Those that are mended as far as that goes: the finial's parts still go into each other, the tile is still a skin."""

THICKENED = {
    "maple_leaf.stl": ("maple_leaf.thick.stl", ThickenSettings(by_mm=1.2, trim=True)),
    "cloud_tile.mend.ply": ("cloud_tile.foot.stl", ThickenSettings(foot=("z", -4.0))),
}
"""Skins that become solids: what is left of each, and how."""

RECAST = ("dragon_bracket.obj", RecastSettings(grid_mm=0.8, bridge_mm=1.6, grow_mm=0.8, keep_edges=True))

MEASURED = {
    "gourd": (".stl", ".walls.png"),
    "lattice_shade": (".stl", ".overhangs.png", ".ways.png", ".layers.png"),
}
"""Models to be measured, and what is left of each."""

SHOWN = "finial.stl"
"""The one of them that the pages show."""

PLUGS = "carp.plugs"
"""The folder of the carp's plugs."""

Tell = Callable[[str, str, float], None]


def run_demo(
    folder: Path, tell: Tell, begin_step: Callable[[str], None] = lambda _: None, *, replace: bool = False
) -> bool:
    """Write every model, record and picture into a folder; whether the carp is fit.

    Raises FileError when one of them exists and `replace` is not set.
    """
    names = [*TROUBLED, *(f"{Path(n).stem}.survey.png" for n in TROUBLED), "survey.json"]
    names += [f"{Path(n).stem}.mend{suffix}" for n in MENDED for suffix in (Path(n).suffix, ".png")]
    names += ["maple_leaf.stl", "dragon_bracket.recast.stl", "dragon_bracket.recast.png"]
    names += PARTS_FILES
    names += [f"{Path(n).stem}{suffix}" for n, _ in THICKENED.values() for suffix in (".stl", ".png")]
    names += ["carp.stl", "carp.png", "carp.prep.stl", "carp.prep.png", "carp.prep.json"]
    names += [f"{n}{suffix}" for n, suffixes in MEASURED.items() for suffix in suffixes]
    names += ["twin_lamp.stl", "twin_lamp.proof.png", "twin_lamp.drain.stl", "twin_lamp.drain.png"]
    names += [INDEX]
    names += [f"lantern_set/{n}{suffix}" for n in lantern_set() for suffix in (".stl", ".sized.stl")]
    for name in names:
        check_target(folder / name, replace=replace)
    check_folder(folder / PLUGS, replace=replace)
    pages = Pages()
    begin_step("survey")
    _look_at_troubled(folder, tell, replace, pages)
    begin_step("mend")
    _mend_the_troubled(folder, tell, replace)
    begin_step("make solid")
    _make_solids(folder, tell, replace)
    begin_step("parts")
    cut_the_post(folder, tell, replace, pages)
    calm_the_tile(folder, tell, replace)
    begin_step("measure")
    _measure(folder, tell, replace, pages)
    begin_step("twin lamp")
    _prove_the_lamp(folder, tell, replace)
    begin_step("lantern set")
    _size_the_set(folder / "lantern_set", tell, replace)
    begin_step("carp")
    fit = _prepare_the_carp(folder, tell, begin_step, replace, pages)
    begin = time.perf_counter()
    tell("pages", f"{pages.write(folder, replace=replace)}: open it in a browser", _since(begin))
    return fit


def _look_at_troubled(folder: Path, tell: Tell, replace: bool, pages: Pages) -> None:
    """Write the troubled models and survey each of them, with a picture and one record."""
    sections, outputs, seconds = [], [], 0.0
    settings = SurveySettings()
    for name, make in TROUBLED.items():
        begin = time.perf_counter()
        path = folder / name
        picture = path.with_name(f"{path.stem}.survey.png")
        write_model(path, make(), replace=replace)
        model = read_model(path)
        found, marks = survey(model.mesh, settings, model.parts)
        judgement = judge(found, model.polygons, unit=model.unit)
        write_bytes(picture, survey_result(path, model.mesh, found, marks), replace=replace)
        tell("survey", f"{path}: {survey_line(model, found, judgement)}", _since(begin))
        if name == SHOWN:
            rows = [("survey", survey_line(model, found, judgement))]
            pages.show(
                path,
                survey_scene(Scene(mesh=model.mesh), found, marks),
                judgement.findings,
                rows,
                verdict=judgement.verdict,
                ok=judgement.ok,
                seconds=_since(begin),
            )
        sections.append(model_section(model, model.mesh, survey=found, judgement=judgement))
        outputs += [str(path), str(picture)]
        seconds += _since(begin)
    record = Record(
        verb="survey",
        settings=settings_dict(settings),
        models=sections,
        findings=[f for s in sections if s.judgement for f in s.judgement.findings],
        outputs=outputs,
        verdict="not sound",
        ok=False,
        seconds={"survey": seconds},
    )
    write_bytes(folder / "survey.json", record_json(record).encode(), replace=replace)


def _mend_the_troubled(folder: Path, tell: Tell, replace: bool) -> None:
    """What mending makes of the finial and the tile, before and after side by side."""
    for name in MENDED:
        begin = time.perf_counter()
        path = folder / name
        target = path.with_name(f"{path.stem}.mend{path.suffix}")
        before = read_model(path).mesh
        mesh, record, _ = mend(before)
        write_model(target, mesh, replace=replace)
        changes, found = compare(before, mesh)
        shown = compare_result(path, before, mesh, changes, found, record.verdict)
        write_bytes(target.with_suffix(".png"), shown, replace=replace)
        tell("mend", f"{path}: {mend_line(record)}", _since(begin))


def _make_solids(folder: Path, tell: Tell, replace: bool) -> None:
    """The leaf and the tile made thick, the bracket made anew."""
    write_model(folder / "maple_leaf.stl", maple_leaf(), replace=replace)
    for name, (target, settings) in THICKENED.items():
        begin = time.perf_counter()
        path = folder / name
        mesh, made = thicken(read_model(path).mesh, settings)
        write_model(folder / target, mesh, replace=replace)
        shown = thicken_result(folder / target, mesh, made)
        write_bytes((folder / target).with_suffix(".png"), shown, replace=replace)
        tell("thicken", f"{path}: {thicken_text(made)}", _since(begin))
    fuse_the_finial(folder, tell, replace)
    begin = time.perf_counter()
    path = folder / RECAST[0]
    solid, record = recast(read_model(path).mesh, RECAST[1])
    write_model(folder / "dragon_bracket.recast.stl", solid, replace=replace)
    write_bytes(folder / "dragon_bracket.recast.png", plain_result(path, solid), replace=replace)
    tell("recast", f"{path}: {recast_text(record)}", _since(begin))


def _measure(folder: Path, tell: Tell, replace: bool, pages: Pages) -> None:
    """The gourd's walls; the shade's overhangs and the best way up; with pictures."""
    begin = time.perf_counter()
    path = folder / "gourd.stl"
    write_model(path, gourd()[0], replace=replace)
    mesh = read_model(path).mesh
    asked = WallSettings(min_mm=1.2)
    walls, found = measure_walls(mesh, asked)
    caption = model_caption(path, mesh, verdict=walls.verdict, fit=False)
    write_bytes(folder / "gourd.walls.png", walls_picture(mesh, walls, asked, caption), replace=replace)
    tell("walls", f"{path}: {'; '.join(f.text for f in walls.findings)}", _since(begin))
    scene = walls_scene(Scene(mesh=mesh), walls, found.face_mm)
    rows = wall_rows(walls)
    pages.show(path, scene, walls.findings, rows, verdict=walls.verdict, ok=walls.ok, seconds=_since(begin))
    begin = time.perf_counter()
    path = folder / "lattice_shade.stl"
    write_model(path, lattice_shade()[0], replace=replace)
    mesh = read_model(path).mesh
    settings = OverhangSettings()
    hangs, kind = find_overhangs(mesh, settings)
    caption = model_caption(path, mesh, verdict=hangs.verdict, fit=False)
    write_bytes(folder / "lattice_shade.overhangs.png", overhangs_picture(mesh, hangs, kind, caption), replace=replace)
    compared = compare_directions(mesh, settings)
    kinds = faces_in_directions(mesh, settings, compared)
    caption = model_caption(path, mesh, tried=f"{compared.tried} directions compared")
    sheet = directions_picture(mesh, compared, kinds, caption)
    write_bytes(folder / "lattice_shade.ways.png", sheet, replace=replace)
    tell("overhangs", f"{path}: {'; '.join(f.text for f in hangs.findings)}", _since(begin))
    begin = time.perf_counter()
    layers, view = read_layers(mesh, LayerSettings(layer_mm=0.2, making=Making(kind="filament")))
    caption = model_caption(path, mesh, verdict=layers.verdict, fit=layers.ok, layers=f"{layers.count:,} layers")
    write_bytes(folder / "lattice_shade.layers.png", layers_picture(layers, view, caption), replace=replace)
    tell("layers", f"{path}: {layer_line(layers)}", _since(begin))
    scene = layers_scene(overhangs_scene(Scene(mesh=mesh), hangs, kind), layers)
    rows = [*overhang_rows(hangs), *layer_rows(layers, [])]
    findings = (*hangs.findings, *layers.findings)
    pages.show(path, scene, findings, rows, verdict=layers.verdict, ok=layers.ok, seconds=_since(begin))


def _prove_the_lamp(folder: Path, tell: Tell, replace: bool) -> None:
    """The twin lamp as a customer brings it, and what the proof says of it."""
    begin = time.perf_counter()
    path = folder / "twin_lamp.stl"
    write_model(path, twin_lamp(), replace=replace)
    mesh = read_model(path).mesh
    proof, rooms = examine(mesh, ProofSettings(wall_mm=WALL_MM))
    write_bytes(folder / "twin_lamp.proof.png", proof_result(path, mesh, proof, rooms), replace=replace)
    faults = "; ".join(f.text for f in proof.findings if f.severity == "fault")
    tell("proof", f"{path}: {proof.verdict}: {faults}", _since(begin))
    begin = time.perf_counter()
    target = folder / "twin_lamp.drain.stl"
    placed, given_up, auto = place_by_flood(mesh, AutoSettings(place=PlaceSettings(least_mm=1.5, wall_mm=0.8)))
    holes = DrainSettings(drains=tuple(p.drain for p in placed))
    drained, record = cut_bores(mesh, holes, [p.bore for p in placed], as_stored=True)
    write_model(target, drained, replace=replace)
    necks = neck_marks(proof)
    shown = drain_result(path, mesh, drained, dataclasses.replace(record, auto=auto), necks)
    write_bytes(target.with_suffix(".png"), shown, replace=replace)
    tell("drain", f"{target}: {flood_text(placed, given_up, auto)}", _since(begin))


def _size_the_set(folder: Path, tell: Tell, replace: bool) -> None:
    """Write the lantern's parts with their numbers in inches, and scale all by one factor to fit a printer."""
    begin = time.perf_counter()
    parts = lantern_set()
    for name, mesh in parts.items():
        write_model(folder / f"{name}.stl", mesh, replace=replace)
    room = load_profiles().printer("small-resin").build_mm
    settings = ScaleSettings(fit_mm=room, margin_mm=2.0)
    read = [read_model(folder / f"{name}.stl", unit=UNIT).mesh for name in parts]
    for name, (mesh, record) in zip(parts, scale_together(read, settings), strict=True):
        write_model(folder / f"{name}.sized.stl", mesh, replace=replace)
        tell("scale", f"{folder / name}.stl: {scale_text(record)}", _since(begin))


def _prepare_the_carp(folder: Path, tell: Tell, begin_step: Callable[[str], None], replace: bool, pages: Pages) -> bool:
    """The whole way from model to proof."""
    source, target = folder / "carp.stl", folder / "carp.prep.stl"
    record, before, after = folder / "carp.prep.json", folder / "carp.png", folder / "carp.prep.png"
    begin = time.perf_counter()
    mesh = carp()
    write_model(source, mesh, replace=replace)
    tell("carp", f"{source}: {size_text(mesh.size)}, {len(mesh.faces):,} triangles, made by code", _since(begin))
    begin = time.perf_counter()
    write_bytes(before, plain_result(source, mesh), replace=replace)
    tell("picture", str(before), _since(begin))
    put_the_carp_on_a_plinth(folder, tell, replace)
    seconds: dict[str, float] = {}

    def step(name: str, work: Callable[[], Any], /) -> Any:
        begin_step(name)
        begin = time.perf_counter()
        done = work()
        seconds[name] = seconds.get(name, 0.0) + _since(begin)
        tell(name, STEPS[name](done) if name in STEPS else str(target), _since(begin))
        return done

    result = prep_file(source, target, PREP, step, replace=replace)
    mesh = result.model.mesh
    begin = time.perf_counter()
    holes = [(p.drain, p.bore) for p in result.placed]
    plugs = write_plugs("carp", result.whole, holes, folder / PLUGS, PlugSettings(), replace)
    tell("plugs", "; ".join(text for _, text in plug_rows(plugs)), _since(begin))
    begin = time.perf_counter()
    write_bytes(after, proof_result(target, mesh, result.proof, result.rooms), replace=replace)
    tell("picture", str(after), _since(begin))
    pages.show(
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
    text = record_json(
        Record(
            verb="demo",
            settings=settings_dict(PREP),
            models=[section],
            findings=list(result.proof.findings),
            outputs=[str(p) for p in (source, target, before, after)],
            verdict=result.proof.verdict,
            ok=result.proof.ok,
            seconds=seconds,
        )
    )
    write_bytes(record, text.encode(), replace=replace)
    tell("record", f"{record}; verdict: {result.proof.verdict}", 0.0)
    return result.proof.ok


def _since(begin: float) -> float:
    return time.perf_counter() - begin
