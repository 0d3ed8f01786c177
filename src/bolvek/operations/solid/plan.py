"""Which way to a solid a model calls for, and why."""

from dataclasses import dataclass, replace

import numpy as np

from bolvek.analyses.shells import enclosing_shells, facing_out, find_openings, material_tree, standing
from bolvek.analyses.soundness import find_defects
from bolvek.arrays import Bools
from bolvek.mesh import Mesh
from bolvek.operations.mend import MendRecord, mend
from bolvek.operations.mend.close import burying
from bolvek.operations.mend.separate import taken_apart
from bolvek.operations.places import without_buried
from bolvek.operations.solid.settings import Step, just_do
from bolvek.settings.repairs import MendSettings, SolidSettings
from bolvek.units import count_text

_PLAIN = SolidSettings()
_MOST_APART = 200
_MOST_CROSSING, _SHEET_FACES = 0.2, 50
_MOST_OPEN = 0.05  # open edges a face: with more, no winding number tells what lies within
_SUNK_SHARE = 0.9  # of a rim's points, in the material of other parts


@dataclass(frozen=True, kw_only=True)
class SolidPlan:
    """The way that the faults left by mending call for: "as it is", "mended", "fused", "thickened", "thickened and
    fused" or "recast"; and why, in words."""

    way: str
    why: str
    mend: MendRecord


def plan_solid(mesh: Mesh, settings: SolidSettings = _PLAIN, step: Step = just_do) -> tuple[Mesh, SolidPlan]:
    """The mesh mended, without walls within its material, and what it needs beyond that. Raises WorkError."""
    freed, buried = step("walls within", lambda: _freed(mesh))
    found, plan = _planned(freed, settings, step)
    if not buried:
        return found, plan
    why = f"{count_text(buried, 'face')} within the material taken out"
    if plan.way == "as it is":
        return found, replace(plan, way="mended", why=why)
    return found, replace(plan, why=f"{why}; {plan.why}")


def _freed(mesh: Mesh) -> tuple[Mesh, int]:
    """Where edges are used by more than two faces: the mesh without patches that lie within material, as walls between
    rooms do, and how many faces these were. The mesh itself where that leaves as many such edges."""
    crowded = mesh.topology.nonmanifold_edges
    if not crowded or mesh.topology.open_edges > _MOST_OPEN * len(mesh.faces):
        return mesh, 0
    freed, buried = without_buried(facing_out(mesh), walls_only=True)
    return (freed, buried) if buried and freed.topology.nonmanifold_edges < crowded else (mesh, 0)


def _planned(mesh: Mesh, settings: SolidSettings, step: Step) -> tuple[Mesh, SolidPlan]:
    asked = MendSettings(drop_buried=True, close_ends=settings.taken_as == "solid")
    found, mended, _ = step("mend", lambda: mend(mesh, asked))
    if mended.verdict == "sound":
        unchanged = mended.unchanged and not closed_voids(found)
        why = "it is sound" if unchanged else "mending makes it sound, and keeps what is fine"
        return found, SolidPlan(way="as it is" if unchanged else "mended", why=why, mend=mended)
    left = sorted({one.what for one in mended.left})
    why = f"mending leaves it {mended.verdict}" + (f" ({', '.join(left)})" if left else "")
    apart = step("mend apart", lambda: _mended_apart(found, asked)) if found.topology.open_edges else found
    if apart is not found:
        found, why = apart, f"{why}, parts that go through each other mended one by one"
    lidded = step("lids", lambda: _lidded(found, settings))
    if lidded is not found:
        found, why = lidded, f"{why}; what encloses all but a little was closed: a solid with a hole, no skin"
    topology = found.topology
    if topology.nonmanifold_edges or topology.badly_oriented_edges:
        bodies = step("take apart", lambda: _apart(found, mesh))
        if bodies is None:
            return found, SolidPlan(
                way="recast", why=f"{why}: what branches or has one side only is made anew", mend=mended
            )
        found, topology = bodies, bodies.topology
    is_open = topology.open_shells
    closed = int((~is_open).sum())
    if not is_open.any() and not find_defects(found):
        return found, SolidPlan(way="mended", why=why, mend=mended)
    if is_open.any() and _laid_over(found):
        return found, SolidPlan(way="recast", why=f"{why}: sheets lie over each other", mend=mended)
    lidless = lidless_shells(found, settings)
    if lidless.all():
        return found, SolidPlan(
            way="recast", why=f"{why}: a solid with a hole, no skin, and no lid crosses nothing", mend=mended
        )
    if is_open.all() and not lidless.any():
        return found, SolidPlan(
            way="thickened", why=f"{why}: {count_text(int(is_open.sum()), 'skin')} without a thickness", mend=mended
        )
    if is_open.any():
        text = (
            f"{count_text(int(is_open.sum()), 'skin')} without a thickness beside {count_text(closed, 'closed part')}"
        )
        return found, SolidPlan(way="thickened and fused", why=f"{why}: {text}", mend=mended)
    return found, SolidPlan(way="fused", why=f"{why}: {count_text(closed, 'closed part')} make one body", mend=mended)


