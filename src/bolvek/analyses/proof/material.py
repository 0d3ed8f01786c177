"""Material counted once, and every void open: decided from the nesting of shells, exactly.

Shells of a sound mesh do not meet, so each lies wholly inside or outside every other. Walking out of all of
them, the winding number changes by one at each; material is counted once when it is never anything but 0 or 1.
"""

import numpy as np

from bolvek.analyses.finding import Finding
from bolvek.analyses.proof.record import Void
from bolvek.analyses.shells import Shells
from bolvek.mesh import Mesh
from bolvek.settings.ways_on import OPENS
from bolvek.units import as_triple, point_text, volume_text


def judge_material(mesh: Mesh, nested: Shells) -> list[Finding]:
    """Faults: shells buried in material, or facing in where there is none. Note: loose parts in a closed void."""
    around, facing_in = nested.around, nested.volume < 0
    found = []
    if (facing_in != (nested.depth % 2 == 1)).all():
        # every shell is wrong, and all would be right if turned
        place = as_triple(mesh.bounds.mean(axis=0))
        text = "the whole model is inside out: every shell faces the wrong way"
        return [Finding("inside_out", "fault", len(facing_in), text, place)]
    buried = np.flatnonzero(~facing_in & (around != 0))
    reversed_ones = np.flatnonzero(facing_in & (around != 1))
    loose = np.flatnonzero(~facing_in & (around == 0) & (nested.depth > 0))
    for shells, code, severity, one, several in (
        (
            buried,
            "buried",
            "fault",
            "a shell faces out inside other material: counted twice, a slicer may leave a void there",
            "shells face out inside other material: counted twice, a slicer may leave voids there",
        ),
        (
            reversed_ones,
            "inside_out",
            "fault",
            "a shell faces in where there is no material around it: it is inside out",
            "shells face in where there is no material around them: they are inside out",
        ),
        (
            loose,
            "loose",
            "note",
            "a part lies loose inside a closed void",
            "parts lie loose inside closed voids",
        ),
    ):
        if not len(shells):
            continue
        largest = int(shells[np.argmax(np.abs(nested.volume[shells]))])
        low, high = mesh.shell_boxes
        place = as_triple(0.5 * (low[largest] + high[largest]))
        words = one if len(shells) == 1 else f"{len(shells):,} {several}"
        size = volume_text(abs(float(nested.volume[largest])))
        what = size if len(shells) == 1 else f"the largest {size}"
        found.append(Finding(code, severity, len(shells), f"{words} ({what} around {point_text(place)})", place))
    return found


def find_voids(mesh: Mesh, nested: Shells, allowed_mm3: float) -> tuple[Void, ...]:
    """Closed voids, largest first, with their exact volumes."""
    low, high = mesh.shell_boxes
    voids = [
        Void(
            float(volume),
            as_triple(0.5 * (low[shell] + high[shell])),
            as_triple(high[shell] - low[shell]),
            bool(volume <= allowed_mm3),
        )
        for shell, volume in zip(*nested.voids, strict=True)
    ]
    return tuple(sorted(voids, key=lambda v: (-v.volume_mm3, v.where_mm)))


def judge_voids(voids: tuple[Void, ...]) -> list[Finding]:
    """A fault for the voids that nobody wants, a note for the others."""
    found = []
    for allowed, severity in ((False, "fault"), (True, "note")):
        some = [v for v in voids if v.allowed == allowed]
        if not some:
            continue
        total = sum(v.volume_mm3 for v in some)
        where = point_text(some[0].where_mm)
        if len(some) == 1:
            text = f"a closed void of {volume_text(total)} around {where} has no way out"
        else:
            text = f"{len(some):,} closed voids of {volume_text(total)} in all have no way out, the largest {where}"
        text += ": wanted so" if allowed else ": it would trap resin"
        ways = () if allowed else (OPENS,)
        found.append(Finding("cavity_closed", severity, len(some), text, some[0].where_mm, remedies=ways))
    return found
