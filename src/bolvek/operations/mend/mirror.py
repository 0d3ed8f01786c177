"""A model meant to be symmetric: its plane found, its worse half made anew from the better one.

The plane is that for which the surface, mirrored, lies nearest to itself: from the middle planes of the box and of the
principal axes, refined by bringing mirrored samples nearer to the surface (what finds no counterpart has little to
say, so that damage does not pull it). Faces across the plane are cut at it; the rest of the
better half stays bit for bit.
"""

from dataclasses import dataclass

import numpy as np

from bolvek.analyses.soundness import flat_faces
from bolvek.arrays import Bools, Floats, Ints
from bolvek.mesh import Mesh
from bolvek.mesh.topology import collapsed_faces
from bolvek.operations.mend.draft import NEW, Draft, stored
from bolvek.operations.mend.record import Left, MendStep, Place
from bolvek.settings.repairs import MendSettings
from bolvek.spatial import frames
from bolvek.units import as_triple, length_text

NEAR_SHARE, LEAST_LIKE = 0.01, 0.5
"""A place has a counterpart when, mirrored, it is nearer to the surface than the first share of the longest side. A
model is symmetric enough to be mirrored when so much of its surface has."""

_AXES = {"x": (1.0, 0.0, 0.0), "y": (0.0, 1.0, 0.0), "z": (0.0, 0.0, 1.0)}
_SAMPLES = 3000
_LEAST_SHARE = 1e-4  # of the longest side: what is nearer than this is near
_ROUNDS = 60
_SNAP_SHARE = 1e-5  # of the longest side: vertices nearer to the plane are put onto it


@dataclass(frozen=True)
class MirrorPlane:
    """normal (3,) @ x = offset; how far off the mirrored surface is (mm, in the middle), and the share of it that has a
    counterpart."""

    normal: Floats
    offset: float
    off_mm: float = np.inf
    like: float = 0.0

    def side(self, points: Floats) -> Floats:
        """Signed distances (P,) in mm."""
        return np.asarray(points @ self.normal - self.offset)

    def mirrored(self, points: Floats) -> Floats:
        """Points (P, 3) on the other side."""
        return np.asarray(points - 2 * self.side(points)[:, None] * self.normal)


def mirror_half(draft: Draft, asked: MendSettings, faulty: Floats) -> tuple[Draft, MendStep]:
    """Mirror the half with fewer of the places faulty (N, 3) onto the other one."""
    mesh = draft.mesh
    axis, keep = (asked.mirror or "auto").rstrip("+-"), (asked.mirror or "")[-1:]
    plane = find_plane(mesh, None if axis == "auto" else axis, faulty)
    longest = float(mesh.size.max())
    if plane.like < LEAST_LIKE:
        text = f"it is not symmetric: mirrored, {plane.like:.0%} of it comes within {length_text(NEAR_SHARE * longest)}"
        return draft, MendStep(step="mirror", left=[Left("half", text, as_triple(mesh.bounds.mean(axis=0)))])
    if keep not in ("+", "-"):
        keep = _better_side(mesh, plane, faulty)
    if keep == "-":
        plane = MirrorPlane(-plane.normal, -plane.offset, plane.off_mm, plane.like)
    done = _rebuilt(draft, plane, _SNAP_SHARE * longest)
    new = done.origin == NEW
    middle = mesh.bounds.mean(axis=0)
    middle = middle - plane.side(middle[None])[0] * plane.normal
    normal = ", ".join(f"{x + 0.0:.3f}" for x in plane.normal)
    words = f"plane with the normal {normal}, which points to the kept side; {plane.like:.0%} of it was symmetric "
    words += f"before (half of it within {length_text(plane.off_mm)})"
    return done, MendStep(
        step="mirror",
        counts={"faces": int(new.sum())},
        places=[Place(words, int(new.sum()), as_triple(middle))],
    )


def find_plane(mesh: Mesh, axis: str | None, faulty: Floats) -> MirrorPlane:
    """The plane that mirrors the surface onto itself: the best across an axis; or of any that do, that with most of
    the places faulty (N, 3) on one side."""
    points = _samples(mesh)
    middle = mesh.bounds.mean(axis=0)
    if axis is not None:
        return _refined(mesh, points, np.array(_AXES[axis]), middle, turning=False)
    principal = np.linalg.svd(points - points.mean(axis=0), full_matrices=False)[2]
    starts = [np.array(a) for a in _AXES.values()] + list(principal)
    found = [_refined(mesh, points, n, m, turning=True) for n in starts for m in (middle, points.mean(axis=0))]
    good = [plane for plane in found if plane.like >= LEAST_LIKE]
    return min(good or found, key=lambda plane: (-abs(int(np.sign(plane.side(faulty)).sum())), plane.off_mm))


def _samples(mesh: Mesh) -> Floats:
    """Middles of faces, as many as are asked for, chosen by area at even steps."""
    area = np.cumsum(mesh.face_areas)
    at = (np.arange(_SAMPLES) + 0.5) / _SAMPLES * area[-1]
    face = np.minimum(np.searchsorted(area, at), len(area) - 1)
    share = np.array([0.5, 0.3, 0.2])
    turn = np.arange(_SAMPLES) % 3
    weights = np.stack([share[(turn + k) % 3] for k in range(3)], axis=1)
    return np.asarray(np.einsum("nk,nkj->nj", weights, mesh.vertices[mesh.faces[face]]))


