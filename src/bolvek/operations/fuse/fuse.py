"""Fusing and carving: overlapping parts become one, tools are taken out of parts; what that made is told.

Union and difference are those of `arrange`: untouched triangles stay bit for bit. Parts that touch along whole faces
are grown by a few millionths of the size, so that they meet in earnest. Voids that the parts close between them
are told, filled on request; parts that hover nearer than a reach are brought into contact, see `reach`.
"""

from dataclasses import dataclass

import numpy as np

from bolvek.analyses.deviation import matching_faces
from bolvek.analyses.finding import Finding, Worded
from bolvek.analyses.shells import nest_exactly
from bolvek.arrays import stored
from bolvek.errors import WorkError
from bolvek.mesh import Mesh
from bolvek.operations.fuse.arrange import DIFFERENCE
from bolvek.operations.fuse.gather import Gathered
from bolvek.operations.fuse.judge import NEAR_SHARE, judge
from bolvek.operations.fuse.parts import fuse_parts
from bolvek.operations.fuse.reach import Reached, brought_together
from bolvek.operations.fuse.unite import among, unite
from bolvek.settings import remedy
from bolvek.settings.parts import FuseSettings
from bolvek.settings.ways_on import OPENS, SPLITS
from bolvek.spatial.points import PointTree
from bolvek.units import Triple, as_triple, count_text, volume_text

_BESIDE_SHARE = 1e-5  # of the longest side: just beside a surface
CONTACT_SHARE = 2e-6
"""Parts nearer than this share of the longest side are in contact as they are meant, whatever reach is asked for."""


@dataclass(frozen=True, kw_only=True)
class VoidMade:
    """A void closed in material: its volume and middle."""

    volume_mm3: float
    where_mm: Triple


@dataclass(frozen=True, kw_only=True)
class FuseRecord(Worded):
    """What came together, or was carved. parts, tools: bodies that went in; turned, copies, recast: shells turned to
    face out, faces dropped as copies, parts made anew, thick_mm2 of them thicker than they were; broken_through: voids
    that break through their body's skin, read as cut out of it; before_mm3: of all parts (of what is carved),
    after_mm3 of the result; voids: those that are new and were kept; filled: those that were filled; bodies: pieces
    that came out; moved_mm: how far corners of parts that met were moved; kept_faces: bit for bit as they were."""

    parts: int
    tools: int
    turned: int
    copies: int
    recast: int
    thick_mm2: float
    broken_through: int
    before_mm3: float
    after_mm3: float
    bodies: int
    voids: tuple[VoidMade, ...]
    filled: tuple[VoidMade, ...]
    reached: tuple[Reached, ...]
    moved_mm: float
    kept_faces: int
    triangles_before: int
    triangles: int

    WORDS = ("done", "done")

    @property
    def changed_mm3(self) -> float:
        """What the parts had in common, or what was carved out."""
        return self.before_mm3 - self.after_mm3

    @property
    def findings(self) -> tuple[Finding, ...]:  # type: ignore[override]
        """Notes: voids that trap resin, bodies that stay apart, pieces that fell off."""
        found = []
        if self.voids:
            total = volume_text(sum(v.volume_mm3 for v in self.voids))
            text = f"{count_text(len(self.voids), 'closed void')} of {total} in all: it would trap resin"
            ways = [OPENS]
            if not self.tools:
                ways.append(remedy("", "fills it", FuseSettings(fill_voids=True)))
            found.append(
                Finding("void_made", "note", len(self.voids), text, self.voids[0].where_mm, remedies=tuple(ways))
            )
        if self.tools and self.changed_mm3 <= 0:
            text = f"nothing was taken: {'the tool misses' if self.tools == 1 else 'all tools miss'} the material"
            found.append(Finding("tool_missed", "note", self.tools, text))
        if self.bodies > 1 and self.tools:
            text = f"it fell into {self.bodies:,} pieces"
            found.append(Finding("fell_apart", "note", self.bodies, text, remedies=(SPLITS,)))
        elif self.bodies > 1:
            text = f"{self.bodies:,} bodies stay apart"
            found.append(Finding("apart", "note", self.bodies, text, remedies=(SPLITS,)))
        return tuple(found)


def fuse(parts: Gathered, settings: FuseSettings) -> tuple[Mesh, FuseRecord]:
    """All parts as one body, or as few as there are; the result is sound as a file holds it.

    Raises UsageError for impossible settings, WorkError where two parts cannot be put together.
    """
    settings.check()
    bodies = list(parts.bodies)
    union = fuse_parts(bodies)
    judge(union, bodies)
    reach = max(settings.reach_mm or 0.0, CONTACT_SHARE * float(union.size.max()))
    union, reached = brought_together(union, reach)
    return _told(union, parts, None, settings, tuple(reached))


