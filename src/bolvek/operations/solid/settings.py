"""What making a solid is asked for, and how its steps are run."""

from collections.abc import Callable
from dataclasses import dataclass
from typing import Protocol, TypeVar

import numpy as np

from bolvek.errors import UsageError
from bolvek.operations.slim import SlimSettings

T = TypeVar("T")


class Step(Protocol):
    """How a step is run: called with its name and its work, it returns what the work gives."""

    def __call__(self, name: str, work: Callable[[], T], /) -> T: ...


@dataclass(frozen=True, kw_only=True)
class SolidSettings:
    """skin_mm: the thickness given to what has none; least_mm: what the printer can print; taken_as: "solid": open ends
    are lids that are missing, "skin": they are rims of skins; None: skins, where nothing in the file tells, as a
    guess that is said; slim: what comes out, slimmed (None: as it is)."""

    skin_mm: float = 1.2
    least_mm: float = 0.8
    taken_as: str | None = None
    slim: SlimSettings | None = None

    def check(self) -> None:
        """Raise UsageError when any of the settings makes no sense."""
        for name, value in (("--skin", self.skin_mm), ("--least-wall", self.least_mm)):
            if not (value > 0 and np.isfinite(value)):
                raise UsageError(f"{name} must be more than 0, not {value:g} mm")
        if self.taken_as not in (None, "solid", "skin"):
            raise UsageError(f"--as takes solid or skin, not '{self.taken_as}'")
        if self.slim is not None:
            self.slim.check()
