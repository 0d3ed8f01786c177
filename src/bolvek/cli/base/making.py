"""How a printer makes layers, as profiles say."""

import dataclasses

from bolvek.profiles import Material, Printer
from bolvek.settings.measures import Making


def making_of(known: Printer | None, material: Material, price: tuple[float, str] | None = None) -> Making:
    """How a printer makes layers of a material; price: a number and what it is for, "l" or "kg"."""
    per = {price[1]: price[0]} if price else {}
    making = Making(
        material=material.name,
        density_g_cm3=material.density_g_cm3,
        price_per_l=per.get("l"),
        price_per_kg=per.get("kg"),
    )
    if known is None:
        return making
    return dataclasses.replace(
        making,
        kind=known.kind,
        exposure_s=known.exposure_s,
        first_exposure_s=known.first_exposure_s,
        first_layers=int(known.first_layers or 0),
        lift_s=known.lift_s,
        flow_mm3_s=known.flow_mm3_s,
        layer_change_s=known.layer_change_s,
        pixel_mm=known.pixel_mm,
    )