def _refined(mesh: Mesh, points: Floats, normal: Floats, through: Floats, *, turning: bool) -> MirrorPlane:
    """The plane turned and moved so that mirrored points come nearest to the surface: distances along its normals
    (Gauss and Newton), those that find no counterpart with less and less to say (Geman and McClure 1987)."""
    longest = float(mesh.size.max())
    n = normal / np.linalg.norm(normal)
    plane = MirrorPlane(n, float(n @ through))
    best = plane
    for _ in range(_ROUNDS):
        image = plane.mirrored(points)
        gap, face = mesh.tree.nearest(image)
        like = float((gap <= NEAR_SHARE * longest).mean())
        plane = MirrorPlane(plane.normal, plane.offset, float(np.median(gap)), like)
        best = plane if plane.off_mm < best.off_mm else best
        q, m = mesh.tree.closest_points(image, face), mesh.normals_of(face)
        weight = 1 / (1 + (gap / max(float(np.median(gap)), _LEAST_SHARE * longest)) ** 2) ** 2
        n = plane.normal
        local, across = points - through, m @ n
        columns = [2 * across]
        if turning:
            for way in frames.across(n / np.linalg.norm(n)):
                columns.append(-2 * ((local @ way) * across + plane.side(points) * (m @ way)))
        system = np.stack(columns, axis=1) * weight[:, None]
        step = np.linalg.lstsq(system, -weight * np.einsum("ij,ij->i", image - q, m), rcond=None)[0]
        offset = plane.offset - float(n @ through) + float(step[0])
        if turning:
            u, w = frames.across(n / np.linalg.norm(n))
            n = n + step[1] * u + step[2] * w
            n /= np.linalg.norm(n)
        if np.abs(step).max() < 1e-9 * longest:
            break
        plane = MirrorPlane(n, offset + float(n @ through))
    return best


def _better_side(mesh: Mesh, plane: MirrorPlane, faulty: Floats) -> str:
    """ "+" or "-": the side with fewer faults; where there are as many, with more surface."""
    ahead, behind = (plane.side(faulty) > 0).sum(), (plane.side(faulty) < 0).sum()
    if ahead != behind:
        return "+" if ahead < behind else "-"
    side = plane.side(mesh.corners.mean(axis=1))
    return "+" if mesh.face_areas[side > 0].sum() >= mesh.face_areas[side < 0].sum() else "-"


def _rebuilt(draft: Draft, plane: MirrorPlane, snap: float) -> Draft:
    """What is ahead of the plane, and its image behind it, joined along it."""
    mesh = draft.mesh
    vertices = np.array(mesh.vertices)
    side = plane.side(vertices)
    on = np.abs(side) <= snap
    vertices[on] -= side[on, None] * plane.normal
    side[on] = 0.0
    above = side[mesh.faces]
    whole = (above >= 0).all(axis=1) & (above > 0).any(axis=1)
    across = np.flatnonzero((above > 0).any(axis=1) & (above < 0).any(axis=1))
    faces, origin, points = _cut(mesh, across, side, vertices)
    base = stored(np.concatenate([vertices, points]))
    flat = np.concatenate([mesh.faces[whole].astype(np.int64), faces])
    origin = np.concatenate([draft.origin[whole], draft.origin[origin]])
    base[: len(vertices)][~on] = mesh.vertices[~on]
    in_plane = np.concatenate([on, np.ones(len(points), bool)])
    number = np.arange(len(base))
    twin = np.flatnonzero(~in_plane)
    number[twin] = len(base) + np.arange(len(twin))
    image = stored(plane.mirrored(base[twin]))
    made = np.concatenate([flat, number[flat][:, ::-1]])
    keep = ~collapsed_faces(made.astype(np.int32))
    done = Draft(
        Mesh(np.concatenate([base, image]), made[keep].astype(np.int32)),
        np.concatenate([origin, np.full(len(flat), NEW)]).astype(np.int32)[keep],
    )
    return done.picked(~flat_faces(done.mesh)).packed() if flat_faces(done.mesh).any() else done.packed()


def _cut(mesh: Mesh, across: Ints, side: Floats, vertices: Floats) -> tuple[Ints, Ints, Floats]:
    """The pieces ahead of the plane of faces across it, the face of each, and the points on cut edges."""
    base = len(vertices)
    node: dict[tuple[int, int], int] = {}
    points: list[Floats] = []
    faces: list[tuple[int, int, int]] = []
    origin: list[int] = []
    for f in across.tolist():
        ring: list[int] = []
        corners = mesh.faces[f].tolist()
        for a, b in zip(corners, corners[1:] + corners[:1], strict=True):
            if side[a] >= 0:
                ring.append(a)
            if side[a] * side[b] < 0:
                key = (min(a, b), max(a, b))
                if key not in node:
                    i, j = key
                    t = side[i] / (side[i] - side[j])
                    node[key] = base + len(points)
                    points.append(vertices[i] + t * (vertices[j] - vertices[i]))
                ring.append(node[key])
        faces += [(ring[0], ring[k], ring[k + 1]) for k in range(1, len(ring) - 1)]
        origin += [f] * (len(ring) - 2)
    return (
        np.array(faces, np.int64).reshape(-1, 3),
        np.array(origin, np.int64),
        np.array(points).reshape(-1, 3),
    )


def faulty_places(mesh: Mesh) -> Floats:
    """Middles (N, 3) of faces at open, crowded or badly oriented edges, and of those that cross."""
    t = mesh.topology
    mask: Bools = np.zeros(len(mesh.faces), bool)
    mask[np.flatnonzero((t.opposite < 0) | t.same_way) // 3] = True
    mask[mesh.meeting[0].ravel()] = True
    return np.asarray(mesh.corners[mask].mean(axis=1))
