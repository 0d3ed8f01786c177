"""Overhangs, islands, bridges, supports and how a model stands, for one build direction."""

from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from bolvek.analyses.finding import Finding
from bolvek.analyses.shells import outward_signs
from bolvek.analyses.thickness import (
    MOST_RAYS,
    SKIN_SHARE,
    Samples,
    check_solid,
    sample_surface,
    surfaces_along,
)
from bolvek.errors import UsageError
from bolvek.kernels import overhangs as kernels
from bolvek.mesh import Mesh
from bolvek.mesh.topology import label_patches
from bolvek.spatial.tree import Tree
from bolvek.units import as_triple, length_text

Floats = NDArray[np.float64]
Ints = NDArray[np.int64]
Corners = NDArray[np.int32]
Triple = tuple[float, float, float]

ANGLE_SLACK_DEG = 0.05
"""Faces steeper than the limit less this count as printable: rounding must not decide a face that lies on it."""

MOST_SAMPLES = 150_000
BRIDGE_DEG, BRIDGE_SHARE = 10.0, 0.9
"""A bridge is flat: this share of its area lies within so many degrees of the horizontal."""

HABITS = ("stands", "hangs")


@dataclass(frozen=True)
class OverhangSettings:
    """angle_deg: faces flatter than this from the horizontal need support; up: build direction; layer_mm:
    layer height; habit: "stands" on the bed (filament) or "hangs" from the plate (resin); spacing_mm:
    between the samples that measure supports (None: chosen)."""

    angle_deg: float = 45.0
    up: Triple = (0.0, 0.0, 1.0)
    layer_mm: float = 0.2
    habit: str = "stands"
    spacing_mm: float | None = None

    def check(self) -> None:
        """Raise UsageError when a setting makes no sense."""
        if not 0 < self.angle_deg <= 90:
            raise UsageError(f"--angle must be above 0 and at most 90 degrees, not {self.angle_deg:g}")
        if not 0 < float(np.linalg.norm(self.up)) < np.inf:
            raise UsageError("--up needs a direction, not a zero direction")
        for name, value in (("--layer", self.layer_mm), ("--spacing", self.spacing_mm)):
            if value is not None and not 0 < value < np.inf:
                raise UsageError(f"{name} must be above 0, not {value:g}")
        if self.habit not in HABITS:
            raise UsageError(f"--habit is {' or '.join(HABITS)}, not '{self.habit}'")

    @property
    def direction(self) -> Floats:
        """The unit vector upward (3,)."""
        up = np.array(self.up, np.float64)
        return np.asarray(up / np.linalg.norm(up))

    @property
    def contact_mm(self) -> float:
        """Half a layer: what lies no higher above the lowest point is on the bed."""
        return 0.5 * self.layer_mm


@dataclass(frozen=True)
class OverhangZone:
    """Overhanging faces that hang together. kind: "bridge" (flat, and most of it lies between what holds it),
    "cantilever" (held, but no bridge) or "free" (nothing holds it: the bottom of an island).

    lowest_mm: its lowest point; reach_mm: farthest it gets from what holds it (None when free);
    support_mm3: room between it and what is beneath.
    """

    kind: str
    area_mm2: float
    lowest_mm: Triple
    centre_mm: Triple
    size_mm: Triple
    flattest_deg: float
    reach_mm: float | None
    support_mm3: float


@dataclass(frozen=True)
class Island:
    """A place above the bed where material begins with nothing beneath; height_mm above the bed."""

    where_mm: Triple
    height_mm: float


@dataclass(frozen=True)
class OverhangRecord:
    """Overhangs for one direction. Lengths mm, areas mm2, volumes mm3.

    minima counts every place where material begins above the bed, also those that join lower material within
    a layer; islands are those that do not. bed_margin_mm: how far inside the contact's outline the centre of
    mass stands (negative: outside), None without contact or volume.
    """

    up: Triple
    angle_deg: float
    layer_mm: float
    habit: str
    area_mm2: float
    share: float
    islands: int
    minima: int
    bridges: int
    bridge_area_mm2: float
    cantilevers: int
    cantilever_area_mm2: float
    support_volume_mm3: float
    support_footprint_mm2: float
    footprint_on_part_mm2: float
    bed_contact_mm2: float
    height_mm: float
    layers: int
    centre_of_mass_mm: Triple | None
    bed_margin_mm: float | None
    zones: list[OverhangZone]
    island_list: list[Island]
    findings: tuple[Finding, ...]

    @property
    def verdict(self) -> str:
        """Whether anything needs support."""
        return "prints as it stands" if self.ok else "needs support"

    @property
    def ok(self) -> bool:
        """Whether nothing needs support."""
        return not any(f.severity == "fault" for f in self.findings)


