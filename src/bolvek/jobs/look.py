"""All that a preparer asks of a model first: survey, and what can be measured of it as it is."""

from dataclasses import dataclass, replace
from typing import Any

from bolvek.analyses.cavities import Cavities
from bolvek.analyses.finding import Finding
from bolvek.analyses.layers import read_layers
from bolvek.analyses.layers.record import LayerRecord
from bolvek.analyses.overhangs import OverhangRecord, find_overhangs
from bolvek.analyses.proof import ProofRecord, examine
from bolvek.analyses.survey import judge, survey
from bolvek.analyses.survey.judgement import Judgement
from bolvek.analyses.survey.record import Marks, Survey
from bolvek.analyses.thickness import WallRecord, measure_walls
from bolvek.arrays import Floats, Ints8
from bolvek.errors import WorkError
from bolvek.formats import Model
from bolvek.operations.solid import Step
from bolvek.settings.measures import LayerSettings, LookSettings, OverhangSettings, ProofSettings, WallSettings


@dataclass(frozen=True, kw_only=True)
class Look:
    """What was found, measure by measure; None where a measure could not be taken (`unmeasured` says why)."""

    survey: Survey
    marks: Marks
    judgement: Judgement
    walls: WallRecord | None
    wall_mm: Floats | None
    overhangs: OverhangRecord | None
    kind: Ints8 | None
    layers: LayerRecord | None
    proof: ProofRecord | None
    rooms: Cavities | None
    unmeasured: dict[str, str]

    @property
    def measures(self) -> list[Any]:
        """The records that have a verdict and findings, beside the survey's."""
        return [r for r in (self.walls, self.overhangs, self.layers, self.proof) if r is not None]

    @property
    def findings(self) -> tuple[Finding, ...]:
        """Those of all measures, each text once; how it is built, standing or hanging, is told and decides nothing."""
        built = [f for r in (self.overhangs, self.layers) if r is not None for f in r.findings]
        found = [*self.judgement.findings, *(f for r in (self.walls, self.proof) if r is not None for f in r.findings)]
        found += [replace(f, severity="note") for f in built]
        return tuple({f.text: f for f in reversed(found)}[text] for text in dict.fromkeys(f.text for f in found))

    @property
    def deciding(self) -> Any:
        """What decides: the first in which something falls short, of the survey, the proof where there are rooms, the
        walls; where nothing does, the proof, or else the survey."""
        told = [r for r in (self.judgement, self.proof, self.walls) if r is not None]
        return next((r for r in told if not r.ok), self.judgement if self.proof is None else self.proof)

    @property
    def verdict(self) -> str:
        """The word of what decides."""
        return str(self.deciding.verdict)

    @property
    def ok(self) -> bool:
        """Whether what decides finds no fault."""
        return bool(self.deciding.ok)

    @property
    def sections(self) -> dict[str, Any]:
        """Sections of the record."""
        named = {name: getattr(self, name) for name in ("survey", "judgement", "walls", "overhangs", "layers", "proof")}
        return {name: record for name, record in named.items() if record is not None}


def look(model: Model, settings: LookSettings, step: Step) -> Look:
    """Survey a model and take what measures can be taken; rooms are proven where a sound model has any."""
    settings.check()
    mesh = model.mesh
    found, marks = step("survey", lambda: survey(mesh, parts=model.parts))
    judgement = judge(found, model.polygons, unit=model.unit)
    missing: dict[str, str] = {}

    def taken(name: str, work: Any) -> Any:
        """A measure, or the reason why there is none."""
        try:
            return step(name, work)
        except WorkError as error:
            missing[name] = str(error)
            return None

    least, layer = settings.least_wall_mm, settings.layer_mm
    walls = taken("walls", lambda: measure_walls(mesh, WallSettings(min_mm=least)))
    overhangs = taken("overhangs", lambda: find_overhangs(mesh, OverhangSettings(layer_mm=layer)))
    layers = taken("layers", lambda: read_layers(mesh, LayerSettings(layer_mm=layer, least_wall_mm=least)))
    proven = None
    if found.sound and found.rooms:
        proven = taken("proof", lambda: examine(mesh, ProofSettings(wall_mm=least)))
    return Look(
        survey=found,
        marks=marks,
        judgement=judgement,
        walls=walls and walls[0],
        wall_mm=walls and walls[1].face_mm,
        overhangs=overhangs and overhangs[0],
        kind=overhangs[1] if overhangs else None,
        layers=layers and layers[0],
        proof=proven and proven[0],
        rooms=proven and proven[1],
        unmeasured=missing,
    )
