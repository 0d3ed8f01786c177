"""Whether what was made of a file is what the file shows: surface that is far from it, parts that are gone, places that
were solid and are air, or air and are solid.

Measured on samples that share nothing with the way it was made: the distance of the file's visible surface to the
result, and winding numbers of both (Jacobson and others 2013) at places away from either surface. Where the file's own
winding number says nothing clear (beside open sheets), neither does this.
"""

from dataclasses import dataclass

import numpy as np

from bolvek.analyses.finding import Finding, Worded
from bolvek.analyses.shells import counted_once, material_tree, standing
from bolvek.analyses.thickness import sample_surface
from bolvek.arrays import Bools, Floats, Ints
from bolvek.mesh import Mesh
from bolvek.spatial.groups import linked_groups
from bolvek.spatial.points import PointTree
from bolvek.units import Triple, area_text, as_triple, count_text, length_text, point_text, volume_text

WITHIN_SHARE = 0.01
"""What lies farther off than this share of the longest side is elsewhere."""
MOST_SHARE = 0.01
"""So much of the visible surface, of what is solid, or of the air around it within the model's box, may be."""
_SURFACE, _SPACE = 40_000, 40_000  # samples
_SOLID, _AIR = 0.8, 0.2  # winding numbers that are clear
_STRAY = 2e-3  # of the visible surface: smaller parts are strays
_BESIDE = 1e-5  # of the longest side: just off a face
_LINK = 2.5  # spacings of samples: those that are nearer to each other are one place
_MOST_TOLD = 3  # places in a sentence


@dataclass(frozen=True)
class Missing:
    """A place of the file's visible surface with nothing of the result near: which part of the file (shells, the
    first is 1), how much of it, and where."""

    part: int
    area_mm2: float
    where_mm: Triple


@dataclass(frozen=True, kw_only=True)
class Likeness(Worded):
    """A result against its file. within_mm: how far off counts; off_mm2: visible surface of the file without anything
    of the result so near, off_share of it, where, and place by place, the largest first; gone: parts, strays aside, of
    which all is so; hollowed_mm3: solid in the file and air now, filled_mm3: air in the file and solid now, each with
    a place; findings: what is missing, and what is beyond the limits."""

    within_mm: float
    off_mm2: float
    off_share: float
    off_where_mm: Triple | None
    off: tuple[Missing, ...]
    gone: int
    gone_where_mm: Triple | None
    hollowed_mm3: float
    hollowed_where_mm: Triple | None
    filled_mm3: float
    filled_where_mm: Triple | None
    findings: tuple[Finding, ...] = ()

    WORDS = ("done", "not as the file")

    @property
    def off_text(self) -> str:
        """How much of the visible surface is missing, in words: never nothing where something is."""
        share = 100 * self.off_share
        return f"{share:.0f}%" if share >= 1 else f"{max(share, 0.01):.1g}%"

    @property
    def faults(self) -> int:
        """In how many ways the result is not what the file shows."""
        return sum(f.severity == "fault" for f in self.findings)


def likeness(file: Mesh, result: Mesh, filled: Mesh | None = None) -> Likeness:
    """Hold a sound result against its file, of any quality; filled: closed voids that were to be filled."""
    once, _ = counted_once(file)
    once = once.picked(once.face_areas > 0)
    longest = float(once.size.max())
    within = WITHIN_SHARE * longest
    spacing = max(float(np.sqrt(once.area / _SURFACE)), 1e-9 * longest)
    points, area, shell = _visible(once, longest, spacing)
    far = result.tree.nearest(points, within)[1] < 0
    # what lies in the result's material is not missing: whether it was air is asked below
    far[far] = result.tree.winding(points[far]) < 0.5
    off = float(area[far].sum())
    own = np.bincount(shell, area, once.topology.shells)
    lost = (np.bincount(shell, area * far, once.topology.shells) == own) & (own > _STRAY * own.sum())
    places, cell = _space(once, within)
    there, here = material_tree(once).winding(places), result.tree.winding(places)
    meant = np.zeros(len(places), bool) if filled is None else np.abs(filled.tree.winding(places)) > 0.5
    clear = (once.tree.nearest(places, within)[1] < 0) & (result.tree.nearest(places, within)[1] < 0) & ~meant
    hollowed, solid = clear & (there > _SOLID) & (here < 0.5), clear & (np.abs(there) < _AIR) & (here > 0.5)
    found = Likeness(
        within_mm=within,
        off_mm2=off,
        off_share=off / max(float(area.sum()), 1e-300),
        off_where_mm=_middle(points[far]),
        off=_missing(points[far], area[far], shell[far], _LINK * spacing),
        gone=int(lost.sum()),
        gone_where_mm=_middle(points[lost[shell]]),
        hollowed_mm3=cell * int(hollowed.sum()),
        hollowed_where_mm=_middle(places[hollowed]),
        filled_mm3=cell * int(solid.sum()),
        filled_where_mm=_middle(places[solid]),
    )
    bulk = cell * max(int((here > 0.5).sum()), 1)
    return Likeness(**{**vars(found), "findings": tuple(_beyond(found, bulk))})


