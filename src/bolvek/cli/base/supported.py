"""Supports on the command line: what they are asked for, and how they are written with their model."""

import dataclasses
from pathlib import Path
from typing import TYPE_CHECKING, Any

from bolvek.cli.base.bind import bound, given, taken
from bolvek.cli.base.options import options
from bolvek.cli.base.types import BALL, PLACE
from bolvek.settings.supports import HeldSettings, SupportSettings

if TYPE_CHECKING:
    from bolvek.cli.base.outcome import Steps
    from bolvek.formats import Model
    from bolvek.mesh import Mesh

_OF_PRINTER = ("tip_mm", "column_mm", "clearance_mm", "gap_mm", "foot_mm", "lean_deg")
_RULES_OF_PRINTER = ("reach_mm", "carry_mm")

rule_options = options(
    bound("--angle", HeldSettings, "angle_deg", default=None, none="the printer's, else 30"),
    bound("--layer", HeldSettings, "layer_mm", default=None, none="the printer's, else 0.05mm"),
    bound("--reach", HeldSettings, "reach_mm", default=None, none="the printer's, else 1mm"),
    bound("--carry", HeldSettings, "carry_mm", default=None, none="the printer's, else 2mm"),
    bound("--bridge-most", HeldSettings, "bridge_most_mm", default=None, none="the printer's, else no bridges"),
)
"""What supports have to hold."""
body_options = options(
    bound("--tip", SupportSettings, "tip_mm", default=None, none="the printer's, else 0.4mm"),
    bound("--tip-long", SupportSettings, "tip_long_mm"),
    bound("--enter", SupportSettings, "enter_mm"),
    bound("--gap", SupportSettings, "gap_mm", default=None, none="the printer's, else none: tips go into the model"),
    bound("--column", SupportSettings, "column_mm", default=None, none="the printer's, else 1mm"),
    bound("--slender", SupportSettings, "slender"),
    bound("--lean", SupportSettings, "lean_deg", default=None, none="the printer's, else 40"),
    bound("--clearance", SupportSettings, "clearance_mm", default=None, none="the printer's, else 0.4mm"),
    bound("--trunk", SupportSettings, "trunk_mm"),
    bound("--foot", SupportSettings, "foot"),
    bound("--foot-thick", SupportSettings, "foot_mm", default=None, none="the printer's, else 0.8mm"),
    bound("--lift", HeldSettings, "lift_mm"),
    bound("--density", SupportSettings, "density"),
    bound("--at", SupportSettings, "at_mm", type=PLACE, several=True),
    bound("--show", SupportSettings, "show"),
    bound("--keep-off", SupportSettings, "keep_off", type=BALL, several=True),
    bound("--inside", SupportSettings, "inside"),
)
"""What supports are like, and where tips may be."""


def support_settings(values: dict[str, Any], printer: str | None) -> SupportSettings:
    """Settings as given with `rule_options` and `body_options`, taken out of `values`; else as the printer has them."""
    from bolvek.cli.base.making import making_of
    from bolvek.profiles import load_profiles

    rules: dict[str, Any] = {}
    bodies: dict[str, Any] = {}
    if printer is not None:
        profiles = load_profiles()
        p = profiles.printer(printer)
        rules = {name: getattr(p, f"support_{name}") for name in _RULES_OF_PRINTER}
        rules |= {"angle_deg": p.overhang_deg, "layer_mm": p.layer_mm}
        rules |= {"bridge_most_mm": p.bridge_most_mm if p.kind == "filament" else 0.0}
        bodies = {name: getattr(p, f"support_{name}") for name in _OF_PRINTER}
        bodies["making"] = making_of(p, profiles.material_for(None, p))
    for owner, known in ((HeldSettings, rules), (SupportSettings, bodies)):
        for name in [key.partition("__")[2] for key in list(values) if key.startswith(f"{owner.__name__}__")]:
            value = given(owner, name, values)
            if value is not None:
                known[name] = value
    held = taken(HeldSettings, {}, **{name: value for name, value in rules.items() if value is not None})
    settings = taken(SupportSettings, {}, held=held, **{k: v for k, v in bodies.items() if v is not None})
    settings.check()
    return settings


def with_supports(model: "Model", supports: "Mesh", target: Path, step: "Steps") -> "Model":
    """The model and its supports as a file takes them: in a 3MF two parts, the model bit for bit as it is; in all
    others one body. Raises WorkError where that does not come out sound."""
    import numpy as np

    from bolvek.formats import Parts
    from bolvek.operations.supports import with_model

    if target.suffix.lower() != ".3mf":
        return dataclasses.replace(model, mesh=step("fuse", lambda: with_model(model.mesh, supports)), parts=None)
    part = np.repeat([0, 1], [len(model.mesh.faces), len(supports.faces)]).astype(np.int32)
    parts = Parts((model.path.stem, "supports"), part, frozenset({1}))
    return dataclasses.replace(model, mesh=model.mesh.joined(supports), parts=parts)
