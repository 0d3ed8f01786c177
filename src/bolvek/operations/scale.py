"""Scaling: by a factor, to a size or a volume, to fill a build space; several models by one factor."""

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from bolvek.analyses.shells import model_volume
from bolvek.errors import WorkError
from bolvek.mesh import Mesh
from bolvek.settings import SettingError, remedy
from bolvek.settings.parts import ScaleSettings
from bolvek.settings.ways_on import SOLID
from bolvek.units import Triple, as_triple


@dataclass(frozen=True, kw_only=True)
class ScaleRecord:
    """The factors along x, y, z and the sizes before and after, in mm. factor is None where they differ; the volumes
    (mm3, parts less cavities) are told where one was asked for."""

    factor: float | None
    factors: Triple
    before_mm: Triple
    after_mm: Triple
    volume_before_mm3: float | None = None
    volume_after_mm3: float | None = None


def find_factors(meshes: Sequence[Mesh], settings: ScaleSettings) -> Triple:
    """The factors that take all meshes, as one set, to what is asked.

    A size is that of the box around the set, a volume that of all together; a build space must hold each
    mesh on its own. Raises UsageError, or WorkError where the set has no extent or no volume to scale.
    """
    settings.check()
    s = settings
    if s.by is not None:
        return s.by if isinstance(s.by, tuple) else (s.by, s.by, s.by)
    boxes = np.array([m.bounds for m in meshes])
    size = boxes[:, 1].max(axis=0) - boxes[:, 0].min(axis=0)
    if s.fit_mm is not None:
        room = np.array(s.fit_mm) - s.margin_mm * np.array([2.0, 2.0, 1.0])
        if not (room > 0).all():
            space = " x ".join(f"{b:g}" for b in s.fit_mm)
            raise SettingError("ScaleSettings", f"{{margin_mm}} of {s.margin_mm:g} mm leaves no room in {space} mm")
        sizes = np.maximum(boxes[:, 1] - boxes[:, 0], 1e-300)
        factor = float((room / sizes).min())
    elif s.volume_mm3 is not None:
        volumes = [model_volume(m) for m in meshes]
        volume = sum(v for v in volumes if v is not None)
        if None in volumes:
            raise WorkError(
                "a volume needs a closed, consistently oriented surface",
                remedy("survey", "shows what is missing"),
                SOLID,
            )
        if not volume > 0:
            raise WorkError("the model encloses no volume to scale")
        factor = float(np.cbrt(s.volume_mm3 / volume))
    else:
        aims = ((s.width_mm, size[0]), (s.depth_mm, size[1]), (s.height_mm, size[2]), (s.longest_mm, size.max()))
        wanted, have = next((w, h) for w, h in aims if w is not None)
        if not have > 0:
            raise WorkError("the model is flat in the direction to scale to: it has no extent there")
        factor = float(wanted / have)
    if not 0 < factor < 1e15:
        raise WorkError("the model has no extent to scale")
    return factor, factor, factor


def scale_by(mesh: Mesh, factors: Triple, *, volumes: bool = False) -> tuple[Mesh, ScaleRecord]:
    """The mesh scaled about the origin along x, y, z, in float64; volumes: tell those before and after."""
    result = mesh.moved(mesh.vertices * np.array(factors))
    uniform = factors[0] if factors[0] == factors[1] == factors[2] else None
    return result, ScaleRecord(
        factor=uniform,
        factors=factors,
        before_mm=as_triple(mesh.size),
        after_mm=as_triple(result.size),
        volume_before_mm3=model_volume(mesh) if volumes else None,
        volume_after_mm3=model_volume(result) if volumes else None,
    )


def scale(mesh: Mesh, settings: ScaleSettings) -> tuple[Mesh, ScaleRecord]:
    """One mesh scaled about the origin. Raises UsageError, or WorkError for a mesh without extent."""
    return scale_together([mesh], settings)[0]


def scale_together(meshes: Sequence[Mesh], settings: ScaleSettings) -> list[tuple[Mesh, ScaleRecord]]:
    """All meshes by the same factors about the origin: they keep fitting each other, and their places."""
    factors = find_factors(meshes, settings)
    return [scale_by(m, factors, volumes=settings.volume_mm3 is not None) for m in meshes]
