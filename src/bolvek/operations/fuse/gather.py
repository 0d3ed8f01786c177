"""The parts of models, each a closed body of its own with its voids, facing out of its material."""

from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np

from bolvek.analyses.shells import counted_once, facing_out, owners_of_cavities, standing
from bolvek.arrays import Bools
from bolvek.errors import WorkError
from bolvek.mesh import Mesh
from bolvek.mesh.topology import CROWDED
from bolvek.operations.fuse.arrange import DIFFERENCE
from bolvek.operations.fuse.itself import uncrossed
from bolvek.operations.fuse.unite import unite
from bolvek.operations.mend.separate import taken_apart
from bolvek.operations.recast import recast
from bolvek.settings import remedy
from bolvek.settings.repairs import RecastSettings
from bolvek.settings.ways_on import SOLID
from bolvek.units import as_triple, count_text, point_text

_ITSELF = "crosses itself"


@dataclass(frozen=True, kw_only=True)
class Gathered:
    """Bodies, and what was done to have them: copies of faces dropped, shells turned to face out, recast parts: places
    of those in the list, and how much of them was made thicker; broken: voids that break through their body's skin,
    read as cut out of it."""

    bodies: list[Mesh]
    copies: int
    turned: int
    recast: tuple[int, ...]
    thick_mm2: float = 0.0
    broken: int = 0


def gather_all(
    meshes: Sequence[Mesh], names: Sequence[str] | None = None, *, again: RecastSettings | None = None
) -> Gathered:
    """The closed parts of several files, each gathered by itself: what a shell is, its own file tells. See `gather`."""
    found = [
        gather(mesh, name=name, again=again) for mesh, name in zip(meshes, names or [""] * len(meshes), strict=True)
    ]
    start = np.cumsum([0, *(len(g.bodies) for g in found)]).tolist()
    return Gathered(
        bodies=[body for g in found for body in g.bodies],
        copies=sum(g.copies for g in found),
        turned=sum(g.turned for g in found),
        broken=sum(g.broken for g in found),
        thick_mm2=sum(g.thick_mm2 for g in found),
        recast=tuple(k + n for g, k in zip(found, start, strict=False) for n in g.recast),
    )


def gather(mesh: Mesh, *, name: str = "", again: RecastSettings | None = None) -> Gathered:
    """The closed parts of a mesh: each outer shell with the voids in it.

    again: how parts that are open or cross themselves are recast; without it WorkError is raised, naming the part. Also
    for a mesh without parts.
    """
    once, kept = counted_once(mesh)
    if once.topology.nonmanifold_edges or once.topology.extra_fans:
        once = taken_apart(once)
    found = standing(once)
    facing = facing_out(once)
    shell = once.topology.shell
    owner = owners_of_cavities(once)
    wrong = _wrong(once)
    crossing = _crossing(once)
    bodies, made_anew, broken, thick = list[Mesh](), list[int](), 0, 0.0
    outer = np.flatnonzero(owner < 0)
    for number in outer.tolist():
        voids = np.flatnonzero(owner == number)
        through = [v for v in voids.tolist() if (v, number) in crossing]
        body = facing.picked((shell == number) | np.isin(shell, np.setdiff1d(voids, through)))
        if wrong.get(number) == _ITSELF:
            try:
                body = uncrossed(body)
                del wrong[number]
            except WorkError:
                pass  # three sheets meet: it is recast, or refused
        if number in wrong:
            if again is None:
                refusal = _refusal(once.picked(shell == number), wrong[number], name, len(outer))
                raise WorkError(refusal, replace(SOLID, model=name), remedy("", "makes such anew", recast=True))
            body, record = recast(body, again)
            thick += record.thick_mm2
            made_anew.append(len(bodies))
        for void in through:
            body, _ = unite(body, facing.picked(shell == void).turned(), DIFFERENCE)
            broken += 1
        bodies.append(body)
    if not bodies:
        raise WorkError(f"{name or 'the model'} has no part: nothing in it is closed around material")
    turned = int(np.unique(shell[found.sign < 0]).size)
    copies = 0 if kept is None else len(mesh.faces) - len(once.faces)
    return Gathered(
        bodies=bodies, copies=copies, turned=turned, recast=tuple(made_anew), thick_mm2=thick, broken=broken
    )


def _wrong(mesh: Mesh) -> dict[int, str]:
    """Shells that are no closed body, and why."""
    topology, found = mesh.topology, {}
    for number in np.flatnonzero(topology.open_shells).tolist():
        found[number] = "is open"
    for number in np.flatnonzero(_crowded(mesh)).tolist():
        found.setdefault(number, "has edges of more than two faces")
    pairs = mesh.meeting[0].astype(np.int64)
    own = topology.shell[pairs[:, 0]]
    for number in np.unique(own[own == topology.shell[pairs[:, 1]]]).tolist():
        found.setdefault(number, _ITSELF)
    return found


def _crossing(mesh: Mesh) -> set[tuple[int, int]]:
    """Pairs of shells that cross each other, both ways round."""
    pairs = np.unique(mesh.topology.shell[mesh.meeting[0]].astype(np.int64), axis=0).tolist()
    return {(a, b) for a, b in pairs} | {(b, a) for a, b in pairs}


def _crowded(mesh: Mesh) -> Bools:
    crowded = np.zeros(mesh.topology.shells, bool)
    crowded[mesh.topology.shell[np.flatnonzero(mesh.topology.opposite == CROWDED) // 3]] = True
    return crowded


def _refusal(part: Mesh, why: str, name: str, count: int) -> str:
    place = point_text(as_triple(part.bounds.mean(axis=0)))
    which = f"a part of {count_text(len(part.faces), 'triangle')} around {place}" if count > 1 else "the part"
    of = f" of {name}" if name else ""
    return f"{which}{of} {why}"
