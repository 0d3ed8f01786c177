"""What mending left at fault, made anew in places: the last rung, above the ladder that keeps faces.

Body by body: shells that cross each other, or whose faults lie on each other, are one. A body is made anew only where
it encloses, once its holes have lids, and only what is still what the file shows is taken. Skins are left to whoever
gives them a thickness, sound bodies that cross each other to whoever makes one of them.
"""

from dataclasses import replace

import numpy as np

from bolvek.analyses.likeness import likeness
from bolvek.analyses.shells import standing
from bolvek.arrays import Bools, Ints
from bolvek.errors import WorkError
from bolvek.mesh import Mesh
from bolvek.operations.mend import MendRecord, MendStep, Place, concluded
from bolvek.operations.mend.close import caps, meant_openings
from bolvek.operations.places.faults import find_faults
from bolvek.operations.places.local import LocalRecord, recast_places
from bolvek.settings.repairs import MendSettings, RecastSettings
from bolvek.spatial.groups import linked_groups
from bolvek.units import point_text

_CRUMB_SHARE = 0.01  # of the longest side: what comes apart and is smaller than a ball so wide is dropped
_MOST_BODIES = 50


def remade_places(mesh: Mesh, record: MendRecord, settings: MendSettings) -> tuple[Mesh, MendRecord]:
    """A mesh that mending left with these faults, with places made anew where that makes bodies of it sound; the mesh
    itself where it does not."""
    limited = settings.up_to_mm is not None or settings.at
    if record.verdict == "sound" or limited or not settings.takes("remake"):
        return mesh, record
    body = _bodies(mesh)
    wrong = np.unique(body[_at_fault(mesh)])
    if not 0 < len(wrong) <= _MOST_BODIES:
        return mesh, record
    parts, told, kept, why = list[Mesh](), list[LocalRecord](), np.ones(len(mesh.faces), bool), ""
    for name in wrong.tolist():
        own = body == name
        try:
            made, local = _made_anew(mesh.picked(own), settings)
        except WorkError as error:
            why = why or str(error)
            continue
        parts.append(made)
        told.append(local)
        kept &= ~own
    if not parts:
        return mesh, replace(record, steps=[*record.steps, MendStep(step="remake", undone=why)])
    after = mesh.picked(kept).joined(*parts) if kept.any() else parts[0].joined(*parts[1:])
    return after, concluded(record, after, _told(told))


def _bodies(mesh: Mesh) -> Ints:
    """The body (F,) of each face: shells that lie together (see `standing`) or cross."""
    group = standing(mesh).openings.group[mesh.topology.shell].astype(np.int64)
    pairs = group[mesh.meeting[0]]
    return linked_groups(int(group.max()) + 1, pairs[pairs[:, 0] != pairs[:, 1]])[group].astype(np.int64)


def _at_fault(mesh: Mesh) -> Bools:
    """Faces (F,) that are at fault by themselves, not by crossing another shell."""
    found, shell = find_faults(mesh), mesh.topology.shell
    at = np.zeros(len(mesh.faces), bool)
    at[found.half // 3] = True
    at |= np.isin(mesh.faces, found.vertex).any(axis=1)
    within = mesh.meeting[0][shell[mesh.meeting[0][:, 0]] == shell[mesh.meeting[0][:, 1]]]
    at[within.ravel()] = True
    return at


def _made_anew(body: Mesh, settings: MendSettings) -> tuple[Mesh, LocalRecord]:
    """A body with places made anew. Raises WorkError where it has an opening that mending leaves, or does not come out
    as what it was."""
    meant = meant_openings(body, settings)
    if meant:
        raise WorkError(f"the opening at {point_text(meant[0].where_mm)} stays open, as it may be meant")
    closed = caps(body, settings) if body.topology.open_edges else body
    crumb = np.pi / 6 * (_CRUMB_SHARE * float(body.size.max())) ** 3
    made, local = recast_places(closed, RecastSettings(grow_closed_mm=0.0, least_mm3=crumb))
    if not likeness(body, made).ok:
        raise WorkError("it would not be what the file shows")
    return made, local


def _told(records: list[LocalRecord]) -> MendStep:
    zones = [zone for local in records for zone in local.zones]
    counts = {"places": len(zones), "faces_within": sum(local.buried for local in records)}
    return MendStep(
        step="remake",
        counts={name: n for name, n in counts.items() if n},
        places=[Place("made anew", zone.count, zone.where_mm, zone.size_mm) for zone in zones],
    )
