"""Models with faults: surveyed, mended, made solid, calmed."""

import time
from collections.abc import Callable

from bolvek.analyses.deviation import compare
from bolvek.analyses.survey import judge, survey
from bolvek.demo.desk import Desk, since
from bolvek.demo.leaf import maple_leaf
from bolvek.demo.troubled import cloud_tile, dragon_bracket, finial
from bolvek.formats import read_model
from bolvek.mesh import Mesh
from bolvek.operations.drain import cut_bores, place_by_flood
from bolvek.operations.fuse import fuse, gather
from bolvek.operations.mend import mend
from bolvek.operations.recast import recast
from bolvek.operations.smooth import smooth
from bolvek.operations.thicken import thicken
from bolvek.report.page.scene import Scene
from bolvek.report.page.shown import survey_scene
from bolvek.report.pictures.before import before_after
from bolvek.report.pictures.plain import model_caption
from bolvek.report.pictures.results import compare_result, plain_result, solid_result, survey_result, thicken_result
from bolvek.report.record import Record, model_section, record_json
from bolvek.report.words.drain import flood_text
from bolvek.report.words.fuse import fuse_text
from bolvek.report.words.mend import mend_line
from bolvek.report.words.recast import recast_text
from bolvek.report.words.smooth import smooth_text
from bolvek.report.words.survey import survey_line
from bolvek.report.words.thicken import thicken_text
from bolvek.settings import settings_dict
from bolvek.settings.measures import SurveySettings
from bolvek.settings.parts import FuseSettings
from bolvek.settings.repairs import RecastSettings, SmoothSettings, ThickenSettings
from bolvek.settings.shape import AutoSettings, DrainSettings, PlaceSettings

TROUBLED: dict[str, Callable[[], Mesh]] = {
    "finial.stl": lambda: finial()[0],
    "cloud_tile.ply": lambda: cloud_tile()[0],
    "dragon_bracket.obj": lambda: dragon_bracket()[0],
}
"""Models with faults, by the file they are written to: each in another format."""

SHOWN = "finial.stl"
"""The one of them that the pages show."""

FINIAL_REACH_MM = 1.0
"""The ball on its top hovers by less; the ring around it by more: it is meant to."""

RECAST = RecastSettings(grid_mm=0.8, bridge_mm=1.6, grow_mm=0.8, keep_edges=True)

FILES = (
    *(name for model in TROUBLED for name in (model, f"{model.partition('.')[0]}.survey.png")),
    *("survey.json", "finial.mend.stl", "finial.mend.png", "cloud_tile.mend.ply", "cloud_tile.mend.png"),
    *("cloud_tile.foot.stl", "cloud_tile.foot.png", "cloud_tile.smooth.ply", "cloud_tile.smooth.png"),
    *("finial.fuse.stl", "finial.fuse.png", "finial.drain.stl"),
)
SOLID_FILES = (
    *("maple_leaf.stl", "maple_leaf.thick.stl", "maple_leaf.thick.png"),
    *("dragon_bracket.recast.stl", "dragon_bracket.recast.png"),
)
"""What these leave."""


def look_at_the_troubled(desk: Desk) -> None:
    """Write the troubled models and survey each of them, with a picture and one record."""
    sections, outputs, seconds = [], [], 0.0
    settings = SurveySettings()
    for name, make in TROUBLED.items():
        begin = time.perf_counter()
        model = desk.made(name, make())
        found, marks = survey(model.mesh, settings, model.parts)
        judgement = judge(found, model.polygons, unit=model.unit)
        picture = model.path.with_name(f"{model.path.stem}.survey.png")
        desk.write(picture.name, survey_result(model.path, model.mesh, found, marks, judgement))
        desk.tell("survey", f"{model.path}: {survey_line(model, found, judgement)}", since(begin))
        if name == SHOWN:
            desk.show(
                model.path,
                survey_scene(Scene(mesh=model.mesh), found, marks),
                judgement.findings,
                [("survey", survey_line(model, found, judgement))],
                verdict=judgement.verdict,
                ok=judgement.ok,
                seconds=since(begin),
            )
        sections.append(model_section(model, model.mesh, survey=found, judgement=judgement))
        outputs += [str(model.path), str(picture)]
        seconds += since(begin)
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
    desk.write("survey.json", record_json(record).encode())


