"""How shells stand to each other: the role of each, which way it faces, and which faces look out of material."""

from dataclasses import dataclass

import numpy as np

from bolvek.analyses.shells.copies import counted_once
from bolvek.analyses.shells.nesting import Shells, fan_volumes, nest_shells
from bolvek.analyses.shells.openings import Openings, find_openings, lids
from bolvek.arrays import Bools, Floats, Ints, Ints32
from bolvek.kernels.surface import defects as kernels
from bolvek.mesh import Mesh, once_a_mesh
from bolvek.mesh.topology import CROWDED, OPEN
from bolvek.spatial.tree import Tree

SHEET_SHARE = 1e-9
"""A closed shell whose volume is below this share of its area times its diagonal encloses nothing: a sheet."""

ENCLOSING = 1e-3
"""An open piece encloses enough to have an inside when 36 pi V2 is more than this share of A3 (a ball has 1)."""


@dataclass(frozen=True)
class Standing:
    """The shells (S,) and faces (F,) of a mesh as they are meant.

    roles: "outer", "cavity" (a void in material), "buried" (in another part's material), "loose" (a part in a
    cavity), "sheet" (closed, but nothing in it), "open skin" (has a rim), "open body" (has holes), "open shell"
    (hole or rim), "not judged" (in an open shell). turned: faces against the others of their piece; facing:
    1 out of its own volume, -1 into it, 0 without one, those faces turned; mixed: some are; inverted: all of it
    faces the wrong way; one_sided: a piece that no turning makes agree. sign: 1 where a face as it stands
    looks out of its material, else -1.
    """

    nested: Shells
    openings: Openings
    roles: list[str]
    turned: Bools
    facing: Ints
    mixed: Bools
    inverted: Bools
    one_sided: Bools
    sign: Floats

    @property
    def volume_mm3(self) -> float | None:
        """Of the material: parts whole, cavities taken off, what is buried is there already. None while open."""
        if not self.nested.closed.all() or self.one_sided.any():
            return None
        total = 0.0
        for role, volume in zip(self.roles, self.nested.volume.tolist(), strict=True):
            if role == "cavity":
                total -= abs(volume)
            elif role != "buried":
                total += abs(volume)
        return total


def model_volume(mesh: Mesh) -> float | None:
    """Material (mm3) as a survey tells it: parts less cavities, copies of faces once; None where it has no meaning."""
    once, _ = counted_once(mesh)
    return None if once.topology.badly_oriented_edges else standing(once).volume_mm3


def owners_of_cavities(mesh: Mesh) -> Ints:
    """For each shell (S,) that faces into material the smallest shell around it that holds it, -1 for the others.

    Whatever else goes through it: a void belongs to the body that holds it without crossing it, or where there is none,
    to that which it breaks through.
    """
    found = standing(mesh)
    volume = np.abs(found.nested.volume)
    void = np.array([role in ("cavity", "buried") for role in found.roles], bool) & (found.facing < 0)
    owner = np.full(len(void), -1)
    for number in np.flatnonzero(void).tolist():
        around = found.nested.outer[found.nested.inner == number]
        around = around[~void[around]]
        if len(around):
            owner[number] = int(around[np.argmin(volume[around])])
    return owner


def outward_signs(mesh: Mesh) -> Floats:
    """Per face (F,): 1 where it faces out of its material as it stands, -1 where it is turned the wrong way."""
    return standing(mesh).sign


def material_tree(mesh: Mesh) -> Tree:
    """The tree whose winding number is above a half in material, wherever the faces look."""
    sign = outward_signs(mesh)
    if (sign > 0).all():
        return mesh.tree
    return _turned_tree(mesh)


@once_a_mesh
def _turned_tree(mesh: Mesh) -> Tree:
    """The tree over the faces, each turned to look out of its material."""
    return Tree(mesh.vertices, _turned_out(mesh))


def _turned_out(mesh: Mesh) -> Ints32:
    return np.where(outward_signs(mesh)[:, None] < 0, mesh.faces[:, ::-1], mesh.faces)


def facing_out(mesh: Mesh) -> Mesh:
    """The mesh with every face turned to look out of its material; the mesh itself where all do."""
    return mesh if (outward_signs(mesh) > 0).all() else Mesh(mesh.vertices, _turned_out(mesh))


def turned_faces(mesh: Mesh) -> Bools:
    """Faces (F,) to turn so that each piece agrees with its larger side."""
    return _turned(mesh)[0]