def lidless_shells(found: Mesh, settings: SolidSettings) -> Bools:
    """Open shells (S,) that are solids with a hole: what they enclose says so, and nobody called them skins."""
    if settings.taken_as == "skin":
        return np.zeros(found.topology.shells, bool)
    return enclosing_shells(found)


def _lidded(found: Mesh, settings: SolidSettings) -> Mesh:
    """The mesh with bodies that enclose all but a little closed, whatever their last rims look like; the mesh itself
    where that closes nothing."""
    lidless = lidless_shells(found, settings)
    if not lidless.any():
        return found
    asked = MendSettings(drop_buried=True, close_ends=True)
    body = found.picked(lidless[found.topology.shell])
    made, record, _ = mend(body, asked)
    if record.verdict != "sound":
        made = _mended_apart(made, asked)
    if made.topology.open_edges >= body.topology.open_edges:
        return found
    return made if lidless.all() else found.picked(~lidless[found.topology.shell]).joined(made)


def _apart(*ways: Mesh) -> Mesh | None:
    """The first of some meshes that falls into closed bodies where those that only touch are taken apart."""
    for mesh in ways:
        apart = taken_apart(mesh)
        t = apart.topology
        if not (t.nonmanifold_edges or t.badly_oriented_edges or t.open_edges):
            return apart
    return None


def _laid_over(mesh: Mesh) -> bool:
    """Whether sheets of many faces cross all over, as scans from several sides do: no hole is all that is wrong, and no
    thickness of its own makes one of them."""
    crossing = len(np.unique(mesh.meeting[0]))
    return crossing > max(_MOST_CROSSING * len(mesh.faces), _SHEET_FACES * mesh.topology.shells)


def _mended_apart(found: Mesh, asked: MendSettings) -> Mesh:
    """The mesh with each part that is open mended without the others, where that closes more: a hole through which
    another part passes has no fill that crosses nothing."""
    group = standing(found).openings.group[found.topology.shell]
    names = np.unique(group[np.flatnonzero(found.topology.opposite < 0) // 3])
    if not 1 < len(np.unique(group)) <= _MOST_APART:
        return found
    if _laid_over(found):
        return found
    names = np.setdiff1d(names, standing(found).openings.group[burying(found, asked)])
    parts = [found.picked(~np.isin(group, names))]
    for name in names.tolist():
        part = _ends_capped(found.picked(group == name), found.picked(group != name))
        made, record, _ = mend(part, asked)
        parts.append(made if record.after.open_edges < part.topology.open_edges else part)
    joined = parts[0].joined(*parts[1:])
    return joined if joined.topology.open_edges < found.topology.open_edges else found


def _ends_capped(part: Mesh, others: Mesh) -> Mesh:
    """A part with lids on what is open within the material of the others, as a limb is that was stuck into a body: no
    lid shows there, and nothing else is what was meant."""
    around = material_tree(others)
    openings = find_openings(part)
    places = [
        opening.where_mm
        for opening, half in zip(openings.found, openings.half, strict=True)
        if (around.winding(part.vertices[part.edge_ends(half)[0]]) > 0.5).mean() >= _SUNK_SHARE
    ]
    if not places:
        return part
    return mend(part, MendSettings(only=("close",), at=tuple(places)))[0]


def closed_voids(mesh: Mesh) -> int:
    """How many closed voids there are."""
    return 0 if mesh.topology.shells == 1 else int(sum(role == "cavity" for role in standing(mesh).roles))
