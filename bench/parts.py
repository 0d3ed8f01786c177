"""Fusing, cutting, calming and standing: seconds and what came of it."""

import time
from pathlib import Path

import numpy as np

from bench.models import blob
from bolvek.analyses.soundness import find_defects
from bolvek.demo.carp import carp
from bolvek.demo.lantern_post import lantern_post
from bolvek.demo.pieces import globe
from bolvek.mesh import Mesh
from bolvek.operations.cut import CutSettings, Plane, cut
from bolvek.operations.fuse import fuse, gather
from bolvek.operations.hollow import hollow
from bolvek.operations.plinth import add_plinth
from bolvek.operations.scale import scale
from bolvek.operations.smooth import smooth
from bolvek.settings.parts import FuseSettings, LipSettings, PegSettings, PlinthSettings, ScaleSettings
from bolvek.settings.repairs import SmoothSettings
from bolvek.settings.shape import HollowSettings


def parts(_: Path) -> None:
    """Fusing, cutting, calming, standing: seconds in one process, single runs, and what came of it."""
    rng = np.random.default_rng(5)

    def globes(count: int, sides: tuple[int, ...], spread: float) -> list[Mesh]:
        made = []
        for k in range(count):
            middle = rng.uniform(0, spread, 3)
            made.append(globe(float(rng.uniform(2, 5)), tuple(middle), sides[k % len(sides)]))
        return made

    print("## Parts\n\n| parts | triangles | to | bodies | gather s | fuse s | sound |\n|---|---|---|---|---|---|---|")
    heaps = {
        "100 globes": globes(100, (16,), 40.0),
        "500 globes": globes(500, (8, 16), 40.0),
        "two rings": [_ring(0.0, (0, 0, 0)), _ring(1.1, (7, 3, 1))],
    }
    for name, some in heaps.items():
        mesh = some[0].joined(*some[1:]).as_stored()
        begin = time.perf_counter()
        gathered = gather(mesh)
        middle = time.perf_counter()
        made, record = fuse(gathered, FuseSettings())
        end = time.perf_counter()
        sound = "no" if find_defects(made.as_stored()) else "yes"
        row = f"| {name} | {len(mesh.faces):,} | {len(made.faces):,} | {record.bodies} | {middle - begin:.1f} | "
        print(f"{row}{end - middle:.1f} | {sound} |", flush=True)

    print("\n| cut | triangles | pieces | pegs, lips | s | gap mm, least | wall mm, least | volume apart mm3 |")
    print("|---|---|---|---|---|---|---|---|")
    carp_90 = scale(carp(), ScaleSettings(height_mm=90.0))[0].as_stored()
    bodies = {"carp, 90 mm": carp_90, "blob": blob(1, 100.0, 0.225).as_stored(), "post": lantern_post()}
    hollow_carp, _ = hollow(carp_90, HollowSettings(wall_mm=2.0))
    for name, mesh in bodies.items():
        levels = (0.33, 0.66) if name == "post" else (0.5,)
        planes = tuple(_level(mesh, share) for share in levels)
        for pegs in (None, PegSettings(), PegSettings(loose=True, flat=True)):
            _cut_row(name, mesh, CutSettings(planes=planes, pegs=pegs))
    _cut_row("hollow carp", hollow_carp, CutSettings(planes=(_level(hollow_carp, 0.5),), lip=LipSettings()))

    print(
        "\n| smooth | triangles | s | error before mm | after | deviation mm | volume |\n|---|---|---|---|---|---|---|"
    )
    for name, mesh in {"ball": blob(0, 40.0, 0.5), "blob": blob(1, 100.0, 0.225)}.items():
        solid = mesh.as_stored()
        edge = float(np.sqrt(solid.face_areas.mean() * 2.3))
        rough = solid.moved(solid.vertices + rng.normal(size=solid.vertices.shape) * 0.06 * edge).as_stored()
        begin = time.perf_counter()
        calm, told = smooth(rough, SmoothSettings(most_mm=0.3))
        seconds = time.perf_counter() - begin
        off = [float(np.sqrt((solid.tree.nearest(m.vertices)[0] ** 2).mean())) for m in (rough, calm)]
        row = f"| {name} | {len(solid.faces):,} | {seconds:.1f} | {off[0]:.4f} | {off[1]:.4f} | "
        row += f"{told.deviation_mm:.3f} | "
        print(f"{row}{100 * (calm.volume / solid.volume - 1):+.3f}% |", flush=True)

    print("\n| plinth | triangles | s | may lean |\n|---|---|---|---|")
    for shape in ("follow", "round", "square"):
        begin = time.perf_counter()
        _, stood = add_plinth(carp_90, PlinthSettings(shape=shape))  # type: ignore[arg-type]
        print(
            f"| carp, {shape} | {len(carp_90.faces):,} | {time.perf_counter() - begin:.1f} | {stood.tips_deg:.0f} deg |"
        )
    print(flush=True)


def _ring(tilt: float, shift: tuple[float, float, float], n: int = 1000, m: int = 250) -> Mesh:
    """A bumpy torus of half a million triangles."""
    a, b = np.meshgrid(*(np.linspace(0, 2 * np.pi, k, endpoint=False) for k in (n, m)), indexing="ij")
    small = 8 * (1 + 0.03 * np.sin(9 * a) * np.cos(5 * b))
    reach = 30 + small * np.cos(b)
    points = np.stack([reach * np.cos(a), reach * np.sin(a), small * np.sin(b)], axis=-1).reshape(-1, 3)
    c, s = np.cos(tilt), np.sin(tilt)
    points = points @ np.array([[1, 0, 0], [0, c, -s], [0, s, c]]).T + np.array(shift)
    i, j = np.arange(n)[:, None], np.arange(m)[None]
    at = [((i + p) % n * m + (j + q) % m).ravel() for p, q in ((0, 0), (1, 0), (1, 1), (0, 1))]
    faces = np.concatenate([np.stack([at[0], at[1], at[2]], axis=1), np.stack([at[0], at[2], at[3]], axis=1)])
    return Mesh(points.astype(np.float32), faces)


def _level(mesh: Mesh, share: float) -> Plane:
    """A level plane at a share of the height."""
    z = float(mesh.bounds[0, 2] + share * mesh.size[2])
    return Plane(point_mm=(0.0, 0.0, z), normal=(0.0, 0.0, 1.0), name=f"z={z:.2f}")


def _cut_row(name: str, mesh: Mesh, asked: CutSettings) -> None:
    begin = time.perf_counter()
    _, record = cut(mesh, asked)
    seconds = time.perf_counter() - begin
    held = "" if asked.pegs is None else " loose, flat" if asked.pegs.loose else ""
    gap = min((p.gap_mm for p in (*record.pegs, *record.lips)), default=float("nan"))
    wall = min((p.wall_mm for p in record.pegs), default=float("nan"))
    row = f"| {name} | {len(mesh.faces):,} | {len(record.pieces)} | {len(record.pegs)}{held}, {len(record.lips)} | "
    print(f"{row}{seconds:.1f} | {gap:.3f} | {wall:.2f} | {record.apart_mm3:+.1e} |", flush=True)
