"""Scaling by a factor, to a height or to a longest side."""

from dataclasses import dataclass

import numpy as np

from bolvek.errors import UsageError, WorkError
from bolvek.mesh import Mesh


@dataclass(frozen=True)
class ScaleSettings:
    """Exactly one of a factor, a height (along z, mm) or a longest side (mm)."""

    by: float | None = None
    height_mm: float | None = None
    longest_mm: float | None = None

    def check(self) -> None:
        """Raise UsageError unless exactly one positive number is given."""
        given = {"--by": self.by, "--height": self.height_mm, "--longest": self.longest_mm}
        named = {k: v for k, v in given.items() if v is not None}
        if len(named) != 1:
            said = " and ".join(named) or "none of them"
            raise UsageError(f"give exactly one of --by, --height, --longest; found {said}")
        for name, value in named.items():
            if not (value > 0 and np.isfinite(value)):
                raise UsageError(f"{name} must be above 0, not {value:g}")


@dataclass(frozen=True)
class ScaleRecord:
    """The factor and the sizes before and after, in mm."""

    factor: float
    before_mm: tuple[float, float, float]
    after_mm: tuple[float, float, float]


def scale(mesh: Mesh, settings: ScaleSettings) -> tuple[Mesh, ScaleRecord]:
    """The mesh scaled about the origin. Raises UsageError, or WorkError for a flat model."""
    settings.check()
    size = mesh.size
    if settings.by is not None:
        factor = settings.by
    else:
        wanted = settings.height_mm if settings.height_mm is not None else settings.longest_mm
        have = float(size[2] if settings.height_mm is not None else size.max())
        if not have > 0:
            raise WorkError("the model is flat in the direction to scale to: it has no height")
        factor = float(wanted) / have  # type: ignore[arg-type]
    result = mesh.moved(mesh.vertices * factor)
    return result, ScaleRecord(factor, _triple(size), _triple(result.size))


def _triple(v: np.ndarray) -> tuple[float, float, float]:
    return float(v[0]), float(v[1]), float(v[2])
