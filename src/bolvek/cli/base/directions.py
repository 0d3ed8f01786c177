"""Options about the build direction and what it is weighed by, for every verb that asks."""

import dataclasses
from typing import TYPE_CHECKING, Any

import click

from bolvek.cli.base.bind import bound, given, taken
from bolvek.cli.base.options import options
from bolvek.errors import UsageError
from bolvek.settings.measures import OverhangSettings, RankSettings
from bolvek.settings.parts import PoseSettings

if TYPE_CHECKING:
    from bolvek.cli.base.outcome import Steps
    from bolvek.mesh import Mesh
    from bolvek.operations.pose import PoseRecord

PRINTERS_OWN = ("angle_deg", "layer_mm", "habit", "bridge_most_mm")
"""What a printer says unless it is asked for."""


def settings_for(values: dict[str, Any], printer: str | None, **more: Any) -> OverhangSettings:
    """Settings as given, taken out of `values`; else as the printer has them, else for a filament printer."""
    from bolvek.profiles import load_profiles

    usual: dict[str, Any] = {}
    if printer is not None:
        known = load_profiles().printer(printer)
        usual = {
            "angle_deg": known.overhang_deg,
            "layer_mm": known.layer_mm,
            "habit": "hangs" if known.kind == "resin" else "stands",
            "bridge_most_mm": known.bridge_most_mm,
        }
    asked = {name: given(OverhangSettings, name, values) for name in PRINTERS_OWN}
    asked = {name: value for name, value in asked.items() if value is not None}
    return taken(OverhangSettings, values, **{k: v for k, v in {**usual, **asked}.items() if v is not None}, **more)


def weights_for(texts: tuple[str, ...], habit: str, *, show: bool) -> dict[str, float] | None:
    """Weights of the comparison: those given over those of the habit; None where none is given."""
    from bolvek.analyses.overhangs.directions import WEIGHTS

    if not texts:
        return None
    weights = dict(WEIGHTS[habit]) | ({"show": 1.0} if show else {})
    for text in texts:
        name, _, value = text.partition("=")
        try:
            weights[name.strip()] = float(value)
        except ValueError:
            raise UsageError(f"--weigh takes MEASURE=NUMBER, as in support=2; found '{text}'") from None
    return weights


def as_printed(printer: str | None) -> OverhangSettings:
    """Settings of a verb that asks for none of them: the printer's, else a filament printer's."""
    return settings_for({f"OverhangSettings__{name}": None for name in PRINTERS_OWN}, printer)


def turned_to_best(
    mesh: "Mesh", rank: int, directions: OverhangSettings, compare: RankSettings, posing: PoseSettings, step: "Steps"
) -> "tuple[Mesh, PoseRecord]":
    """A mesh with its `rank`-th best direction up, posed as asked beside that."""
    from bolvek.analyses.overhangs.directions import compare_directions
    from bolvek.operations.pose import pose

    compared = step("directions", lambda: compare_directions(mesh, directions, compare))
    chosen = dataclasses.replace(posing, up=compared.best[min(rank, len(compared.best)) - 1].up)
    return step("pose", lambda: pose(mesh, chosen))


weigh_option = click.option(
    "--weigh",
    multiple=True,
    metavar="MEASURE=N",
    help="overhang, islands, support, height, contact, standing, section, sealed or show; repeat.",
)
direction_options = options(
    bound("--angle", OverhangSettings, "angle_deg", default=None, none="the printer's, else 45"),
    bound("--layer", OverhangSettings, "layer_mm", default=None, none="the printer's, else 0.2mm"),
    bound("--habit", OverhangSettings, "habit", default=None, none="the printer's, else stands"),
    bound("--bridge-most", OverhangSettings, "bridge_most_mm", default=None, none="the printer's, else 20mm"),
    weigh_option,
    bound("--show", RankSettings, "show"),
)
"""What a build direction is judged by."""
