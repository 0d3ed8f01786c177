"""Models to be measured, proved, sized and cut: gourd, shade, twin lamp, lantern set and post."""

import dataclasses
import time

from bolvek.analyses.layers import read_layers
from bolvek.analyses.overhangs import find_overhangs
from bolvek.analyses.overhangs.directions import compare_directions, faces_in_directions
from bolvek.analyses.proof import examine
from bolvek.analyses.thickness import measure_walls
from bolvek.demo.desk import Desk, since
from bolvek.demo.lantern_post import lantern_post
from bolvek.demo.lantern_set import UNIT, lantern_set
from bolvek.demo.measured import gourd, lattice_shade
from bolvek.demo.twin_lamp import WALL_MM, twin_lamp
from bolvek.formats import read_model
from bolvek.operations.cut import CutSettings, cut, plan_fit, room_within
from bolvek.operations.drain import cut_bores, place_by_flood
from bolvek.operations.scale import scale_together
from bolvek.profiles import load_profiles
from bolvek.report.page.scene import Scene
from bolvek.report.page.shown import layers_scene, overhangs_scene, pieces_scene, walls_scene
from bolvek.report.pictures.layers import layers_picture
from bolvek.report.pictures.overhangs import directions_picture, overhangs_picture
from bolvek.report.pictures.pieces import pieces_picture
from bolvek.report.pictures.plain import model_caption
from bolvek.report.pictures.results import drain_result, neck_marks, proof_result
from bolvek.report.pictures.walls import walls_picture
from bolvek.report.words.cut import cut_rows, cut_text
from bolvek.report.words.drain import flood_text
from bolvek.report.words.layers import layer_line, layer_rows
from bolvek.report.words.overhangs import overhang_rows
from bolvek.report.words.scale import scale_text
from bolvek.report.words.walls import wall_rows
from bolvek.settings.measures import LayerSettings, Making, OverhangSettings, ProofSettings, WallSettings
from bolvek.settings.parts import PegSettings, ScaleSettings
from bolvek.settings.shape import AutoSettings, DrainSettings, PlaceSettings

PEGS = PegSettings(count=2, length_mm=6.0, clearance_mm=0.15, flat=True)
PIECES = 3
"""Into which the post falls for the small printer."""

GOURD_FILES = ("gourd.stl", "gourd.walls.png")
SHADE_FILES = ("lattice_shade.stl", *(f"lattice_shade.{what}.png" for what in ("overhangs", "ways", "layers")))
LAMP_FILES = ("twin_lamp.stl", "twin_lamp.proof.png", "twin_lamp.drain.stl", "twin_lamp.drain.png")
SET_FILES = tuple(f"lantern_set/{name}{suffix}" for name in lantern_set() for suffix in (".stl", ".sized.stl"))
POST_FILES = (
    "lantern_post.stl",
    *(f"lantern_post.{k}of{PIECES}.stl" for k in range(1, PIECES + 1)),
    "lantern_post.cut.png",
)
"""What these leave."""


def measure_the_gourd(desk: Desk) -> None:
    """Its walls, with a picture."""
    begin = time.perf_counter()
    model = desk.made("gourd.stl", gourd()[0])
    mesh, path = model.mesh, model.path
    walls, found = measure_walls(mesh, WallSettings(min_mm=1.2))
    caption = model_caption(path, mesh, walls)
    desk.write("gourd.walls.png", walls_picture(mesh, walls, found, caption))
    desk.tell("walls", f"{path}: {'; '.join(f.text for f in walls.findings)}", since(begin))
    scene = walls_scene(Scene(mesh=mesh), walls, found.face_mm)
    rows = wall_rows(walls)
    desk.show(path, scene, walls.findings, rows, verdict=walls.verdict, ok=walls.ok, seconds=since(begin))


