"""Supports in words."""

from bolvek.analyses.held.proven import SupportsProof
from bolvek.operations.supports import SupportsRecord
from bolvek.report.words.common import MOST_LISTED, Row, limited, percent
from bolvek.units import area_text, count_text, length_text, point_text, volume_text

WHY = {
    "inside": "in a room of the model",
    "kept off": "no tip may be there",
    "no way": "no way leads down from there",
    "not held": "the tips do not hold it",
}


def supports_text(r: SupportsRecord) -> str:
    """All in one line."""
    if not r.bare and not r.tips:
        return "held without supports: nothing was added"
    columns = [count_text(r.trunks, "trunk")] if r.trunks else []
    if r.on_model:
        columns.append(f"{r.on_model:,} on the model")
    scars = f"{area_text(r.scars_mm2)} of scars ({percent(r.scar_share)} of the surface)" if r.scars_mm2 else "no scars"
    # a millilitre is a cubic centimetre
    parts = [count_text(len(r.tips), "tip"), *columns, f"{r.volume_mm3 / 1000:.2f} ml", scars]
    if r.minutes is not None and r.minutes >= 0.5:
        parts.append(f"{r.minutes:.0f} min more")
    return f"{r.verdict}: {', '.join(parts)}"


def supports_rows(r: SupportsRecord, *, most: int = MOST_LISTED) -> list[Row]:
    """What needed holding, what holds it, what it takes."""
    kinds = [count_text(n, word) for n, word in ((r.islands, "island"), (r.bare - r.islands, "ledge")) if n]
    rules = f"{r.angle_deg:g} degrees, reach {length_text(r.reach_mm)}"
    rules += f", bridges up to {length_text(r.bridge_most_mm)}" if r.bridge_most_mm else ""
    if not r.bare and not r.tips:
        return [("held", f"every layer holds without supports ({rules})")]
    needed = f"{' and '.join(kinds)}, {area_text(r.bare_mm2)}" if kinds else "nothing, tips were asked for"
    rows = [("to hold", f"{needed} ({rules})")]
    rows += limited(
        [
            (
                "not held",
                f"{u.place.kind}, {area_text(u.place.area_mm2)}, layer {u.place.layer + 1:,}, "
                f"at {point_text(u.place.where_mm)}: {WHY[u.why]}",
            )
            for u in r.unheld
        ],
        most,
    )
    if not r.tips:
        return rows
    end = f"a gap of {length_text(r.gap_mm)} beneath the model" if r.gap_mm else f"{length_text(r.tip_mm)} wide"
    rows.append(("tips", f"{len(r.tips):,}, {end}; each holds {length_text(r.carry_mm)} around it"))
    shared = len(r.tips) - r.trunks - r.on_model
    stand = f"{count_text(r.trunks, 'trunk')} on the bed"
    stand += f", {shared:,} {'branch or stub' if shared == 1 else 'branches and stubs'}" if shared else ""
    stand += f", {r.on_model:,} on the model" if r.on_model else ""
    thick = f"{length_text(r.column_mm)} thick at least"
    rows.append(("trunks", f"{stand}; the longest way {length_text(r.longest_mm)}; {thick}"))
    share = percent(r.volume_mm3 / r.model_mm3) if r.model_mm3 > 0 else "?"
    rows.append(("material", f"{volume_text(r.volume_mm3)} of supports, {share} of the model's"))
    if r.proof is not None:
        rows += proof_rows(r.proof)
    return rows


def tip_rows(r: SupportsRecord, *, most: int) -> list[Row]:
    """Every tip."""
    return limited(
        [
            (
                f"  {k}",
                f"at {point_text(t.where_mm)}, {length_text(t.long_mm)} down to the {t.on}"
                + (f", joins {t.trunk + 1}" if t.trunk != k - 1 else ""),
            )
            for k, t in enumerate(r.tips, 1)
        ],
        most,
    )


def proof_rows(p: SupportsProof) -> list[Row]:
    """What the two bodies show."""
    counted = [c for c in p.contacts if not c.narrow]
    good = "every layer holds" if not p.unheld else f"nothing holds {count_text(len(p.unheld), 'place')}"
    text = f"{good} with {count_text(len(counted), 'contact')}"
    text += "" if p.hanging else "; every support stands"
    text += "" if p.too_near else f"; all but the tips keep {length_text(p.clearance_mm)} from the model"
    return [("supports", f"{text} (read again layer by layer, columns {length_text(p.pixel_mm)} wide)")]
