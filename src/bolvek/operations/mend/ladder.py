"""The ladder: every step of mending in turn, each undone when it leaves the model worse, then the full check."""

from collections.abc import Callable
from dataclasses import replace

import numpy as np

from bolvek.analyses.shells import near_mm as default_near_mm
from bolvek.analyses.shells import outward_signs, standing
from bolvek.analyses.shells.copies import part_by_part
from bolvek.analyses.soundness import find_defects
from bolvek.analyses.survey.crossings import find_touching
from bolvek.arrays import Ints32
from bolvek.errors import WorkError
from bolvek.mesh import Mesh
from bolvek.operations.mend.close import close, unclosed
from bolvek.operations.mend.crossings import remake_crossings
from bolvek.operations.mend.draft import NEW, Draft
from bolvek.operations.mend.drop import drop
from bolvek.operations.mend.local import without_harm
from bolvek.operations.mend.mirror import faulty_places, mirror_half
from bolvek.operations.mend.orient import drop_buried, orient
from bolvek.operations.mend.record import FAULT_WORDS, LEFT_CODES, Faults, MendRecord, MendStep
from bolvek.operations.mend.scraps import drop_scraps
from bolvek.operations.mend.separate import pinched_faces, separate
from bolvek.operations.mend.weld import weld
from bolvek.settings.repairs import STEPS, MendSettings

Rung = Callable[[Draft], tuple[Draft, MendStep]]


_PLAIN = MendSettings()
_LOCAL_ROUNDS = 4


def mend(mesh: Mesh, settings: MendSettings = _PLAIN, part: Ints32 | None = None) -> tuple[Mesh, MendRecord, Ints32]:
    """Mend a mesh; what is sound comes back as the same mesh. part (F,): the named part of each face.

    Returns the mesh, the record, and for each of its faces the face of the input it was, or -1 for a new one. The
    result is never worse than the input: a step that made faults is undone, and says so. Raises UsageError, or
    WorkError for a mesh without faces.
    """
    settings.check()
    if not len(mesh.faces):
        raise WorkError("the model has no faces")
    near = default_near_mm(mesh) if settings.near_mm is None else settings.near_mm
    whole = mesh if part is None else part_by_part(mesh, part)
    before = count_faults(whole, part)
    begin = Draft.of(whole)
    draft, steps, after = begin, list[MendStep](), before
    extra = settings.mirror is not None or settings.drop_strays or settings.sliver_mm > 0
    if before != Faults() or extra:
        draft, steps, after = _best_climb(begin, settings, near, before, part)
    if all(not step.count for step in steps):
        draft, after = Draft.of(mesh), before
    elif not len(draft.mesh.faces):
        raise WorkError("nothing would be left of the model: none of its faces bounds anything")
    steps = [_still_left(step, after) for step in steps]
    record = MendRecord(
        verdict=_verdict(after),
        unchanged=draft.mesh is mesh or _same(draft.mesh, mesh),
        tolerance_mm=near,
        before=before,
        after=after,
        steps=steps,
    )
    return draft.mesh, record, draft.origin


def concluded(record: MendRecord, mesh: Mesh, step: MendStep) -> MendRecord:
    """The record with one step more, that left the mesh so; of what others left, what there still is."""
    after = count_faults(mesh)
    there = {code for code, n in vars(after).items() if n}
    settled = [
        replace(one, left=[left for left in one.left if LEFT_CODES.get(left.what, "open_edges") in there])
        for one in record.steps
    ]
    steps = [*settled, step]
    return replace(record, verdict=_verdict(after), unchanged=False, after=after, steps=steps)


def _still_left(step: MendStep, after: Faults) -> MendStep:
    """A step's record without what a later one settled."""
    gone = {"touching fans": not after.split_vertices + after.nonmanifold_edges}
    gone |= {"crossing faces": not after.self_intersections}
    return replace(step, left=[one for one in step.left if not gone.get(one.what, False)])


