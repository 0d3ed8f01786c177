"""The best way up: many build directions compared by what each would cost."""

from dataclasses import dataclass, replace

import numpy as np

from bolvek.analyses.held import SupportsNeeded, needed_supports
from bolvek.analyses.overhangs.islands import Sweep, find_islands, neighbours
from bolvek.analyses.overhangs.overhangs import ANGLE_SLACK_DEG, faces_of
from bolvek.analyses.overhangs.record import FOOT_SHARE, up_of
from bolvek.analyses.overhangs.standing import bed_contact, centre_of_mass, foot
from bolvek.analyses.overhangs.zones import BRIDGE_DEG
from bolvek.analyses.shells import counted_once, material_tree, standing
from bolvek.analyses.thickness import SKIN_SHARE, check_solid, sample_surface
from bolvek.arrays import Bools, Floats, Ints, Ints8
from bolvek.kernels.surface import sweep as kernels
from bolvek.mesh import Mesh
from bolvek.settings.measures import MEASURES, OverhangSettings, RankSettings
from bolvek.settings.supports import HeldSettings
from bolvek.spatial.frames import across, fibonacci_sphere
from bolvek.spatial.hull import hull_sides
from bolvek.spatial.parallel import run_ranges
from bolvek.units import Triple, as_triple

_PLAIN = RankSettings()


WEIGHTS = {
    "stands": {
        **{"overhang": 1.0, "islands": 1.0, "support": 1.0, "height": 0.3, "contact": 0.3},
        **{"standing": 0.5, "section": 0.0, "sealed": 0.5, "show": 0.0},
    },
    "hangs": {
        **{"overhang": 1.0, "islands": 1.0, "support": 1.0, "height": 0.3, "contact": 0.0},
        **{"standing": 0.0, "section": 0.5, "sealed": 0.5, "show": 0.0},
    },
}
"""What each measure weighs in the score unless said otherwise, by habit: what stands wants a broad foot, what hangs
from the plate a small cross-section to peel off. The side to show weighs 1 where one is named."""

_SAMPLES, _ASKED = 20_000, 1_000  # of the surface; of what begins, to see whether it is held
_MOST_FLATS = 12
_SAME_COSINE = np.cos(np.radians(0.5))
_REFINED, _STEPS_DEG = 3, (8.0, 4.0, 2.0, 1.0)  # best ones looked around at, and how far
_BRIDGE_WAYS = 4
_SHEET_SAMPLES = 10_000
SHEET_BEST = 5
"""The best directions that a sheet shows, beside the present one."""


@dataclass(frozen=True, kw_only=True)
class Direction:
    """One build direction and what it costs; score is the weighted sum of shares of the worst, lower is better.

    falls: it stands on a point, or its centre of mass outside the contact (told of what stands on the bed only);
    such directions rank last. Volumes and the section (the largest cross-section) are estimates from samples;
    `source` says where the direction comes from; supports: what they would take, where that was asked.
    """

    up: Triple
    source: str
    score: float
    falls: bool
    overhang_mm2: float
    islands: int
    support_volume_mm3: float
    support_sealed_mm3: float
    height_mm: float
    bed_contact_mm2: float
    bed_margin_mm: float | None
    section_mm2: float
    shown_mm2: float
    supports: SupportsNeeded | None = None


@dataclass(frozen=True, kw_only=True)
class Comparison:
    """The best directions, best first, how the model stands now, and how many were tried."""

    tried: int
    weights: dict[str, float]
    best: list[Direction]
    now: Direction


def flat_sides(mesh: Mesh) -> Floats:
    """Outward unit normals (N, 3) of the largest sides of the convex hull: what the model can stand on."""
    sides = hull_sides(mesh.vertices[np.unique(mesh.faces)], _MOST_FLATS)
    return np.zeros((0, 3)) if sides is None else np.asarray(sides[0][:, :3])


def own_frame(mesh: Mesh) -> Floats:
    """Axes (3, 3, rows) that turn with the model: those of the spread of its surface, each towards its longer tail."""
    area = mesh.face_areas
    middle = mesh.middles
    off = middle - (middle * area[:, None]).sum(axis=0) / area.sum()
    axes = np.linalg.eigh((off * area[:, None]).T @ off)[1].T
    tail = ((off @ axes.T) ** 3 * area[:, None]).sum(axis=0)
    axes = axes * np.where(tail < 0, -1.0, 1.0)[:, None]
    axes[2] = np.cross(axes[0], axes[1])
    return np.asarray(axes)


def weighed(settings: RankSettings, habit: str) -> dict[str, float]:
    """The weights that count: those given over those of the habit."""
    plain = dict(WEIGHTS[habit])
    if settings.show is not None:
        plain["show"] = 1.0
    return plain if settings.weights is None else {name: settings.weights.get(name, 0.0) for name in MEASURES}