def measure_the_shade(desk: Desk) -> None:
    """Its overhangs, the best way up and its layers; with pictures."""
    begin = time.perf_counter()
    model = desk.made("lattice_shade.stl", lattice_shade()[0])
    mesh, path = model.mesh, model.path
    settings = OverhangSettings()
    hangs, kind = find_overhangs(mesh, settings)
    caption = model_caption(path, mesh, hangs)
    desk.write("lattice_shade.overhangs.png", overhangs_picture(mesh, hangs, kind, caption))
    compared = compare_directions(mesh, settings)
    kinds = faces_in_directions(mesh, settings, compared)
    caption = model_caption(path, mesh, tried=f"{compared.tried} directions compared")
    desk.write("lattice_shade.ways.png", directions_picture(mesh, compared, kinds, caption))
    desk.tell("overhangs", f"{path}: {'; '.join(f.text for f in hangs.findings)}", since(begin))
    begin = time.perf_counter()
    layers, view = read_layers(mesh, LayerSettings(layer_mm=0.2, making=Making(kind="filament")))
    caption = model_caption(path, mesh, layers, layers=f"{layers.count:,} layers")
    desk.write("lattice_shade.layers.png", layers_picture(layers, view, caption))
    desk.tell("layers", f"{path}: {layer_line(layers)}", since(begin))
    scene = layers_scene(overhangs_scene(Scene(mesh=mesh), hangs, kind), layers)
    rows = [*overhang_rows(hangs), *layer_rows(layers, [])]
    findings = (*hangs.findings, *layers.findings)
    worse = next((told for told in (hangs, layers) if not told.ok), hangs)
    desk.show(path, scene, findings, rows, verdict=worse.verdict, ok=worse.ok, seconds=since(begin))


def prove_the_lamp(desk: Desk) -> None:
    """The twin lamp as a customer brings it, what the proof says of it, and the holes it needs."""
    begin = time.perf_counter()
    model = desk.made("twin_lamp.stl", twin_lamp())
    mesh, path = model.mesh, model.path
    proof, rooms = examine(mesh, ProofSettings(wall_mm=WALL_MM))
    desk.write("twin_lamp.proof.png", proof_result(path, mesh, proof, rooms))
    faults = "; ".join(f.text for f in proof.findings if f.severity == "fault")
    desk.tell("proof", f"{path}: {proof.verdict}: {faults}", since(begin))
    desk.busy("twin lamp: drain")
    begin = time.perf_counter()
    target = desk.folder / "twin_lamp.drain.stl"
    placed, given_up, auto = place_by_flood(mesh, AutoSettings(place=PlaceSettings(least_mm=1.5, wall_mm=0.8)))
    holes = DrainSettings(drains=tuple(p.drain for p in placed))
    drained, record = cut_bores(mesh, holes, [p.bore for p in placed], as_stored=True)
    desk.save(target.name, drained)
    shown = drain_result(path, mesh, drained, dataclasses.replace(record, auto=auto), neck_marks(proof))
    desk.write("twin_lamp.drain.png", shown)
    desk.tell("drain", f"{target}: {flood_text(placed, given_up, auto)}", since(begin))


def size_the_set(desk: Desk) -> None:
    """The lantern's parts with their numbers in inches, scaled by one factor to fit a printer."""
    begin = time.perf_counter()
    parts = lantern_set()
    for name, mesh in parts.items():
        desk.save(f"lantern_set/{name}.stl", mesh)
    room = load_profiles().printer("small-resin").build_mm
    read = [read_model(desk.folder / f"lantern_set/{name}.stl", unit=UNIT).mesh for name in parts]
    scaled = scale_together(read, ScaleSettings(fit_mm=room, margin_mm=2.0))
    for name, (mesh, record) in zip(parts, scaled, strict=True):
        desk.save(f"lantern_set/{name}.sized.stl", mesh)
        desk.tell("scale", f"{desk.folder / 'lantern_set' / name}.stl: {scale_text(record)}", since(begin))


def cut_the_post(desk: Desk) -> None:
    """A post too tall for the small printer, in pieces with pegs."""
    begin = time.perf_counter()
    model = desk.made("lantern_post.stl", lantern_post())
    mesh, path = model.mesh, model.path
    room = room_within(load_profiles().printer("small-resin").build_mm, 2.0)
    plan = plan_fit(mesh, room, fittings_mm=PEGS.length_mm or 0.0)
    made, record = cut(mesh, CutSettings(planes=plan.planes, pegs=PEGS, lay_flat=True, room_mm=room))
    for number, piece in enumerate(made.lying, 1):
        desk.save(f"lantern_post.{number}of{len(made.lying)}.stl", piece)
    caption = model_caption(path, mesh, pieces=f"{len(record.pieces)} pieces", pegs=f"{len(record.pegs)} pegs")
    desk.write("lantern_post.cut.png", pieces_picture(made.pieces, plan.planes, caption))
    took = since(begin)
    desk.tell("cut", f"{path}: {cut_text(record)}", took)
    scene = pieces_scene(Scene(mesh=mesh), made.pieces)
    desk.show(path, scene, record.findings, cut_rows(record), verdict=record.verdict, ok=record.ok, seconds=took)
