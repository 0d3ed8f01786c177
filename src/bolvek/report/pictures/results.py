"""Pictures of what verbs made, found or proved, with their captions."""

from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING

from bolvek.mesh import Mesh
from bolvek.report.pictures.plain import Mark, model_caption, picture
from bolvek.units import count_text, volume_text

if TYPE_CHECKING:
    from bolvek.analyses.cavities import Cavities
    from bolvek.analyses.deviation import Compared, CompareRecord
    from bolvek.analyses.finding import Told
    from bolvek.analyses.proof import ProofRecord
    from bolvek.analyses.survey.judgement import Judgement
    from bolvek.analyses.survey.record import Marks, Survey
    from bolvek.operations.drain import DrainRecord
    from bolvek.operations.thicken import ThickenRecord


def plain_result(path: Path, mesh: Mesh) -> bytes:
    """The mesh, named like the model."""
    return picture(mesh, model_caption(path, mesh))


def solid_result(path: Path, mesh: Mesh, *, cut_open: bool) -> bytes:
    """The mesh, on request cut open."""
    return picture(mesh, model_caption(path, mesh), cut_open=cut_open)


def proof_result(path: Path, mesh: Mesh, proof: "ProofRecord", rooms: "Cavities | None") -> bytes:
    """The mesh, cut open where it has rooms, with the figures and the verdict of its proof."""
    more = {"material": f"{proof.volume_mm3 / 1000:.1f} cm3 of material"}
    if proof.wall:
        more["wall"] = f"wall {proof.wall.min_mm:.2f} to {proof.wall.median_mm:.2f} mm (least, median)"
    caption = model_caption(path, mesh, proof, **more)
    if rooms is None or not rooms.found:
        return picture(mesh, caption, outside=thin_marks(proof))
    wet, marks = None, neck_marks(proof)
    if proof.liquid is not None:
        from bolvek.report.pictures.drains import wet_paint

        wet = wet_paint(mesh, proof.liquid.poses[-1], rooms.inside)
    return picture(mesh, caption, cut_open=True, cavities=rooms, marks=marks, wet=wet, outside=thin_marks(proof))


def neck_marks(proof: "ProofRecord") -> list[Mark]:
    """The necks behind which the proof found chambers."""
    chambers = proof.ways.chambers if proof.ways is not None else ()
    return [
        (f"neck {c.neck_mm:.2f} mm", c.neck_where_mm) for c in chambers if not c.pocket and c.neck_where_mm is not None
    ]


def thin_marks(proof: "ProofRecord") -> list[Mark]:
    """Where the wall falls short, and where other material is thinnest."""
    wall, features = proof.wall, proof.features
    found: list[Mark] = []
    if wall is not None and not wall.holds:
        found.append((f"wall {wall.min_mm:.2f} mm", wall.where_mm))
    if features is not None and features.min_mm is not None and features.where_mm is not None:
        found.append((f"feature {features.min_mm:.2f} mm", features.where_mm))
    return found


def drain_result(path: Path, before: Mesh, after: Mesh, record: "DrainRecord", necks: Sequence[Mark] = ()) -> bytes:
    """A model before and after its holes were found, cut open, with what stays in colour."""
    from bolvek.report.pictures.drains import drains_picture, inside_of

    stays = "" if record.auto is None else f"{volume_text(record.auto.stays_mm3)} of liquid stay"
    caption = model_caption(path, after, record, stays=stays)
    return drains_picture(before, after, record, inside_of(before), caption, necks)


def survey_result(path: Path, mesh: Mesh, survey: "Survey", marks: "Marks", judgement: "Judgement") -> bytes:
    """What a survey found: faces in trouble in colour, numbered callouts, a zoom on the smallest."""
    from bolvek.report.pictures.survey import survey_picture

    caption = model_caption(path, mesh, judgement, shells=count_text(survey.shells, "shell"))
    return survey_picture(mesh, survey, marks, caption)


def thicken_result(path: Path, mesh: Mesh, record: "ThickenRecord") -> bytes:
    """What thickening made, outside and cut open."""
    told = f"{record.mean_mm:.2f} mm thick in the mean, {record.least_mm:.2f} at least" if record.way == "skin" else ""
    caption = model_caption(path, mesh, record, **({"depth": told} if told else {}))
    return picture(mesh, caption, cut_open=True)


def compare_result(
    path: Path,
    old: Mesh,
    new: Mesh,
    record: "CompareRecord",
    found: "Compared",
    told: "Told | None" = None,
    **more: str,
) -> bytes:
    """Old and new side by side, with what changed in colour and the verdict (None: that of comparing)."""
    from bolvek.report.pictures.compare import compare_picture

    kept = f"{record.kept:,} of {record.triangles_old:,} faces bit for bit the same"
    return compare_picture(old, new, record, found, model_caption(path, new, told or record, kept=kept, **more))
