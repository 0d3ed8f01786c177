"""Thin walls of closed models made thick enough, the rest left bit for bit.

Where the wall is thinner than asked, a copy of the surface on the side that is to stay, a little below it, is thickened
into the wall and out on the other side; growing both ways, copies of both sides each take half of what is missing. The
copy reaches beyond the thin zone and gets thinner there, so that it sinks into the wall where that is thick enough: the
growth blends in. Each copy is a body of its own, and united with the model.

A strut has no side to start from: its copies would meet in its middle. It is filled around the middles of its wall: all
that is nearer to one of them than half of what is asked. So is what is still thin at the end.
"""

from collections.abc import Callable
from dataclasses import dataclass, replace

import numpy as np

from bolvek.analyses.soundness import find_defects
from bolvek.analyses.thickness import SAMPLES_A_WALL, sample_surface
from bolvek.analyses.zones import group_faces
from bolvek.arrays import Bools, Floats
from bolvek.errors import WorkError
from bolvek.mesh import Mesh
from bolvek.operations.fuse import unite
from bolvek.operations.refine import refine
from bolvek.operations.slim import slim
from bolvek.operations.thicken.cover import Cover, cover
from bolvek.operations.thicken.offset import Offset, offset
from bolvek.operations.thicken.rim import trimmed
from bolvek.operations.thicken.solid import Thin, thin_places
from bolvek.spatial.groups import linked_groups
from bolvek.spatial.isosurface import lipschitz_surface
from bolvek.spatial.points import PointTree

_MOST_PATCHES = 40
_SINK, _ASIDE = 0.01, 0.002  # thicknesses: how far a copy stays below the side that is kept, and beyond its border
_SPECK = 0.3  # square thicknesses: smaller patches are no walls
_SLIM = 0.001  # thicknesses
_NEAR = 8  # samples looked at around a place
_WAYS = np.array([[1, 1, 0], [1, -1, 0], [0, 1, 1], [0, 1, -1], [1, 0, 1], [1, 0, -1]]) / np.sqrt(2)
"""Directions, each turned outward, in which a surface looks for others: an inside sees them in most."""
_OVER = 1.04  # thicknesses: how thick copies are
_AROUND, _ROUND = 48, 0.3  # neighbours looked at, and how evenly their normals lie round a strut
_WORTH = 0.05  # of what is thin: fewer struts are corners of walls
_ROUNDS, _CELLS = 2, 6  # times that what is still thin is filled, and cells across what is asked there
_TAPER = 0.3  # of the thickness that a copy loses over the blend


@dataclass(frozen=True)
class Grown:
    """The model with thick walls; thin areas (mm2) and the least wall (mm, inf: none is thin) before and after; patches
    of the surface that were thickened, and those that could not be."""

    mesh: Mesh
    thin_before_mm2: float
    thin_after_mm2: float
    least_before_mm: float
    least_mm: float
    patches: int
    given_up: int


def grow_walls(mesh: Mesh, least: float, side: str, blend: float) -> Grown:
    """Make every wall of a sound mesh as thick as `least` mm, growing "out", "in" or "both" ways, blended into the rest
    over `blend` mm."""
    before = thin = thin_places(mesh, least)
    result, patches, given_up = mesh, 0, 0

    def grow(bodies: list[Mesh]) -> int:
        nonlocal result, thin, patches, given_up
        grown = 0
        for body in bodies:
            try:
                result = unite(result, body)[0]
                grown += 1
            except WorkError:
                given_up += 1
        if grown:
            thin = thin_places(result, least)
        patches += grown
        return grown

    struts = _struts(before, least)
    if struts.area.sum() > _WORTH * before.area.sum():
        grow(_around_middles(struts, least))
    for turn in range(1 + _ROUNDS):
        if still_thin(float(before.area.sum()), float(thin.area.sum())):
            grow(_around_middles(thin, least) if turn else _bodies(result, thin, least, side, blend))
    return Grown(
        result,
        float(before.area.sum()),
        float(thin.area.sum()),
        float(before.wall.min(initial=np.inf)),
        float(thin.wall.min(initial=np.inf)),
        patches,
        given_up,
    )


def still_thin(before_mm2: float, after_mm2: float) -> bool:
    """Whether more stays thin than beside edges, where a wall ends."""
    return after_mm2 > max(0.005 * before_mm2, 0.1)


def _stays(mesh: Mesh, thin: Thin, side: str) -> Bools:
    """Samples on the side that is kept; all where both grow, or where the wall has no inside (a plate)."""
    everything = np.ones(len(thin.points), bool)
    if side == "both":
        return everything
    seen = np.zeros(len(thin.points))
    for way in _WAYS:
        turned = np.where(np.einsum("ij,j->i", thin.normals, way)[:, None] < 0, -way, way) + thin.normals
        seen += np.isfinite(mesh.tree.rays(thin.points, turned, near=1e-6 * float(mesh.size.max())).distance[:, 0])
    outer = seen < 0.5 * len(_WAYS)
    rests = ~outer if side == "out" else outer
    return rests if rests.any() and not rests.all() else everything


