"""What is asked about the layers of a model, and what is told of them: plain values."""

from dataclasses import dataclass

from bolvek.analyses.columns import Cup, Pool
from bolvek.analyses.finding import Finding, Worded
from bolvek.analyses.overhangs import Island
from bolvek.units import Triple, area_text, count_text, length_text, point_text, volume_text

RESIDUE_MM3 = 50.0
"""Less liquid than this in one model is a film that washes off, not a pool."""
CUP_MM2, CUP_MM = 10.0, 0.5
"""Cups narrower or shallower than this hardly pull."""
PULLING_MM2 = 100.0
"""A cup as wide as this pulls a print off the plate."""


@dataclass(frozen=True, kw_only=True)
class Membrane:
    """Material too thin across an opening or a void. kind: "floor" (open below), "roof" (open above), "between".

    least_mm: where it is thinnest, at where_mm; layers: numbers of the first and the last it lies in.
    """

    kind: str
    area_mm2: float
    least_mm: float
    where_mm: Triple
    layers: tuple[int, int]


@dataclass(frozen=True, kw_only=True)
class Slit:
    """A gap between upright faces, narrower than a pixel: it prints shut."""

    width_mm: float
    area_mm2: float
    where_mm: Triple


@dataclass(frozen=True, kw_only=True)
class Jump:
    """Where the area changes abruptly from one layer to the next."""

    layer: int
    at_mm: float
    before_mm2: float
    after_mm2: float


@dataclass(frozen=True, kw_only=True)
class PoseStill:
    """What stays when it drains with this direction up: all, what is covered by material, pool by pool."""

    up: Triple
    stays_mm3: float
    covered_mm3: float
    pools: list[Pool]


@dataclass(frozen=True, kw_only=True)
class LayerTable:
    """A value a layer: where it is cut above the lowest point, what it encloses; islands that begin in it; pixels of
    voids without a way out, of cups, and where the fill rules disagree, as mm2."""

    at_mm: list[float]
    area_mm2: list[float]
    islands: list[int]
    sealed_mm2: list[float]
    cup_mm2: list[float]
    disagree_mm2: list[float]


@dataclass(frozen=True, kw_only=True)
class LayerRecord(Worded):
    """The layers of a model. Lengths mm, areas mm2, volumes mm3; heights above the lowest point along up.

    exact: areas and volume are those of the sections, else counted in pixels (parts overlap, or it does not close).
    pool_mm3: all liquid that stays as it is built, open bowls too; covered_mm3: of it, beneath material; air_mm3: air
    that stays when it is immersed; stays_mm3: what is left after all drain poses; all None where columns do not close
    (unclosed_columns): no stretch of material was made up for them.
    """

    up: Triple
    layer_mm: float
    count: int
    height_mm: float
    volume_mm3: float
    resin_ml: float
    material: str
    weight_g: float | None
    price: float | None
    time_s: float | None
    area_max_mm2: float
    area_max_layer: int
    area_max_at_mm: float
    exact: bool
    pixel_mm: float
    columns: int
    unclosed_columns: int
    jumps: list[Jump]
    islands: int
    island_list: list[Island]
    membranes: list[Membrane]
    slits: list[Slit]
    slit_mm: float
    disagreeing_layers: int
    disagreeing_mm3: float
    pool_mm3: float | None
    covered_mm3: float | None
    pools: list[Pool]
    air_mm3: float | None
    air: list[Pool]
    cups: list[Cup]
    drain_poses: list[PoseStill]
    stays_mm3: float | None
    table: LayerTable
    findings: tuple[Finding, ...]

    WORDS = ("layers clear", "layers in trouble")


def findings_of(r: LayerRecord, kind: str) -> tuple[Finding, ...]:
    """What falls short, worst first."""
    found = []

    def add(code: str, severity: str, count: int, text: str, where: Triple | None = None) -> None:
        found.append(Finding(code, severity, count, text, where))

    if r.unclosed_columns:
        text = f"{r.unclosed_columns:,} of {r.columns:,} columns do not close: nothing was made up for them"
        add("unclosed", "fault", r.unclosed_columns, f"{text}; what stays inside is not judged there")
    if r.disagreeing_layers:
        text = f"slicers disagree on {count_text(r.disagreeing_layers, 'layer')}: {volume_text(r.disagreeing_mm3)} "
        text += "are material by one fill rule and air by the other (overlapping or turned parts)"
        add("fill_rules", "fault", r.disagreeing_layers, text)
    if r.islands:
        first = r.island_list[0]
        text = f"{count_text(r.islands, 'island')}: material begins with nothing beneath, the lowest "
        text += f"{length_text(first.height_mm)} up at {point_text(first.where_mm)}"
        add("islands", "fault", r.islands, text, first.where_mm)
    if r.membranes:
        worst = min(r.membranes, key=lambda s: s.least_mm)
        word = "a membrane" if len(r.membranes) == 1 else f"{len(r.membranes):,} membranes"
        text = f"{word} across openings or voids: {length_text(worst.least_mm)} thin at {point_text(worst.where_mm)}"
        add(
            "membranes",
            "fault",
            len(r.membranes),
            f"{text}, {area_text(worst.area_mm2)} ({worst.kind})",
            worst.where_mm,
        )
    if r.slits:
        worst_slit = min(r.slits, key=lambda s: s.width_mm)
        text = f"{count_text(len(r.slits), 'slit')} narrower than a pixel ({length_text(r.slit_mm)}), "
        text += f"{length_text(worst_slit.width_mm)} at {point_text(worst_slit.where_mm)}: printed shut"
        add("slits", "note", len(r.slits), text, worst_slit.where_mm)
    if r.pools and r.pool_mm3 is not None and r.covered_mm3 is not None:
        worst_pool = r.pools[0]
        severity = "fault" if kind == "resin" and r.covered_mm3 > RESIDUE_MM3 else "note"
        text = f"{volume_text(r.pool_mm3)} of liquid stay, {volume_text(r.covered_mm3)} of it beneath material; "
        text += f"the largest pool {_pool_text(worst_pool)}"
        add("pools", severity, len(r.pools), text, worst_pool.lowest_mm)
    wide = [c for c in r.cups if c.area_mm2 >= PULLING_MM2]
    if r.cups and kind == "resin":
        cup = r.cups[0]
        severity = "fault" if wide else "note"
        text = f"{count_text(len(r.cups), 'suction cup')} while it is built: {cup.area_mm2 / 100:.2f} cm2 closed from "
        text += f"layer {cup.from_layer:,} to {cup.to_layer:,}, {volume_text(cup.volume_mm3)}"
        add("cups", severity, len(r.cups), text, cup.where_mm)
    if r.air and r.air_mm3 is not None and r.air_mm3 > RESIDUE_MM3:
        text = f"{volume_text(r.air_mm3)} of air stay beneath it when it is immersed: a vent would let it out"
        add("air", "note", len(r.air), text, r.air[0].lowest_mm)
    return tuple(sorted(found, key=lambda f: f.severity != "fault"))


def _pool_text(pool: Pool) -> str:
    text = f"{volume_text(pool.volume_mm3)} at {point_text(pool.lowest_mm)}"
    if pool.sill_mm is None:
        return f"{text}, without a way out"
    return f"{text}, held by the sill at {point_text(pool.sill_mm)}"