def with_supports_needed(
    mesh: Mesh, compared: Comparison, held: HeldSettings, tip_mm: float, column_mm: float
) -> Comparison:
    """The directions that are told, each with what supports would take. Raises WorkError for a surface that is not
    closed."""

    def told(one: Direction) -> Direction:
        return replace(one, supports=needed_supports(mesh, replace(held, up=one.up), tip_mm, column_mm))

    return replace(compared, best=[told(one) for one in compared.best], now=told(compared.now))


def compare_directions(mesh: Mesh, settings: OverhangSettings, compare: RankSettings = _PLAIN) -> Comparison:
    """Try directions and rank them. Raises UsageError, or WorkError for a model without surface or extent.

    All of them but the one asked for and its opposite turn with the model, so that a turned copy is answered alike;
    the best are looked around at. Overhang and contact areas and islands are exact; the rest comes from samples.
    """
    settings.check()
    compare.check()
    check_solid(mesh)
    mesh, _ = counted_once(mesh)
    axes = own_frame(mesh)
    sources = [
        ("as asked", np.stack([up_of(settings), -up_of(settings)])),
        ("flat side", -flat_sides(mesh)),
        ("own axis", np.concatenate([axes, -axes])),
        ("spread", fibonacci_sphere(compare.count) @ axes),
    ]
    ups: list[Floats] = []
    names: list[str] = []

    def add(name: str, some: Floats) -> None:
        for up in some:
            if not ups or (np.array(ups) @ up).max() < _SAME_COSINE:
                ups.append(up)
                names.append(name)

    for name, some in sources:
        add(name, some)
    measure = _Costs(mesh, settings, compare)
    weights = weighed(compare, settings.habit)
    costs = measure.of(np.array(ups))
    for step in _STEPS_DEG:
        best = np.argsort(_scores(costs, weights), kind="stable")[:_REFINED]
        known = len(ups)
        for i in best:
            add("near the best", _around(ups[i], step))
        if len(ups) > known:
            costs = np.concatenate([costs, measure.of(np.array(ups[known:]))])
    score = _scores(costs, weights)
    rows = [_direction(up, name, float(x), c) for up, name, x, c in zip(ups, names, score, costs, strict=True)]
    order = np.argsort(score, kind="stable")
    return Comparison(tried=len(rows), weights=weights, best=[rows[i] for i in order[: compare.best]], now=rows[0])


def faces_in_directions(mesh: Mesh, settings: OverhangSettings, compared: Comparison) -> list[Ints8]:
    """What each face is (F,), as `find_overhangs` tells it, in the best directions and then as it stands now."""
    return [
        faces_of(mesh, replace(settings, up=direction.up), _SHEET_SAMPLES)
        for direction in (*compared.best[:SHEET_BEST], compared.now)
    ]


def _around(up: Floats, degrees: float) -> Floats:
    """Six directions (6, 3) around one, so many degrees off."""
    turn = np.radians(60.0 * np.arange(6))
    u, v = across(up)
    off = np.cos(turn)[:, None] * u + np.sin(turn)[:, None] * v
    return np.asarray(np.cos(np.radians(degrees)) * up + np.sin(np.radians(degrees)) * off)


def _direction(up: Floats, name: str, score: float, c: Floats) -> Direction:
    over, islands, support, tall, contact, margin, section, sealed, shown, falls = (float(x) for x in c)
    return Direction(
        up=as_triple(up),
        source=name,
        score=score,
        falls=bool(falls),
        overhang_mm2=over,
        islands=int(islands),
        support_volume_mm3=support,
        support_sealed_mm3=sealed,
        height_mm=tall,
        bed_contact_mm2=contact,
        bed_margin_mm=None if np.isnan(margin) else margin,
        section_mm2=section,
        shown_mm2=shown,
    )


