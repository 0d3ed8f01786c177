"""The faces in trouble as a model of their own."""

import numpy as np

from bolvek.analyses.survey.record import Marks
from bolvek.formats import Parts
from bolvek.mesh import Mesh


def isolated(mesh: Mesh, marks: Marks) -> tuple[Mesh, Parts]:
    """The faces in trouble alone, a part a class; a face of several classes stands in each of them."""
    names = tuple(marks.faces)
    faces = np.concatenate([marks.faces[n] for n in names])
    label = np.repeat(np.arange(len(names), dtype=np.int32), [len(marks.faces[n]) for n in names])
    return mesh.picked(faces), Parts(names, label)
