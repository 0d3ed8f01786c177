"""One model on a page: what is told of it, and its scene packed for the browser."""

import base64
import hashlib
from collections.abc import Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import numpy as np

from bolvek.analyses.finding import Finding, agree
from bolvek.arrays import Ints
from bolvek.mesh import Mesh
from bolvek.operations.slim import slim
from bolvek.report.page.pack import Packer
from bolvek.report.page.scene import Scene, open_side, places_of, shell_parts
from bolvek.report.page.stills import still_png
from bolvek.units import length_text, size_text

MOST_DRAWN = 300_000
"""Triangles that are drawn as they are; of larger models a slimmed copy is drawn."""
_FIRST_SHARE, _MORE, _TRIES = 2e-4, 3.0, 4  # of the longest side: what slimming may move
_MOST_PLACES, _MOST_PARTS = 200, 250

Row = tuple[str, str, str]


@dataclass(frozen=True, kw_only=True)
class Entry:
    """One model: words and figures of the report, and the packed scene with what is needed to unpack it."""

    name: str
    file: str
    sha256: str
    verdict: str
    ok: bool
    size: str
    triangles: int
    findings: Sequence[dict[str, Any]]
    rows: Sequence[Row]
    settings: dict[str, Any]
    seconds: dict[str, float]
    still: str
    cut_still: str
    drawn: str
    scene: dict[str, Any] = field(default_factory=dict)
    packed: str = ""

    @property
    def faults(self) -> int:
        """How many findings are faults."""
        return sum(f["severity"] == "fault" for f in self.findings)


def entry_of(
    path: Path,
    scene: Scene,
    findings: Sequence[Finding],
    rows: Sequence[Row],
    *,
    verdict: str,
    ok: bool,
    settings: dict[str, Any],
    seconds: dict[str, float],
) -> Entry:
    """The entry of a model read from a file. Raises ValueError where verdict and findings contradict each other."""
    agree(verdict, ok, findings)
    mesh = scene.mesh
    drawn, origin, words = _drawn(mesh)
    packer = Packer()
    about: dict[str, Any] = {"mesh": packer.mesh(drawn), "origin": origin is not None}
    if origin is not None:
        packer.planes(origin, 4)
    row = slice(None) if origin is None else origin
    part, names = (scene.part, list(scene.part_names)) if scene.part is not None else shell_parts(mesh)
    part = np.minimum(np.asarray(part), _MOST_PARTS - 1)
    packer.numbers(part[row])
    about["parts"] = [*names[: _MOST_PARTS - 1], *(["the others"] if len(names) >= _MOST_PARTS else [])]
    about["shift"] = scene.shift_mm[:_MOST_PARTS].tolist() if scene.shift_mm is not None else None
    inner = scene.inner if scene.inner is not None else _of_voids(mesh)
    packer.numbers(np.asarray(inner, np.int64)[row])
    about["closed"] = mesh.topology.sound
    about["fields"] = [
        {"name": f.name, "unit": f.unit, "limit": f.limit, "worse": f.worse, **packer.values(f.values[row])}
        for f in scene.fields
    ]
    about["kinds"] = []
    for kinds in scene.kinds:
        packer.numbers(np.asarray(kinds.kind, np.int64)[row] + 1)
        about["kinds"].append({"name": kinds.name, "kinds": list(kinds.kinds)})
    about["before"] = None
    if scene.before is not None and len(scene.before.faces):
        about["before"] = packer.mesh(_drawn(scene.before)[0])
    told, about["places"] = _told(mesh, scene, findings)
    if scene.layers is not None:
        plot = scene.layers
        about["layers"] = {
            "up": plot.up,
            "at": np.round(plot.at_mm, 5).tolist(),
            "area": np.round(plot.area_mm2, 3).tolist(),
            "events": list(plot.events),
        }
    about["levels"] = [
        {"up": v.up, "level": v.level_mm, "where": v.where_mm, "area": v.area_mm2, "text": v.text} for v in scene.levels
    ]
    return Entry(
        name=path.name,
        file=str(path),
        sha256=hashlib.sha256(path.read_bytes()).hexdigest() if path.is_file() else "",
        verdict=verdict,
        ok=ok,
        size=size_text(mesh.size),
        triangles=len(mesh.faces),
        findings=told,
        rows=rows,
        settings=settings,
        seconds=seconds,
        still=_data(still_png(drawn, scene, origin)),
        cut_still=_data(still_png(drawn, scene, origin, cut_open=True)),
        drawn=words,
        scene=about,
        packed=packer.text(),
    )


def _drawn(mesh: Mesh) -> tuple[Mesh, Ints | None, str]:
    """The mesh to be drawn, the face of the whole that each of its faces stands for (None: itself), and what to say."""
    count = len(mesh.faces)
    step = length_text(float(mesh.size.max(initial=0.0)) / 65_535)
    if count <= MOST_DRAWN:
        return mesh, None, f"drawn as it is, on a grid of {step}"
    allowed, light, moved = _FIRST_SHARE * float(mesh.size.max()), mesh, 0.0
    for _ in range(_TRIES):
        light, record = slim(mesh, allowed)
        moved = record.deviation_mm
        if len(light.faces) <= MOST_DRAWN:
            break
        allowed *= _MORE
    if light is mesh:
        return mesh, None, f"drawn as it is, on a grid of {step}"
    face = mesh.tree.nearest(light.middles)[1].astype(np.int64)
    words = f"drawn with {len(light.faces):,} of {count:,} triangles, within {1000 * moved:.0f} um, on a grid of {step}"
    return light, face, f"{words}; values are those of the whole model"


def _of_voids(mesh: Mesh) -> Ints:
    """1 for faces (F,) of shells that enclose a void."""
    if not mesh.topology.sound:
        return np.zeros(len(mesh.faces), np.int64)
    return (mesh.shell_volumes < 0)[mesh.topology.shell].astype(np.int64)


def _told(mesh: Mesh, scene: Scene, findings: Sequence[Finding]) -> tuple[list[dict[str, Any]], list[dict[str, Any]]]:
    """What is listed, numbered where it has a place; and the places with the side from which each can be seen."""
    told: list[dict[str, Any]] = []
    places: list[dict[str, Any]] = []
    found = [*zip(findings, places_of(findings), strict=True), *((None, p) for p in scene.places)]
    for finding, place in found:
        one = finding or place
        assert one is not None
        number = None
        if place is not None and len(places) < _MOST_PLACES:
            number = len(places) + 1
            eye, free = open_side(mesh, place.where_mm, place.normal)
            places.append(
                {"severity": place.severity, "text": place.text, "where": place.where_mm, "size": place.size_mm,
                 "eye": eye, "inside": not free}
            )  # fmt: skip
        told.append({"severity": one.severity, "text": one.text, "number": number})
    return told, places


def _data(png: bytes) -> str:
    return f"data:image/png;base64,{base64.b64encode(png).decode()}"