@once_a_mesh
def standing(mesh: Mesh) -> Standing:
    """How the shells of a mesh (copies of faces left out, see `counted_once`) stand."""
    topology = mesh.topology
    n = topology.shells
    openings = find_openings(mesh)
    nested = nest_shells(mesh, openings)
    low, high = mesh.shell_boxes
    area = np.bincount(topology.shell, mesh.face_areas, n)
    sheet = nested.closed & (np.abs(nested.volume) <= SHEET_SHARE * area * np.linalg.norm(high - low, axis=1))
    nested = _settled(mesh, nested, sheet)
    by_area, by_volume, one_sided = _turned(mesh)
    mixed = np.zeros(n, bool)
    mixed[topology.shell[np.flatnonzero(topology.same_way) // 3]] = True
    sure = ~openings.unsure[nested.outer]
    unjudged = np.bincount(nested.inner, ~sure, n) > 0
    inner, outer = nested.inner[sure], nested.outer[sure]
    depth = np.bincount(inner, minlength=n)
    # of a shell in material, the larger side says whether it is a void; of any other, the volume what is out
    turned = np.where((depth % 2 == 1)[topology.shell], by_area, by_volume)
    volume: Floats = nested.volume
    if turned.any():
        volume = volume - 2 * np.bincount(topology.shell, turned * mesh.face_volumes, n)
        if openings.found:
            lid, owner, beside = lids(mesh, openings)
            each = fan_volumes(lid - mesh.bounds.mean(axis=0))
            volume = volume - 2 * np.bincount(owner, turned[beside] * each, n)
        nested = Shells(nested.depth, volume, nested.closed, nested.inner, nested.outer)
    facing = np.where(volume < 0, -1, 1)
    facing[sheet | openings.skin | one_sided] = 0
    joined = np.bincount(openings.group, volume)[openings.group]  # seams make one body of several shells
    facing = np.where((facing != 0) & ~nested.closed, np.where(joined < 0, -1, 1), facing)
    plain, inverted = _meant(depth, inner, outer, facing)
    names = np.array(plain, object)
    names[openings.skin] = "open skin"
    names[~nested.closed & ~openings.skin] = "open body"
    names[openings.unsure] = "open shell"
    names[sheet] = "sheet"
    names[unjudged & nested.closed & ~sheet] = "not judged"
    inverted &= (facing != 0) & ~unjudged
    sign = np.where(turned, -1.0, 1.0)
    sign[inverted[topology.shell]] *= -1.0
    return Standing(nested, openings, names.tolist(), turned, facing, mixed, inverted, one_sided, sign)


def _settled(mesh: Mesh, nested: Shells, sheet: Bools) -> Shells:
    """The nesting without sheets as containers, and without pairs of shells that cross each other.

    Unless one faces in, no shell that faces out holds it without crossing, and it lies in the other with most of its
    surface: a cavity that breaks through; or one faces out and lies so in a cavity: a part that stands on its floor.
    """
    inner, outer = nested.inner, nested.outer
    if not len(inner):
        return nested
    n = len(nested.depth)
    pairs = mesh.topology.shell[mesh.meeting[0]].astype(np.int64)
    crossing = np.unique(np.concatenate([pairs[:, 0] * n + pairs[:, 1], pairs[:, 1] * n + pairs[:, 0]]))
    crosses = np.isin(inner * n + outer, crossing)
    held = np.zeros(n, bool)
    held[inner[~crosses & ~sheet[outer] & (nested.volume[outer] > 0)]] = True
    # what faces in beside a body that does so, too, is no void of that: the whole of them was turned inside out
    breaks = (nested.volume[inner] < 0) & ~held[inner] & (nested.volume[outer] > 0)
    stands = (nested.volume[inner] > 0) & (nested.volume[outer] < 0)
    for k in np.flatnonzero(crosses & (breaks | stands) & ~sheet[outer]):
        crosses[k] = _share_inside(mesh, int(inner[k]), int(outer[k])) < 0.5
    keep = ~sheet[outer] & ~crosses
    inner, outer = inner[keep], outer[keep]
    return Shells(np.bincount(inner, minlength=n), nested.volume, nested.closed, inner, outer)


_ASKED = 500  # faces whose middles say how much of a shell lies in another


def _share_inside(mesh: Mesh, inner: int, outer: int) -> float:
    """Share of the surface of one shell that lies within another."""
    own, other = (np.flatnonzero(mesh.topology.shell == s) for s in (inner, outer))
    own = own[np.argsort(-mesh.face_areas[own], kind="stable")[:_ASKED]]
    inside = np.abs(Tree(mesh.vertices, mesh.faces[other]).winding(mesh.vertices[mesh.faces[own]].mean(axis=1))) > 0.5
    return float(mesh.face_areas[own[inside]].sum() / max(float(mesh.face_areas[own].sum()), 1e-300))


def _turned(mesh: Mesh) -> tuple[Bools, Bools, Bools]:
    """Faces (F,) to turn so that each piece (joined by paired edges) agrees with its larger side; with the side that
    looks out of what it encloses; and shells (S,) with a piece that has one side only."""
    topology = mesh.topology
    n = len(mesh.faces)
    nothing = np.zeros(n, bool)
    if not topology.badly_oriented_edges:
        return nothing, nothing, np.zeros(topology.shells, bool)
    piece, turned = np.arange(n, dtype=np.int32), np.zeros(n, bool)
    conflicts = kernels.orient_faces(topology.opposite, topology.same_way, piece, turned)
    one_sided, shells = np.zeros(n, bool), np.zeros(topology.shells, bool)
    half = np.flatnonzero(topology.opposite >= 0)
    if conflicts:
        a, b = half // 3, topology.opposite[half] // 3
        one_sided[piece[a[turned[a] ^ turned[b] ^ topology.same_way[half]]]] = True
        one_sided = one_sided[piece]
        shells[topology.shell[one_sided]] = True
    turned &= ~one_sided
    sign = np.where(turned, -1.0, 1.0)
    area = np.bincount(piece, mesh.face_areas, n)
    larger = np.bincount(piece, sign * mesh.face_areas, n) < 0
    # the volume of a piece, its border closed by a fan from the border's middle
    own = np.bincount(piece, sign * mesh.face_volumes, n)
    border = np.flatnonzero((topology.opposite == OPEN) | (topology.opposite == CROWDED))
    face = border // 3
    p, q = (mesh.vertices[end] for end in mesh.edge_ends(border))
    count = np.maximum(np.bincount(piece[face], minlength=n), 1)
    middle = np.stack([np.bincount(piece[face], 0.5 * (p + q)[:, i], n) / count for i in range(3)], axis=1)
    origin = mesh.bounds.mean(axis=0)
    apex = middle[piece[face]] - origin
    cone = np.einsum("ij,ij->i", apex, np.cross(q - origin, p - origin)) / 6
    volume = own + np.bincount(piece[face], sign[face] * cone, n)
    disputed = np.zeros(n, bool)  # pieces that agree with themselves are left as they are
    disputed[piece[np.flatnonzero(topology.same_way) // 3]] = True
    enclosing = 36 * np.pi * volume**2 > ENCLOSING * area**3
    outward = np.where(enclosing, volume < 0, larger)
    free = disputed[piece] & ~one_sided
    return turned ^ (larger[piece] & free), turned ^ (outward[piece] & free), shells


def _meant(depth: Ints, inner: Ints, outer: Ints, facing: Ints) -> tuple[list[str], Bools]:
    """Role of each shell (S,) by what lies around it, and which face the wrong way as a whole.

    An outermost shell that faces in stands for material all the same. Where everything in it faces the wrong way
    with it, so that turning all of it leaves fewer faults than turning it alone, all of it is inverted.
    """
    n = len(depth)
    root = np.arange(n)
    top = depth[outer] == 0
    root[inner[top]] = outer[top]
    alone = _by_level(depth, inner, outer, facing)
    candidates = np.flatnonzero((depth == 0) & (facing < 0) & (np.bincount(root, minlength=n) > 1))
    if not len(candidates):
        return alone
    group = np.isin(root, candidates)
    together = _by_level(depth, inner, outer, np.where(group, -facing, facing))
    faults = [  # counted by outermost shell
        np.bincount(root, inverted | np.array([r == "buried" for r in roles]), n)
        for roles, inverted in (alone, together)
    ]
    whole = np.isin(root, candidates[1 + faults[1][candidates] <= faults[0][candidates]])
    roles = [t if w else a for a, t, w in zip(alone[0], together[0], whole.tolist(), strict=True)]
    # turned together, one that looks right stands the wrong way round
    return roles, np.where(whole, ~together[1] & (facing != 0), alone[1])


def _by_level(depth: Ints, inner: Ints, outer: Ints, facing: Ints) -> tuple[list[str], Bools]:
    """Roles and inverted shells, from the outermost inward."""
    n = len(depth)
    meant = np.zeros(n, np.int64)
    roles = ["outer"] * n
    inverted = np.zeros(n, bool)
    level_of = depth[inner]
    for level in range(int(depth.max(initial=0)) + 1):
        here = np.flatnonzero(depth == level)
        rows = np.flatnonzero(level_of == level)
        around = np.bincount(inner[rows], meant[outer[rows]], n)[here] if len(rows) else np.zeros(len(here))
        for s, wound in zip(here.tolist(), around.tolist(), strict=True):
            if wound < 0.5:  # in air
                roles[s] = "loose" if level else "outer"
                inverted[s] = facing[s] < 0
                meant[s] = abs(facing[s])
            else:
                roles[s] = "cavity" if wound < 1.5 and facing[s] < 0 else "buried"
                meant[s] = facing[s]
    return roles, inverted