def repair_finial_and_tile(desk: Desk) -> None:
    """The finial mended, fused and drained; the tile mended, put on a foot and calmed."""
    look_at_the_troubled(desk)
    _mended(desk, "finial.stl")
    _fuse_the_finial(desk)
    _mended(desk, "cloud_tile.ply")
    _thick(desk, "cloud_tile.mend.ply", "cloud_tile.foot.stl", ThickenSettings(foot=("z", -4.0)))
    _calm_the_tile(desk)


def make_leaf_and_bracket_solid(desk: Desk) -> None:
    """The leaf made thick, the bracket made anew."""
    desk.busy("maple leaf: thicken")
    desk.save("maple_leaf.stl", maple_leaf())
    _thick(desk, "maple_leaf.stl", "maple_leaf.thick.stl", ThickenSettings(by_mm=1.2, trim=True))
    desk.busy("dragon bracket: recast")
    begin = time.perf_counter()
    path = desk.folder / "dragon_bracket.obj"
    # the model itself is written by another chapter
    solid, record = recast(dragon_bracket()[0], RECAST)
    desk.save("dragon_bracket.recast.stl", solid)
    desk.write("dragon_bracket.recast.png", plain_result(path, solid))
    desk.tell("recast", f"{path}: {recast_text(record)}", since(begin))


def _mended(desk: Desk, name: str) -> None:
    """What mending makes of a model, before and after side by side: as far as that goes."""
    begin = time.perf_counter()
    path = desk.folder / name
    before = read_model(path).mesh
    mesh, record, _ = mend(before)
    target = f"{path.stem}.mend"
    desk.save(target + path.suffix, mesh)
    changes, found = compare(before, mesh)
    desk.write(target + ".png", compare_result(path, before, mesh, changes, found, record))
    desk.tell("mend", f"{path}: {mend_line(record)}", since(begin))


def _thick(desk: Desk, name: str, target: str, settings: ThickenSettings) -> None:
    """A skin that becomes a solid."""
    begin = time.perf_counter()
    path = desk.folder / name
    mesh, made = thicken(read_model(path).mesh, settings)
    desk.save(target, mesh)
    shown = thicken_result(desk.folder / target, mesh, made)
    desk.write(f"{target.rpartition('.')[0]}.png", shown)
    desk.tell("thicken", f"{path}: {thicken_text(made)}", since(begin))


def _fuse_the_finial(desk: Desk) -> None:
    """Its parts in one, the void between them told and opened."""
    begin = time.perf_counter()
    path, target = desk.folder / "finial.mend.stl", desk.folder / "finial.fuse.stl"
    one, fused = fuse(gather(read_model(path).mesh), FuseSettings(reach_mm=FINIAL_REACH_MM))
    desk.save(target.name, one)
    desk.write("finial.fuse.png", solid_result(target, one, cut_open=bool(fused.voids)))
    desk.tell("fuse", f"{path}: {fuse_text(fused)}", since(begin))
    begin = time.perf_counter()
    place = PlaceSettings(diameter_mm=2.0, least_mm=1.5, wall_mm=0.8)
    placed, given_up, auto = place_by_flood(one, AutoSettings(place=place))
    opened = one
    if placed:
        holes = DrainSettings(drains=tuple(p.drain for p in placed))
        opened, _ = cut_bores(one, holes, [p.bore for p in placed], as_stored=True)
    desk.save("finial.drain.stl", opened)
    desk.tell("drain", f"{target}: {flood_text(placed, given_up, auto)}", since(begin))


def _calm_the_tile(desk: Desk) -> None:
    """The scanned tile without its noise."""
    begin = time.perf_counter()
    path, target = desk.folder / "cloud_tile.mend.ply", desk.folder / "cloud_tile.smooth.ply"
    before = read_model(path).mesh
    mesh, record = smooth(before, SmoothSettings(most_mm=0.15))
    desk.save(target.name, mesh)
    caption = model_caption(target, mesh, smooth=smooth_text(record))
    desk.write("cloud_tile.smooth.png", before_after(before, mesh, caption))
    desk.tell("smooth", f"{path}: {smooth_text(record)}", since(begin))
