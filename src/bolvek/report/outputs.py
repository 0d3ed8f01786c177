"""Pictures of results, written like every other output."""

from pathlib import Path

import numpy as np

from bolvek.analyses.cavities import Cavities
from bolvek.analyses.proof import ProofRecord
from bolvek.analyses.survey.record import Marks, Survey
from bolvek.arrays import Floats
from bolvek.formats.safe import write_bytes
from bolvek.mesh import Mesh
from bolvek.report.picture import model_caption, picture
from bolvek.report.words import plural


def write_picture(
    target: Path,
    model: Path,
    mesh: Mesh,
    proof: ProofRecord | None = None,
    cavities: Cavities | None = None,
    *,
    replace: bool = False,
) -> None:
    """Draw the mesh named like the model; with a proof, cut open, its rooms as it found them, figures and verdict."""
    if proof is None:
        caption = model_caption(model, mesh)
    else:
        more = {"material": f"{proof.volume_mm3 / 1000:.1f} cm3 of material"}
        if proof.wall:
            more["wall"] = f"wall {proof.wall.min_mm:.2f} to {proof.wall.median_mm:.2f} mm (least, median)"
        caption = model_caption(
            model,
            mesh,
            verdict="fit to print" if proof.verdict == "fit" else proof.verdict,
            fit=proof.ok,
            **more,
        )
    cut = cavities is not None and bool(cavities.found)
    write_bytes(target, picture(mesh, caption, cut_open=cut, cavities=cavities), replace=replace)


def write_survey_picture(
    target: Path, model: Path, mesh: Mesh, survey: Survey, marks: Marks, *, replace: bool = False
) -> None:
    """Draw what a survey found: faces in trouble in colour, numbered callouts, a zoom on the smallest."""
    from bolvek.report.survey_picture import survey_picture

    clean = survey.sound and not marks.faces
    words = "no fault found" if clean else "not sound" if not survey.sound else "sound, with findings"
    caption = model_caption(model, mesh, verdict=words, fit=clean, shells=plural(survey.shells, "shell"))
    write_bytes(target, survey_picture(mesh, survey, marks, caption), replace=replace)


def face_table(mesh: Mesh, columns: dict[str, Floats]) -> bytes:
    """CSV of values a face: number from 0, middle in mm, then the columns; empty where there is no value."""
    middles = mesh.vertices[mesh.faces].mean(axis=1)
    lines = [",".join(["face", "x_mm", "y_mm", "z_mm", *columns])]
    for f, (place, values) in enumerate(zip(middles.tolist(), zip(*columns.values(), strict=True), strict=True)):
        cells = [f"{x:.6g}" for x in place] + ["" if np.isnan(v) else f"{v:.6g}" for v in values]
        lines.append(",".join([str(f), *cells]))
    return ("\n".join(lines) + "\n").encode()
