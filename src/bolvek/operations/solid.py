"""From any file to a sound solid: what the model needs, and nothing more."""

from collections.abc import Callable
from dataclasses import dataclass
from functools import partial
from typing import Protocol, TypeVar

from bolvek.analyses.shells import standing
from bolvek.mesh import Mesh
from bolvek.operations.mend import MendRecord, MendSettings, mend
from bolvek.operations.recast import RecastRecord, RecastSettings, recast

T = TypeVar("T")

WIDEST_BRIDGE_SHARE = 0.06
"""Leaks are closed with bridges up to this share of the longest side; wider ones are openings that are meant."""
_TRIES = 3


class Step(Protocol):
    """How a step is run: called with its name and its work, it returns what the work gives."""

    def __call__(self, name: str, work: Callable[[], T], /) -> T: ...


@dataclass(frozen=True, kw_only=True)
class SolidSettings:
    """skin_mm: the thickness given to what has none."""

    skin_mm: float = 1.2


@dataclass(frozen=True, kw_only=True)
class SolidRecord:
    """way: "as it is", "mended" or "recast"; why, in words; cavities: closed voids of the model that were filled."""

    way: str
    why: str
    cavities: int
    mend: MendRecord
    recast: RecastRecord | None


def make_solid(mesh: Mesh, settings: SolidSettings, step: Step) -> tuple[Mesh, SolidRecord]:
    """The shortest way to a sound solid without voids: mending, which keeps the faces; where that does not do,
    recasting, with a bridge that closes what leaks. Raises WorkError where nothing is left."""
    asked = MendSettings(drop_buried=True)
    found, mended, _ = step("mend", lambda: mend(mesh, asked))
    if mended.verdict == "sound":
        solid, cavities = _without_cavities(found)
        way = "as it is" if mended.unchanged and not cavities else "mended"
        why = "it is sound" if way == "as it is" else "mending made it sound, and kept what was fine"
        return solid, SolidRecord(way=way, why=why, cavities=cavities, mend=mended, recast=None)
    left = sorted({one.what for one in mended.left})
    why = f"mending leaves it {mended.verdict}" + (f" ({', '.join(left)})" if left else "")
    chosen = RecastSettings(grow_mm=0.5 * settings.skin_mm)
    widest = WIDEST_BRIDGE_SHARE * float(mesh.size.max())
    for turn in range(_TRIES):
        solid, record = step("recast", partial(recast, found, chosen))
        gaps = [leak.width_mm for leak in record.leaks if 1.2 * leak.width_mm <= widest]
        if not gaps or turn == _TRIES - 1:
            break
        chosen = RecastSettings(
            grid_mm=record.grid_mm, bridge_mm=1.2 * max(gaps) + record.grid_mm, grow_mm=0.5 * settings.skin_mm
        )
    solid, cavities = _without_cavities(solid)
    return solid, SolidRecord(way="recast", why=why, cavities=cavities, mend=mended, recast=record)


def _without_cavities(mesh: Mesh) -> tuple[Mesh, int]:
    """Without the closed voids, and how many there were; what lies loose in them goes with them."""
    if mesh.topology.shells == 1:
        return mesh, 0
    found = standing(mesh)
    outer = found.nested.depth == 0
    gone = int(sum(role == "cavity" for role in found.roles))
    return (mesh, 0) if not gone else (mesh.picked(outer[mesh.topology.shell]), gone)
