"""The JSON record: versioned, published as a schema, the same sections in every verb."""

import json
from typing import Any

from pydantic import BaseModel, Field, model_validator

from bolvek import __version__
from bolvek.analyses.deviation import CompareRecord
from bolvek.analyses.finding import VERDICTS, Finding, all_right
from bolvek.analyses.held import HeldRecord, SupportsProof
from bolvek.analyses.layers import LayerRecord
from bolvek.analyses.likeness import Likeness
from bolvek.analyses.overhangs import OverhangRecord
from bolvek.analyses.overhangs.directions import Comparison
from bolvek.analyses.proof import ProofRecord
from bolvek.analyses.survey.judgement import Judgement
from bolvek.analyses.survey.record import Survey
from bolvek.analyses.thickness import WallRecord
from bolvek.formats.registry import Model
from bolvek.mesh import Mesh
from bolvek.operations.cut import CutRecord, FitPlan
from bolvek.operations.drain import DrainRecord, PlugRecord
from bolvek.operations.fuse import FuseRecord
from bolvek.operations.hollow import HollowRecord
from bolvek.operations.mend import MendRecord
from bolvek.operations.plinth import PlinthRecord
from bolvek.operations.pose import PoseRecord
from bolvek.operations.recast import RecastRecord
from bolvek.operations.scale import ScaleRecord
from bolvek.operations.slim import SlimRecord
from bolvek.operations.smooth import SmoothRecord
from bolvek.operations.solid import SolidPlan, SolidRecord
from bolvek.operations.split import JoinRecord, SplitRecord
from bolvek.operations.supports import SupportsRecord
from bolvek.operations.thicken import ThickenRecord
from bolvek.settings import Remedy
from bolvek.units import Triple


class Try(BaseModel):
    """One way tried: its name, what it came to, and the figures that tell it from the others."""

    name: str
    verdict: str
    added: int
    area_mm2: float
    volume_mm3: float | None
    bend_deg: float
    apart_mm: float


class ModelSection(BaseModel):
    """One model: what it is now, what to do next, and a section for every measure or operation it went through."""

    file: str
    format: str
    unit: str
    size_mm: Triple
    triangles: int
    vertices: int
    warnings: list[str]
    verdict: str = ""
    outputs: list[str] = []
    next: list[Remedy] = []
    weight_g: float | None = None
    survey: Survey | None = None
    judgement: Judgement | None = None
    walls: WallRecord | None = None
    overhangs: OverhangRecord | None = None
    held: HeldRecord | None = None
    supports: SupportsRecord | None = None
    supported: SupportsProof | None = None
    layers: LayerRecord | None = None
    mend: MendRecord | None = None
    tries: list[Try] | list[RecastRecord] | list[SolidRecord] | list[DrainRecord] | None = None
    plan: SolidPlan | None = None
    solid: SolidRecord | None = None
    likeness: Likeness | None = None
    thicken: ThickenRecord | None = None
    fuse: FuseRecord | None = None
    carve: FuseRecord | None = None
    fit_plan: FitPlan | None = None
    cut: CutRecord | None = None
    split: SplitRecord | None = None
    join: JoinRecord | None = None
    recast: RecastRecord | None = None
    plinth: PlinthRecord | None = None
    smooth: SmoothRecord | None = None
    slim: SlimRecord | None = None
    compare: CompareRecord | None = None
    directions: Comparison | None = None
    scale: ScaleRecord | None = None
    pose: PoseRecord | None = None
    hollow: HollowRecord | None = None
    drain: DrainRecord | None = None
    plugs: list[PlugRecord] | None = None
    proof: ProofRecord | None = None


class Failure(BaseModel):
    """A file that could not be worked on, and why."""

    file: str
    text: str
    verdict: str = "failed"
    outputs: list[str] = []


class Record(BaseModel):
    """The record of one run of one verb. Lengths are millimetres, see the suffix of each key."""

    bolvek: str = __version__
    verb: str
    settings: dict[str, Any]
    models: list[ModelSection]
    failed: list[Failure] = []
    findings: list[Finding]
    outputs: list[str]
    verdict: str = Field(json_schema_extra={"enum": list(VERDICTS)})
    ok: bool
    seconds: dict[str, float]

    @model_validator(mode="after")
    def _agrees(self) -> "Record":
        if self.verdict not in VERDICTS:
            raise ValueError(f"'{self.verdict}' is no verdict; known are {', '.join(VERDICTS)}")
        if self.ok and not all_right(self.findings):
            raise ValueError(f"all right, and {[f.code for f in self.findings if f.severity == 'fault']}")
        return self


def model_section(model: Model, mesh: Mesh, **sections: Any) -> ModelSection:
    """The section of a model whose mesh is now `mesh`."""
    x, y, z = (float(c) for c in mesh.size)
    return ModelSection(
        file=str(model.path),
        format=model.format,
        unit=model.unit,
        size_mm=(x, y, z),
        triangles=len(mesh.faces),
        vertices=len(mesh.vertices),
        warnings=list(model.warnings),
        **sections,
    )


def record_json(record: Record) -> str:
    """Indented JSON with a final newline; sections that do not apply are left out, unknown values are null."""
    tree = record.model_dump(mode="json")
    tree["models"] = [{k: v for k, v in section.items() if v is not None} for section in tree["models"]]
    return json.dumps(tree, indent=2, allow_nan=False, ensure_ascii=False) + "\n"