def carve(parts: Gathered, tools: Gathered, settings: FuseSettings) -> tuple[Mesh, FuseRecord]:
    """The parts as one body without what the tools fill. Raises WorkError, also where nothing is left."""
    settings.check()
    body, tool = fuse_parts(list(parts.bodies)), fuse_parts(list(tools.bodies))
    made, _ = unite(body, tool, DIFFERENCE)
    if not len(made.faces):
        raise WorkError("nothing is left: the tools fill all of the model")
    judge(made, parts.bodies, tools.bodies)
    return _told(made, parts, tools, settings, ())


def _told(
    made: Mesh, parts: Gathered, tools: Gathered | None, settings: FuseSettings, reached: tuple[Reached, ...]
) -> tuple[Mesh, FuseRecord]:
    """The result with its voids filled where asked, and the record."""
    fresh = _fresh_voids(made, parts.bodies)
    filled: list[VoidMade] = []
    if settings.fill_voids and fresh:
        made, filled, fresh = _filled(made, fresh), fresh, []
    bodies = int((nest_exactly(made).volume > 0).sum())
    taken = sum(body.volume for body in parts.bodies) - made.volume
    slack = NEAR_SHARE * float(made.size.max()) * made.area
    if tools is not None and taken < -slack:
        raise AssertionError(f"carving took {taken:g} mm3")
    own = _in_singles(parts.bodies[0].joined(*parts.bodies[1:]))
    return made, FuseRecord(
        parts=len(parts.bodies),
        tools=len(tools.bodies) if tools is not None else 0,
        turned=parts.turned + (tools.turned if tools is not None else 0),
        copies=parts.copies + (tools.copies if tools is not None else 0),
        recast=len(parts.recast) + (len(tools.recast) if tools is not None else 0),
        thick_mm2=parts.thick_mm2 + (tools.thick_mm2 if tools is not None else 0.0),
        broken_through=parts.broken + (tools.broken if tools is not None else 0),
        before_mm3=sum(body.volume for body in parts.bodies),
        after_mm3=made.volume,
        bodies=bodies,
        voids=tuple(fresh),
        filled=tuple(filled),
        reached=reached,
        moved_mm=0.0 if reached else _moved(made, parts.bodies),
        kept_faces=int((matching_faces(own, _in_singles(made))[1] > 0).sum()),
        triangles_before=sum(len(body.faces) for body in parts.bodies),
        triangles=len(made.faces),
    )


def _in_singles(mesh: Mesh) -> Mesh:
    """The mesh with coordinates as a file holds them, every face kept."""
    return mesh.moved(stored(mesh.vertices))


def _voids(mesh: Mesh) -> list[VoidMade]:
    """The closed voids of a sound mesh, largest first."""
    low, high = mesh.shell_boxes
    found = [
        VoidMade(volume_mm3=float(volume), where_mm=as_triple(0.5 * (low[shell] + high[shell])))
        for shell, volume in zip(*nest_exactly(mesh).voids, strict=True)
    ]
    return sorted(found, key=lambda v: (-v.volume_mm3, v.where_mm))


def _moved(made: Mesh, bodies: list[Mesh]) -> float:
    """How far (mm) corners of bodies were moved that are still there."""
    corners = _in_singles(bodies[0].joined(*bodies[1:])).vertices
    lost = corners[~among(corners, made.vertices)]
    fresh = made.vertices[~among(made.vertices, corners)]
    if not len(lost) or not len(fresh):
        return 0.0
    gap, _ = PointTree(fresh).nearest(lost, NEAR_SHARE * float(made.size.max()))
    return float(gap[np.isfinite(gap)].max(initial=0.0))


def _fresh_voids(made: Mesh, bodies: list[Mesh]) -> list[VoidMade]:
    """The closed voids of what came out that are none of a body's own: what is left of a body's void is one of its own
    too, whatever reaches into it."""
    nested, low, high = nest_exactly(made), *made.shell_boxes
    shells = nested.voids[0]
    if not len(shells):
        return []
    # just inside each void, before its largest face
    face = np.array([np.argmax(np.where(made.topology.shell == s, made.face_areas, -1.0)) for s in shells])
    middle = made.vertices[made.faces[face]].mean(axis=1)
    points = middle + _BESIDE_SHARE * float(made.size.max()) * made.normals_of(face)
    own = np.zeros(len(shells), bool)
    for body in bodies:
        if body.topology.shells > 1:
            around = nest_exactly(body)
            for void in around.voids[0].tolist():
                lone = body.picked(body.topology.shell == void)
                own |= lone.tree.winding(points) < -0.5
    kept = {as_triple(0.5 * (low[s] + high[s])) for s, mine in zip(shells, own, strict=True) if not mine}
    return [v for v in _voids(made) if v.where_mm in kept]


def _filled(mesh: Mesh, voids: list[VoidMade]) -> Mesh:
    """The mesh without some voids, and without what lies loose in them."""
    nested = nest_exactly(mesh)
    low, high = mesh.shell_boxes
    places = {v.where_mm for v in voids}
    gone = [int(s) for s, _ in zip(*nested.voids, strict=True) if as_triple(0.5 * (low[s] + high[s])) in places]
    within = nested.inner[np.isin(nested.outer, gone)]
    return mesh.picked(~np.isin(mesh.topology.shell, [*gone, *within.tolist()]))
