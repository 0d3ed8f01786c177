"""Fourth and fifth step: faces look out of their material; what lies in other material goes when asked."""

import numpy as np

from bolvek.analyses.shells import standing, turned_faces
from bolvek.analyses.zones import face_zones
from bolvek.arrays import Bools, Ints
from bolvek.mesh import Mesh
from bolvek.operations.mend.draft import Draft, shell_place, shell_places
from bolvek.operations.mend.record import Left, MendStep, Place
from bolvek.settings.ways_on import BOTH_SIDES, DIGS_OUT


def orient(draft: Draft, *, shells: bool) -> tuple[Draft, MendStep]:
    """Turn flipped faces within each piece; with `shells` whole ones too: bodies outward, cavities inward, at any
    depth. Which shell is what can only be told when they are closed."""
    mesh = draft.mesh
    if _is_plain(mesh) or not (shells or mesh.topology.badly_oriented_edges):
        return draft, MendStep(step="orient")
    if not shells:
        turned = turned_faces(mesh)
        if not turned.any():
            return draft, MendStep(step="orient")
        places = [Place("flipped faces", z.count, z.where_mm, z.size_mm) for z in face_zones(mesh, _rows(turned))]
        faces = np.where(turned[:, None], mesh.faces[:, ::-1], mesh.faces)
        return draft.edited(faces=faces), MendStep(
            step="orient", counts={"flipped_faces": int(turned.sum())}, places=places
        )
    found = standing(mesh)
    shell = mesh.topology.shell
    inverted = found.inverted
    wrong = found.sign < 0
    flipped = found.turned & ~inverted[shell]
    left = []
    if found.one_sided.any():
        text = "it has one side only, which no turning of faces makes agree"
        left = [
            Left("one-sided surface", text, *shell_place(mesh, s), (BOTH_SIDES,))
            for s in _rows(found.one_sided).tolist()
        ]
    if not wrong.any():
        return draft, MendStep(step="orient", left=left)
    counts = {"flipped_faces": int((flipped & wrong).sum()), "shells_turned": int(inverted.sum())}
    places = [Place("flipped faces", z.count, z.where_mm, z.size_mm) for z in face_zones(mesh, _rows(flipped & wrong))]
    places += shell_places(mesh, _rows(inverted), "shell turned")
    faces = np.where(wrong[:, None], mesh.faces[:, ::-1], mesh.faces)
    return draft.edited(faces=faces), MendStep(
        step="orient", counts={k: n for k, n in counts.items() if n}, places=places, left=left
    )


def _is_plain(mesh: Mesh) -> bool:
    """One closed shell that agrees with itself and looks out: nothing to ask."""
    t = mesh.topology
    return t.sound and t.shells == 1 and mesh.volume > 0


def _rows(mask: Bools) -> Ints:
    return np.flatnonzero(mask)


def drop_buried(draft: Draft, *, wanted: bool) -> tuple[Draft, MendStep]:
    """Take out closed shells that lie in other material; cavities, which face in, are not those. Unless they are
    wanted gone, they are only told."""
    mesh = draft.mesh
    found = standing(mesh)
    buried = np.array([role == "buried" for role in found.roles])
    if not buried.any():
        return draft, MendStep(step="buried")
    if not wanted:
        text = "it lies in other material and faces out; turned, it would be a cavity"
        left = [Left("buried shell", text, *shell_place(mesh, s), (DIGS_OUT,)) for s in _rows(buried).tolist()]
        return draft, MendStep(step="buried", left=left)
    places = shell_places(mesh, _rows(buried), "buried shell")
    return draft.picked(~buried[mesh.topology.shell]), MendStep(
        step="buried", counts={"shells": int(buried.sum())}, places=places
    )
