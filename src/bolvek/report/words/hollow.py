"""Hollowing in words."""

from bolvek.mesh import Mesh
from bolvek.operations.hollow import HollowRecord
from bolvek.units import count_text, length_text, volume_text


def check_text(checked: tuple[Mesh, int]) -> str:
    """That a model may be hollowed."""
    mesh, turned = checked
    text = f"sound, {count_text(mesh.topology.shells, 'part')}"
    return text + (f"; {count_text(turned, 'part')} inside out, turned" if turned else "")


def hollow_text(record: HollowRecord) -> str:
    """Cavities, inner shell and wall."""
    text = (
        f"wall {length_text(record.wall_mm)}, grid {length_text(record.grid_mm)}: "
        f"{record.cavities} {'cavity' if record.cavities == 1 else 'cavities'}, "
        f"{record.cavity_volume_mm3 / 1000:.2f} cm3; inner shell {record.inner_triangles_before_slim:,} slimmed to "
        f"{record.inner_triangles:,} triangles (moved {length_text(record.slim_deviation_mm)} at most)"
    )
    if record.pockets_left_solid:
        text += (
            f"; {count_text(record.pockets_left_solid, 'small pocket')} of {record.pocket_volume_mm3 / 1000:.2f} cm3 "
            "in all left solid"
        )
    if record.solid_for_room_mm3 >= 1:
        text += (
            f"; {volume_text(record.solid_for_room_mm3)} left solid where it would be narrower than "
            f"{length_text(record.room_mm)}"
        )
    if record.solid_parts:
        text += (
            f"; {count_text(record.solid_parts, 'part')} of {volume_text(record.solid_parts_mm3)} left solid: no "
            "cavity fits behind the wall"
        )
    if record.thickened:
        text += f"; fins made as thick as the wall in {count_text(record.thickened, 'place')}"
    if record.turned_shells:
        text += f"; {count_text(record.turned_shells, 'part')} inside out, turned"
    return text
