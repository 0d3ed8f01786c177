"""Openings as loops of vertices to be filled, with the kind that the survey gives each."""

from dataclasses import dataclass

import numpy as np

from bolvek.analyses.shells import EITHER, find_openings
from bolvek.analyses.shells.islands import leaning, newell
from bolvek.analyses.shells.openings import Opening, Openings
from bolvek.analyses.shells.rims import across_gaps, cut_at_repeats
from bolvek.arrays import Floats, Ints
from bolvek.kernels.surface import fill as kernels
from bolvek.mesh import Mesh
from bolvek.mesh.topology import OPEN
from bolvek.operations.mend.record import Left
from bolvek.settings import Remedy, remedy
from bolvek.settings.repairs import MendSettings
from bolvek.settings.ways_on import ANEW, CLOSES_ENDS, THICKENS
from bolvek.units import length_text

NARROWING = 0.3
"""A shell that narrows towards an opening by more than this (the cosine of the angle to its plane, 17 degrees from
square to it) is on its way to close there: the opening is a hole."""

MOST_EDGES = 20_000
"""A loop of more open edges than this is not filled."""


@dataclass(frozen=True)
class Loop:
    """vertices (N,) in the order in which faces that fill it run; half (N,): the open half-edge of the mesh between
    each and the next."""

    vertices: Ints
    half: Ints


@dataclass(frozen=True)
class Named(Loop):
    """A loop with what the survey says of it."""

    opening: Opening


def trace(mesh: Mesh) -> list[Loop]:
    """All simple loops of open edges."""
    loops = []
    for half in _trace(mesh):
        if len(half) >= 3:
            loops.append(Loop(mesh.edge_ends(half)[1].astype(np.int64)[::-1], half[::-1]))
    return loops


def find_loops(mesh: Mesh) -> tuple[list[Named], Openings]:
    """All simple loops of open edges with their kinds, largest first."""
    openings = find_openings(mesh)
    owner = np.full(3 * len(mesh.faces), -1, np.int64)
    for k, half in enumerate(openings.half):
        owner[half] = k
    loops = []
    for loop in trace(mesh):
        named = owner[loop.half]
        named = named[named >= 0]
        if len(named):
            loops.append(Named(loop.vertices, loop.half, openings.found[int(np.bincount(named).argmax())]))
    loops.sort(key=lambda loop: (-loop.opening.span_mm, loop.opening.where_mm, -len(loop.half), int(loop.half.min())))
    return loops, openings


def _trace(mesh: Mesh) -> list[Ints]:
    """Open half-edges in the order in which the rim runs; cut at vertices that a loop passes more than once."""
    opposite = mesh.topology.opposite
    rim = np.flatnonzero(opposite == OPEN)
    if not len(rim):
        return []
    following = np.full(len(opposite), -1, np.int32)
    kernels.next_on_rim(opposite, rim, following)
    into, over = across_gaps(mesh)
    following[into] = over
    order, ends = np.empty((2, len(rim)), np.int32)
    n = kernels.trace_loops(following, rim, len(opposite), order, ends)
    found = []
    begin = 0
    for end in ends[:n].tolist():
        half = order[begin:end].astype(np.int64)
        begin = end
        if following[half[-1]] == half[0]:
            found += [half[rows] for rows in cut_at_repeats(mesh.edge_ends(half)[0])]
    return found


def choose(mesh: Mesh, loops: list[Named], openings: Openings, asked: MendSettings) -> tuple[list[Named], list[Left]]:
    """The loops to be filled, and why the others are not."""
    if asked.at:
        return _nearest(mesh, loops, asked)
    ends = np.bincount([loop.opening.shell for loop in loops if loop.opening.kind == EITHER], minlength=1)
    chosen, left = [], []
    one_sided = _one_sided(mesh, openings)
    for loop in loops:
        o = loop.opening
        why, ways = "", tuple[Remedy, ...]()
        if o.kind == "rim":
            why, ways = "the rim of an open skin: it needs a thickness, not a lid", (THICKENS,)
        elif one_sided[o.shell - 1]:
            why = "its surface has one side only"
        elif len(loop.half) > MOST_EDGES:
            why, ways = f"more than {MOST_EDGES:,} edges", (ANEW,)
        elif asked.up_to_mm is not None and o.span_mm > asked.up_to_mm:
            why, ways = (
                f"wider than {length_text(asked.up_to_mm)}",
                (remedy("mend", "puts a lid on it all the same", MendSettings(at=(o.where_mm,)), anew=True),),
            )
        elif (
            o.kind == EITHER
            and not asked.close_ends
            and asked.style == "auto"
            and not openings.skin[o.shell - 1]  # beside a rim, any other loop is a hole
            and not (o.lowest and ends[o.shell] == 1)
            and leaning(mesh, loop.half, _unit_normal(mesh, loop)) < NARROWING
        ):
            why, ways = "it may be the end of an open shell", (CLOSES_ENDS, THICKENS)
        if why:
            left.append(Left(o.kind, why, o.where_mm, o.size_mm, ways))
        else:
            chosen.append(loop)
    return chosen, left


def _unit_normal(mesh: Mesh, loop: Loop) -> Floats:
    normal = newell(mesh.vertices[loop.vertices])
    return np.asarray(normal / max(float(np.linalg.norm(normal)), 1e-300))


def _one_sided(mesh: Mesh, openings: Openings):  # type: ignore[no-untyped-def]
    shells = np.zeros(mesh.topology.shells, bool)
    shells[mesh.topology.shell[np.flatnonzero(mesh.topology.same_way) // 3]] = True
    return shells


def _nearest(mesh: Mesh, loops: list[Named], asked: MendSettings) -> tuple[list[Named], list[Left]]:
    """For each place the loop that comes nearest to it; nothing is said of the others."""
    chosen: list[Named] = []
    for place in asked.at:
        if not loops:
            break
        gaps = [_gap(mesh.vertices[loop.vertices], np.array(place), loop.opening) for loop in loops]
        best = loops[int(np.argmin(gaps))]
        if all(best is not c for c in chosen):
            chosen.append(best)
    left = [
        Left(loop.opening.kind, "another was asked for", loop.opening.where_mm, loop.opening.size_mm)
        for loop in loops
        if all(loop is not c for c in chosen)
    ]
    return chosen, left


def _gap(points: Floats, place: Floats, o: Opening) -> float:
    """How far a place is from a loop: from its rim or its middle, whichever is nearer."""
    rim = float(np.linalg.norm(points - place, axis=1).min())
    return min(rim, float(np.linalg.norm(np.array(o.where_mm) - place)))