def _best_climb(
    begin: Draft, asked: MendSettings, near: float, before: Faults, part: Ints32 | None
) -> tuple[Draft, list[MendStep], Faults]:
    """The ladder climbed; where that leaves more of any fault than there was, without the steps that are to blame."""
    draft, steps = _climb(begin, asked, near, part)
    after = count_faults(draft.mesh, _parts_of(draft, part))
    worse = _more(before, after)
    for _ in range(_LOCAL_ROUNDS if worse and part is None else 0):
        # place by place: what helped stays
        local, places = without_harm(begin, draft)
        if not places:
            break
        draft, after = local, count_faults(local.mesh)
        steps[-1] = replace(steps[-1], left=[*steps[-1].left, *places])
        if not _more(before, after):
            return draft, sorted(steps, key=lambda step: STEPS.index(step.step)), after
    if worse:
        # one step alone, the last first; then the last ones together, until nothing is worse
        taken = [step.step for step in reversed(steps) if step.count]
        for blamed in [(name,) for name in taken] + [tuple(taken[:k]) for k in range(2, len(taken) + 1)]:
            draft, steps = _climb(begin, replace(asked, without=(*asked.without, *blamed)), near, part)
            after = count_faults(draft.mesh, _parts_of(draft, part))
            if not _more(before, after):
                steps += [MendStep(step=name, undone=f"it left {worse}") for name in blamed]
                break
    return draft, sorted(steps, key=lambda step: STEPS.index(step.step)), after


def _more(before: Faults, after: Faults) -> str:
    """What there is more of after than before; a pinched vertex may stand for an edge of three faces."""
    known = vars(before) | {"split_vertices": before.split_vertices + before.nonmanifold_edges}
    if before.nonmanifold_edges or before.badly_oriented_edges:
        known |= {"inside_out": after.inside_out, "buried": after.buried}  # they were not told
    named = [
        f"{n - known[name]:,} more {FAULT_WORDS[name][n - known[name] != 1]}"
        for name, n in vars(after).items()
        if n > known[name]
    ]
    return ", ".join(named)


def _same(mesh: Mesh, other: Mesh) -> bool:
    return np.array_equal(mesh.faces, other.faces) and np.array_equal(mesh.vertices, other.vertices)


def _climb(draft: Draft, asked: MendSettings, near: float, part: Ints32 | None) -> tuple[Draft, list[MendStep]]:
    steps: dict[str, MendStep] = {}
    begin = draft

    def take(name: str, work: Rung) -> None:
        nonlocal draft
        if not asked.takes(name):
            return
        after, step = work(draft)
        if step.count and (worse := _worse(draft.mesh, after.mesh, name)):
            step = MendStep(step=name, left=step.left, undone=worse)
        else:
            draft = after
        steps[name] = _joined(steps[name], step) if name in steps else step

    take("weld", lambda d: weld(d, near))
    take("drop", lambda d: drop(d, asked.sliver_mm, near, strays=asked.drop_strays))
    take("separate", separate)
    take("orient", lambda d: orient(d, shells=False))
    wanted = asked.drop_buried or "buried" in asked.only
    if wanted:
        take("buried", lambda d: drop_buried(d, wanted=True))
    take("close", lambda d: close(d, asked))
    pinched = np.inf
    while 0 < (now := draft.mesh.topology.extra_fans + draft.mesh.topology.nonmanifold_edges) < pinched:
        # what the one step opened up, the other has to close; as long as that gets anywhere
        pinched = now
        take("separate", lambda d: separate(d, everywhere=True))
        take("close", lambda d: close(d, asked))
    take("mirror", lambda d: mirror_half(d, asked, faulty_places(begin.mesh)))
    rims, _ = unclosed(draft.mesh, asked) if "close" in steps else (np.zeros(0, np.int64), [])
    if "separate" in steps:
        rims = np.union1d(rims, pinched_faces(draft.mesh))
    take("crossings", lambda d: remake_crossings(d, _crossing(d.mesh, _parts_of(d, part)), rims))
    if "close" in steps:
        take("drop", lambda d: drop_scraps(d, begin.mesh))
    draft = draft.packed()
    if "crossings" in steps and steps["crossings"].count and "close" in steps:
        steps["close"] = replace(steps["close"], left=unclosed(draft.mesh, asked)[1])
    take("orient", lambda d: orient(d, shells=True))
    take("buried", lambda d: drop_buried(d, wanted=wanted))  # a lid may have buried more
    return draft, list(steps.values())


