"""Named parts of a file that touch: in the print they are one body, and are judged as one."""

from bolvek.analyses.shells import part_by_part
from bolvek.analyses.soundness import find_defects
from bolvek.arrays import Ints32
from bolvek.errors import WorkError
from bolvek.mesh import Mesh
from bolvek.operations.fuse.fuse import fuse
from bolvek.operations.fuse.gather import gather
from bolvek.operations.mend import Faults, count_faults
from bolvek.settings.parts import FuseSettings


def touching_as_one(mesh: Mesh, part: Ints32) -> Mesh | None:
    """One body of named parts (F,) that are sound each and only touch; None where nothing touches, where something is
    worse than that, or where they cannot be put together."""
    if not find_defects(mesh):
        return None
    whole = part_by_part(mesh, part)
    if count_faults(whole, part) != Faults():
        return None
    try:
        return fuse(gather(whole), FuseSettings())[0]
    except WorkError:
        return None
