"""Profiles in words."""

from bolvek.profiles import Material, Printer, Profiles

_MEANS = {
    "build_mm": ("build space", "width x depth x height; 'scale --fit' and 'survey' use it"),
    "pixel_mm": ("pixel", "of the screen, the finest detail sideways"),
    "layer_mm": ("layer", "usual layer height"),
    "min_wall_mm": ("least wall", "thinner walls fail or warp"),
    "min_hole_mm": ("least hole", "narrower holes close up"),
    "min_drain_mm": ("least drain", "narrower drains hold back what should run out"),
    "overhang_deg": ("overhang", "flatter than this over air needs support, degrees from the bed"),
    "bridge_most_mm": ("bridge", "longer ones sag; of what stands on a bed"),
    "exposure_s": ("exposure", "seconds a layer is lit"),
    "first_exposure_s": ("at first", "seconds the first layers are lit"),
    "first_layers": ("first", "how many of them"),
    "lift_s": ("lift", "seconds from one layer to the next"),
    "flow_mm3_s": ("flow", "mm3 of filament a second, all moves counted"),
    "layer_change_s": ("change", "seconds from one layer to the next"),
    "support_tip_mm": ("tip", "of supports, where they meet the model"),
    "support_column_mm": ("column", "of supports, at least"),
    "support_clearance_mm": ("clearance", "between supports and model"),
    "support_gap_mm": ("gap", "between a support's pad and the model"),
    "support_foot_mm": ("foot", "thickness of a support's foot"),
    "support_lean_deg": ("lean", "how far supports lean, degrees from the upright"),
    "support_reach_mm": ("reach", "how far a layer reaches out without support"),
    "support_carry_mm": ("carry", "how far around its tip a support holds"),
    "density_g_cm3": ("density", "grams per cubic centimetre"),
}


def listing(profiles: Profiles) -> list[str]:
    """One line a profile, printers first."""
    lines = ["printers"]
    for p in profiles.printers.values():
        space = " x ".join(f"{b:g}" for b in p.build_mm)
        lines.append(f"  {p.name:<22}{p.title}: {space} mm, layer {p.layer_mm:g} mm, wall {p.min_wall_mm:g} mm or more")
    lines.append("materials")
    for m in profiles.materials.values():
        note = f"; {m.note}" if m.note else ""
        lines.append(f"  {m.name:<22}{m.title}: {m.density_g_cm3:g} g/cm3{note}")
    return lines


def explain(profile: Printer | Material) -> list[str]:
    """Every value of one profile and what it is for."""
    lines = [f"{profile.name}: {profile.title} ({profile.kind})"]
    if isinstance(profile, Material) and profile.note:
        lines.append(f"  {profile.note}")
    for key, (name, meaning) in _MEANS.items():
        value = getattr(profile, key, None)
        if value is not None:
            number = " x ".join(f"{v:g}" for v in value) if isinstance(value, tuple) else f"{value:g}"
            unit = " mm" if key.endswith("_mm") else ""
            lines.append(f"  {name:<12}{number + unit:<20}{meaning}")
    return lines
