"""Pictures of what verbs made, found or proved, with their captions."""

from pathlib import Path

from bolvek.analyses.cavities import Cavities
from bolvek.analyses.deviation import Compared, CompareRecord
from bolvek.analyses.proof import ProofRecord
from bolvek.analyses.survey.record import Marks, Survey
from bolvek.mesh import Mesh
from bolvek.operations.thicken import ThickenRecord
from bolvek.report.pictures.plain import model_caption, picture
from bolvek.units import count_text


def plain_result(path: Path, mesh: Mesh) -> bytes:
    """The mesh, named like the model."""
    return picture(mesh, model_caption(path, mesh))


def proof_result(path: Path, mesh: Mesh, proof: ProofRecord, rooms: Cavities | None) -> bytes:
    """The mesh, cut open where it has rooms, with the figures and the verdict of its proof."""
    more = {"material": f"{proof.volume_mm3 / 1000:.1f} cm3 of material"}
    if proof.wall:
        more["wall"] = f"wall {proof.wall.min_mm:.2f} to {proof.wall.median_mm:.2f} mm (least, median)"
    verdict = "fit to print" if proof.verdict == "fit" else proof.verdict
    caption = model_caption(path, mesh, verdict=verdict, fit=proof.ok, **more)
    return picture(mesh, caption, cut_open=rooms is not None and bool(rooms.found), cavities=rooms)


def survey_result(path: Path, mesh: Mesh, survey: Survey, marks: Marks) -> bytes:
    """What a survey found: faces in trouble in colour, numbered callouts, a zoom on the smallest."""
    from bolvek.report.pictures.survey import survey_picture

    clean = survey.sound and not marks.faces
    words = "no fault found" if clean else "not sound" if not survey.sound else "sound, with findings"
    caption = model_caption(path, mesh, verdict=words, fit=clean, shells=count_text(survey.shells, "shell"))
    return survey_picture(mesh, survey, marks, caption)


def thicken_result(path: Path, mesh: Mesh, record: ThickenRecord) -> bytes:
    """What thickening made, outside and cut open."""
    told = f"{record.mean_mm:.2f} mm thick in the mean, {record.least_mm:.2f} at least" if record.way == "skin" else ""
    caption = model_caption(path, mesh, told=told) if told else model_caption(path, mesh)
    return picture(mesh, caption, cut_open=True)


def compare_result(path: Path, old: Mesh, new: Mesh, record: CompareRecord, found: Compared, verdict: str) -> bytes:
    """Old and new side by side, with what changed in colour and the verdict."""
    from bolvek.report.pictures.compare import compare_picture

    kept = f"{record.kept:,} of {record.triangles_old:,} faces bit for bit the same"
    good = verdict.startswith("sound") or verdict in ("same", "differs")
    return compare_picture(old, new, record, found, model_caption(path, new, verdict=verdict, fit=good, kept=kept))
