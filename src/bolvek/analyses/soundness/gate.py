"""The one gate: what an operation made is sound in float64 and as the file will hold it, or it is not written."""

from bolvek.analyses.soundness.defects import Defect, find_defects
from bolvek.errors import WorkError
from bolvek.mesh import Mesh
from bolvek.settings import Remedy
from bolvek.units import point_text


def pass_gate(mesh: Mesh, what: str) -> Mesh:
    """The mesh, sound in float64 and rounded to float32. Raises WorkError naming what failed and where."""
    for stored, kind in ((False, ""), (True, " once rounded to what a binary STL holds")):
        defects = find_defects(mesh.as_stored() if stored else mesh)
        if defects:
            raise WorkError(
                f"{what} did not come out clean{kind}: {'; '.join(d.text for d in defects)}, first near "
                f"{point_text(defects[0].where_mm[0])}; nothing was written"
            )
    return mesh


def require_sound(mesh: Mesh, only: str, *remedies: Remedy) -> None:
    """Raise WorkError where a mesh has defects; only: what is for sound models, as "only sound models are cut"."""
    defects = find_defects(mesh)
    if defects:
        told = "; ".join(d.text for d in defects)
        raise WorkError(f"{only}; this one has {told}, first near {point_text(defects[0].where_mm[0])}", *remedies)


def made_worse(before: Mesh, after: Mesh) -> tuple[Defect, ...]:
    """Defects that a moved model has, rounded to float32, more than the model before had: what rounding did to it."""
    known = {d.code: d.count for d in find_defects(before)}
    return tuple(d for d in find_defects(after.as_stored()) if d.count > known.get(d.code, 0))
