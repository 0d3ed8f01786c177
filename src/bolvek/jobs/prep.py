"""`prep`: from a file to a hollowed, drained, proven model, step by step."""

import dataclasses
import time
from collections.abc import Callable
from dataclasses import dataclass, field
from pathlib import Path
from typing import TypeVar

from bolvek.analyses.cavities import default_ball_mm
from bolvek.analyses.proof import ProofRecord, ProofSettings, prove
from bolvek.errors import WorkError
from bolvek.formats import check_target, read_model, write_model
from bolvek.formats.registry import Model
from bolvek.mesh import Mesh
from bolvek.operations.drain import DrainRecord, DrainSettings, cut_bores
from bolvek.operations.hollow import HollowRecord, HollowSettings, check_hollowable, hollow
from bolvek.operations.place_drains import PlaceSettings, place_drains
from bolvek.operations.scale import ScaleRecord, ScaleSettings, scale
from bolvek.report import words

T = TypeVar("T")


@dataclass(frozen=True)
class PrepSettings:
    """Scale (None: as it is), hollow, drains and the file to write."""

    hollow: HollowSettings
    drains: PlaceSettings
    scale: ScaleSettings | None = None
    unit: str | None = None
    replace: bool = False

    def check(self) -> None:
        """Raise UsageError when any of the settings makes no sense."""
        if self.scale is not None:
            self.scale.check()
        self.hollow.check()
        self.drains.check()


@dataclass
class PrepResult:
    """What came out: the mesh, and the record of every step with its seconds."""

    model: Model
    after: Mesh
    scale: ScaleRecord | None
    hollow: HollowRecord
    drain: DrainRecord | None
    proof: ProofRecord
    output: Path
    seconds: dict[str, float] = field(default_factory=dict)


def prep(
    source: Path,
    output: Path,
    settings: PrepSettings,
    tell: Callable[[str, str, float], None] = lambda *_: None,
    begin_step: Callable[[str], None] = lambda _: None,
) -> PrepResult:
    """Run all steps; `begin_step(step)` is called before and `tell(step, text, seconds)` after each.

    From scaling on, coordinates are what a binary STL can hold, so the model that is proven is the
    file that is written, bit for bit. Raises BolvekError; nothing is written then. A model that
    turns out unfit is still written: the verdict says so.
    """
    settings.check()
    check_target(output, [source], replace=settings.replace)
    seconds: dict[str, float] = {}

    def step(name: str, work: Callable[[], T], text: Callable[[T], str]) -> T:
        begin_step(name)
        begin = time.perf_counter()
        result = work()
        seconds[name] = time.perf_counter() - begin
        tell(name, text(result), seconds[name])
        return result

    model = step("read", lambda: read_model(source, unit=settings.unit), words.model_text)
    mesh, scaled = model.mesh, None
    if settings.scale is not None:
        chosen = settings.scale
        mesh, scaled = step("scale", lambda: scale(model.mesh, chosen), lambda r: words.scale_text(r[1]))
    mesh = mesh.as_stored()
    try:
        mesh, turned = step("check", lambda: check_hollowable(mesh), words.check_text)
    except WorkError:
        check_hollowable(model.mesh)  # so that places are told in the coordinates of the file
        raise
    mesh, hollowed = step("hollow", lambda: hollow(mesh, settings.hollow), lambda r: words.hollow_text(r[1]))
    model = dataclasses.replace(model, mesh=mesh)  # lets go of what is not needed any more
    drained: DrainRecord | None = None
    if settings.drains.count:
        placed = step("place", lambda: place_drains(mesh, settings.drains), words.placed_text)
        holes = DrainSettings(tuple(p.drain for p in placed))
        mesh, drained = step(
            "drain",
            lambda: cut_bores(mesh, holes, [p.bore for p in placed], as_stored=True),
            lambda r: words.drain_text(r[1]),
        )
    model = dataclasses.replace(model, mesh=mesh)
    ball = max(default_ball_mm(mesh), 1.6 * settings.drains.diameter_mm)
    proof = step("proof", lambda: prove(mesh, ProofSettings(settings.hollow.wall_mm, ball)), words.proof_line)
    step("write", lambda: write_model(output, mesh, replace=settings.replace), lambda n: words.written_text(output, n))
    return PrepResult(model, mesh, scaled, hollowed, drained, proof, output, seconds)
