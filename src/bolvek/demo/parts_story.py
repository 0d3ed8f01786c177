"""The example's chapter about parts: the finial fused, the post cut, the tile calmed, the carp on a plinth."""

import time
from collections.abc import Callable
from pathlib import Path

from bolvek.demo.lantern_post import lantern_post
from bolvek.demo.pages import Pages
from bolvek.formats import read_model, write_model
from bolvek.formats.safe import write_bytes
from bolvek.operations.cut import CutSettings, cut, plan_fit, room_within
from bolvek.operations.drain import cut_bores, place_by_flood
from bolvek.operations.fuse import fuse, gather
from bolvek.operations.plinth import add_plinth
from bolvek.operations.smooth import smooth
from bolvek.profiles import load_profiles
from bolvek.report.page.scene import Scene
from bolvek.report.page.shown import pieces_scene
from bolvek.report.pictures.before import before_after
from bolvek.report.pictures.pieces import pieces_picture
from bolvek.report.pictures.plain import model_caption
from bolvek.report.pictures.results import plain_result, solid_result
from bolvek.report.words.cut import cut_rows, cut_text
from bolvek.report.words.drain import flood_text
from bolvek.report.words.fuse import fuse_text
from bolvek.report.words.plinth import plinth_text
from bolvek.report.words.smooth import smooth_text
from bolvek.settings.parts import FuseSettings, PegSettings, PlinthSettings
from bolvek.settings.repairs import SmoothSettings
from bolvek.settings.shape import AutoSettings, DrainSettings, PlaceSettings

FINIAL_REACH_MM = 1.0
"""The ball on its top hovers by less; the ring around it by more: it is meant to."""

PEGS = PegSettings(count=2, length_mm=6.0, clearance_mm=0.15, flat=True)
PIECES = 3
"""Into which the post falls for the small printer."""

PARTS_FILES = (
    *("finial.fuse.stl", "finial.fuse.png", "finial.drain.stl"),
    *("lantern_post.stl", *(f"lantern_post.{k}of{PIECES}.stl" for k in range(1, PIECES + 1)), "lantern_post.cut.png"),
    *("cloud_tile.smooth.ply", "cloud_tile.smooth.png"),
    *("carp.plinth.stl", "carp.plinth.png"),
)
"""What these leave."""

Tell = Callable[[str, str, float], None]


def fuse_the_finial(folder: Path, tell: Tell, replace: bool) -> None:
    """Its parts in one, the void between them told and opened."""
    begin = time.perf_counter()
    path, target = folder / "finial.mend.stl", folder / "finial.fuse.stl"
    one, fused = fuse(gather(read_model(path).mesh), FuseSettings(reach_mm=FINIAL_REACH_MM))
    write_model(target, one, replace=replace)
    shown = solid_result(target, one, cut_open=bool(fused.voids))
    write_bytes(target.with_suffix(".png"), shown, replace=replace)
    tell("fuse", f"{path}: {fuse_text(fused)}", time.perf_counter() - begin)
    begin = time.perf_counter()
    place = PlaceSettings(diameter_mm=2.0, least_mm=1.5, wall_mm=0.8)
    placed, given_up, auto = place_by_flood(one, AutoSettings(place=place))
    opened = one
    if placed:
        holes = DrainSettings(drains=tuple(p.drain for p in placed))
        opened, _ = cut_bores(one, holes, [p.bore for p in placed], as_stored=True)
    write_model(folder / "finial.drain.stl", opened, replace=replace)
    tell("drain", f"{target}: {flood_text(placed, given_up, auto)}", time.perf_counter() - begin)


def cut_the_post(folder: Path, tell: Tell, replace: bool, pages: Pages) -> None:
    """A post too tall for the small printer, in pieces with pegs."""
    begin = time.perf_counter()
    path = folder / "lantern_post.stl"
    write_model(path, lantern_post(), replace=replace)
    mesh = read_model(path).mesh
    room = room_within(load_profiles().printer("small-resin").build_mm, 2.0)
    plan = plan_fit(mesh, room, fittings_mm=PEGS.length_mm or 0.0)
    made, record = cut(mesh, CutSettings(planes=plan.planes, pegs=PEGS, lay_flat=True, room_mm=room))
    for number, piece in enumerate(made.lying, 1):
        write_model(folder / f"lantern_post.{number}of{len(made.lying)}.stl", piece, replace=replace)
    caption = model_caption(path, mesh, pieces=f"{len(record.pieces)} pieces", pegs=f"{len(record.pegs)} pegs")
    write_bytes(folder / "lantern_post.cut.png", pieces_picture(made.pieces, plan.planes, caption), replace=replace)
    took = time.perf_counter() - begin
    tell("cut", f"{path}: {cut_text(record)}", took)
    scene = pieces_scene(Scene(mesh=mesh), made.pieces)
    pages.show(path, scene, record.findings, cut_rows(record), verdict="done", ok=record.ok, seconds=took)


def calm_the_tile(folder: Path, tell: Tell, replace: bool) -> None:
    """The scanned tile without its noise."""
    begin = time.perf_counter()
    path, target = folder / "cloud_tile.mend.ply", folder / "cloud_tile.smooth.ply"
    before = read_model(path).mesh
    mesh, record = smooth(before, SmoothSettings(most_mm=0.15))
    write_model(target, mesh, replace=replace)
    caption = model_caption(target, mesh, smooth=smooth_text(record))
    write_bytes(target.with_suffix(".png"), before_after(before, mesh, caption), replace=replace)
    tell("smooth", f"{path}: {smooth_text(record)}", time.perf_counter() - begin)


def put_the_carp_on_a_plinth(folder: Path, tell: Tell, replace: bool) -> None:
    """The carp, sunk into a plinth that follows its foot."""
    begin = time.perf_counter()
    path, target = folder / "carp.stl", folder / "carp.plinth.stl"
    mesh, record = add_plinth(read_model(path).mesh, PlinthSettings(height_mm=5.0))
    write_model(target, mesh, replace=replace)
    write_bytes(target.with_suffix(".png"), plain_result(target, mesh), replace=replace)
    tell("plinth", f"{path}: {plinth_text(record)}", time.perf_counter() - begin)