def find_overhangs(
    mesh: Mesh, settings: OverhangSettings = OverhangSettings()
) -> tuple[OverhangRecord, NDArray[np.int8]]:
    """The record, and per face (F,): 0 fine, 1 on the bed, 2 overhang, 3 in a bridge, 4 the bottom of an island.

    Raises UsageError, or WorkError for a model without surface or extent.
    """
    settings.check()
    check_solid(mesh)
    mesh.prepare()
    s, up = settings, settings.direction
    sign = outward_signs(mesh)
    height = mesh.vertices @ up
    floor = float(height[mesh.faces].min())
    slope = np.einsum("ij,j->i", mesh.unit_normals, up) * sign
    limit = -np.cos(np.radians(max(s.angle_deg - ANGLE_SLACK_DEG, 0.0)))
    corners = height[mesh.faces]
    on_bed = (slope < 0) & (corners.max(axis=1) <= floor + s.contact_mm)
    over = np.flatnonzero((slope < limit) & ~on_bed)
    zones: list[OverhangZone] = []
    kind = np.where(on_bed, 1, 0).astype(np.int8)
    samples, drop, landed, buried = _drops(mesh, over, sign, floor, s)
    if len(samples.area):
        over = np.unique(samples.face)
        zones = _zones(mesh, over, samples, drop, buried, on_bed, slope, height, up, kind)
    flat = samples.area * -slope[samples.face] if len(samples.area) else np.zeros(0)
    islands, minima = _islands(mesh, height, floor, sign, s)
    contact = float(mesh.face_areas[on_bed].sum())
    centre = _centre_of_mass(mesh, sign)
    margin = _margin(mesh, on_bed, centre, up)
    tall = float(corners.max()) - floor
    bridges = [z for z in zones if z.kind == "bridge"]
    others = [z for z in zones if z.kind == "cantilever"]
    area = float(samples.area.sum())
    record = OverhangRecord(
        up=as_triple(up),
        angle_deg=s.angle_deg,
        layer_mm=s.layer_mm,
        habit=s.habit,
        area_mm2=area,
        share=area / mesh.area,
        islands=len(islands),
        minima=minima,
        bridges=len(bridges),
        bridge_area_mm2=sum(z.area_mm2 for z in bridges),
        cantilevers=len(others),
        cantilever_area_mm2=sum(z.area_mm2 for z in others),
        support_volume_mm3=float((flat * drop).sum()),
        support_footprint_mm2=float(flat.sum()),
        footprint_on_part_mm2=float(flat[landed].sum()),
        bed_contact_mm2=contact,
        height_mm=tall,
        layers=int(np.ceil(tall / s.layer_mm - 1e-6)),
        centre_of_mass_mm=centre,
        bed_margin_mm=margin,
        zones=zones,
        island_list=islands,
        findings=(),
    )
    return replace(record, findings=_findings(record)), kind


def _drops(
    mesh: Mesh, over: Ints, sign: Floats, floor: float, s: OverhangSettings
) -> tuple[Samples, Floats, NDArray[np.bool_], Samples]:
    """Samples of the overhanging faces, how far each hangs over what is beneath, whether that is the part; and
    the samples that are buried: where more surfaces beneath are left than entered, there is material."""
    spacing = s.spacing_mm or float(np.sqrt(max(mesh.face_areas[over].sum(), 1e-300) / MOST_SAMPLES))
    spacing = max(spacing, 1e-5 * float(mesh.size.max()))
    found = sample_surface(mesh, spacing, _mask(len(mesh.faces), over))
    face = found.face
    up = s.direction
    hits = mesh.tree.rays(
        found.points, np.broadcast_to(-up, found.points.shape), near=SKIN_SHARE * float(mesh.size.max())
    )
    distance, hit = hits.distance[:, 0], hits.face[:, 0]
    above = found.points @ up - floor
    facing = np.einsum("ij,j->i", mesh.area_vectors[np.maximum(hit, 0)], up) * sign[np.maximum(hit, 0)]
    free = (hit < 0) | (facing >= 0)
    if mesh.topology.shells > 1:  # among several, count them all
        for at in range(0, len(free), MOST_RAYS):
            some = slice(at, at + MOST_RAYS)
            down = np.broadcast_to(-up, found.points[some].shape)
            free[some] = surfaces_along(mesh, found.points[some], down, sign)[1].sum(axis=1) <= 0
    landed = (hit >= 0) & (distance < above)
    drop = np.maximum(np.where(landed, distance, above), 0.0)
    samples, buried = (Samples(found.points[m], found.area[m], face[m], spacing) for m in (free, ~free))
    return samples, drop[free], landed[free], buried