def _bodies(mesh: Mesh, thin: Thin, least: float, side: str, blend: float) -> list[Mesh]:
    """A body for each patch of the surface that has thin wall beneath."""
    rests = _stays(mesh, thin, side)
    half = bool(rests.all())
    tree = PointTree(thin.points[rests])
    wall, normals = thin.wall[rests], thin.normals[rests]
    spots = sample_surface(mesh, 0.5 * least)
    chosen = np.zeros(len(mesh.faces), bool)
    chosen[spots.face[_beside(tree, normals, spots.points, mesh.normals_of(spots.face), blend + least)]] = True
    if not chosen.any():
        return []
    piece = mesh.picked(chosen)
    piece, _ = refine(piece, np.ones(len(piece.faces), bool), max(least, 0.5 * blend))
    own = _beside(tree, normals, piece.corners.mean(axis=1), piece.unit_normals, blend + 0.6 * least)
    if not own.any():
        return []
    piece = piece.picked(own)
    group = group_faces(piece, np.arange(len(piece.faces)))
    area = np.bincount(group, piece.face_areas)
    found = []
    for number in np.argsort(-area, kind="stable")[:_MOST_PATCHES].tolist():
        if area[number] < _SPECK * least**2:
            break
        patch = piece.picked(group == number)

        def thickness(points: Floats) -> Floats:
            off, at = tree.nearest(points)
            share = 1.0 - _TAPER * np.clip((off - least / SAMPLES_A_WALL) / blend, 0.0, 1.0)
            wanted = 0.5 * (wall[at] + least) if half else np.full(len(at), least)
            return np.asarray(_OVER * wanted * share)

        body = _body(patch, thickness, least)
        if body is not None:
            found.append(body)
    return found


def _struts(thin: Thin, least: float) -> Thin:
    """The places around whose middle the wall is thin in more than one direction."""
    if not len(thin.points):
        return thin
    middles = thin.middles
    tree = PointTree(middles)
    off, at = tree.nearest_few(middles, min(_AROUND, len(middles)), 0.5 * least)
    there = np.isfinite(off)
    normals = np.where(there[..., None], thin.normals[np.minimum(at, len(middles) - 1)], 0.0)
    spread = np.linalg.eigvalsh(np.einsum("pki,pkj->pij", normals, normals))
    return thin.picked(spread[:, 1] > _ROUND * spread[:, 2])


def _around_middles(thin: Thin, least: float) -> list[Mesh]:
    """A body for each place that is thin: all that is within half of what is asked of the middles of its wall."""
    if not len(thin.points):
        return []
    middles = thin.middles
    tree = PointTree(middles)
    group = linked_groups(len(middles), tree.pairs(0.5 * least))
    weight = np.bincount(group, thin.area)
    radius, cell = 0.5 * _OVER * least, least / _CELLS
    found = []
    for number in np.argsort(-weight, kind="stable")[:_MOST_PATCHES].tolist():
        if weight[number] < _SPECK * least**2:
            break
        own = middles[group == number]
        near = PointTree(own)

        def beyond(points: Floats, near: PointTree = near) -> Floats:
            return np.asarray(near.nearest(points)[0]) - radius

        reach = radius + 2 * cell
        surface = lipschitz_surface(beyond, own.min(axis=0) - reach, own.max(axis=0) + reach, cell)
        body = Mesh(surface.vertices, surface.faces).as_stored()
        if len(body.faces) and not find_defects(body):
            found.append(body)
    return found


def _beside(tree: PointTree, normals: Floats, points: Floats, facing: Floats, reach: float) -> Bools:
    """Points (P, 3) of surfaces facing somewhere (P, 3) with a sample near that faces about the same way."""
    off, at = tree.nearest_few(points, _NEAR, reach)
    alike = np.einsum("ij,ikj->ik", facing, normals[np.minimum(at, len(normals) - 1)]) > 0.5
    return np.asarray((np.isfinite(off) & alike).any(axis=1))


def _body(patch: Mesh, thickness: Callable[[Floats], Floats], least: float) -> Mesh | None:
    """A patch made solid: its front a little below the surface, its rim a little beyond; None where that has faults."""

    def made(one: Mesh) -> Offset:
        wanted = thickness(one.vertices)
        most = float(wanted.max())
        found = None
        for rounds in (0, 2):
            double = cover(one, rounds)
            tried = offset(_drawn_out(double, _ASIDE * least), -_SINK * least, most, wanted[double.place] / most)
            if found is None or (len(tried.stuck_faces), -tried.share.mean()) < (
                len(found.stuck_faces),
                -found.share.mean(),
            ):
                found = tried
            if found.share.min() > 0.999:
                break
        assert found is not None
        return found

    try:
        patch, _ = trimmed(patch, least, lambda one: made(one).stuck_faces)
    except WorkError:
        return None
    found = made(patch)
    for mesh in (slim(found.solid, _SLIM * least)[0].as_stored(), found.solid.as_stored()):
        if not find_defects(mesh):
            return mesh
    return None


def _drawn_out(double: Cover, by: float) -> Cover:
    """The cover of a patch whose rim is moved out of the patch: one that ended within would leave the wall as thin as
    it was along its rim."""
    skin = double.skin
    a, b = skin.edge_ends(double.half)
    face = double.half // 3
    along = skin.vertices[b] - skin.vertices[a]
    inward = np.cross(skin.unit_normals[face], along)
    inward /= np.maximum(np.linalg.norm(inward, axis=1), 1e-300)[:, None]
    step = np.zeros((len(skin.vertices), 3))
    for end in (a, b):
        np.add.at(step, end, inward)
    length = np.linalg.norm(step, axis=1)
    moved = length > 0
    # a corner moves so that both of its sides do
    step[moved] *= (-by * 2.0 / np.maximum(length[moved], 0.5) ** 2)[:, None]
    return replace(double, skin=skin.moved(skin.vertices + step))