class _Costs:
    """What is the same for all directions, and the costs of any: overhang area, islands, support, height, contact,
    margin (nan: none), section, sealed support, support on the side to show, and whether it falls (N, 10)."""

    def __init__(self, mesh: Mesh, settings: OverhangSettings, compare: RankSettings) -> None:
        self.mesh, self.s = mesh, settings
        shells = standing(mesh)
        self.sign = shells.sign
        self.tree = material_tree(mesh)
        self.centre = centre_of_mass(mesh, shells.sign)
        self.area = np.ascontiguousarray(mesh.area_vectors * self.sign[:, None])
        neighbours(mesh)
        # every sample stands for the same area: taken at even steps along all of it
        found = sample_surface(mesh, float(np.sqrt(mesh.area / _SAMPLES)))
        along = np.cumsum(found.area)
        rows = np.searchsorted(along, (np.arange(_SAMPLES) + 0.5) / _SAMPLES * along[-1])
        self.points, self.each = found.points[rows], float(along[-1]) / _SAMPLES
        face = found.face[rows]
        self.normal = self.area[face] / np.maximum(mesh.face_areas[face], 1e-300)[:, None]
        self.sealed = np.array([r == "cavity" for r in shells.roles])[mesh.topology.shell[face]]
        self.shown = np.zeros(len(rows), bool)
        if compare.show is not None:
            show = np.array(compare.show) / np.linalg.norm(compare.show)
            self.shown = self.normal @ show > 0.5

    def of(self, ups: Floats) -> Floats:
        """Costs (N, 10) of directions (N, 3)."""
        out = np.empty((len(ups), 10))

        def work(begin: int, end: int) -> None:
            height = np.empty(len(self.mesh.vertices))
            for i in range(begin, end):
                out[i] = self._one(ups[i], height)

        run_ranges(work, len(ups), grain=1)
        return out

    def _one(self, up: Floats, height: Floats) -> tuple[float, ...]:
        mesh, s = self.mesh, self.s
        limit = float(np.cos(np.radians(max(s.angle_deg - ANGLE_SLACK_DEG, 0.0))))
        low, high = kernels.heights(mesh.vertices, *up, height)
        over = kernels.overhang_area(mesh.faces, self.area, height, *up, limit, low, s.contact_mm)
        sweep = Sweep(mesh, self.sign, self.tree, height, up, low, s.layer_mm)
        bottoms = find_islands(sweep, low + s.contact_mm, samples=_ASKED)
        slope = self.normal @ up
        above = self.points @ up - low
        hang = np.flatnonzero((slope < -limit) & (above > s.contact_mm))
        near = SKIN_SHARE * float(mesh.size.max())
        hits = mesh.tree.rays(self.points[hang], np.broadcast_to(-up, (len(hang), 3)), near=near, alone=True)
        drop = np.minimum(hits.distance[:, 0], above[hang])
        if s.habit == "stands":  # what bridges by itself costs nothing
            held = self._bridged(up, hang, slope)
            over -= self.each * float(held.sum())
            hang, drop = hang[~held], drop[~held]
        support = self.each * -slope[hang] * drop
        contact, corners = bed_contact(mesh, self.sign, up, height, low + s.contact_mm)
        width, margin = foot(corners, self.centre, up)
        falls = s.habit == "stands" and (
            width < max(2 * s.layer_mm, FOOT_SHARE * (high - low)) or (margin is not None and margin < 0)
        )
        # the flux upward through the surface above a height is the area of the section there
        order = np.argsort(-above, kind="stable")
        section = self.each * float(np.cumsum(slope[order]).max())
        return (
            max(over, 0.0),
            float(len(bottoms)),
            float(support.sum()),
            high - low,
            contact,
            np.nan if margin is None else margin,
            max(section, 0.0),
            float(support[self.sealed[hang]].sum()),
            self.each * float(self.shown[hang].sum()),
            float(falls),
        )

    def _bridged(self, up: Floats, hang: Ints, slope: Floats) -> Bools:
        """Of hanging samples, the flat ones that have material on both sides of them within the longest bridge."""
        s = self.s
        held = np.zeros(len(hang), bool)
        flat = np.flatnonzero(-slope[hang] >= np.cos(np.radians(BRIDGE_DEG)))
        if not len(flat):
            return held
        start = self.points[hang[flat]] - s.contact_mm * up
        u, v = across(up)
        for k in range(_BRIDGE_WAYS):
            turn = np.pi * k / _BRIDGE_WAYS
            way = np.broadcast_to(np.cos(turn) * u + np.sin(turn) * v, start.shape)
            span = np.zeros(len(flat))
            for side in (way, -way):
                span += self.mesh.tree.rays(start, side, far=s.bridge_most_mm, alone=True).distance[:, 0]
            held[flat] |= span <= s.bridge_most_mm
        return held


def _scores(costs: Floats, weights: dict[str, float]) -> Floats:
    """Weighted sums of what each direction has of the most that any has; of contact and margin, of what it lacks.

    What falls over comes after everything that does not.
    """
    over, islands, support, tall, contact, margin, section, sealed, shown, falls = costs.T
    inside = np.clip(np.nan_to_num(margin), 0.0, None)
    share = {
        name: values / max(float(values.max()), 1e-300)
        for name, values in (
            *(("overhang", over), ("islands", islands), ("support", support), ("height", tall)),
            *(("section", section), ("sealed", sealed), ("show", shown)),
        )
    }
    share["contact"] = 1 - contact / max(float(contact.max()), 1e-300)
    share["standing"] = 1 - inside / max(float(inside.max()), 1e-300)
    total = np.zeros(len(costs))
    for name in MEASURES:
        total += weights.get(name, 0.0) * share[name]
    return np.asarray(total + falls * (1 + sum(weights.values())))
