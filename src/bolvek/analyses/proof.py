"""The proof: is the model fit to print, measured on the model itself, whatever made it.

Sound in float64 and as a binary STL file will hold it; each cavity opens to the outside; the wall
between inner and outer surface, away from drains, is as thick as asked.
"""

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from bolvek.analyses.cavities import OUTSIDE, Cavities, Cavity, find_cavities
from bolvek.analyses.defects import Defect, find_defects
from bolvek.analyses.finding import Finding
from bolvek.analyses.sampling import surface_samples, wall_tolerance_mm
from bolvek.analyses.shells import nest_shells
from bolvek.errors import UsageError
from bolvek.mesh import Mesh

Floats = NDArray[np.float64]


@dataclass(frozen=True)
class ProofSettings:
    """Wall asked for (mm, None: measured but not judged), ball that tells rooms from grooves (mm)."""

    wall_mm: float | None = None
    ball_mm: float | None = None

    def check(self) -> None:
        """Raise UsageError when the numbers make no sense."""
        if self.wall_mm is not None and not self.wall_mm > 0:
            raise UsageError(f"--wall must be above 0, not {self.wall_mm:g} mm")
        if self.ball_mm is not None and not self.ball_mm > 0:
            raise UsageError(f"--ball must be above 0, not {self.ball_mm:g} mm")


@dataclass(frozen=True)
class Wall:
    """Distance from inner surface to outer surface at samples, away from drains.

    Percentiles are by area. `left_out_share` is the share of the inner surface near drains.
    """

    min_mm: float
    p1_mm: float
    median_mm: float
    where_mm: tuple[float, float, float]
    samples: int
    spacing_mm: float
    left_out_share: float
    asked_mm: float | None = None
    tolerance_mm: float | None = None

    @property
    def holds(self) -> bool:
        """Whether the wall asked for is there, within the tolerance."""
        return self.asked_mm is None or self.min_mm >= self.asked_mm - (self.tolerance_mm or 0.0)


@dataclass(frozen=True)
class ProofRecord:
    """Everything the proof computed. `verdict` is "fit" or "unfit"; unfit has at least one fault."""

    sound: bool
    sound_as_stored: bool
    defects: tuple[Defect, ...]
    defects_as_stored: tuple[Defect, ...]
    bodies: int
    triangles: int
    volume_mm3: float
    cavities: tuple[Cavity, ...]
    drains: int
    findings: tuple[Finding, ...]
    wall: Wall | None = None
    voxel_mm: float | None = None
    ball_mm: float | None = None

    @property
    def verdict(self) -> str:
        """ "fit" when nothing falls short."""
        return "unfit" if any(f.severity == "fault" for f in self.findings) else "fit"


def prove(mesh: Mesh, settings: ProofSettings) -> ProofRecord:
    """Prove a mesh fit to print, or say what is not. Raises UsageError for impossible settings.

    Cavities and wall are sought only in a mesh that is closed and consistently oriented: without
    that there is no inside to speak of, and the record holds None for them.
    """
    settings.check()
    defects = find_defects(mesh)
    stored = mesh.as_stored()
    stored_defects = find_defects(stored)
    findings = [_fault(d, "") for d in defects]
    known = {d.code for d in defects}
    findings += [_fault(d, " once stored in float32") for d in stored_defects if d.code not in known]
    if not len(mesh.faces):
        findings.append(Finding("empty", "fault", 0, "the model has no triangles"))
    shells = nest_shells(mesh) if not mesh.topology.open_edges and len(mesh.faces) else None
    bodies = mesh.topology.shells
    cavities: Cavities | None = None
    wall = None
    if shells is not None and not mesh.topology.badly_oriented_edges:
        bodies = int((shells.depth % 2 == 0).sum())
        if len(shells.inside_out):
            findings.append(
                Finding(
                    "inside_out",
                    "fault",
                    len(shells.inside_out),
                    f"{len(shells.inside_out)} shell(s) face inward: the model is inside out",
                )
            )
        else:
            cavities = find_cavities(mesh, ball_mm=settings.ball_mm, wall_mm=settings.wall_mm)
            findings += _cavity_findings(cavities)
            wall = measure_wall(mesh, cavities, settings.wall_mm)
    if settings.wall_mm is not None and wall is None:
        findings.append(
            Finding(
                "wall_unmeasured",
                "fault",
                0,
                f"a wall of {settings.wall_mm:.3f} mm was asked for and could not be measured: "
                + (
                    "the model has no cavity"
                    if cavities is not None and not cavities.found
                    else "inner and outer surface could not be told apart"
                    if cavities is not None and not cavities.separated
                    else "no inner surface away from openings"
                    if cavities is not None
                    else "the surface has no inside"
                ),
            )
        )
    elif wall is not None and not wall.holds:
        findings.append(
            Finding(
                "wall_thin",
                "fault",
                1,
                f"the wall is {wall.min_mm:.3f} mm at its thinnest, {wall.asked_mm:.3f} mm were asked for",
                wall.where_mm,
            )
        )
    return ProofRecord(
        not defects,
        not stored_defects,
        defects,
        stored_defects,
        bodies,
        len(mesh.faces),
        mesh.volume,
        cavities.found if cavities else (),
        sum(len(c.openings) for c in cavities.found) if cavities else 0,
        tuple(findings),
        wall,
        cavities.spacing_mm if cavities else None,
        cavities.ball_mm if cavities else None,
    )


