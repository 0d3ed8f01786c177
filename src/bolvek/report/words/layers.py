"""Layers in words."""

from bolvek.analyses.columns import Cup, Pool
from bolvek.analyses.layers import LayerRecord, first_layer
from bolvek.report.words.common import MOST_LISTED, Row, limited
from bolvek.units import area_text, count_text, length_text, point_text, volume_text


def layer_rows(r: LayerRecord, holes: list[str], *, most: int = MOST_LISTED) -> list[Row]:
    """Everything about the layers; holes: what a hole would do to each of the first pools."""
    up = ", ".join(f"{x:.4g}" for x in r.up)
    rows = [("layers", f"{r.count:,} of {r.layer_mm:g} mm, {length_text(r.height_mm)} tall, up {up}")]
    rows.append(("material", _material(r)))
    peak = f"{r.area_max_mm2 / 100:.2f} cm2 in layer {r.area_max_layer:,}, {length_text(r.area_max_at_mm)} up"
    rows.append(("widest", f"{peak}: pulls most when it is lifted"))
    jumps = [
        (
            "  jump",
            f"layer {j.layer:,}, {length_text(j.at_mm)} up: {j.before_mm2 / 100:.2f} to {j.after_mm2 / 100:.2f} cm2",
        )
        for j in r.jumps
    ]
    rows += limited(jumps, most)
    rows.append(("islands", f"{r.islands:,}"))
    rows += limited(
        [
            (
                f"  {k}",
                f"layer {first_layer(i.height_mm, r.layer_mm):,}, {length_text(i.height_mm)} up at "
                f"{point_text(i.where_mm)}",
            )
            for k, i in enumerate(r.island_list, 1)
        ],
        most,
    )
    rows += limited(
        [
            (
                "membrane" if not k else "",
                f"{s.kind}, {length_text(s.least_mm)} thin, {area_text(s.area_mm2)} at {point_text(s.where_mm)}, "
                f"layers {s.layers[0]:,} to {s.layers[1]:,}",
            )
            for k, s in enumerate(r.membranes)
        ],
        most,
    )
    if r.pool_mm3 is None:
        rows.append(("stays", "not judged: columns do not close"))
    else:
        rows.append(
            ("stays", f"{volume_text(r.pool_mm3)} of liquid in {count_text(len(r.pools), 'pool')}{_covered(r)}")
        )
        told = [(f"  {k}", pool_text(p)) for k, p in enumerate(r.pools, 1)]
        for k, text in enumerate(holes):
            told[k] = told[k][0], f"{told[k][1]}; {text}"
        rows += limited(told, most)
        for pose in r.drain_poses:
            up = ", ".join(f"{x:.4g}" for x in pose.up)
            rows.append(("  held", f"up {up}: {volume_text(pose.stays_mm3)} stay"))
        if len(r.drain_poses) > 1 and r.stays_mm3 is not None:
            rows.append(("  after all", f"no more than {volume_text(r.stays_mm3)}"))
    rows += limited([("cup" if not k else "", _cup_text(c)) for k, c in enumerate(r.cups)], most)
    if r.air_mm3:
        rows.append(("air", f"{volume_text(r.air_mm3)} stay when it is immersed, {count_text(len(r.air), 'place')}"))
    how = "exact sections" if r.exact else "counted in pixels: parts overlap or do not close"
    rows.append(
        (
            "method",
            f"areas and volume {how}; liquid, membranes and cups by {r.columns:,} columns {r.pixel_mm:.3g} mm apart, "
            f"exact in height: upright walls and ways thinner than that are not seen",
        )
    )
    return rows


def _material(r: LayerRecord) -> str:
    text = f"{volume_text(r.volume_mm3)}, {r.resin_ml:.2f} ml"
    if r.weight_g is not None:
        text += f", {r.weight_g:.1f} g" + (f" of {r.material}" if r.material else "")
    if r.price is not None:
        text += f", costs {r.price:.2f}"
    if r.time_s is not None:
        hours, minutes = divmod(round(r.time_s / 60), 60)
        text += f"; about {hours} h {minutes:02d} min (an estimate)"
    return f"{text}; without supports"


def _covered(r: LayerRecord) -> str:
    return f", {volume_text(r.covered_mm3)} of it beneath material" if r.covered_mm3 else ""


def pool_text(p: Pool) -> str:
    """One pool."""
    text = f"{volume_text(p.volume_mm3)}, lowest at {point_text(p.lowest_mm)}, {length_text(p.depth_mm)} deep"
    if p.sill_mm is None:
        return f"{text}, no way out"
    return f"{text}, held by the sill at {point_text(p.sill_mm)}"


def hole_text(place: tuple[float, float, float] | None, freed_mm3: float) -> str:
    """What a hole at a pool's lowest point would do."""
    if place is None and not freed_mm3:
        return "a hole straight down would free nothing"
    if place is None:
        return f"a hole straight down would free {volume_text(freed_mm3)} into another room"
    return f"a hole at {point_text(place)} would free {volume_text(freed_mm3)}"


def _cup_text(c: Cup) -> str:
    ends = f"closed from {length_text(c.from_mm)} to {length_text(c.to_mm)} (layers {c.from_layer:,} to {c.to_layer:,})"
    return f"{c.area_mm2 / 100:.2f} cm2 at {length_text(c.widest_at_mm)}, {ends}, {volume_text(c.volume_mm3)}"


def layer_line(r: LayerRecord) -> str:
    """One of many in one line."""
    stays = "not judged" if r.pool_mm3 is None else volume_text(r.pool_mm3)
    return (
        f"{r.count:,} layers, {r.resin_ml:.2f} ml, widest {r.area_max_mm2 / 100:.2f} cm2, "
        f"{count_text(r.islands, 'island')}, {count_text(len(r.membranes), 'membrane')}, liquid that stays {stays}"
    )