def _zones(
    mesh: Mesh,
    over: Ints,
    samples: Samples,
    drop: Floats,
    buried: Samples,
    on_bed: NDArray[np.bool_],
    slope: Floats,
    height: Floats,
    up: Floats,
    kind: NDArray[np.int8],
) -> list[OverhangZone]:
    """Overhanging faces gathered by shared edges, largest first; marks what each face is."""
    label, count = label_patches(mesh.topology, _mask(len(mesh.faces), over))
    group = label[over]
    across = _plan(up)
    # where a zone ends at a face that goes down or lies on the bed, that face holds it
    half = (3 * over[:, None] + np.arange(3)).ravel()
    twin = mesh.topology.twin[half]
    edge_face, k = np.divmod(half, 3)
    a, b = mesh.faces[edge_face, k], mesh.faces[edge_face, (k + 1) % 3]
    other = np.maximum(twin, 0)
    third = mesh.faces[other // 3, (other % 3 + 2) % 3]
    holds = (twin >= 0) & (label[other // 3] != label[edge_face])
    holds &= _goes_down(mesh.vertices, a, b, third, slope[other // 3], up) | on_bed[other // 3]
    # so does another part that it lies in
    inside = buried.points[label[buried.face] >= 0]
    held_zone = np.concatenate([label[edge_face[holds]], label[buried.face[label[buried.face] >= 0]]])
    edges = np.stack([mesh.vertices[a[holds]], mesh.vertices[b[holds]]], axis=1)
    held = np.concatenate([edges, np.stack([inside, inside], axis=1)]) @ across.T
    zone_of = label[samples.face]
    order, place = np.argsort(zone_of, kind="stable"), np.argsort(held_zone, kind="stable")
    ends = np.searchsorted(zone_of[order], np.arange(count + 1))
    held_ends = np.searchsorted(held_zone[place], np.arange(count + 1))
    face_order = np.argsort(group, kind="stable")
    face_ends = np.searchsorted(group[face_order], np.arange(count + 1))
    flat = samples.area * -slope[samples.face]
    found = []
    for z in range(count):
        rows = order[ends[z] : ends[z + 1]]
        faces = over[face_order[face_ends[z] : face_ends[z + 1]]]
        edges = held[place[held_ends[z] : held_ends[z + 1]]]
        level = -slope[samples.face[rows]] >= np.cos(np.radians(BRIDGE_DEG))
        flat_enough = float(samples.area[rows[level]].sum()) >= BRIDGE_SHARE * float(samples.area[rows].sum())
        name, reach = _held(samples.points[rows] @ across.T, samples.area[rows], edges)
        if name == "bridge" and not flat_enough:
            name = "cantilever"
        kind[faces] = {"bridge": 3, "cantilever": 2, "free": 4}[name]
        used = np.unique(mesh.faces[faces])
        points = mesh.vertices[used]
        low, high = points.min(axis=0), points.max(axis=0)
        found.append(
            OverhangZone(
                name,
                float(samples.area[rows].sum()),
                as_triple(points[int(np.argmin(height[used]))]),
                as_triple(0.5 * (low + high)),
                as_triple(high - low),
                float(np.degrees(np.arccos(np.clip(-slope[faces].min(), -1, 1)))),
                reach,
                float((flat[rows] * drop[rows]).sum()),
            )
        )
    return sorted(found, key=lambda z: (-z.area_mm2, z.centre_mm))


def _goes_down(v: Floats, a: Corners, b: Corners, c: Corners, slope: Floats, up: Floats) -> NDArray[np.bool_]:
    """Whether the faces a b c lead downward from their edge a b: at least half as steeply as they can.

    The half keeps out the backward edges of a jagged border whose faces lead up.
    """
    along = v[b] - v[a]
    away = v[c] - v[a]
    t = np.einsum("ij,ij->i", away, along) / np.maximum(np.einsum("ij,ij->i", along, along), 1e-300)
    away -= t[:, None] * along
    steepest = np.sqrt(np.maximum(1 - slope**2, 0.0))
    return np.asarray(away @ up < -0.5 * steepest * np.linalg.norm(away, axis=1))


_MOST_ASKED, _PIECES = 5000, 400


def _held(points: Floats, area: Floats, edges: Floats) -> tuple[str, float | None]:
    """What a zone is, from its samples (Q, 2) and the edges (E, 2, 2) that hold it, in plan; and its reach.

    The reach is that of up to five thousand samples, to within a 400th of the extent of what holds.
    """
    if not len(edges):
        return "free", None
    from scipy.spatial import ConvexHull, QhullError, cKDTree

    step = max(float(np.ptp(edges, axis=(0, 1)).max()) / _PIECES, 1e-12)
    pieces = np.clip(np.ceil(np.linalg.norm(edges[:, 1] - edges[:, 0], axis=1) / step), 1, _PIECES).astype(np.int64)
    row = np.repeat(np.arange(len(edges)), pieces + 1)
    t = (np.arange(len(row)) - np.repeat(np.cumsum(pieces + 1) - pieces - 1, pieces + 1)) / np.repeat(
        pieces, pieces + 1
    )
    holders = cKDTree(edges[row, 0] + t[:, None] * (edges[row, 1] - edges[row, 0]))
    reach = float(holders.query(points[:: -(-len(points) // _MOST_ASKED)])[0].max())
    try:
        hull = ConvexHull(edges.reshape(-1, 2))
    except QhullError:
        return "cantilever", reach
    inside = np.ones(len(points), bool)
    for x, y, offset in hull.equations:
        inside &= points[:, 0] * x + points[:, 1] * y + offset <= 1e-9
    return ("bridge" if float(area[inside].sum()) > 0.5 * float(area.sum()) else "cantilever"), reach


def neighbours(mesh: Mesh) -> tuple[Ints, NDArray[np.int32]]:
    """Starts (V + 1,) and vertices around each vertex. Computed once a mesh."""
    if "neighbours" not in mesh.__dict__:
        start, around = np.empty(len(mesh.vertices) + 1, np.int64), np.empty(6 * len(mesh.faces), np.int32)
        kernels.neighbour_starts(mesh.faces, start)
        kernels.fill_neighbours(mesh.faces, start, around)
        mesh.__dict__["neighbours"] = start, around
    return mesh.__dict__["neighbours"]


def vertex_normals(mesh: Mesh, sign: Floats) -> Floats:
    """Sum (V, 3) of the outward area vectors around each vertex."""
    area = mesh.area_vectors * sign[:, None]
    out = np.empty((len(mesh.vertices), 3))
    for axis in range(3):
        out[:, axis] = sum(np.bincount(mesh.faces[:, k], area[:, axis], len(out)) for k in range(3))
    return out


def material_minima(
    mesh: Mesh, height: Floats, normals: Floats, up: Floats, rise_mm: float
) -> tuple[Ints, NDArray[np.int32], Ints]:
    """Vertices where material begins and stays alone for `rise_mm`, lowest first; what belongs to each.

    owner (V,) is the number of the minimum that each vertex up to the rise belongs to (-1: none), the last
    array the numbers of those that are returned.

    A minimum of the surface that looks down is where a sweep upward first meets new material; one that
    looks up is the bottom of a cup. Equal heights side by side are one.
    """
    start, around = neighbours(mesh)
    minima = np.empty(len(height), np.int32)
    minima = minima[: kernels.find_minima(height, start, around, minima)]
    minima = minima[np.argsort(height[minima], kind="stable")]
    owner, stack = np.full(len(height), -1, np.int32), np.empty(len(height), np.int32)
    kept = np.zeros(len(minima), bool)
    kernels.grow_minima(height, start, around, minima, rise_mm, owner, stack, kept)
    chosen = np.flatnonzero(kept & (normals[minima] @ up < 0))
    return minima[chosen].astype(np.int64), owner, chosen


def _islands(mesh: Mesh, height: Floats, floor: float, sign: Floats, s: OverhangSettings) -> tuple[list[Island], int]:
    """Islands above the bed, lowest first, and the number of all places where material begins above it."""
    up = s.direction
    normals = vertex_normals(mesh, sign)
    places = []
    for rise in (s.layer_mm, 0.0):
        found, owner, number = material_minima(mesh, height, normals, up, rise)
        raised = height[found] > floor + s.contact_mm
        found, number = found[raised], number[raised]
        if len(found) and mesh.topology.shells > 1:
            found = found[~_held_by_others(mesh, found, owner, number, sign, up)]
        places.append(found)
    return [Island(as_triple(mesh.vertices[v]), float(height[v]) - floor) for v in places[0]], len(places[1])


def _held_by_others(
    mesh: Mesh, minima: Ints, owner: NDArray[np.int32], number: Ints, sign: Floats, up: Floats
) -> NDArray[np.bool_]:
    """Whether what begins at each minimum begins, somewhere on its bottom, inside another part."""
    order = np.full(int(owner.max()) + 2, -1)
    order[number] = np.arange(len(number))
    corners = order[owner[mesh.faces]]
    bottom = np.flatnonzero((corners >= 0).all(axis=1) & (corners == corners[:, :1]).all(axis=1))
    points, island = [mesh.vertices[minima]], [np.arange(len(minima))]
    if len(bottom):
        spacing = float(np.sqrt(mesh.face_areas[bottom].sum() / 20_000))
        spacing = max(spacing, 1e-5 * float(mesh.size.max()))
        found = sample_surface(mesh, spacing, _mask(len(mesh.faces), bottom))
        points.append(found.points)
        island.append(corners[found.face, 0])
    faces = np.where(sign[:, None] < 0, mesh.faces[:, ::-1], mesh.faces)
    tree = mesh.tree if (sign > 0).all() else Tree(mesh.vertices, np.ascontiguousarray(faces))
    inside = tree.winding(np.concatenate(points) - 1e-5 * float(mesh.size.max()) * up) > 0.5
    return np.bincount(np.concatenate(island), inside, len(minima)) > 0


def _centre_of_mass(mesh: Mesh, sign: Floats) -> Triple | None:
    """Of the enclosed volume; None while a shell is open."""
    if mesh.topology.open_edges:
        return None
    middle = mesh.bounds.mean(axis=0)
    moment = np.zeros(4)
    kernels.volume_moment(mesh.vertices, mesh.faces, sign, middle, moment)
    return as_triple(middle + moment[:3] / moment[3]) if moment[3] > 0 else None


def _margin(mesh: Mesh, on_bed: NDArray[np.bool_], centre: Triple | None, up: Floats) -> float | None:
    """Distance of the centre of mass, in plan, from the outline of the hull of the contact; negative outside."""
    from scipy.spatial import ConvexHull, QhullError

    if centre is None or not on_bed.any():
        return None
    across = _plan(up)
    try:
        hull = ConvexHull(mesh.vertices[np.unique(mesh.faces[on_bed])] @ across.T)
    except QhullError:
        return None
    return float(-(hull.equations[:, :2] @ (across @ np.array(centre)) + hull.equations[:, 2]).max())


def _plan(up: Floats) -> Floats:
    """Two unit vectors (2, 3) across the build direction."""
    helper = np.eye(3)[int(np.argmin(np.abs(up)))]
    x = np.cross(up, helper)
    x /= np.linalg.norm(x)
    return np.stack([x, np.cross(up, x)])


def _findings(r: OverhangRecord) -> tuple[Finding, ...]:
    found = []
    if r.islands:
        text = f"{r.islands:,} island{'' if r.islands == 1 else 's'}: material begins with nothing beneath"
        found.append(Finding("islands", "fault", r.islands, text, r.island_list[0].where_mm))
    hold = [z for z in r.zones if z.kind != "bridge" or r.habit == "hangs"]
    if hold:
        area = sum(z.area_mm2 for z in hold)
        word = "zone overhangs" if len(hold) == 1 else "zones overhang"
        text = f"{len(hold):,} {word} flatter than {r.angle_deg:g} degrees, {area / 100:.2f} cm2"
        found.append(Finding("overhangs", "fault", len(hold), text, hold[0].lowest_mm))
    spans = [z for z in r.zones if z.kind == "bridge"]
    if spans and r.habit == "stands":
        widest = max(spans, key=lambda z: z.reach_mm or 0.0)
        word = "bridge" if len(spans) == 1 else "bridges"
        text = f"{len(spans):,} {word}, the widest spans {length_text(2 * (widest.reach_mm or 0.0))}"
        found.append(Finding("bridges", "note", len(spans), text, widest.centre_mm))
    if r.bed_contact_mm2 <= 0:
        found.append(
            Finding("no_contact", "note", 1, "nothing lies flat on the bed: it touches in points or edges only")
        )
    if r.bed_margin_mm is not None and r.bed_margin_mm < 0 and r.habit == "stands":
        text = f"the centre of mass stands {length_text(-r.bed_margin_mm)} outside the contact: it would fall over"
        found.append(Finding("topples", "fault", 1, text, r.centre_of_mass_mm))
    return tuple(found)


def _mask(size: int, chosen: Ints) -> NDArray[np.bool_]:
    mask = np.zeros(size, bool)
    mask[chosen] = True
    return mask