def closed_voids(file: Mesh) -> Mesh | None:
    """The closed voids of a file; None where it has none."""
    roles = standing(file).roles
    own = np.array([role == "cavity" for role in roles], bool)
    return file.picked(own[file.topology.shell]) if own.any() else None


def _beyond(found: Likeness, bulk: float) -> list[Finding]:
    out = []
    if found.off:
        told = [f"{area_text(one.area_mm2)} of part {one.part} at {_at(one.where_mm)}" for one in found.off]
        if len(told) > _MOST_TOLD:
            told[_MOST_TOLD:] = [f"and {count_text(len(told) - _MOST_TOLD, 'place')} more"]
        text = (
            f"{area_text(found.off_mm2)} of the file's surface ({found.off_text}) lie more than "
            f"{length_text(found.within_mm)} from the result: {', '.join(told)}"
        )
        severity = "fault" if found.off_share > MOST_SHARE else "note"
        out.append(Finding("shape_off", severity, len(found.off), text, found.off[0].where_mm))
    if found.gone:
        text = f"{count_text(found.gone, 'part')} of the file {'is' if found.gone == 1 else 'are'} gone, as at "
        out.append(Finding("parts_gone", "fault", found.gone, text + _at(found.gone_where_mm), found.gone_where_mm))
    for volume, where, code, what in (
        (found.hollowed_mm3, found.hollowed_where_mm, "became_hollow", "solid in the file and air now"),
        (found.filled_mm3, found.filled_where_mm, "became_solid", "air in the file and solid now"),
    ):
        if volume > MOST_SHARE * bulk:
            out.append(Finding(code, "fault", 1, f"{volume_text(volume)} are {what}, as at {_at(where)}", where))
    return out


def _at(where: Triple | None) -> str:
    return point_text(where) if where is not None else "a place unknown"


def _middle(points: Floats) -> Triple | None:
    """Of some places that which is nearest to their middle."""
    if not len(points):
        return None
    return as_triple(points[np.argmin(np.linalg.norm(points - points.mean(axis=0), axis=1))])


def _missing(points: Floats, area: Floats, shell: Ints, link: float) -> tuple[Missing, ...]:
    """Samples (N, 3) gathered into places: those of one part that are nearer to each other than a link."""
    if not len(points):
        return ()
    near = PointTree(points).pairs(link)
    group = linked_groups(len(points), near[shell[near[:, 0]] == shell[near[:, 1]]])
    found = []
    for one in np.unique(group):
        own = group == one
        where = _middle(points[own])
        assert where is not None
        found.append(Missing(int(shell[own][0]) + 1, float(area[own].sum()), where))
    return tuple(sorted(found, key=lambda place: (-place.area_mm2, place.where_mm)))


def _visible(once: Mesh, longest: float, spacing: float) -> tuple[Floats, Floats, Ints]:
    """Places (N, 3) of the surface with no material before them, the area each stands for and its shell."""
    samples = sample_surface(once, spacing)
    sign = standing(once).sign[samples.face]
    outward = once.normals_of(samples.face) * sign[:, None]
    buried: Bools = material_tree(once).winding(samples.points + _BESIDE * longest * outward) > 0.5
    keep = ~buried
    return samples.points[keep], samples.area[keep], once.topology.shell[samples.face[keep]].astype(np.int64)


def _space(once: Mesh, within: float) -> tuple[Floats, float]:
    """Places (N, 3) on a lattice in the box of a mesh, shaken so that none lies on a plane, and the volume of each."""
    low, high = once.bounds
    size = np.maximum(high - low, within)
    cell = float((np.prod(size) / _SPACE) ** (1 / 3))
    counts = np.maximum(np.ceil(size / cell).astype(int), 1)
    grid = np.stack(np.meshgrid(*(np.arange(n) + 0.5 for n in counts), indexing="ij"), axis=-1).reshape(-1, 3)
    step = size / counts
    shaken = np.random.default_rng(1).uniform(-0.35, 0.35, grid.shape)
    return low + (grid + shaken) * step, float(np.prod(step))
