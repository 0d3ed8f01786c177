"""Scaling: by a factor, to a size or a volume, to fill a build space; several models by one factor."""

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from bolvek.analyses.shells import model_volume
from bolvek.errors import UsageError, WorkError
from bolvek.mesh import Mesh
from bolvek.units import as_triple

Triple = tuple[float, float, float]


@dataclass(frozen=True, kw_only=True)
class ScaleSettings:
    """Exactly one of them: factor (one, or one an axis), a size in mm, a volume in mm3, or a build space.

    height is along z, width along x, depth along y. fit_mm is width, depth and height of a build space
    of which margin_mm stays free on every side but the bed's.
    """

    by: float | Triple | None = None
    height_mm: float | None = None
    longest_mm: float | None = None
    width_mm: float | None = None
    depth_mm: float | None = None
    volume_mm3: float | None = None
    fit_mm: Triple | None = None
    margin_mm: float = 0.0

    def check(self) -> None:
        """Raise UsageError unless exactly one aim is given and its numbers are positive."""
        given = {
            "--by": self.by,
            "--height": self.height_mm,
            "--longest": self.longest_mm,
            "--width": self.width_mm,
            "--depth": self.depth_mm,
            "--volume": self.volume_mm3,
            "--fit": self.fit_mm,
        }
        named = {k: v for k, v in given.items() if v is not None}
        if len(named) != 1:
            said = " and ".join(named) or "none of them"
            raise UsageError(f"give exactly one of {', '.join(given)}; found {said}")
        for name, value in named.items():
            numbers = np.atleast_1d(np.asarray(value, float))
            if not ((numbers > 0) & np.isfinite(numbers)).all():
                raise UsageError(f"{name} must be above 0, not {', '.join(f'{n:g}' for n in numbers)}")
        if not 0 <= self.margin_mm < np.inf:
            raise UsageError(f"--margin must be 0 or more, not {self.margin_mm:g}")


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
            raise UsageError(
                f"a --margin of {s.margin_mm:g} mm leaves no room in {' x '.join(f'{b:g}' for b in s.fit_mm)} mm"
            )
        sizes = np.maximum(boxes[:, 1] - boxes[:, 0], 1e-300)
        factor = float((room / sizes).min())
    elif s.volume_mm3 is not None:
        volumes = [model_volume(m) for m in meshes]
        volume = sum(v for v in volumes if v is not None)
        if None in volumes:
            raise WorkError(
                "a volume needs a closed, consistently oriented surface; 'bolvek survey' shows what is missing"
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
