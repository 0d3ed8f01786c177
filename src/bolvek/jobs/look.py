"""`survey` on files: which files a command line means, one after the other, a broken one stops none."""

import time
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from bolvek.analyses.survey import Judgement, Marks, Survey, SurveySettings, judge, survey
from bolvek.errors import FileError
from bolvek.formats import Model, Parts, read_model
from bolvek.formats.registry import SUFFIXES
from bolvek.mesh import Mesh


@dataclass(frozen=True)
class Looked:
    """One file surveyed."""

    model: Model
    survey: Survey
    marks: Marks
    judgement: Judgement
    seconds: dict[str, float]


def expand(paths: Sequence[Path]) -> list[Path]:
    """Files as they are, folders as all model files in and below them, sorted. Raises FileError."""
    found: list[Path] = []
    for path in paths:
        if not path.is_dir():
            found.append(path)
            continue
        inside = sorted(p for p in path.rglob("*") if p.suffix.lower() in SUFFIXES and p.is_file())
        if not inside:
            raise FileError(f"{path}: no model in this folder ({', '.join(SUFFIXES)})")
        found += inside
    return list(dict.fromkeys(found))


def look(path: Path, settings: SurveySettings, *, unit: str | None = None) -> Looked:
    """Read and survey one file. Raises BolvekError."""
    begin = time.perf_counter()
    model = read_model(path, unit=unit)
    middle = time.perf_counter()
    found, marks = survey(model.mesh, settings, model.parts)
    judgement = judge(found, model.polygons, unit=model.unit)
    end = time.perf_counter()
    return Looked(model, found, marks, judgement, {"read": middle - begin, "survey": end - middle})


def isolated(mesh: Mesh, marks: Marks) -> tuple[Mesh, Parts]:
    """The faces in trouble alone, a part a class; a face of several classes stands in each of them."""
    names = tuple(marks.faces)
    faces = np.concatenate([marks.faces[n] for n in names])
    label = np.repeat(np.arange(len(names), dtype=np.int32), [len(marks.faces[n]) for n in names])
    return mesh.picked(faces), Parts(names, label)