def _joined(first: MendStep, second: MendStep) -> MendStep:
    """One record of a step that was taken twice; what it left is what it left at last."""
    counts = dict(first.counts)
    for name, n in second.counts.items():
        counts[name] = counts.get(name, 0) + n
    return MendStep(
        step=first.step,
        counts=counts,
        places=[*first.places, *second.places],
        moved_mm=max(first.moved_mm, second.moved_mm),
        left=second.left,
        undone=second.undone or first.undone,
    )


def _worse(before: Mesh, after: Mesh, step: str) -> str:
    """Why a step is to be undone: what it made more of than it took; empty where it did not."""
    b, a = before.topology, after.topology
    made = {
        "open edges": a.open_edges - b.open_edges,
        "non-manifold edges": a.nonmanifold_edges - b.nonmanifold_edges,
        "edges whose faces disagree": a.badly_oriented_edges - b.badly_oriented_edges,
        "touching fans": a.extra_fans - b.extra_fans,
    }
    if step in ("weld", "drop", "separate"):
        # taking sheets apart and copies out shows open edges that were hidden in crowded ones
        made = {"faults of edges": sum(made.values())} if sum(made.values()) > 0 else {}
    named = [f"{n:,} {what}" for what, n in made.items() if n > 0]
    return f"it made {', '.join(named)}" if named else ""


def count_faults(mesh: Mesh, part: Ints32 | None = None) -> Faults:
    """How many of each class there are; shells inside out are asked for where the surface is closed and agrees. Named
    parts (F,) that only touch each other do not cross."""
    counts = {d.code: d.count for d in find_defects(mesh)}
    if part is not None and "self_intersections" in counts:
        counts["self_intersections"] -= len(mesh.meeting[0]) - len(_crossing(mesh, part))
    t = mesh.topology
    wrong = buried = 0
    if not t.nonmanifold_edges and not t.badly_oriented_edges and not (t.sound and t.shells == 1 and mesh.volume > 0):
        found = standing(mesh)
        wrong, buried = int(found.inverted.sum()), found.roles.count("buried")
    return Faults(**counts, inside_out=wrong, buried=buried)


def _crossing(mesh: Mesh, part: Ints32 | None) -> Ints32:
    """Pairs (P, 2) of faces that cross, without those of two named parts (F,) that only touch."""
    pairs = mesh.meeting[0]
    if part is None or not len(pairs):
        return pairs
    shell = np.sort(mesh.topology.shell[pairs].astype(np.int64), axis=1)
    touch = np.isin(shell[:, 0] * mesh.topology.shells + shell[:, 1], find_touching(mesh, pairs, outward_signs(mesh)))
    return pairs[~(touch & (part[pairs[:, 0]] != part[pairs[:, 1]]))]


def _parts_of(draft: Draft, part: Ints32 | None) -> Ints32 | None:
    return None if part is None else origin_parts(draft.origin, part, draft.mesh)


def _verdict(after: Faults) -> str:
    """One of a closed list."""
    if after == Faults():
        return "sound"
    others = (
        after.nonmanifold_edges,
        after.badly_oriented_edges,
        after.split_vertices,
        after.flat_faces,
        after.inside_out,
    )
    if any(others):
        return "not sound"
    if after.open_edges:
        return "open"
    return "closed but crossing" if after.self_intersections else "buried shells"


def origin_parts(origin: Ints32, part: Ints32, mesh: Mesh) -> Ints32:
    """The part of each face: that of the face it was; a new face has that of most of its shell."""
    found = np.where(origin >= 0, part[np.maximum(origin, 0)], NEW)
    new = np.flatnonzero(found == NEW)
    if len(new):
        known = np.flatnonzero(found != NEW)
        count = int(part.max()) + 1
        votes = np.bincount(
            mesh.topology.shell[known].astype(np.int64) * count + found[known], minlength=mesh.topology.shells * count
        ).reshape(-1, count)
        found[new] = votes.argmax(axis=1)[mesh.topology.shell[new]]
    return found.astype(np.int32)