def _fault(defect: Defect, suffix: str) -> Finding:
    return Finding(defect.code, "fault", defect.count, defect.text + suffix, defect.where_mm[0])


def _cavity_findings(cavities: Cavities) -> list[Finding]:
    findings = []
    for cavity in cavities.found:
        size = f"a cavity of {cavity.volume_mm3 / 1000:.2f} cm3"
        if cavity.alcoves:
            text = (
                f"{size} has {cavity.alcoves} corner(s) of {cavity.alcoves_mm3 / 1000:.3f} cm3 in all behind necks "
                f"under {2 * cavities.spacing_mm:.2f} mm: they drain slowly, wash them well"
            )
            findings.append(Finding("alcoves", "note", cavity.alcoves, text, cavity.where_mm))
        if cavity.narrow_necks:
            text = f"{size} opens only through less than {2 * cavities.spacing_mm:.2f} mm: liquid will not leave it"
            findings.append(Finding("cavity_narrow", "fault", 1, text, cavity.where_mm))
        elif not cavity.openings:
            text = f"{size} has no way out: it would trap resin"
            findings.append(Finding("cavity_closed", "fault", 1, text, cavity.where_mm))
        elif len(cavity.openings) == 1:
            text = f"{size} has one opening only: no vent lets air in while it drains"
            findings.append(Finding("no_vent", "note", 1, text, cavity.openings[0].where_mm))
    return findings


def measure_wall(mesh: Mesh, cavities: Cavities, asked: float | None) -> Wall | None:
    """Wall between the faces of cavities and all others, away from the openings; None without any.

    Faces within an opening's reach are passed over, so that a drain's own sides are not taken for an
    outside. An inner sample counts when it is farther from every opening than that reach plus 1.2
    walls, so that its nearest outer point is among the faces looked at whenever the wall is thin.
    """
    inner = np.flatnonzero(cavities.face >= 0)
    if not len(inner) or not (cavities.face == OUTSIDE).any() or not cavities.separated:
        return None
    outside = mesh.tree.only(cavities.face == OUTSIDE)
    middles = mesh.vertices[mesh.faces[inner[:: max(1, len(inner) // 5000)]]].mean(axis=1)
    typical = asked or float(np.median(outside.nearest(middles)[0]))
    spacing = typical / 6
    points, owner = surface_samples(mesh, inner, spacing)
    weight = mesh.face_areas[owner] / np.bincount(owner, minlength=len(mesh.faces))[owner]
    clear = np.ones(len(points), bool)
    for opening, reach in zip(cavities.openings, cavities.reach_mm, strict=True):
        clear &= np.linalg.norm(points - opening.where_mm, axis=1) > reach + 1.2 * typical
    left_out = float(weight[~clear].sum() / weight.sum())
    if not clear.any():
        return None
    points, weight = points[clear], weight[clear]
    distance, _ = outside.nearest(points)
    order = np.argsort(distance, kind="stable")
    share = np.cumsum(weight[order]) / weight.sum()
    at = int(order[0])
    x, y, z = (float(c) for c in points[at])
    return Wall(
        float(distance[at]),
        float(distance[order[np.searchsorted(share, 0.01)]]),
        float(distance[order[np.searchsorted(share, 0.5)]]),
        (x, y, z),
        len(points),
        spacing,
        left_out,
        asked,
        wall_tolerance_mm(asked) if asked else None,
    )
